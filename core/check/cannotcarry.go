package check

import (
	"fmt"
	"strings"

	"yellowfence.example/yfence/core/compile"
	"yellowfence.example/yfence/core/dialect/forms"
	"yellowfence.example/yfence/core/dialect/group"
	"yellowfence.example/yfence/core/fence"
	"yellowfence.example/yfence/core/fleet"
	"yellowfence.example/yfence/core/source"
)

// cannotCarry has each dialect look at the plans it would have to write, once for hosts that
// are alike, and joins hosts that miss the same. Publishing stops at it, so that nobody learns
// it when the rules are put in force.
var cannotCarry = Check{
	Code:     "cannot-carry",
	Severity: source.Error,
	Doc: `A statement says what a host's filter has no way to do.

Neither nft nor iptables knows programs, only users and units; iptables counts no more than
10,000 at once; and where only the groups of its instance protect a host, they know neither
how often nor who sends nor over which interface. Nothing is put in force that does less than
it says. Say it for other hosts, or give the host a filter of its own.
`,
	run: func(p *pass) {
		type seen struct {
			plan    *compile.Plan
			dialect string
		}
		cannot := map[seen][]string{}
		hosts := map[string][]string{} // by what cannot be said
		var order []string
		for _, h := range p.pol.Fleet.Hosts {
			p.budget.Check()
			if h.Others() {
				continue
			}
			key := seen{p.planner.Plan(h), h.Dialect}
			what, known := cannot[key]
			if !known {
				if h.Dialect == fleet.NoFilter {
					what = group.Of(p.sp, key.plan).Left
				} else {
					what = forms.Of(h).Unsayable(key.plan)
				}
				cannot[key] = what
			}
			for _, w := range what {
				w = fmt.Sprintf("%s\n%s", w, h.Dialect)
				if hosts[w] == nil {
					order = append(order, w)
				}
				hosts[w] = append(hosts[w], h.Name)
			}
		}
		for _, w := range order {
			text, dialect, _ := strings.Cut(w, "\n")
			statement, what, _ := strings.Cut(text, ": ")
			if dialect = dialect + " cannot say it"; strings.HasPrefix(dialect, fleet.NoFilter) {
				dialect = "only groups protect it"
			}
			pos, width := p.pol.Pos, 1
			for _, r := range p.pol.Rules {
				if r.Title() == statement {
					pos, width = r.Pos, len(fence.Bare(r.Name))
				}
			}
			p.report(p.at(pos, width, "%s cannot be carried out on %s: %s, and %s", statement, some(hosts[w]), what, dialect).
				Hinted("say it for other hosts alone, or give these a filter that can"))
		}
	},
}
