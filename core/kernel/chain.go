package kernel

import (
	"slices"

	"yellowfence.example/yfence/core/packet"
)

// attribute puts down what is admitted later to a decider of now: to a rule unless a
// later rule admits it too, to a policy unless anything later does.
func (e *evaluation) attribute(d packet.Decision, by int32, rule bool) packet.Decision {
	return e.sp.Map(d, func(o packet.Outcome) packet.Outcome {
		if later := e.deciders[max(o.By-1, 0)]; o.Verdict == packet.Admit && (later.Chain == nil || rule && later.Rule == nil) {
			o.By = by
		}
		return o
	})
}

// admits is d, what happens to packets that a rule accepts, put down to the rule.
func (e *evaluation) admits(c *Chain, r *Rule, d packet.Decision) packet.Decision {
	if !e.attributed {
		return d
	}
	return e.attribute(d, e.by(Decider{c, r}), true)
}

// translates is d, what happens to packets that a rule translates, put down to the rule where it
// is asked who translates: that they are admitted is not its doing.
func (e *evaluation) translates(c *Chain, r *Rule, b *Branch, d packet.Decision) packet.Decision {
	if e.translators {
		by := e.by(Decider{c, r})
		d = e.sp.Map(d, func(o packet.Outcome) packet.Outcome {
			if o.Verdict == packet.Admit && !o.Translated.Changes() { // else a later rule is asked first
				o.By = by
			}
			return o
		})
	}
	return e.sp.Translate(d, b.translation())
}

// chain is what happens to packets that enter c: after is what happens to those
// that fall off its end or return, accepting to those that a rule accepts.
func (e *evaluation) chain(c *Chain, after, accepting packet.Decision) packet.Decision {
	key := call{c, e.unrouted, e.way, e.next, after, accepting}
	if d, ok := e.done[key]; ok {
		return d
	}
	if e.open[c] {
		return e.unmodelled("the chains of table "+c.Table+" jump in a circle", after)
	}
	e.open[c] = true
	d := after
	// Rules that do the same whatever comes after them are collected and put over
	// it at once: one by one, each would copy all that is known so far.
	var run []packet.Choice
	for i := range slices.Backward(c.Rules) {
		r := &c.Rules[i]
		if e.independent(c, r) {
			run = append(run, packet.Choice{Match: e.seen(r.Match), Then: e.rule(c, r, packet.Void, packet.Void, accepting)})
			continue
		}
		d, run = e.under(run, d), nil
		d = e.sp.Choose(e.seen(r.Match), e.rule(c, r, d, after, accepting), d)
	}
	d = e.under(run, d)
	e.open[c] = false
	e.done[key] = d
	return d
}

// logged is an outcome of which the kernel writes a line.
func logged(o packet.Outcome) packet.Outcome {
	o.Logged = true
	return o
}

// ends says that nothing comes after the branch in its chain.
func (b *Branch) ends() bool {
	return slices.Contains([]Action{Accept, Drop, Reject, Bypass, Redirect, DestinationNAT, SourceNAT}, b.Action)
}

// rule is what happens to packets that a rule matches; next is what comes after it.
func (e *evaluation) rule(c *Chain, r *Rule, next, after, accepting packet.Decision) packet.Decision {
	then := next
	for _, b := range slices.Backward(r.Branches) {
		does := e.branch(c, r, b, next, after, accepting)
		for _, m := range slices.Backward(b.Marks) {
			does = e.sp.Marking(does, m)
		}
		if b.Untracks {
			does = e.sp.Answered(e.sp.Restrict(does, packet.State, packet.Num(packet.Untracked)), Translated, false)
		}
		if b.Log {
			does = e.sp.Map(does, logged)
		}
		then = e.sp.Choose(e.seen(b.Match), does, then)
	}
	if r.Log {
		then = e.sp.Map(then, logged)
	}
	return then
}

// under puts a run of rules, the last first, over what comes after them.
func (e *evaluation) under(run []packet.Choice, d packet.Decision) packet.Decision {
	slices.Reverse(run)
	return e.sp.FirstMatch(append(run, packet.Choice{Match: packet.All, Then: d}))
}

// independent says that what a rule does with what it matches does not depend on what
// comes after it, but for passing some of it on.
func (e *evaluation) independent(c *Chain, r *Rule) bool {
	ends := false
	for _, b := range r.Branches {
		if b.Action == Return || b.Action == Goto || b.Action == Pass || (b.Marks != nil || b.Untracks || b.Log) && !b.ends() {
			return false
		}
		switch b.Action {
		case Jump:
			if target := e.chains[chainKey{c.Family, c.Table, b.Target}]; r.Log || target != nil && !e.sideEffectFree(target) {
				return false
			}
		case Unmodelled:
			if r.Log {
				return false
			}
		case Accept, Drop, Reject, Bypass, Redirect, DestinationNAT, SourceNAT:
			ends = ends || b.Match == packet.All
		}
	}
	return !r.Log || ends // a line about what goes on is owed wherever that ends
}

// sideEffectFree says that no rule of a chain, or of one it jumps to, marks or writes a
// line about packets that go on, and that the chains are no loop.
func (e *evaluation) sideEffectFree(c *Chain) bool {
	if known, ok := e.plains[c]; ok {
		return known
	}
	e.plains[c] = false // met again while it is looked at, it is a loop
	for i := range c.Rules {
		r := &c.Rules[i]
		goesOn := r.Log
		for _, b := range r.Branches {
			if (b.Marks != nil || b.Untracks || b.Log) && !b.ends() {
				return false // what is on it is owed too
			}
			if b.Match == packet.All && b.ends() {
				goesOn = false
			}
			if b.Action == Jump || b.Action == Goto {
				if target := e.chains[chainKey{c.Family, c.Table, b.Target}]; target != nil && !e.sideEffectFree(target) {
					return false
				}
			}
		}
		if goesOn {
			return false
		}
	}
	e.plains[c] = true
	return true
}

// seen is a match as it turns out on the hook that is being evaluated.
func (e *evaluation) seen(match packet.Set) packet.Set {
	if !e.unrouted {
		return match
	}
	return e.sp.Exists(e.sp.And(match, e.sp.Interfaces(packet.OutIface, "")), packet.OutIface)
}

// branch is what happens to packets that take b; next is the rule below.
func (e *evaluation) branch(c *Chain, r *Rule, b Branch, next, after, accepting packet.Decision) packet.Decision {
	switch b.Action {
	case Accept:
		return e.admits(c, r, accepting)
	case Drop:
		return e.sp.Leaf(packet.Outcome{Verdict: packet.Drop, By: e.by(Decider{c, r})})
	case Reject:
		return e.sp.Leaf(packet.Outcome{Verdict: packet.Reject, Reply: b.Reply, By: e.by(Decider{c, r})})
	case Redirect:
		return e.translates(c, r, &b, e.redirected(c, r, &b, next, accepting))
	case DestinationNAT:
		return e.translates(c, r, &b, e.elsewhere(r, &b, next, accepting))
	case SourceNAT:
		if !e.anySource(accepting, e.sp.AndAll(r.Match, b.Match, c.sees(e.sp))) {
			return e.unmodelled("the source that it is given ("+r.At+")", next)
		}
		return e.translates(c, r, &b, accepting)
	case Bypass:
		return e.sp.Leaf(packet.Outcome{Verdict: packet.Admit, By: e.by(Decider{c, r})})
	case Return:
		return after
	case Pass:
		return next
	case Unmodelled:
		return e.unmodelled(b.Why+" ("+r.At+")", next)
	}
	target := e.chains[chainKey{c.Family, c.Table, b.Target}]
	if target == nil {
		return e.unmodelled("chain "+b.Target+", which the dump does not hold", next)
	}
	if b.Action == Goto {
		next = after
	}
	return e.chain(target, next, accepting)
}
