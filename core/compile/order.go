package compile

import (
	"slices"

	"yellowfence.example/yfence/core/packet"
)

// order lays a policy's meaning out as rules of which the first that matches
// decides:
//
//  1. the ground;
//  2. allows that are exceptions to a block, each leaving what a block refuses
//     that it is no exception to;
//  3. blocks: those that drop before those that reject, among them those that
//     log first;
//  4. the other allows, those that log first;
//  5. where a closed stance rejects or logs, a rule that does.
//
// Two things need more than an order. An allow of 4 that logs what an allow of
// 2 admits without a log goes to 2. And a packet that one block rejects with a
// log and another drops without one is dropped with a log, by a rule of its own.
func (e *end) order(sp *packet.Space) []Rule {
	rules := slices.Clone(e.ground)

	var early, late []piece
	for _, a := range e.allows {
		if slices.ContainsFunc(e.blocks, func(b piece) bool { return a.rule.Overrides(b.rule) && meet(sp, a, b) }) {
			early = append(early, a)
		} else {
			late = append(late, a)
		}
	}
	silent := packet.Empty
	for _, a := range early {
		if !a.log {
			silent = sp.Or(silent, a.set)
		}
	}
	late = slices.DeleteFunc(late, func(a piece) bool {
		moved := a.log && sp.And(a.set, silent) != packet.Empty
		if moved {
			early = append(early, a)
		}
		return moved
	})
	for _, a := range logFirst(early) {
		r := a.asRule()
		for _, b := range e.blocks {
			if !a.rule.Overrides(b.rule) && meet(sp, a, b) {
				r.Unless = append(r.Unless, b.match)
			}
		}
		rules = append(rules, r)
	}

	pick := func(v packet.Verdict, log bool) (out []piece) {
		for _, b := range e.blocks {
			if b.rule.Verdict == v && b.log == log {
				out = append(out, b)
			}
		}
		return out
	}
	for _, b := range pick(packet.Drop, true) {
		rules = append(rules, b.asRule())
	}
	for _, b := range pick(packet.Reject, true) {
		for _, d := range pick(packet.Drop, false) {
			if meet(sp, b, d) {
				r := d.asRule()
				r.Match, r.Log = d.match.and(b.match), true
				rules = append(rules, r)
			}
		}
	}
	for _, b := range slices.Concat(pick(packet.Reject, true), pick(packet.Drop, false), pick(packet.Reject, false)) {
		rules = append(rules, b.asRule())
	}
	for _, a := range logFirst(late) {
		if e.stance.Closed || a.log { // else it changes nothing: the stance admits it too
			rules = append(rules, a.asRule())
		}
	}
	if e.stance.Closed && (e.stance.RefuseBy == packet.Reject || e.stance.Log) {
		rules = append(rules, Rule{Decider: e.stanceDecider(), Verdict: e.stance.RefuseBy, Log: e.stance.Log})
	}
	return rules
}

func meet(sp *packet.Space, a, b piece) bool { return sp.And(a.set, b.set) != packet.Empty }

// logFirst puts the rules that log before those that do not, in the order they had.
func logFirst(pieces []piece) []piece {
	slices.SortStableFunc(pieces, func(a, b piece) int {
		switch {
		case a.log == b.log:
			return 0
		case a.log:
			return -1
		}
		return 1
	})
	return pieces
}

func (p piece) asRule() Rule {
	return Rule{Decider: deciderOf(p.rule), Match: p.match, Verdict: p.rule.Verdict, Log: p.log}
}
