package check

import (
	"yellowfence.example/yfence/core/compile"
	"yellowfence.example/yfence/core/packet"
	"yellowfence.example/yfence/core/source"
)

// neverMatches is exact at each host. Rules that name a segment are worked out host by host; of
// all others the product of both sides tells, whoever the host is. What an empty role or list
// explains is told of that instead.
var neverMatches = Check{
	Code:     "never-matches",
	Severity: source.Warning,
	Doc: `A rule matches no packet at any end.

It names hosts, but what it asks for cannot be: no host is on the segment it
names, or both sides lie in different families. It does nothing. Most often a
segment or a network is not the one that was meant.
`,
	run: func(p *pass) {
		for _, r := range p.rules() {
			if w := p.wide(r); !segmented(r) && w[0] != packet.Empty && w[1] != packet.Empty {
				continue
			}
			if r.From.Named && len(r.From.Hosts) == 0 || r.To.Named && len(r.To.Hosts) == 0 {
				continue // a role without hosts, which is said of the role
			}
			if p.listless(r.From) || p.listless(r.To) {
				continue // which is said of the list
			}
			hosts, matches := 0, false
			p.ends(r, func(_ *compile.Plan, _ packet.Direction, speaks packet.Set) {
				hosts++
				matches = matches || speaks != packet.Empty
			})
			if hosts > 0 && !matches {
				p.warn(r, "look at the segment it names, and at the families of both sides", "the rule %q matches no packet on any host",
					r.Name)
			}
		}
	},
}
