package check

import (
	"slices"
	"strings"

	"yellowfence.example/yfence/core/policy"
	"yellowfence.example/yfence/core/source"
)

// onUncovered tells of a rule that covers some of a role's hosts and not others; one that
// covers none never matches, which is told by that name.
var onUncovered = Check{
	Code:     "on-uncovered",
	Severity: source.Warning,
	Doc: `A host that a rule names has no interface on the rule's segment.

The rule does nothing there, while the role's other hosts have it. Either the host
should be on the segment, or the rule should not ask for it.
`,
	run: func(p *pass) {
		for _, r := range p.rules() {
			for _, list := range [][]*policy.Network{r.On, r.Arriving} {
				if list == nil {
					continue
				}
				covered := false
				var left []string
				for _, h := range r.To.Hosts {
					if !slices.ContainsFunc(list, func(seg *policy.Network) bool { return h.On(seg.Name, seg.Addrs) != nil }) {
						left = append(left, h.Name)
					} else {
						covered = true
					}
				}
				if covered && left != nil { // on no host at all it never matches, which is said elsewhere
					p.warn(r, "attach the host to the segment, or name the hosts that are on it",
						"the rule %q asks for %q, and %s is not on it", r.Name, policy.NamesOf(list), strings.Join(left, ", "))
				}
			}
		}
	},
}
