package compare

import (
	"fmt"
	"slices"

	"yellowfence.example/yfence/core/compile"
	"yellowfence.example/yfence/core/dialect"
	"yellowfence.example/yfence/core/dialect/forms"
	"yellowfence.example/yfence/core/dialect/group"
	"yellowfence.example/yfence/core/packet"
)

// Groups compares what the security groups of a host's instance decide with what they are
// to admit by its plan. What a group cannot tell is the host's own filter's to decide, and
// is no difference: where the policy admits something over one interface, a group that
// admits it is right.
func Groups(sp *packet.Space, names *Names, plan *compile.Plan, live *dialect.Ruleset) *Result {
	admitted := group.Of(sp, plan)
	asked, should := admitted.Asked(sp)
	c := &comparison{sp: sp, undo: fmt.Sprintf("writing the groups of %s anew", plan.Host.Name), form: forms.Of(plan.Host), about: asked, grouped: true, pol: names.pol, plan: plan, names: names}
	c.meant, c.meantBy = plan.Attributed(sp)
	c.done, c.doneBy = live.Attributed(sp)
	c.meant = sp.WithRoom(c.meant)
	c.meantRates, c.doneRates = c.meant, c.done
	c.intended, c.changed = map[*dialect.Rule]bool{}, map[line]*dialect.Rule{}
	for _, chain := range live.Chains {
		for i := range chain.Rules { // all of what it admits is as it should be
			r := &chain.Rules[i]
			c.intended[r] = sp.Within(sp.And(r.Match, asked), should)
		}
	}
	admits := func(o packet.Outcome) bool { return o.Verdict == packet.Admit }
	does := sp.And(asked, sp.Where(c.done, admits))
	opened := sp.Minus(does, should)
	shut := sp.AndAll(sp.Minus(should, does), sp.Where(c.meant, admits))
	c.bothAdmit, c.regions = sp.And(should, does), map[Kind]packet.Set{Opened: opened, Shut: shut}
	c.collect(Opened, opened)
	c.collect(Shut, shut)
	res := &Result{Findings: c.findings(), Bare: live.Bare()}
	if turns := sp.Turns(c.meant); len(turns) > 0 {
		res.Until = slices.Min(turns)
	}
	return res
}
