package compare

import (
	"fmt"
	"slices"

	"yellowfence.example/yfence/core/dialect/forms"
	"yellowfence.example/yfence/core/dialect/group"
	"yellowfence.example/yfence/core/kernel"
	"yellowfence.example/yfence/core/packet"
	"yellowfence.example/yfence/core/say"
)

// Groups compares what the security groups of a host's instance decide with what they are
// to admit by its plan. What a group cannot tell is the host's own filter's to decide, and
// is no difference: where the policy admits something over one interface, a group that
// admits it is right.
//
// stages are as for DriftSince.
func Groups(sp *packet.Space, names *say.Names, stages []Stage, live *kernel.Ruleset) *Result {
	plan := stages[len(stages)-1].Plan
	admitted := group.Of(sp, plan)
	asked, should := admitted.Asked(sp)
	c := &comparison{sp: sp, stages: stages, outcomes: make([]*packet.Decision, len(stages)),
		undo: fmt.Sprintf("writing the groups of %s again", plan.Host.Name), form: forms.Of(plan.Host), about: asked, grouped: true,
		pol: names.Policy, plan: plan, names: names}
	c.meant, c.meantBy = plan.Attributed(sp)
	c.done, c.doneBy = live.Attributed(sp)
	c.meant = sp.WithinLimits(c.meant)
	c.meantRates, c.doneRates = c.meant, c.done
	c.altering, c.alteringBy = c.done, c.doneBy
	c.intended, c.published, c.changed = map[*kernel.Rule]bool{}, map[*kernel.Rule]bool{}, map[line]*kernel.Rule{}
	admits := func(o packet.Outcome) bool { return o.Verdict == packet.Admit }
	does := sp.And(asked, sp.Where(c.done, admits))
	before, changed := packet.Empty, packet.All // what it was to admit when it was last asked for
	if len(stages) > 1 && !live.Bare() {
		was := stages[0].Plan
		must, should := group.Of(sp, was).Asked(sp)
		by, _ := was.Attributed(sp)
		admitted := sp.Where(sp.WithinLimits(by), admits)
		// A group filters for an instance whatever its address is, which may be another now.
		any := func(s packet.Set) packet.Set {
			in := sp.Value(packet.Hook, packet.In)
			return sp.Or(sp.Exists(sp.And(s, in), packet.Dst), sp.Exists(sp.Minus(s, in), packet.Src))
		}
		before = any(should)
		changed = sp.Or(sp.Minus(sp.And(does, any(must)), before), sp.Minus(any(sp.And(should, admitted)), does))
	}
	for _, chain := range live.Chains {
		for i := range chain.Rules { // all of what it admits is as it should be
			r := &chain.Rules[i]
			c.published[r] = sp.Within(sp.And(r.Match, asked), should)
			c.intended[r] = sp.Within(sp.And(r.Match, asked), sp.Or(should, before))
		}
	}
	opened := sp.Minus(does, should)
	shut := sp.AndAll(sp.Minus(should, does), sp.Where(c.meant, admits))
	c.bothAdmit, c.regions = sp.And(should, does), map[Kind]packet.Set{Opened: opened, Shut: shut}
	c.collect(Opened, Changed, sp.And(opened, changed))
	c.collect(Opened, Behind, sp.Minus(opened, changed))
	c.collect(Shut, Changed, sp.And(shut, changed))
	c.collect(Shut, Behind, sp.Minus(shut, changed))
	res := &Result{Findings: c.findings(), Bare: live.Bare(), AsAsked: len(stages) > 1 && sp.And(changed, asked) == packet.Empty}
	if turns := sp.ChangeTimes(c.meant); len(turns) > 0 {
		res.Until = slices.Min(turns)
	}
	return res
}
