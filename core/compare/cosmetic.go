package compare

import (
	"fmt"
	"slices"
	"strings"

	"yellowfence.example/yfence/core/dialect"
	"yellowfence.example/yfence/core/kernel"
	"yellowfence.example/yfence/core/packet"
)

// cosmetic is the finding that rules of one meaning are written differently.
func cosmetic(sp *packet.Space, form dialect.Form, live, ours *kernel.Ruleset) Finding {
	has := slices.ContainsFunc(live.Chains, form.Ours)
	f := Finding{Kind: Cosmetic, Because: Changed, Traffic: "none",
		Sentence: "The rules are written differently from what was settled, and mean exactly the same for every packet.",
		Hint:     "nothing is at risk; settling the host writes them as they were",
		Live:     Live{Rule: form.Label(), At: strings.TrimPrefix(form.Label(), "table ")}}
	if !has {
		f.Sentence = "The host has other rules than ours, and they mean exactly what the policy means."
		f.Live = Live{Rule: "no " + form.Label()}
	}
	if idle, by := idle(sp, form, live, ours); idle != nil {
		f.Live = Live{At: idle.At, Rule: idle.Text.String()}
		f.Sentence = fmt.Sprintf("The rule `%s` does nothing: %s. The rules mean exactly what was settled, for every packet.", idle.Text,
			by)
		f.Hint = "if it should do something, say it in the policy; settling the host takes the rule away"
	}
	return f
}

// idle is a rule in a chain of ours that we did not write and that no packet
// gets to, with why.
func idle(sp *packet.Space, form dialect.Form, live, ours *kernel.Ruleset) (rule *kernel.Rule, why string) {
	known := recognised(sp, live, ours)
	for _, c := range live.Chains {
		if !form.Ours(c) {
			continue
		}
		rest := sp.WellFormed()
		if way, _, ok := form.Carries(c); ok {
			rest = sp.And(rest, sp.Crossing(way))
		}
		for i := range c.Rules {
			r := &c.Rules[i]
			if asked := sp.And(r.Match, rest); asked == packet.Empty && !known[r] {
				for k := range c.Rules[:i] {
					if before := &c.Rules[k]; sp.Within(sp.And(r.Match, sp.WellFormed()), decided(sp, before)) {
						return r, fmt.Sprintf("`%s`, which stands before it, decides all that it asks for", before.Text)
					}
				}
				return r, "what stands before it decides all that it asks for"
			}
			rest = sp.Minus(rest, decided(sp, r))
		}
	}
	return nil, ""
}

// decided is the packets that do not go on behind a rule.
func decided(sp *packet.Space, r *kernel.Rule) packet.Set {
	out, rest := packet.Empty, r.Match
	for _, b := range r.Branches {
		switch b.Action {
		case kernel.Accept, kernel.Drop, kernel.Reject, kernel.Return, kernel.Goto:
			out = sp.Or(out, sp.And(rest, b.Match))
		}
		rest = sp.Minus(rest, b.Match)
	}
	return out
}
