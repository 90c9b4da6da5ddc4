package check

import (
	"slices"
	"strings"

	"yellowfence.example/yfence/core/compile"
	"yellowfence.example/yfence/core/fleet"
	"yellowfence.example/yfence/core/packet"
	"yellowfence.example/yfence/core/source"
)

// leaveAll looks at hosts whose stance is closed in the leave's direction: only there is
// something lost. Interfaces are matched as the leave means them, a `*` at the end standing for
// any rest.
var leaveAll = Check{
	Code:     "leave-all",
	Severity: source.Warning,
	Doc: `A leave takes a host out of the policy.

The host has no interface but those that are left to others: nothing that comes to it is
refused, whatever the rules and its stance say. Name the interface that was meant, or give
the host a role without a stance.
`,
	run: func(p *pass) {
		for i := range p.pol.Leaves {
			l := &p.pol.Leaves[i]
			if l.Direction == packet.Forward {
				continue
			}
			var bare []string
			for _, h := range p.pol.Fleet.Hosts {
				left := func(nic fleet.Interface) bool {
					return slices.ContainsFunc(l.Interfaces, func(name string) bool {
						prefix, all := strings.CutSuffix(name, "*")
						return name == nic.Name || all && strings.HasPrefix(nic.Name, prefix)
					})
				}
				closed := slices.ContainsFunc(p.planner.Plan(h).Chains,
					func(c compile.Chain) bool { return c.Direction == l.Direction && c.Stance.Closed })
				if l.Concerns(h) && closed && len(h.Interfaces) > 0 &&
					!slices.ContainsFunc(h.Interfaces, func(nic fleet.Interface) bool { return !left(nic) }) {
					bare = append(bare, h.Name)
				}
			}
			if bare != nil {
				p.report(p.named(l.Pos, l.Name, "the leave %q is over every interface of %s: nothing %s is refused there", l.Name,
					some(bare), l.Direction.String()).
					Hinted("name the interface that is meant"))
			}
		}
	},
}
