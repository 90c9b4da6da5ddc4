package check

import (
	"fmt"
	"slices"
	"strings"

	"yellowfence.example/yfence/core/compile"
	"yellowfence.example/yfence/core/fence"
	"yellowfence.example/yfence/core/packet"
	"yellowfence.example/yfence/core/policy"
	"yellowfence.example/yfence/core/reach"
	"yellowfence.example/yfence/core/source"
)

// BrokenExpectation is the code of an expectation that does not hold: the policy can be answered by,
// and must not be published.
const BrokenExpectation = "expectation"

// expectation: every expectation of the policy is proven.
var expectation = Check{
	Code:     BrokenExpectation,
	Severity: source.Error,
	Doc: `An expectation does not hold.

It is proven for every packet, from now on and whatever the rates: never means that no
such connection passes, always that all do, only that nobody else's does: none but the left
side's, and none but over the segment where one is said. That theirs pass is for an always to
say. Here it is broken by the packet that is shown. Either the policy lets through what it
should not, or the expectation says more than is meant:

    expect logbook-private: only pilotage -> logbook : postgresql  on quay-lan
    expect logbook-works:   always pilotage -> logbook : postgresql  on quay-lan

What the ground admits, such as answers, and what a host says to itself is not counted. What
a rate limits or a leave sets aside passes for never, and not for always. By what interface
packets come is open for never; for always it is the one they are expected on.
`,
	run: func(p *pass) {
		if len(p.pol.Expects) == 0 {
			return
		}
		r := reach.New(p.sp, p.pol, p.now)
		for _, e := range p.pol.Expects {
			if e.Off {
				continue
			}
			for _, span := range e.Spans {
				x := expected{p, r, e, span}
				if !x.holds() {
					break
				}
			}
		}
	},
}

// expected is an expectation that is tried on one pair of sides.
type expected struct {
	*pass
	r    *reach.Reach
	e    *policy.Expectation
	span policy.Span
}

// holds proves a part of an expectation, or reports what breaks it.
func (x expected) holds() bool {
	from := *x.span.From
	switch x.e.Kind {
	case fence.Never:
		if x.e.BySteps {
			return x.bySteps()
		}
		return x.never(from, fmt.Sprintf("never %s -> %s", from.Text, x.span.To.Text), x.on)
	case fence.Always:
		return x.always()
	}
	sound := x.never(others(from), "only "+from.Text, anywhere)
	if sound && x.e.On != nil {
		return x.never(from, "only on "+policy.NamesOf(x.e.On), x.elsewhere)
	}
	return sound
}

// others is everybody but a side.
func others(s policy.Side) policy.Side {
	return policy.Side{Text: "others than " + s.Text, Addrs: packet.Without(packet.Everything(), s.Addrs)}
}

// spoken is the packets between two parties that the expectation is about.
func (x expected) spoken(from, to reach.Party) packet.Set { return x.of(from, to, x.e.Terms) }

// of is the new connections between two parties by some services, from now on.
func (x expected) of(from, to reach.Party, terms []policy.Term) packet.Set {
	return x.sp.AndAll(x.r.Services(terms), x.sp.Value(packet.State, packet.New), x.r.Addressed(from, to), x.sp.Not(x.sp.Before(x.now)))
}

// each calls f for all pairs of parties, a host and itself left out, until one is broken.
func (x expected) each(from, to policy.Side, f func(from, to reach.Party) (sound bool)) bool {
	receivers := x.r.Parties(to)
	for _, a := range x.r.Parties(from) {
		for _, b := range receivers {
			if len(a.Hosts) == 1 && len(b.Hosts) == 1 && a.Hosts[0] == b.Hosts[0] || !a.Ours() && !b.Ours() && x.e.Through == nil {
				continue
			}
			if !f(a, b) {
				return false
			}
		}
	}
	return true
}

// Where the packets of an expectation are looked for: anywhere, on its segment if it says one,
// or anywhere else than there.
func anywhere(a, b reach.Party) packet.Set { return packet.All }

// on narrows these to what can come over the segments that the expectation names.
func (x expected) on(a, b reach.Party) packet.Set {
	if x.e.On == nil {
		return packet.All
	}
	set := packet.Empty
	for _, seg := range x.e.On {
		set = x.sp.Or(set, x.r.OnSegment(seg, a, b))
	}
	return set
}

// (Elsewhere is where it arrives by another interface; by which one it was sent is no matter, if
// the receiver is ours.)
func (x expected) elsewhere(a, b reach.Party) packet.Set {
	if b.Ours() {
		a = reach.Party{}
	}
	return x.sp.Not(x.on(a, b))
}

// never reports the first connection from a side that passes there.
func (x expected) never(from policy.Side, what string, there func(a, b reach.Party) packet.Set) bool {
	return x.each(from, *x.span.To, func(a, b reach.Party) bool {
		d := x.r.Through(x.e.Through, x.r.Between(a, b), false)
		passes := x.sp.AndAll(x.spoken(a, b), x.r.AnyInterface(), there(a, b), x.admitted(d))
		return passes == packet.Empty || x.broken(a, b, d, passes, what, "passes")
	})
}

// admitted is the packets that a decision can admit, but for the ground.
func (x expected) admitted(d packet.Decision) packet.Set {
	return x.sp.Possible(x.sp.Where(d, func(o packet.Outcome) bool {
		by, ours := x.r.Decider(o.By)
		return o.Verdict == packet.Admit && (!ours || by.Kind != compile.ByGround)
	}))
}

// passing is the connections of some services that can pass from one party to another.
func (x expected) passing(a, b reach.Party, terms []policy.Term) packet.Set {
	return x.sp.AndAll(x.of(a, b, terms), x.r.AnyInterface(), x.admitted(x.r.Between(a, b)))
}

// always reports the first connection that is refused, or that a rate can refuse.
func (x expected) always() bool {
	return x.each(*x.span.From, *x.span.To, func(a, b reach.Party) bool {
		here := x.sp.And(x.spoken(a, b), x.r.Expected(a, b))
		if x.e.On != nil {
			here = x.sp.AndAll(x.spoken(a, b), x.r.AnyInterface(), x.on(a, b))
		}
		d := x.r.Through(x.e.Through, x.r.Between(a, b), true)
		left := func(o packet.Outcome) bool {
			by, ours := x.r.Decider(o.By)
			return ours && by.Kind == compile.ByLeave
		}
		stopped := x.sp.And(here, x.sp.Possible(x.sp.Or(x.sp.Where(x.r.End(a, packet.Outbound), left),
			x.sp.Where(d, func(o packet.Outcome) bool {
				by, ours := x.r.Decider(o.By)
				return left(o) || o.Verdict != packet.Admit && (!ours || by.Kind != compile.ByGround && by.Kind != compile.ByLocal)
			}))))
		return stopped == packet.Empty || x.broken(a, b, d, stopped, string(fence.Always), "does not pass")
	})
}

// broken reports an expectation with a packet that breaks it, and who is to blame.
func (x expected) broken(a, b reach.Party, d packet.Decision, set packet.Set, what, how string) bool {
	sp := x.sp
	set = sp.AnyRoom(set)
	hook, other := packet.In, packet.OutIface
	if !b.Ours() || how != "passes" && a.Ours() && x.refusedBy(d, set, packet.Outbound) {
		hook, other = packet.Out, packet.InIface
	}
	seen := sp.AndAll(sp.Exists(set, other), sp.Value(packet.Hook, hook), sp.Interfaces(other, ""))
	if !a.Ours() && !b.Ours() { // a router sees it
		seen = sp.AndAll(sp.Exists(sp.Exists(set, packet.InIface), packet.OutIface), sp.Value(packet.Hook, packet.Through))
	}
	taste := packet.Preferences{}
	for field, party := range map[packet.Field]reach.Party{packet.Src: a, packet.Dst: b} {
		for _, h := range party.Hosts {
			for _, i := range h.Interfaces {
				for _, addr := range i.Addresses {
					taste.Prefer(field, addr.Addr())
				}
			}
		}
	}
	for _, role := range x.e.Through {
		for _, h := range role.Hosts {
			if n := len(h.Interfaces); n > 0 {
				taste.LikesInterfaces(packet.InIface, h.Interfaces[0].Name)
				taste.LikesInterfaces(packet.OutIface, h.Interfaces[n-1].Name)
			}
		}
	}
	example, ok := sp.Example(seen, taste)
	var blame []string
	outcomes := sp.Outcomes(sp.Only(d, set))
	if how != "passes" { // the sending end may have set it aside
		outcomes = append(outcomes, sp.Outcomes(sp.Only(x.r.End(a, packet.Outbound), set))...)
	}
	for _, o := range outcomes {
		by, ours := x.r.Decider(o.By)
		aside := how != "passes" && by.Kind == compile.ByLeave
		if (o.Verdict == packet.Admit) != (how == "passes") && !aside || !ours {
			continue
		}
		text := by.String()
		if by.Pos.Line > 0 {
			text += " (" + by.Pos.String() + ")"
		}
		verb := "admitted"
		if aside {
			verb = "set aside"
		} else if o.Verdict != packet.Admit {
			verb = o.Verdict.String()
			if by.Rule != nil && by.Rule.AtMost != nil {
				verb += " beyond its rate"
			}
		}
		if line := fmt.Sprintf("%s %s by %s", verb, by.Direction.String(), text); !slices.Contains(blame, line) {
			blame = append(blame, line)
		}
	}
	why := strings.Join(blame, ", ")
	if why == "" { // an end that is not ours lets it through
		why = "no host of ours decides"
	}
	for _, q := range x.pol.Redirects { // which changes where it goes, and by which port
		if on := sp.AndAll(set, sp.Addrs(packet.Src, q.From.Addrs), sp.Addrs(packet.Dst, q.To.Addrs),
			x.r.Services([]policy.Term{q.Term})); !q.Off && on != packet.Empty {
			why += fmt.Sprintf("; redirect %s (%s) changes where it goes", q.Name, q.Pos)
		}
	}
	pr := x.named(x.e.Pos, x.e.Name, "the expectation %q does not hold (%s): %s from %s to %s %s", x.e.Name, what, x.e.Services,
		sideOf(a), sideOf(b), how).
		Hinted("%s", why)
	if ok {
		pr.Packet = &example
	}
	x.report(pr)
	return false
}

// refusedBy says that of some packets all that are refused are refused in one direction.
func (x expected) refusedBy(d packet.Decision, set packet.Set, dir packet.Direction) bool {
	outcomes := x.sp.Outcomes(x.sp.Only(d, set))
	return !slices.ContainsFunc(outcomes, func(o packet.Outcome) bool {
		by, ours := x.r.Decider(o.By)
		return o.Verdict != packet.Admit && ours && by.Direction != dir
	}) && slices.ContainsFunc(outcomes, packet.Outcome.Refused)
}

// sideOf is a party as a message names it.
func sideOf(p reach.Party) string {
	if !p.Ours() {
		return "outside"
	}
	var names []string
	for _, h := range p.Hosts {
		names = append(names, h.Name)
	}
	return some(names)
}
