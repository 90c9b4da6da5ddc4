package kernel

import (
	"net/netip"
	"slices"

	"yellowfence.example/yfence/core/packet"
)

// translation is what a branch changes of a connection.
func (b *Branch) translation() packet.Translation {
	switch b.Action {
	case Redirect, DestinationNAT:
		return packet.Translation{Here: !b.To.IsValid(), To: b.To, Port: b.Port}
	}
	return packet.Translation{Masqueraded: true}
}

// redirected is what becomes of packets that are given to the host itself instead.
func (e *evaluation) redirected(c *Chain, r *Rule, b *Branch, next, accepting packet.Decision) packet.Decision {
	sp := e.sp
	if !e.unrouted {
		local := func(to string) packet.Decision { return e.resent(r, b, netip.MustParseAddr(to), next, accepting) }
		return sp.Choose(sp.Value(packet.Family, packet.IPv6), local("::1"), local("127.0.0.1"))
	}
	d := e.changed(e.delivered(), b)
	if d, ok := e.taken(d, sp.And(e.seen(sp.And(r.Match, b.Match)), c.sees(sp)), e.asked(d)); ok {
		return d
	}
	return e.unmodelled("which of the host's addresses a redirect gives a packet ("+r.At+")", next)
}

// taken is what becomes of packets that the host takes to itself: they came as they
// are in a set, and get one of the host's addresses, which must not matter. What rules
// ask of how they came is told apart by names.
func (e *evaluation) taken(d packet.Decision, came packet.Set, names []string) (packet.Decision, bool) {
	sp := e.sp
	if came == packet.Empty {
		return d, true
	}
	if len(names) > 0 {
		name, had := names[0], e.originals[names[0]]
		with, ok := e.taken(sp.Answered(d, name, true), sp.And(came, had), names[1:])
		if !ok {
			return d, false
		}
		without, ok := e.taken(sp.Answered(d, name, false), sp.Minus(came, had), names[1:])
		return sp.Choose(had, with, without), ok
	}
	// Translation is for what has a connection.
	if !sp.DependsOn(d, packet.DstPort) { // they have another
		came = sp.Exists(came, packet.DstPort)
	}
	care := sp.AndAll(sp.Exists(came, append([]packet.Field{packet.Hook, packet.Dst}, packet.MarkFields...)...), e.as(packet.In),
		sp.Values(packet.State, packet.New, packet.Established, packet.Related))
	for family, some := range []string{packet.IPv4: "127.0.0.1", packet.IPv6: "::1"} {
		of := sp.Value(packet.Family, family)
		same, ok := e.indifferent(d, packet.Dst, packet.Addr(netip.MustParseAddr(some)), sp.And(care, of))
		if !ok {
			return d, false
		}
		d = sp.Choose(of, same, d)
	}
	return d, true
}

// as is what packets can be that cross the host by a way, said of those of any.
func (e *evaluation) as(way int) packet.Set {
	return packet.Set(e.sp.Restrict(packet.Decision(e.sp.WellFormed()), packet.Hook, packet.Num(way)))
}

// indifferent is d with one value of a field for all; ok says that it is the same for
// each that packets of a set can have there.
func (e *evaluation) indifferent(d packet.Decision, field packet.Field, one packet.Value, of packet.Set) (packet.Decision, bool) {
	some := e.sp.Restrict(d, field, one)
	return some, e.sp.Only(some, of) == e.sp.Only(d, of)
}

// anySource says that d does not depend on where packets of a set come from.
func (e *evaluation) anySource(d packet.Decision, of packet.Set) bool {
	care := e.sp.And(e.sp.Exists(of, packet.Src, packet.SrcPort), e.as(e.way))
	for family, some := range []string{packet.IPv4: "127.0.0.1", packet.IPv6: "::1"} {
		among := e.sp.And(care, e.sp.Value(packet.Family, family))
		if _, ok := e.indifferent(d, packet.Src, packet.Addr(netip.MustParseAddr(some)), among); !ok {
			return false
		}
		if _, ok := e.indifferent(d, packet.SrcPort, packet.Num(0),
			e.sp.And(among, e.sp.Values(packet.Protocol, packet.PortProtocols...))); !ok {
			return false
		}
	}
	return true
}

// delivered is what becomes of packets that turn out to be for the host itself.
func (e *evaluation) delivered() packet.Decision {
	return e.sp.Restrict(e.sp.Restrict(e.next[packet.In], packet.Hook, packet.Num(packet.In)), packet.OutIface, packet.Value{})
}

// changed is d for packets whose connection's destination a branch has changed; the
// address is still theirs.
func (e *evaluation) changed(d packet.Decision, b *Branch) packet.Decision {
	if b.Port != 0 {
		d = e.sp.Restrict(d, packet.DstPort, packet.Num(b.Port))
	}
	return e.sp.Answered(d, Translated, true)
}

// to is changed with the address, for packets as they came.
func (e *evaluation) to(d packet.Decision, b *Branch, to netip.Addr) packet.Decision {
	return e.original(e.sp.Restrict(e.changed(d, b), packet.Dst, packet.Addr(to)))
}

// original answers what rules ask of the destination that packets came with.
func (e *evaluation) original(d packet.Decision) packet.Decision {
	for _, name := range e.asked(d) {
		d = e.sp.Choose(e.originals[name], e.sp.Answered(d, name, true), e.sp.Answered(d, name, false))
	}
	return d
}

// asked is what d asks of how packets came.
func (e *evaluation) asked(d packet.Decision) (names []string) {
	if e.originals == nil {
		return nil
	}
	for _, name := range e.sp.UnknownsOf(packet.Set(d)) {
		if _, ok := e.originals[name]; ok {
			names = append(names, name)
		}
	}
	slices.Sort(names)
	return names
}

// resent is what becomes of what the host sends, sent elsewhere instead. The hook
// it is on still sees the interface that it was to leave by.
func (e *evaluation) resent(r *Rule, b *Branch, to netip.Addr, next, accepting packet.Decision) packet.Decision {
	if e.sp.DependsOn(e.sent, packet.OutIface) {
		iface, ok := e.routes.Leaves(to)
		if !ok || e.sending() {
			return e.unmodelled("by which interface what is sent to "+to.String()+" instead leaves ("+r.At+")", next)
		}
		accepting = e.sp.Restrict(accepting, packet.OutIface, packet.InterfaceRange(iface).Lo)
	}
	return e.to(accepting, b, to)
}

// sending says that a chain of the output hook asks for the interface that a packet leaves by.
func (e *evaluation) sending() bool {
	seen := map[*Chain]bool{}
	var asks func(c *Chain) bool
	asks = func(c *Chain) bool {
		if c == nil || seen[c] {
			return false
		}
		seen[c] = true
		return slices.ContainsFunc(c.Rules, func(r Rule) bool {
			return e.sp.DependsOn(packet.Decision(r.Match), packet.OutIface) || slices.ContainsFunc(r.Branches, func(b Branch) bool {
				return e.sp.DependsOn(packet.Decision(b.Match), packet.OutIface) || asks(e.chains[chainKey{c.Family, c.Table, b.Target}])
			})
		})
	}
	for _, c := range e.chains {
		if c.Hook == "output" && asks(c) {
			return true
		}
	}
	return false
}

// elsewhere is what becomes of packets that are given another destination.
func (e *evaluation) elsewhere(r *Rule, b *Branch, next, accepting packet.Decision) packet.Decision {
	sp, to := e.sp, b.To
	if !to.IsValid() { // to another port of where it goes anyway
		return e.original(e.changed(accepting, b))
	}
	if !e.unrouted {
		return e.resent(r, b, to, next, accepting)
	}
	own, known := e.routes.Own(to)
	in, through := e.to(e.delivered(), b, to), packet.Void
	if !own {
		through = e.to(sp.Restrict(e.next[packet.Through], packet.Hook, packet.Num(packet.Through)), b, to)
		if iface, ok := e.routes.Leaves(to); ok {
			through = sp.Restrict(through, packet.OutIface, packet.InterfaceRange(iface).Lo)
		} else if some, ok := e.indifferent(through, packet.OutIface, packet.InterfaceRange("lo").Lo, e.sentOn(r, b)); ok {
			through = some // any will do for what is sent there
		} else {
			return e.unmodelled("by which interface what goes to "+to.String()+" leaves ("+r.At+")", next)
		}
	}
	switch {
	case own:
		through = in
	case known:
		in = through
	}
	if in == through {
		return in
	}
	return sp.Choose(sp.Unknown("whether "+to.String()+" is an address of the host itself"), in, through)
}

// sentOn is the packets that a branch sends elsewhere, as they are when they go through: those
// of new connections, since only they are translated anew.
func (e *evaluation) sentOn(r *Rule, b *Branch) packet.Set {
	here := packet.Decision(e.sp.And(r.Match, b.Match))
	return e.sp.AndAll(e.as(packet.Through), e.sp.Value(packet.State, packet.New),
		packet.Set(e.sp.Restrict(e.sp.Restrict(here, packet.Hook, packet.Num(e.way)), packet.OutIface, packet.Value{})))
}
