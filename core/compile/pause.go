package compile

import (
	"yellowfence.example/yfence/core/packet"
)

// pausedLog is the log of what a paused filter would refuse: ten lines a second and
// family at most, since it may be what an attacker sends. No rule's name has a dot.
var pausedLog = &Log{Name: "log.paused", UpTo: &packet.Rate{N: 10, Seconds: 1}, Manner: " would refuse"}

// Paused is the plan of a host whose filter is paused: everything is admitted, and
// what the plan would refuse is logged. What exceeds a limit is admitted without a word.
func (p *Plan) Paused(sp *packet.Space) *Plan {
	paused := *p
	paused.Chains, paused.ends = nil, nil
	byDirection := map[packet.Direction]end{}
	// Every end as it is, without limits: what would exceed one is let through as well.
	for _, e := range p.ends {
		allows := make([]piece, len(e.allows))
		for i, a := range e.allows {
			a.limit = nil
			allows[i] = a
		}
		e.allows, e.paused = allows, true
		paused.ends = append(paused.ends, e)
		byDirection[e.direction] = e
	}
	for _, c := range p.Chains {
		e, filtered := byDirection[c.Direction]
		if !filtered {
			paused.Chains = append(paused.Chains, c)
			continue
		}
		out := Chain{Direction: c.Direction}
		// The rules in their order, each admitting, with a log where it would refuse.
		for _, r := range e.order(sp) {
			if r.Kind == ByStance {
				continue
			}
			if r.Verdict != packet.Admit {
				r.Verdict, r.Log = packet.Admit, pausedLog
			}
			out.Rules = append(out.Rules, r)
		}
		if t := e.stance.Trial; t != nil && !t.Open { // until then it refuses nothing
			out.Rules = append(out.Rules, Rule{Decider: e.onTrial(), Match: Match{Until: t.Until}, Verdict: packet.Admit})
		}
		if e.stance.Closed {
			out.Rules = append(out.Rules, Rule{Decider: e.stanceDecider(), Verdict: packet.Admit, Log: pausedLog})
		}
		paused.Chains = append(paused.Chains, out)
	}
	return &paused
}

// admitting is a decision with everything admitted, and logged what was refused.
func admitting(sp *packet.Space, d packet.Decision) packet.Decision {
	refused := sp.Where(d, packet.Outcome.Refused)
	as := func(logged bool) packet.Decision {
		return sp.Map(d, func(o packet.Outcome) packet.Outcome {
			return packet.Outcome{Verdict: packet.Admit, Logged: logged, By: o.By}
		})
	}
	return sp.Choose(refused, sp.Choose(pausedLog.when(sp), as(true), as(false)), d)
}
