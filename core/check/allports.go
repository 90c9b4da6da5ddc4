package check

import (
	"yellowfence.example/yfence/core/policy"
	"yellowfence.example/yfence/core/source"
)

// allPorts looks at terms, not at what they come to together: two halves of all ports are two
// statements that somebody meant. Rules to others than our hosts are none of ours to narrow.
var allPorts = Check{
	Code:     "all-ports",
	Severity: source.Warning,
	Doc: `An allow opens every port.

Mostly one port was meant, and not known. Look up which one the program listens on
and name it.
`,
	run: func(p *pass) {
		for _, r := range p.rules() {
			if r.Block || !r.To.Named {
				continue
			}
			for _, t := range r.Terms {
				if t.Protocol == policy.AnyProtocol || t.HasPorts() && t.Ports.Lo <= 1 && t.Ports.Hi == 65535 {
					p.warn(r, "name the ports that are meant, or accept it: knowingly all-ports \"why\"", "the allow %q opens every port",
						r.Name)
					break
				}
			}
		}
	},
}
