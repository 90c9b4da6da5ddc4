package compare

import (
	"slices"

	"yellowfence.example/yfence/core/dialect"
	"yellowfence.example/yfence/core/kernel"
	"yellowfence.example/yfence/core/packet"
)

// A fault is what is wrong with the rules in force, where it makes a packet fare otherwise
// than it should: putting just that right puts the packet right.
type fault int

// The faults, by what would have to be put right.
const (
	unblamed     fault = iota // no single thing does it
	extraRule                 // a rule stands there that should not
	changedRule               // a rule of ours is otherwise than we would write it
	missingRule               // a rule of ours is gone
	wrongOrder                // rules of ours stand in another order
	wrongPolicy               // the policy of a chain of ours is another
	emptyChain                // a chain of ours has no rules left
	missingJump               // the kernel's chain no longer asks a chain of ours
	missingRules              // a chain of ours is gone
	elsewhere                 // a chain that settling leaves alone
	pausing                   // the filter is paused
)

// blame is what a cause is put down to.
type blame struct {
	fault   fault
	chain   *kernel.Chain // in force, or as it should be where it is gone
	rule    *kernel.Rule  // in force
	settles bool          // settling puts the packet right
}

// same says that two causes are put down to one thing.
func (b blame) same(o blame) bool {
	switch {
	case b.fault != o.fault || b.settles != o.settles:
		return false
	case b.fault == pausing:
		return true
	case b.fault == extraRule || b.fault == elsewhere && b.rule != nil:
		return b.rule == o.rule
	case b.fault == wrongPolicy || b.fault == emptyChain || b.fault == missingJump || b.fault == missingRules || b.fault == elsewhere:
		return b.chain.Table == o.chain.Table && b.chain.Name == o.chain.Name // in either family
	}
	return false // what else is wrong is told for each statement
}

// inquiry is the rules that one packet can meet: those in force, as we would write them, and as
// settling would leave them.
type inquiry struct {
	c          *comparison
	p          packet.Packet
	live, ours *kernel.Ruleset
	origin     map[*kernel.Rule]*kernel.Rule // of the rules in force
	want       packet.Outcome
	about      packet.Set
}

// blames finds what a packet fares otherwise by. altered says that its verdict is right, and
// that something else is wrong.
func (c *comparison) blames(p packet.Packet, altered bool) blame {
	if c.paused {
		return blame{fault: pausing, settles: true}
	}
	q := &inquiry{c: c, p: p, about: c.sp.Exactly(p), want: c.sp.Outcome(c.meant, p)}
	q.about = c.sp.Or(c.whole.Underway(c.sp, q.about), c.ours.Underway(c.sp, q.about))
	q.live, q.origin = c.whole.Concerning(c.sp, q.about)
	q.ours, _ = c.ours.Concerning(c.sp, q.about)
	right := func(rs *kernel.Ruleset) bool {
		got := c.sp.Outcome(c.sp.WithinLimits(rs.Decision(c.sp)), p)
		return got.Verdict == q.want.Verdict &&
			(!altered || got.Logged == q.want.Logged && (got.Reply == q.want.Reply || got.Verdict == packet.Admit))
	}
	// what translates is beside the filter
	if altered && q.want.Verdict == packet.Admit && c.sp.Outcome(c.done, p).Translated != q.want.Translated {
		return blame{}
	}
	b := q.find(right)
	if b.settles = right(q.settled()); b.settles || b.fault == extraRule && !c.form.Ours(b.chain) {
		return b
	}
	d, by := q.settled().Attributed(c.sp)
	o := c.sp.Outcome(c.sp.WithinLimits(d), p)
	if o.By == 0 || by[o.By-1].Chain == nil || c.form.Ours(by[o.By-1].Chain) {
		return blame{} // more than one thing is wrong, or what is read of it does not suffice
	}
	return blame{fault: elsewhere, chain: by[o.By-1].Chain, rule: q.origin[by[o.By-1].Rule]}
}

// find tries to put one thing right after another, the smallest first.
func (q *inquiry) find(right func(*kernel.Ruleset) bool) blame {
	by := q.c.sp.Outcome(q.c.done, q.p).By
	decides := q.c.doneBy[max(by-1, 0)].Rule
	for _, first := range []bool{true, false} { // what decides is tried before all others
		for _, chain := range q.live.Chains {
			for i := range chain.Rules {
				r := q.origin[&chain.Rules[i]]
				if (r == decides) != first || q.c.intended[r] || q.counterpart(chain, &chain.Rules[i]) != nil ||
					!first && q.asksOurs(chain, r) {
					continue
				}
				if others := slices.Delete(slices.Clone(chain.Rules), i, i+1); right(replaced(q.live, chain, others, chain.Policy)) {
					return blame{fault: extraRule, chain: chain, rule: r}
				}
			}
		}
	}
	for _, ours := range q.ours.Chains {
		chain := chainAt(q.live, ours.Place())
		if chain == nil {
			if right(with(q.live, ours)) {
				return blame{fault: missingRules, chain: ours}
			}
			continue
		}
		if chain.Policy != ours.Policy && chain.Hook != "" && right(replaced(q.live, chain, chain.Rules, ours.Policy)) {
			return blame{fault: wrongPolicy, chain: chain}
		}
	}
	for _, ours := range q.ours.Chains {
		chain := chainAt(q.live, ours.Place())
		if chain == nil || !right(replaced(q.live, chain, merged(q.c.form, ours, chain), ours.Policy)) {
			continue
		}
		return q.wrongIn(chain, ours)
	}
	return blame{}
}

// wrongIn says what is wrong with the rules of a chain, which put the packet right together.
func (q *inquiry) wrongIn(chain, ours *kernel.Chain) blame {
	whole := q.c.whole.Chains[slices.Index(q.live.Chains, chain)]
	_, helper, main := q.c.form.Carries(chain)
	switch {
	case len(whole.Rules) == 0 && main && !helper:
		return blame{fault: emptyChain, chain: whole}
	case !q.c.form.Ours(chain): // the kernel's own, which asks ours
		return blame{fault: missingJump, chain: chain}
	}
	for i := range chain.Rules { // of those that the packet meets
		if r := q.origin[&chain.Rules[i]]; !q.c.intended[r] {
			return blame{fault: changedRule, chain: chain, rule: r}
		}
	}
	all := chainAt(q.c.ours, ours.Place())
	for i, r := range all.Rules {
		if q.c.stand[ruleKey{all, i}] || q.c.sp.And(r.Match, q.about) == packet.Empty {
			continue
		}
		for k := range whole.Rules { // one that the packet would meet, and is otherwise now
			if now := &whole.Rules[k]; now.Comment == r.Comment && r.Comment != "" && !q.c.intended[now] {
				return blame{fault: changedRule, chain: chain, rule: now}
			}
		}
		return blame{fault: missingRule, chain: chain}
	}
	if slices.EqualFunc(chain.Rules, ours.Rules, func(a, b kernel.Rule) bool { return a.Match == b.Match && a.Comment == b.Comment }) {
		return blame{} // it is something else
	}
	return blame{fault: wrongOrder, chain: chain}
}

// counterpart is the rule of ours that a rule in force was made from: for the same statement in
// the same chain; nil where there is none, or where that stands there too.
func (q *inquiry) counterpart(chain *kernel.Chain, r *kernel.Rule) *kernel.Rule {
	if r.Comment == "" || !q.c.form.Ours(chain) {
		return nil
	}
	ours := chainAt(q.c.ours, chain.Place())
	if ours == nil {
		return nil
	}
	for i := range ours.Rules {
		if ours.Rules[i].Comment == r.Comment && !q.c.stand[ruleKey{ours, i}] {
			return &ours.Rules[i]
		}
	}
	return nil
}

// asksOurs says that a rule leads to a chain of ours, as one of ours does: what is wrong there is
// not its doing.
func (q *inquiry) asksOurs(chain *kernel.Chain, r *kernel.Rule) bool {
	ours := chainAt(q.c.ours, chain.Place())
	return ours != nil && slices.ContainsFunc(ours.Rules, func(o kernel.Rule) bool { return sameJumps(o, *r) })
}

// sameJumps says that two rules lead to the same chains, and do nothing else.
func sameJumps(a, b kernel.Rule) bool {
	leads := func(r kernel.Rule) (to []string) {
		for _, br := range r.Branches {
			if br.Action != kernel.Jump && br.Action != kernel.Goto {
				return nil
			}
			to = append(to, br.Target)
		}
		return to
	}
	to := leads(a)
	return to != nil && slices.Equal(to, leads(b))
}

// chainAt is the chain of a place, nil where there is none.
func chainAt(rs *kernel.Ruleset, place string) *kernel.Chain {
	for _, c := range rs.Chains {
		if c.Place() == place {
			return c
		}
	}
	return nil
}

// settled is the rules as settling leaves them: ours as we would write them, and others' as they are.
func (q *inquiry) settled() *kernel.Ruleset {
	out := *q.live
	out.Chains = nil
	for _, c := range q.live.Chains {
		ours := chainAt(q.ours, c.Place())
		switch {
		case ours != nil:
			settled := *ours
			settled.Rules = merged(q.c.form, ours, c)
			if !q.c.form.Ours(c) {
				settled.Policy = c.Policy
			}
			out.Chains = append(out.Chains, &settled)
		case !q.c.form.Ours(c):
			out.Chains = append(out.Chains, c)
		}
	}
	for _, o := range q.ours.Chains {
		if chainAt(q.live, o.Place()) == nil {
			out.Chains = append(out.Chains, o)
		}
	}
	out.Tracks = [2]bool{out.Tracks[0] || q.ours.Tracks[0], out.Tracks[1] || q.ours.Tracks[1]}
	return &out
}

// merged is what settling makes of a chain: ours, and in one of the kernel's own what others have
// there behind it.
func merged(form dialect.Form, ours, live *kernel.Chain) []kernel.Rule {
	if form.Ours(live) {
		return ours.Rules
	}
	rules := slices.Clone(ours.Rules)
	for _, r := range live.Rules {
		if !slices.ContainsFunc(ours.Rules, func(o kernel.Rule) bool { return sameJumps(o, r) }) {
			rules = append(rules, r)
		}
	}
	return rules
}

// replaced is rules with others in one chain.
func replaced(rs *kernel.Ruleset, chain *kernel.Chain, rules []kernel.Rule, policy packet.Verdict) *kernel.Ruleset {
	out := *rs
	out.Chains = slices.Clone(rs.Chains)
	other := *chain
	other.Rules, other.Policy = rules, policy
	out.Chains[slices.Index(rs.Chains, chain)] = &other
	return &out
}

// with is rules with one more chain.
func with(rs *kernel.Ruleset, chain *kernel.Chain) *kernel.Ruleset {
	out := *rs
	out.Chains = append(slices.Clone(rs.Chains), chain)
	return &out
}

// ruleKey names a rule of ours.
type ruleKey struct {
	chain *kernel.Chain
	at    int
}

// isPaused says that the rules of ours in force are those of a pause, of what is published or of
// what was settled before.
func (c *comparison) isPaused(live *kernel.Ruleset) bool {
	if c.sp.Where(c.done, packet.Outcome.Refused) != packet.Empty {
		return false
	}
	is := live.Signature(c.sp, c.form.Ours)
	return slices.ContainsFunc(c.stages, func(s Stage) bool {
		return c.form.Rules(c.sp, s.Plan.Paused(c.sp)).Signature(c.sp, c.form.Ours) == is
	})
}
