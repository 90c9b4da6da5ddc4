package check

import (
	"yellowfence.example/yfence/core/packet"
	"yellowfence.example/yfence/core/policy"
	"yellowfence.example/yfence/core/source"
)

// allICMP looks at what is written, term by term: an allow of any type of either protocol is
// told once.
var allICMP = Check{
	Code:     "all-icmp",
	Severity: source.Warning,
	Doc: `An allow admits every kind of ICMP message.

What hosts need of it the ground admits already. If echo requests are meant, write
ping, which is both families' and nothing else.
`,
	run: func(p *pass) {
		for _, r := range p.rules() {
			if r.Block {
				continue
			}
			for _, t := range r.Terms {
				if (t.Protocol == packet.ICMP || t.Protocol == packet.ICMPv6) && t.Type == policy.AnyType {
					p.warn(r, "write ping if echo requests are meant, or a type", "the allow %q admits all of ICMP", r.Name)
					break
				}
			}
		}
	},
}
