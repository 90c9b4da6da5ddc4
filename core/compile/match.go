package compile

import (
	"slices"

	"go4.org/netipx"

	"yellowfence.example/yfence/core/packet"
	"yellowfence.example/yfence/core/policy"
)

// A Match is what a rule asks of a packet, in terms that every dialect has.
// What is nil asks nothing. The interface is the one it arrives on where the
// packet comes in or goes through, else the one it leaves by.
type Match struct {
	Ifaces    []string
	NotIfaces bool // any interface but these
	Leaving   bool // the interface that a forwarded packet leaves by is meant
	From, To  *netipx.IPSet
	Terms     []policy.Term
	States    []int
	Since     int64           // from this second since 1970 on; 0 is always
	Until     int64           // before this second since 1970; 0 is always
	Senders   []policy.Sender // a local program of one of these users and of one of these units
	IPsec     bool
}

// Anywhere stands for all directions.
const Anywhere packet.Direction = -1

// Set is the packets of one direction that match, or of any if it is Anywhere. It asks for
// well-formed packets in one direction alone.
func (m Match) Set(sp *packet.Space, dir packet.Direction) packet.Set {
	s := packet.All
	if dir != Anywhere {
		s = sp.Crossing(dir)
	}
	if m.Ifaces != nil {
		field := dir.Interface()
		if m.Leaving {
			field = packet.OutIface
		}
		on := sp.Interfaces(field, m.Ifaces...)
		if m.NotIfaces {
			on = sp.Not(on)
		}
		s = sp.And(s, on)
	}
	if m.From != nil {
		s = sp.And(s, sp.Addrs(packet.Src, m.From))
	}
	if m.To != nil {
		s = sp.And(s, sp.Addrs(packet.Dst, m.To))
	}
	if m.Terms != nil {
		s = sp.And(s, TermsSet(sp, m.Terms))
	}
	if m.States != nil {
		s = sp.And(s, sp.Values(packet.State, m.States...))
	}
	if m.Since != 0 {
		s = sp.Minus(s, sp.Before(m.Since))
	}
	if m.Until != 0 {
		s = sp.And(s, sp.Before(m.Until))
	}
	for _, from := range m.Senders {
		s = sp.And(s, sp.Named(from.Kind.Field(), from.Names...))
	}
	if m.IPsec {
		s = sp.And(s, sp.Value(packet.IPsec, 1))
	}
	if dir == Anywhere {
		return s
	}
	return sp.And(s, sp.WellFormed())
}

// TermsSet is the packets that one of some service terms speaks of.
func TermsSet(sp *packet.Space, terms []policy.Term) packet.Set {
	s := packet.Empty
	for _, t := range terms {
		s = sp.Or(s, TermSet(sp, t))
	}
	return s
}

// TermSet is the packets a service term speaks of, in all directions and of all states.
func TermSet(sp *packet.Space, t policy.Term) packet.Set {
	s := packet.All
	if t.Family != policy.AnyFamily {
		s = sp.And(s, sp.Value(packet.Family, t.Family))
	}
	if t.Protocol != policy.AnyProtocol {
		s = sp.And(s, sp.Value(packet.Protocol, t.Protocol))
	}
	if t.HasPorts() {
		s = sp.And(s, sp.Range(packet.DstPort, t.Ports.Lo, t.Ports.Hi))
	}
	if t.Type != policy.AnyType {
		s = sp.And(s, sp.Value(packet.ICMPType, t.Type))
	}
	if t.Code != policy.AnyType {
		s = sp.And(s, sp.Value(packet.ICMPCode, t.Code))
	}
	if t.Not != nil {
		s = sp.Minus(s, TermsSet(sp, t.Not))
	}
	return s
}

// and is the packets that match both. Both ask for interfaces by name, not by exclusion.
func (m Match) and(n Match) Match {
	out := Match{From: intersect(m.From, n.From), To: intersect(m.To, n.To), Ifaces: m.Ifaces, States: m.States,
		Since: max(m.Since, n.Since), Until: max(m.Until, n.Until), Senders: slices.Concat(m.Senders, n.Senders), IPsec: m.IPsec || n.IPsec}
	if m.Until != 0 && n.Until != 0 {
		out.Until = min(m.Until, n.Until)
	}
	if m.Ifaces == nil {
		out.Ifaces = n.Ifaces
	} else if n.Ifaces != nil {
		out.Ifaces = []string{}
		for _, name := range m.Ifaces {
			if slices.Contains(n.Ifaces, name) {
				out.Ifaces = append(out.Ifaces, name)
			}
		}
	}
	out.Terms = []policy.Term{}
	for _, a := range m.Terms {
		for _, b := range n.Terms {
			if t, ok := andTerm(a, b); ok {
				out.Terms = append(out.Terms, t)
			}
		}
	}
	return out
}

// apart is the match as several, of which each has one service that takes others away, or none.
func (m Match) apart() (out []Match) {
	plain := m
	plain.Terms = nil
	for _, t := range m.Terms {
		if t.Not == nil {
			plain.Terms = append(plain.Terms, t)
			continue
		}
		one := m
		one.Terms = []policy.Term{t}
		out = append(out, one)
	}
	if plain.Terms != nil || out == nil {
		out = append(out, plain)
	}
	return out
}

// Whole takes a match of one service that takes others away apart: into the match without
// that, and what of it is not meant. Nothing is where all of it is.
func (m Match) Whole() (whole Match, not []Match) {
	if len(m.Terms) != 1 || m.Terms[0].Not == nil {
		return m, nil
	}
	t := m.Terms[0]
	not = []Match{{Terms: t.Not}}
	t.Not = nil
	m.Terms = []policy.Term{t}
	return m, not
}

// intersect is the addresses in both; nil asks for none in particular.
func intersect(a, b *netipx.IPSet) *netipx.IPSet {
	if a == nil || b == nil {
		if a == nil {
			return b
		}
		return a
	}
	return packet.Intersection(a, b)
}

// andTerm is what two terms both speak of; ok is false where that is nothing.
func andTerm(a, b policy.Term) (t policy.Term, ok bool) {
	same := func(x, y int) int { // -1 stands for any
		switch {
		case x == -1 || x == y:
			return y
		case y == -1:
			return x
		}
		ok = false
		return x
	}
	ok = true
	t = policy.Term{Family: same(a.Family, b.Family), Protocol: same(a.Protocol, b.Protocol), Type: same(a.Type, b.Type),
		Code: same(a.Code, b.Code)}
	t.Ports.Lo, t.Ports.Hi = max(a.Ports.Lo, b.Ports.Lo), min(a.Ports.Hi, b.Ports.Hi)
	for _, n := range slices.Concat(a.Not, b.Not) {
		if _, meets := andTerm(n, t); meets {
			t.Not = append(t.Not, n)
		}
	}
	return t, ok && t.Ports.Lo <= t.Ports.Hi
}
