package ask

import (
	"slices"
	"strings"

	"yellowfence.example/yfence/core/fleet"
	"yellowfence.example/yfence/core/packet"
	"yellowfence.example/yfence/core/policy"
	"yellowfence.example/yfence/core/reach"
)

// count adds what becomes of packets to what is known.
func (a *asked) count(d packet.Decision, here packet.Set) {
	sp := a.sp
	d = sp.WithinLimits(d)
	left := here
	for _, v := range verdicts {
		where := sp.Where(d, func(o packet.Outcome) bool { return o.Verdict == v })
		sure := sp.And(here, sp.Certain(where))
		a.fares[v] = sp.Or(a.fares[v], sure)
		left = sp.Minus(left, sure)
		if sp.And(here, sp.Minus(sp.Possible(where), sp.Certain(where))) != packet.Empty {
			for _, name := range sp.UnknownsOf(sp.And(where, here)) {
				if !slices.Contains(a.unread, name) {
					a.unread = append(a.unread, name)
				}
			}
		}
	}
	a.unsure = sp.Or(a.unsure, left)
}

// tell notes who decides at one end.
func (a *asked) tell(r *reach.Reach, p reach.Party, dir packet.Direction, here packet.Set) {
	a.tellOf(r, p, dir, r.End(p, dir), here)
}

// tellOf is tell of a decision.
func (a *asked) tellOf(r *reach.Reach, p reach.Party, dir packet.Direction, d packet.Decision, here packet.Set) {
	part := a.sp.Only(d, here)
	would, on := r.Tried(p, dir)
	for _, o := range a.sp.Outcomes(a.sp.WithinLimits(part)) {
		by, ok := r.Decider(o.By)
		if !ok {
			continue
		}
		s := Step{Verdict: o.Verdict.String(), By: by.String()}
		if by.Pos.Line > 0 {
			s.At = by.Pos.String()
		}
		if o.Verdict == packet.Admit {
			s.As = o.Translated.String()
		}
		if rule := by.Rule; rule != nil && o.Verdict == packet.Admit {
			s.AtMost = rates(a.sp, a.sp.Where(part, func(p packet.Outcome) bool { return p.Verdict == packet.Admit && p.By == o.By }))
		}
		if o.Verdict == packet.Admit && on {
			s.Trial = a.refusing(r, a.sp.Only(would,
				a.sp.Where(part, func(p packet.Outcome) bool { return p.Verdict == packet.Admit && p.By == o.By })))
		}
		a.note(s, dir, p)
	}
}

// refusing names who refuses by a decision.
func (a *asked) refusing(r *reach.Reach, d packet.Decision) string {
	var names []string
	for _, o := range a.sp.Outcomes(d) {
		if by, ok := r.Decider(o.By); ok && o.Refused() && !slices.Contains(names, by.String()) {
			names = append(names, by.String())
		}
	}
	return strings.Join(names, ", ")
}

// rates are the rates within which packets of a set are admitted; what limits logs alone is
// left out.
func rates(sp *packet.Space, s packet.Set) string {
	var said []string
	for _, b := range packet.Buckets(sp, s) {
		if rate := b.String(); !strings.Contains(b.Name, ".log.") && !slices.Contains(said, rate) {
			said = append(said, rate)
		}
	}
	return strings.Join(said, " and ")
}

// note notes who decides something, and joins it with the same of other hosts.
func (a *asked) note(s Step, direction packet.Direction, who ...reach.Party) {
	for _, before := range a.steps {
		if before.Step == s && before.direction == direction {
			before.who = append(before.who, who...)
			return
		}
	}
	a.steps = append(a.steps, &step{Step: s, who: who, direction: direction})
}

// labels names who decides: roles whose hosts all do, and of the others some of each party.
func labels(roles []*policy.Role, parties []reach.Party) string {
	const most = 3
	all, told := map[*fleet.Host]bool{}, map[*fleet.Host]bool{}
	for _, p := range parties {
		for _, h := range p.Hosts {
			all[h] = true
		}
	}
	// A role stands for its hosts where all of them are here.
	whole := func(h *fleet.Host) *policy.Role {
		for _, role := range roles {
			if len(role.Hosts) > 1 && slices.Contains(role.Hosts, h) &&
				!slices.ContainsFunc(role.Hosts, func(o *fleet.Host) bool { return !all[o] }) {
				return role
			}
		}
		return nil
	}
	// Roles first come, hosts one by one behind; of many the first few.
	var names []string
	for _, p := range parties {
		alone := 0
		for _, h := range p.Hosts {
			if told[h] {
				continue
			}
			if role := whole(h); role != nil {
				names = append(names, role.Name)
				for _, o := range role.Hosts {
					told[o] = true
				}
				continue
			}
			if alone++; alone <= most {
				names = append(names, h.Name)
			}
			told[h] = true
		}
		if alone > most {
			names[len(names)-1] += " and others"
		}
	}
	return strings.Join(names, ", ")
}

// answer sums up.
func (a *asked) answer() *Answer {
	out := &Answer{Steps: []Step{}, Examples: []Example{}, Unread: a.unread}
	order := []int{packet.Out: 0, packet.Through: 1, packet.In: 2} // what leaves, what is forwarded, what arrives
	slices.SortStableFunc(a.steps, func(s, t *step) int { return order[s.direction] - order[t.direction] })
	for _, s := range a.steps {
		s.Where = strings.TrimSpace(labels(a.roles, s.who) + " " + directionWords[s.direction])
		out.Steps = append(out.Steps, s.Step)
		for _, p := range s.who {
			for _, h := range p.Hosts {
				out.Hosts = append(out.Hosts, h.Name)
			}
		}
	}
	slices.Sort(out.Hosts)
	out.Hosts = slices.Compact(out.Hosts)
	for _, v := range verdicts {
		if set := a.fares[v]; set != packet.Empty {
			out.Verdict = v.String()
			out.Examples = append(out.Examples, a.example(v.String(), set))
		}
	}
	if len(out.Examples) > 1 {
		out.Verdict = Mixed
	}
	if a.unsure != packet.Empty {
		out.Verdict = Uncertain
		out.Examples = append(out.Examples, a.example(Uncertain, a.unsure))
	}
	return out
}

// directionWords are how steps say the directions.
var directionWords = []string{packet.In: "inbound", packet.Out: "outbound", packet.Through: "forwarded"}

// example is a packet of a set that says nothing of a hook, as the receiving
// end sees it, or the sending one where the other is not ours.
func (a *asked) example(verdict string, set packet.Set) Example {
	sp := a.sp
	e := Example{Verdict: verdict}
	said := func(set packet.Set) string {
		shown := sp.Exists(set, append([]packet.Field{packet.Hook, packet.Fragment, packet.State, packet.TCPFlags, packet.Time},
			packet.MarkFields...)...)
		if !a.dumped { // else they follow from the addresses
			shown = sp.Exists(shown, packet.InIface, packet.OutIface)
		}
		return a.names.Traffic(sp, shown, packet.Through).String()
	}
	e.Traffic = said(set)
	if a.unasked != packet.Empty { // which may be whatever is said more easily
		if easier := said(sp.Or(set, a.unasked)); len(easier) < len(e.Traffic) {
			e.Traffic = easier
		}
	}
	taste := packet.Preferences{}
	for field, side := range map[packet.Field]policy.Side{packet.Src: a.from, packet.Dst: a.to} {
		for _, h := range side.Hosts {
			for _, i := range h.Interfaces {
				for _, p := range i.Addresses {
					taste.Prefer(field, p.Addr())
				}
			}
		}
		for _, run := range side.Outside().Ranges() {
			if next := run.From().Next(); run.Contains(next) && !run.From().IsUnspecified() {
				taste.Prefer(field, next)
			}
		}
	}
	hooks := []int{packet.In, packet.Out, packet.Through}
	if a.q.Direction == "out" || len(a.to.Hosts) == 0 && a.q.Direction == "" {
		hooks = []int{packet.Out, packet.In, packet.Through}
	}
	for _, hook := range hooks {
		seen := sp.And(set, sp.Value(packet.Hook, hook))
		if hook != packet.Through {
			other := packet.OutIface
			if hook == packet.Out {
				other = packet.InIface
			}
			seen = sp.And(sp.Exists(seen, other), sp.Interfaces(other, ""))
		}
		if p, ok := sp.Example(seen, taste); ok {
			e.Packet = p
			return e
		}
	}
	return e
}
