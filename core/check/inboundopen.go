package check

import (
	"yellowfence.example/yfence/core/packet"
	"yellowfence.example/yfence/core/source"
)

// inboundOpen looks at what roles say, not at hosts: a host that also has a closed role is
// closed, and the role is as open for the next host.
var inboundOpen = Check{
	Code:     "inbound-open",
	Severity: source.Warning,
	Doc: `A role lets in everything that nothing blocks.

Its hosts are then as open as without a filter: what is forgotten is admitted. Leave inbound
closed, and say who may come; if it must be open for a while, put closing it on trial:

    role broker { inbound closed on trial until 2027-03-31 }
`,
	run: func(p *pass) {
		for _, role := range p.pol.Roles {
			if closed, said := role.Closed[packet.Inbound]; said && !closed {
				p.report(p.named(role.Pos, role.Name, "the role %q lets in everything that no block refuses", role.Name).
					Hinted("say who may come, and leave inbound closed; or accept it: knowingly inbound-open \"why\""))
			}
		}
	},
}
