package compile

import (
	"cmp"
	"slices"

	"yellowfence.example/yfence/core/packet"
)

// order lays a policy's meaning out as rules of which the first that matches
// decides:
//
//  1. the ground;
//  2. allows that are exceptions to a block, each leaving what a block refuses
//     that it is no exception to;
//  3. blocks;
//  4. the other allows;
//  5. where a closed stance rejects or logs, a rule that does.
//
// An allow of 4 that is freer than one of 2 which it meets, or logs more
// freely, goes to 2. Within each of them, see lay.
func (e *end) order(sp *packet.Space) []Rule {
	rules := slices.Clone(e.ground)

	var early, late []piece
	for _, a := range e.allows {
		if slices.ContainsFunc(e.blocks, func(b piece) bool { return a.rule.Overrides(b.rule) && meet(sp, a, b) }) {
			early = append(early, a)
		} else if e.counts(sp, a) {
			late = append(late, a)
		}
	}
	for moved := true; moved; { // one that moves may make others move
		moved = false
		late = slices.DeleteFunc(late, func(a piece) bool {
			before := slices.ContainsFunc(early, func(b piece) bool { return (byFreedom(a, b) < 0 || byLog(a, b) < 0) && meet(sp, a, b) })
			if before {
				early, moved = append(early, a), true
			}
			return before
		})
	}
	// What a block refuses of one it refuses of a step of both.
	without := func(a piece, s packet.Set) packet.Set {
		for _, b := range e.blocks {
			if !a.rule.Overrides(b.rule) {
				s = sp.Minus(s, b.set)
			}
		}
		return s
	}
	for _, s := range lay(sp, early, byFreedom, func(d, l piece) packet.Set { return without(d, without(l, l.set)) }) {
		var unless []Match
		for _, b := range e.blocks {
			if refuses := func(a piece) bool { return !a.rule.Overrides(b.rule) && meet(sp, a, b) }; refuses(s.decides) || refuses(s.logs) {
				unless = append(unless, b.match.apart()...)
			}
		}
		for _, r := range e.asRules(s) {
			r.Unless = append(r.Unless, unless...)
			rules = append(rules, r)
		}
	}
	for _, s := range lay(sp, e.blocks, byRefusal, all) {
		rules = append(rules, e.asRules(s)...)
	}
	for _, s := range lay(sp, late, byFreedom, all) {
		rules = append(rules, e.asRules(s)...)
	}
	if t := e.stance.Trial; e.tried != nil && (t != nil || !e.stance.Closed) { // what is noted is admitted, too
		open := Rule{Decider: e.stanceDecider(), Verdict: packet.Admit}
		if t != nil {
			open.Decider = e.onTrial()
		}
		if t != nil && !t.Open {
			open.Match.Until = t.Until
		}
		rules = append(rules, open)
	}
	if e.stance.Closed {
		rules = append(rules, Rule{Decider: e.stanceDecider(), Verdict: e.stance.RefuseBy, Log: e.refusedLog()})
	}
	return rules
}

// counts says that an allow changes something: where the stance is open it does
// not, unless it logs or has a limit, or spares packets from one that has.
func (e *end) counts(sp *packet.Space, a piece) bool {
	return e.stance.Closed || e.tried != nil || a.log != nil || a.limit != nil ||
		slices.ContainsFunc(e.allows, func(b piece) bool { return b.limit != nil && meet(sp, a, b) })
}

// A step is a rule laid out: one piece decides, and one says whether it is logged.
type step struct{ decides, logs piece }

// lay puts pieces in an order in which, of all that match a packet, the first
// by one order decides, and the first by byLog says whether it is logged. Where
// these are not the same, a step of both stands before either; both is what it
// gets of the second.
func lay(sp *packet.Space, pieces []piece, order func(a, b piece) int, both func(d, l piece) packet.Set) []step {
	var steps []step
	for _, d := range pieces {
		alone := d.set // what no other decides the log of
		for _, l := range pieces {
			if order(d, l) < 0 && byLog(l, d) < 0 && meet(sp, d, l) {
				steps = append(steps, step{d, l})
				alone = sp.Minus(alone, both(d, l))
			}
		}
		if alone != packet.Empty {
			steps = append(steps, step{d, d})
		}
	}
	slices.SortStableFunc(steps, func(a, b step) int {
		return cmp.Or(order(a.decides, b.decides), byLog(a.logs, b.logs), cmp.Compare(a.decides.rule.Name, b.decides.rule.Name))
	})
	return steps
}

// all is the packets of a piece whatever the others are.
func all(_, l piece) packet.Set { return l.set }

// meet says that two pieces speak of a packet in common, so that their order matters.
func meet(sp *packet.Space, a, b piece) bool { return sp.And(a.set, b.set) != packet.Empty }

// asRules are the rules of a step: one, or one for each service that takes others away.
func (e *end) asRules(s step) (out []Rule) {
	r := e.asRule(s)
	for _, m := range r.Match.apart() {
		one := r
		one.Match, one.Unless = m.Whole()
		out = append(out, one)
	}
	return out
}

// asRule is a step as a rule. Where one statement decides and another logs, it is about what
// both speak of.
func (e *end) asRule(s step) Rule {
	p := s.decides
	r := Rule{Decider: deciderOf(p.rule), Match: p.match, Verdict: p.rule.Verdict, Log: s.logs.log}
	if s.logs.rule != p.rule {
		r.Match = p.match.and(s.logs.match)
	}
	if p.limit != nil {
		r.Limit = e.limited(p, s.logs.log)
	}
	return r
}
