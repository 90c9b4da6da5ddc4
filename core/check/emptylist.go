package check

import (
	"slices"

	"yellowfence.example/yfence/core/policy"
	"yellowfence.example/yfence/core/source"
)

// emptyList looks at networks that are read from files alone: what is written in the policy
// cannot be empty.
var emptyList = Check{
	Code:     "empty-list",
	Severity: source.Warning,
	Doc: `A list of addresses holds none.

A rule that names it is about nobody: a block blocks nothing, an allow admits nobody. Perhaps
whatever writes the file failed.
`,
	run: func(p *pass) {
		for _, n := range p.pol.Networks {
			if unlisted(n) {
				p.report(p.named(n.Pos, n.Name, "the list %q holds no address, so that %q is nobody", n.List,
					n.Name).Hinted("put addresses in, or take the network away"))
			}
		}
	},
}

// unlisted says that a network's list holds nothing.
func unlisted(n *policy.Network) bool { return n.List != "" && len(n.Addrs.Ranges()) == 0 }

// listless says that a side names a network whose list holds nothing.
func (p *pass) listless(s policy.Side) bool {
	return slices.ContainsFunc(p.pol.Networks, func(n *policy.Network) bool { return unlisted(n) && slices.Contains(s.Refs, n.Name) })
}
