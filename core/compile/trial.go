package compile

import (
	"slices"

	"yellowfence.example/yfence/core/packet"
	"yellowfence.example/yfence/core/policy"
)

// trialLog is the log of what would be refused if nothing were on trial: ten lines a second and
// family at most, since it may be what an attacker sends. No rule's name has a dot.
var trialLog = &Log{Name: "log.trial", UpTo: &packet.Rate{N: 10, Seconds: 1}, Manner: " on trial"}

// tried is the meaning of a policy at one end as if nothing were on trial any more. What that
// refuses, and the end itself admits, is noted. Limits are left out: what exceeds one says
// nothing of the trial.
func (p *Plan) tried(sp *packet.Space, pol *policy.Policy, dir packet.Direction, stance policy.Stance, now int64) *end {
	on := func(r *policy.Rule) bool { return r.Trial != nil && r.InForce(now) && now < r.Trial.Until }
	if stance.Trial == nil && !slices.ContainsFunc(pol.Rules, on) {
		return nil
	}
	stance.Closed, stance.Log = stance.Closed || stance.Trial != nil, nil
	e := p.meaning(sp, pol, dir, stance, now, true)
	if stance.Trial == nil && !slices.ContainsFunc(e.blocks, func(b piece) bool { return on(b.rule) }) {
		return nil // nothing that is on trial is about this end
	}
	for i := range e.allows {
		e.allows[i].limit, e.allows[i].log = nil, nil
	}
	for i := range e.blocks {
		e.blocks[i].log = nil
	}
	return &e
}

// begun is a block's match as far as it refuses: once its trial is over, and never if it goes
// back then; or, in what is tried, until it goes back.
func begun(r *policy.Rule, m Match, now int64, tried bool) (Match, bool) {
	t := r.Trial
	switch {
	case t == nil || now >= t.Until:
		return m, true
	case !tried:
		m.Since = max(m.Since, t.Until)
		return m, !t.Open
	case t.Open && (m.Until == 0 || t.Until < m.Until):
		m.Until = t.Until
	}
	return m, true
}

// noting is d with what the trials would refuse noted.
func (e *end) noting(sp *packet.Space, d packet.Decision) packet.Decision {
	if e.tried == nil {
		return d
	}
	refused := sp.Where(e.tried.decision(sp, func(Decider) int32 { return 0 }), packet.Outcome.Refused)
	if t := e.tried.stance.Trial; t != nil && t.Open { // it goes back: what it alone would refuse then is nothing
		open := *e.tried
		open.stance.Closed, open.stance.Trial = false, nil
		refused = sp.Or(sp.And(refused, sp.Before(t.Until)),
			sp.Where(open.decision(sp, func(Decider) int32 { return 0 }), packet.Outcome.Refused))
	}
	refused = sp.Minus(refused, e.byGround(sp)) // of which nothing on trial is asked
	noted := sp.AndAll(refused, sp.Where(d, func(o packet.Outcome) bool { return o.Verdict == packet.Admit }), trialLog.when(sp))
	return sp.Choose(noted, sp.Map(d, func(o packet.Outcome) packet.Outcome {
		o.Logged = true
		return o
	}), d)
}

// Tried is what becomes of packets of one direction once the trials there are over, with who
// decides; ok is false where nothing is on trial.
func (p *Plan) Tried(sp *packet.Space, dir packet.Direction) (d packet.Decision, deciders []Decider, ok bool) {
	for _, e := range p.ends {
		if e.direction != dir || e.tried == nil {
			continue
		}
		d = e.tried.decision(sp, func(by Decider) int32 {
			deciders = append(deciders, by)
			return int32(len(deciders))
		})
		return d, deciders, true
	}
	return packet.Void, nil, false
}

// byGround is the packets that the ground, or what is left to others, admits.
func (e *end) byGround(sp *packet.Space) packet.Set {
	admits := packet.Empty
	for _, g := range slices.Backward(e.ground) {
		if set := g.Match.Set(sp, e.direction); g.Verdict == packet.Admit {
			admits = sp.Or(admits, set)
		} else {
			admits = sp.Minus(admits, set)
		}
	}
	return admits
}

// trial is the rules that note what would be refused, of what is admitted otherwise: each decides
// as the end would without trials, and admits all the same.
func (e *end) trial(sp *packet.Space) (out []Rule) {
	if e.tried == nil {
		return nil
	}
	for _, r := range e.tried.order(sp) {
		ground := r.Kind == ByGround || r.Kind == ByLocal || r.Kind == ByLeave
		if r.Kind == ByStance || ground && (e.direction != packet.Forward || e.stance.Trial == nil) {
			continue // the ground has decided before, but for what it leaves alone while what is forwarded is on trial
		}
		r.Log = nil
		if r.Verdict != packet.Admit {
			r.Log = trialLog
		}
		r.Verdict = packet.Admit
		out = append(out, r)
	}
	if s := e.tried.stance; s.Closed {
		last := Rule{Decider: e.tried.stanceDecider(), Verdict: packet.Admit, Log: trialLog}
		if s.Trial != nil && s.Trial.Open {
			last.Match.Until = s.Trial.Until
		}
		out = append(out, last)
	}
	return out
}
