package compare

import (
	"fmt"
	"slices"

	"yellowfence.example/yfence/core/dialect"
	"yellowfence.example/yfence/core/dialect/nft"
	"yellowfence.example/yfence/core/packet"
)

// cosmetic is the finding that rules of one meaning are written differently.
func cosmetic(sp *packet.Space, live, ours *dialect.Ruleset) Finding {
	has := slices.ContainsFunc(live.Chains, nft.Ours)
	f := Finding{Kind: Cosmetic, Traffic: "none", Sentence: "The rules are written differently from what was settled, and mean exactly the same for every packet.",
		Hint: "nothing is at risk; settling the host writes them as they were",
		Live: Live{Rule: fmt.Sprintf("table %s %s", nft.Family, nft.Table), At: fmt.Sprintf("%s %s", nft.Family, nft.Table)}}
	if !has {
		f.Sentence = "The host has other rules than ours, and they mean exactly what the policy means."
		f.Live = Live{Rule: fmt.Sprintf("no table %s %s", nft.Family, nft.Table)}
	}
	if idle, by := idle(sp, live, ours); idle != nil {
		f.Live = Live{At: idle.At, Rule: idle.Text.String()}
		f.Sentence = fmt.Sprintf("The rule `%s` does nothing: %s. The rules mean exactly what was settled, for every packet.", idle.Text, by)
		f.Hint = "if it should do something, say it in the policy; settling the host takes the rule away"
	}
	return f
}

// idle is a rule in a chain of ours that we did not write and that no packet
// gets to, with why.
func idle(sp *packet.Space, live, ours *dialect.Ruleset) (rule *dialect.Rule, why string) {
	known := recognised(sp, live, ours)
	for _, c := range live.Chains {
		if !nft.Ours(c) {
			continue
		}
		rest := sp.WellFormed()
		if hook := slices.Index(chainHooks, c.Hook); hook >= 0 {
			rest = sp.And(rest, sp.Value(packet.Hook, hook))
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

// chainHooks are where our base chains hang, by the way packets cross them.
var chainHooks = []string{packet.In: "input", packet.Out: "output", packet.Through: "forward"}

// decided is the packets that do not go on behind a rule.
func decided(sp *packet.Space, r *dialect.Rule) packet.Set {
	out, rest := packet.Empty, r.Match
	for _, b := range r.Branches {
		switch b.Action {
		case dialect.Accept, dialect.Drop, dialect.Reject, dialect.Return, dialect.Goto:
			out = sp.Or(out, sp.And(rest, b.Match))
		}
		rest = sp.Minus(rest, b.Match)
	}
	return out
}
