package compile

import (
	"slices"

	"yellowfence.example/yfence/core/packet"
	"yellowfence.example/yfence/core/policy"
)

// decided is the decision that does one thing with every packet; reject answers
// TCP with a reset and everything else with "port unreachable".
func decided(sp *packet.Space, v packet.Verdict, logged packet.Set, by int32) packet.Decision {
	leaf := func(reply packet.Reply) packet.Decision {
		o := packet.Outcome{Verdict: v, Reply: reply, By: by}
		silent := sp.Leaf(o)
		o.Logged = true
		return sp.Choose(logged, sp.Leaf(o), silent)
	}
	if v != packet.Reject {
		return leaf(packet.NoReply)
	}
	return sp.Choose(sp.Value(packet.Protocol, packet.TCP), leaf(packet.TCPReset), leaf(packet.PortUnreachable))
}

// Decision is what the policy means for all packets that cross the host. It is made of meaning
// alone, never of Chains: rules are held against it. Plans of hosts that are alike have the
// same handle in one Space.
func (p *Plan) Decision(sp *packet.Space) packet.Decision {
	d, _ := p.decision(sp, false)
	return d
}

// Left is the packets that the policy leaves to other programs on the host (`leave`): what
// becomes of them nobody asks.
func (p *Plan) Left(sp *packet.Space) packet.Set {
	left := packet.Empty
	for _, e := range p.ends {
		for _, g := range e.ground {
			if g.Kind == ByLeave {
				left = sp.Or(left, g.Match.Set(sp, e.direction))
			}
		}
	}
	return left
}

// Attributed is Decision with the decider of each outcome: Outcome.By counts
// the deciders from 1. Of several rules that come to the same, it is the first by name.
func (p *Plan) Attributed(sp *packet.Space) (packet.Decision, []Decider) { return p.decision(sp, true) }

// decision puts the three directions together. Deciders are numbered as they come up; nobody
// asks for them where only the meaning is wanted, which is then the same diagram for hosts that
// differ in names alone.
func (p *Plan) decision(sp *packet.Space, attributed bool) (packet.Decision, []Decider) {
	var deciders []Decider
	by := func(d Decider) int32 {
		if !attributed {
			return 0
		}
		if i := slices.Index(deciders, d); i >= 0 {
			return int32(i + 1)
		}
		deciders = append(deciders, d)
		return int32(len(deciders))
	}
	unfiltered := sp.Leaf(packet.Outcome{Verdict: packet.Admit, By: by(Decider{Kind: ByStance, Name: "unfiltered"})})
	all := unfiltered
	for _, e := range p.ends {
		all = sp.Choose(sp.Crossing(e.direction), e.decision(sp, by), all)
	}
	all = p.translated(sp, all, unfiltered, by)
	return sp.Only(all, sp.WellFormed()), deciders
}

// decision is "What it means" in docs/language.md, to the letter.
func (e *end) decision(sp *packet.Space, by func(Decider) int32) packet.Decision {
	refused := packet.Empty
	if l := e.refusedLog(); l != nil && e.stance.Closed {
		refused = l.when(sp)
	}
	d := decided(sp, e.stanceVerdict(), refused, by(e.stanceDecider()))
	if t := e.stance.Trial; t != nil && e.tried != nil { // it is open until then
		d = sp.Choose(sp.Before(t.Until), decided(sp, packet.Admit, packet.Empty, by(e.onTrial())), d)
	}

	// Refused by all blocks that match: dropped if any drops. What comes first
	// overwrites what comes later, so that the first by name is named.
	log := logged(sp, e.blocks)
	for _, b := range slices.Backward(sorted(e.blocks, byRefusal)) {
		d = sp.Choose(b.set, decided(sp, b.rule.Verdict, log, by(deciderOf(b.rule))), d)
	}

	// Admitted by every allow that names all blocks that match; the freest decides.
	admits := slices.Clone(e.allows)
	for i, a := range admits {
		for _, b := range e.blocks {
			if !a.rule.Overrides(b.rule) {
				admits[i].set = sp.Minus(admits[i].set, b.set)
			}
		}
	}
	log = logged(sp, admits)
	for _, a := range slices.Backward(sorted(admits, byFreedom)) {
		does := decided(sp, packet.Admit, log, by(deciderOf(a.rule)))
		if a.limit != nil {
			l := e.limited(a, nil)
			excess := log
			if l.ExcessLog != nil {
				excess = logged(sp, append(slices.Clone(admits), piece{set: packet.All, log: l.ExcessLog}))
			}
			does = sp.Choose(l.room(sp), does, decided(sp, l.Excess, excess, by(deciderOf(a.rule))))
		}
		d = sp.Choose(a.set, does, d)
	}

	for _, g := range slices.Backward(e.ground) {
		d = sp.Choose(g.Match.Set(sp, e.direction), decided(sp, g.Verdict, packet.Empty, by(g.Decider)), d)
	}
	if e.paused {
		return admitting(sp, d)
	}
	return e.noting(sp, d)
}

// logged is the packets of pieces that are logged: the freest log counts.
func logged(sp *packet.Space, pieces []piece) packet.Set {
	set := packet.Empty
	for _, p := range slices.Backward(sorted(pieces, byLog)) {
		if p.log != nil {
			set = sp.Or(sp.Minus(set, p.set), sp.And(p.set, p.log.when(sp)))
		}
	}
	return set
}

// sorted is a copy in an order.
func sorted(pieces []piece, order func(a, b piece) int) []piece {
	pieces = slices.Clone(pieces)
	slices.SortStableFunc(pieces, order)
	return pieces
}

// limited is the limit of an allow, with what becomes of what exceeds it: it is
// refused as the host refuses, and logged as the freer of that and log.
func (e *end) limited(p piece, log *Log) *Limit {
	return &Limit{AtMost: *p.limit, Name: p.rule.Name, Excess: e.stance.RefuseBy, ExcessLog: freer(log, e.refusedLog())}
}

// refusedLog is the log of what the host refuses where no rule does. A rule's
// bucket has the rule's name, which has no dot, so this one is nobody's else.
func (e *end) refusedLog() *Log {
	if e.stance.Log == nil {
		return nil
	}
	return &Log{Name: "log.refused", UpTo: e.stance.Log.UpTo}
}

// deciderOf is a rule of the policy as a decider.
func deciderOf(r *policy.Rule) Decider {
	if r.Block {
		return Decider{Kind: ByBlock, Name: r.Name, Rule: r, Pos: r.Pos}
	}
	return Decider{Kind: ByAllow, Name: r.Name, Rule: r, Pos: r.Pos}
}

// stanceVerdict is what becomes of what nothing else decides.
func (e *end) stanceVerdict() packet.Verdict {
	if !e.stance.Closed {
		return packet.Admit
	}
	return e.stance.RefuseBy
}

// onTrial is what decides as long as the stance is on trial.
func (e *end) onTrial() Decider {
	return Decider{Kind: ByStance, Name: e.direction.String() + " on trial"}
}

// stanceDecider is the stance as a decider: "inbound closed".
func (e *end) stanceDecider() Decider {
	name := e.direction.String() + " open"
	if e.stance.Closed {
		name = e.direction.String() + " closed"
	}
	return Decider{Kind: ByStance, Name: name}
}

// About is the plan without what says nothing of some packets: of these alone its decision is the
// plan's, and of a large policy it is much smaller. (Of what a redirect sends on by another port it is not.)
func (p *Plan) About(sp *packet.Space, some packet.Set) *Plan {
	about := *p
	about.ends = nil
	for _, e := range p.ends {
		about.ends = append(about.ends, *e.about(sp, some))
	}
	return &about
}

// about is an end with only the rules that speak of some packets: for those it decides the
// same, in less time.
func (e *end) about(sp *packet.Space, some packet.Set) *end {
	out := *e
	speaks := func(all []piece) (of []piece) {
		for _, p := range all {
			if sp.And(p.set, some) != packet.Empty {
				of = append(of, p)
			}
		}
		return of
	}
	if out.allows, out.blocks = speaks(e.allows), speaks(e.blocks); e.tried != nil {
		out.tried = e.tried.about(sp, some)
	}
	return &out
}

// RuleSet is the packets that a rule of the policy speaks of at this host in a direction,
// whatever becomes of them: before blocks and freer allows are taken off.
func (p *Plan) RuleSet(sp *packet.Space, r *policy.Rule, dir packet.Direction) packet.Set {
	set := packet.Empty
	for i := range r.Spans {
		for _, m := range matchesAt(r, &r.Spans[i], p.Host, dir) {
			set = sp.Or(set, m.Set(sp, dir))
		}
	}
	return set
}
