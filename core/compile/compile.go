package compile

import (
	"cmp"
	"slices"

	"go4.org/netipx"

	"yellowfence.example/yfence/core/fence"
	"yellowfence.example/yfence/core/fleet"
	"yellowfence.example/yfence/core/packet"
	"yellowfence.example/yfence/core/policy"
	"yellowfence.example/yfence/core/source"
)

// A Plan is what one host's filter must do.
type Plan struct {
	Host   *fleet.Host
	Chains []Chain // one per direction that is filtered
	// Translations are tried in this order: of those of a kind the first that matches counts.
	Translations []Translation

	ends []end // per chain, what the decision is made of
}

// A Chain is the rules for one direction, tried in order.
type Chain struct {
	Direction packet.Direction
	Stance    policy.Stance
	Rules     []Rule
	Trial     []Rule // tried for what those admit, but for the ground, while something is on trial
}

// A Rule is one step of a chain: the first that matches decides.
type Rule struct {
	Decider
	Match   Match
	Unless  []Match // what also matches one of these is left to the rules below
	Verdict packet.Verdict
	Log     *Log
	Limit   *Limit // of an allow
}

// A Kind is a kind of Decider, by the word that answers name it with.
type Kind string

// The kinds of deciders. What ByLeave decides is left to other programs; a ByStance is what
// decides where nothing else does.
const (
	ByAllow      Kind = "allow"
	ByBlock      Kind = "block"
	ByGround     Kind = "ground"
	ByLocal      Kind = "local" // a local segment, which refuses its addresses elsewhere
	ByLeave      Kind = "leave"
	ByStance     Kind = "stance"
	ByRedirect   Kind = "redirect"
	ByMasquerade Kind = "masquerade"
)

// A Decider is what an outcome can be owed to: a rule of the policy, a part of
// the ground, a local segment, or the stance.
type Decider struct {
	Kind Kind
	Name string
	Rule *policy.Rule // of an allow or block
	Pos  source.Pos   // zero for the ground and for a stance nobody wrote
}

// String is the decider as an answer names it: "allow chart-web", "ground replies".
func (d Decider) String() string { return string(d.Kind) + " " + d.Name }

// end is the meaning of a policy at one host in one direction.
type end struct {
	direction packet.Direction
	ground    []Rule // decides first, in order: what is left to others, local segments, the ground
	allows    []piece
	blocks    []piece
	stance    policy.Stance
	paused    bool // what it refuses is admitted
	tried     *end // as if nothing were on trial; nil if nothing is
}

// piece is a rule of the policy as it bears on one end.
type piece struct {
	rule  *policy.Rule
	span  *policy.Span // the part of it that this is of
	match Match
	set   packet.Set
	log   *Log           // if it logs at this end
	limit *policy.AtMost // if it counts at this end
}

// ForHost makes the plan of one host, for an instant in seconds since 1970: rules
// that have ended by then do not count.
func ForHost(sp *packet.Space, pol *policy.Policy, h *fleet.Host, now int64) *Plan {
	if h.Others() { // what its own filter does is not ours to say
		return &Plan{Host: h}
	}
	p := &Plan{Host: h, Translations: translations(pol, h)}
	handsOn := slices.ContainsFunc(p.Translations, func(t Translation) bool {
		return !t.Masquerade && t.Direction == packet.Inbound && t.Passes() == packet.Forward
	})
	for _, dir := range []packet.Direction{packet.Inbound, packet.Outbound, packet.Forward} {
		stance := pol.StanceOf(h, dir).At(now)
		e := p.meaning(sp, pol, dir, stance, now, false)
		// what is forwarded is left as it is
		if e.tried = p.tried(sp, pol, dir, stance, now); dir == packet.Forward && !stance.Closed && len(e.blocks) == 0 &&
			(e.tried == nil || !e.tried.stance.Closed && len(e.tried.blocks) == 0) {
			if handsOn { // but what was its own before
				p.Chains = append(p.Chains, Chain{Direction: dir, Stance: stance})
			}
			continue
		}
		p.ends = append(p.ends, e)
		p.Chains = append(p.Chains, Chain{dir, stance, e.order(sp), e.trial(sp)})
	}
	return p
}

// meaning is what a policy says at one end; tried is as if nothing were on trial.
func (p *Plan) meaning(sp *packet.Space, pol *policy.Policy, dir packet.Direction, stance policy.Stance, now int64, tried bool) end {
	h := p.Host
	e := end{direction: dir, stance: stance}
	// The ground of this host comes before all rules: what is left to other programs, segments that
	// nothing else may speak for, and the parts that every host has.
	for _, l := range pol.Leaves {
		if l.Direction != dir || !l.Concerns(h) {
			continue
		}
		for _, name := range l.Interfaces {
			by := Rule{Decider: Decider{Kind: ByLeave, Name: l.Name, Pos: l.Pos}, Verdict: packet.Admit,
				Match: Match{Ifaces: []string{name}}}
			if e.ground = append(e.ground, by); dir == packet.Forward {
				by.Match.Leaving = true
				e.ground = append(e.ground, by)
			}
		}
	}
	for _, seg := range pol.Segments() {
		// what is forwarded arrives too
		if on := h.On(seg.Name, seg.Addrs); dir != packet.Outbound && seg.Local && on != nil && (dir == packet.Inbound || stance.Closed) {
			e.ground = append(e.ground, e.sparing(Rule{Decider: Decider{Kind: ByLocal, Name: seg.Name, Pos: seg.Pos}, Verdict: packet.Drop,
				Match: Match{Ifaces: append(on, "lo"), NotIfaces: true, From: seg.Addrs}}, tried))
		}
	}
	for _, part := range groundOf(h, pol.Fleet.Service) {
		matches := part.in
		if dir == packet.Outbound {
			matches = part.out
		} else if dir == packet.Forward && (!part.forward || !stance.Closed && part.name != fence.PartReplies) {
			matches = nil
		}
		for _, m := range changedGround(pol, h, part.name, dir, matches) {
			e.ground = append(e.ground, e.sparing(Rule{Decider: Decider{Kind: ByGround, Name: part.name}, Match: m,
				Verdict: part.verdict}, tried))
		}
	}
	// Then the rules, each where this host is one of its ends or a router between them.
	for _, r := range pol.Rules {
		if !r.InForce(now) {
			continue
		}
		for i := range r.Spans {
			for _, m := range matchesAt(r, &r.Spans[i], h, dir) {
				m, ok := begun(r, m, now, tried)
				if !ok {
					continue
				}
				// A rule that began needs no time to be asked for any more; one that will end still does.
				if m.Since <= now {
					m.Since = 0
				}
				// A rule with a limit counts its own packets, so that its ends must not be counted together.
				whole := piece{rule: r, span: &r.Spans[i], match: m, set: m.Set(sp, dir), limit: r.AtMost}
				if r.Log != nil {
					whole.log = &Log{Name: r.Name + ".log", UpTo: r.Log.UpTo}
				}
				if r.Block {
					if whole.set != packet.Empty {
						e.blocks = append(e.blocks, whole)
					}
					continue
				}
				for _, part := range append(whole.byEnd(sp, dir), whole.masked(sp, pol, h, dir)...) {
					if part.set != packet.Empty {
						e.allows = append(e.allows, part)
					}
				}
			}
		}
	}
	// Where all is forwarded, an allow only matters as an exception to a block.
	if dir == packet.Forward && !stance.Closed {
		e.allows = e.exceptions(sp)
	}
	byName := func(a, b piece) int { return cmp.Compare(a.rule.Name, b.rule.Name) }
	slices.SortFunc(e.allows, byName)
	slices.SortFunc(e.blocks, byName)
	return e
}

// sparing is a rule of the ground that drops what is forwarded, where that is on trial: it
// begins to when the trial is over.
func (e *end) sparing(r Rule, tried bool) Rule {
	if t := e.stance.Trial; e.direction == packet.Forward && t != nil && r.Verdict != packet.Admit && !tried {
		r.Match.Since = t.Until
	}
	return r
}

// exceptions are the allows as far as they are exceptions to blocks that are carried out here:
// where everything else passes anyway, an allow has nothing else to say.
func (e *end) exceptions(sp *packet.Space) (out []piece) {
	for _, a := range e.allows {
		for _, b := range e.blocks {
			if a.rule.Overrides(b.rule) && meet(sp, a, b) {
				both := a
				both.match, both.set = a.match.and(b.match), sp.And(a.set, b.set)
				out = append(out, both)
			}
		}
	}
	return out
}

// byEnd takes an allow apart by where it logs and counts: at the receiving end
// if that is ours, else at the sending end, else at a router. (A block logs wherever
// it refuses: what the sending end refuses arrives nowhere.)
func (p piece) byEnd(sp *packet.Space, dir packet.Direction) (parts []piece) {
	if dir == packet.Inbound || p.log == nil && p.limit == nil {
		return []piece{p}
	}
	here := p
	elsewhere := func(of *netipx.IPSet, side func(*piece) **netipx.IPSet) {
		all := *side(&here)
		if all == nil {
			all = packet.Everything()
		}
		there := here
		there.log, there.limit = nil, nil
		*side(&there), *side(&here) = intersect(all, of), packet.Without(all, of)
		parts = append(parts, there)
	}
	if p.span.To.Named {
		elsewhere(p.span.To.HostAddrs(), func(p *piece) **netipx.IPSet { return &p.match.To })
	}
	if dir == packet.Forward && p.span.From.Named {
		elsewhere(p.span.From.HostAddrs(), func(p *piece) **netipx.IPSet { return &p.match.From })
	}
	parts = append(parts, here)
	for i := range parts {
		parts[i].set = sp.And(p.set, parts[i].match.Set(sp, dir))
	}
	return parts
}

// matchesAt says what a part of a rule asks of packets at a host: nothing where it is not rendered,
// and at a router of joins one thing for each way that it crosses them.
func matchesAt(r *policy.Rule, s *policy.Span, h *fleet.Host, dir packet.Direction) (out []Match) {
	if dir != packet.Forward || policy.Routes(r.Through, h) {
		if m, ok := matchAt(r, s, h, dir); ok {
			out = append(out, m)
		}
		return out
	}
	for _, c := range s.CarriedBy(h) {
		if m, ok := matchAt(r, s, h, dir); ok {
			m.From, m.To = intersect(m.From, c.From), intersect(m.To, c.To)
			out = append(out, m)
		}
	}
	return out
}

// matchAt is matchesAt for the whole of the part, at a host that is a router for it or is named by it.
func matchAt(r *policy.Rule, s *policy.Span, h *fleet.Host, dir packet.Direction) (m Match, ok bool) {
	switch {
	case dir == packet.Inbound && s.To.Names(h):
		m.From, m.To = s.From.Addrs, s.To.At[h]
		switch {
		case len(r.Senders) > 0 && r.Block:
			return m, false // it is refused where it is sent, and here nobody can tell it
		case len(r.Senders) > 0: // nor what others than our hosts send
			m.From = packet.Intersection(s.From.Addrs, s.From.HostAddrs())
		}
	case dir == packet.Outbound && s.From.Names(h):
		m.From, m.To, m.Senders = s.From.At[h], s.To.Addrs, r.Senders
	case dir == packet.Forward:
		m.From, m.To = s.From.Addrs, s.To.Addrs
		switch { // as where it arrives
		case len(r.Senders) > 0 && r.Block:
			return m, false
		case len(r.Senders) > 0:
			m.From = packet.Intersection(s.From.Addrs, s.From.HostAddrs())
		}
	default:
		return m, false
	}
	m.Terms, m.Since, m.Until, m.IPsec = r.Terms, r.Since, r.Until, r.IPsec
	everything := packet.Everything()
	if m.From != nil && m.From.Equal(everything) {
		m.From = nil
	}
	if m.To != nil && m.To.Equal(everything) {
		m.To = nil
	}
	if s.On != nil {
		if m.Ifaces = h.On(s.On.Name, s.On.Addrs); m.Ifaces == nil {
			return m, false
		}
		if m.From == s.From.Addrs {
			m.From = s.OnFrom
		} else {
			m.From = intersect(m.From, s.On.Addrs)
		}
		if m.To == s.To.Addrs {
			m.To = s.OnTo
		} else {
			m.To = intersect(m.To, s.On.Addrs)
		}
	}
	if r.Arriving != nil && dir != packet.Forward { // a router does not know by what it arrives
		var arriving []string
		for _, seg := range r.Arriving {
			for _, name := range h.On(seg.Name, seg.Addrs) {
				if !slices.Contains(arriving, name) {
					arriving = append(arriving, name)
				}
			}
		}
		if m.Ifaces == nil {
			m.Ifaces = arriving
		} else {
			m.Ifaces = slices.DeleteFunc(m.Ifaces, func(name string) bool { return !slices.Contains(arriving, name) })
		}
		if len(m.Ifaces) == 0 {
			return m, false
		}
	}
	return m, true
}
