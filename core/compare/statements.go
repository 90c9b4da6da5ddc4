package compare

import (
	"fmt"
	"slices"
	"strings"

	"yellowfence.example/yfence/core/compile"
	"yellowfence.example/yfence/core/packet"
	"yellowfence.example/yfence/core/policy"
)

// How a statement differs between two plans.
const (
	StatementNew     = "new"
	StatementGone    = "gone"
	StatementChanged = "changed"
)

// A Statement is a rule of the policy that one of two plans carries out and the other does
// not, or otherwise.
type Statement struct {
	Rule   *policy.Rule // as it is now, else as it was
	Change string
}

// Statements are the rules of the policy in which the plans of a host differ, in the order of
// the later plan, those that are gone behind. Without an earlier one all are new.
func Statements(sp *packet.Space, before, after *compile.Plan) (out []Statement) {
	was, order := map[string]string{}, []*policy.Rule{}
	if before != nil {
		was, order = statements(sp, before)
	}
	is, now := statements(sp, after)
	for _, r := range now {
		switch text, known := was[r.Title()]; {
		case !known:
			out = append(out, Statement{r, StatementNew})
		case text != is[r.Title()]:
			out = append(out, Statement{r, StatementChanged})
		}
	}
	for _, r := range order {
		if _, still := is[r.Title()]; !still {
			out = append(out, Statement{r, StatementGone})
		}
	}
	return out
}

// statements are what a plan does for each rule of the policy, by its title and told in a way
// that is the same for the same packets of one Space, and the rules in their order.
func statements(sp *packet.Space, p *compile.Plan) (does map[string]string, order []*policy.Rule) {
	does = map[string]string{}
	for _, chain := range p.Chains {
		for i := range chain.Rules {
			r := &chain.Rules[i]
			if r.Rule == nil {
				continue
			}
			if _, known := does[r.Rule.Title()]; !known {
				order = append(order, r.Rule)
			}
			var unless []string
			for _, u := range r.Unless {
				unless = append(unless, fmt.Sprint(u.Set(sp, chain.Direction)))
			}
			slices.Sort(unless)
			does[r.Rule.Title()] += fmt.Sprintf("%d %d %v %d %t %t\n", chain.Direction, r.Match.Set(sp, chain.Direction),
				strings.Join(unless, " "), r.Verdict, r.Log != nil, r.Limit != nil)
		}
	}
	return does, order
}
