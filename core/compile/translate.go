package compile

import (
	"net/netip"
	"slices"
	"strings"

	"yellowfence.example/yfence/core/fleet"
	"yellowfence.example/yfence/core/packet"
	"yellowfence.example/yfence/core/policy"
)

// A Translation changes an address of new connections that cross a host.
type Translation struct {
	Decider
	Match      Match            // of what comes: its addresses, and of a redirect the one port
	Direction  packet.Direction // of a redirect: whose rules decide, by what the packet came with
	Targets    []netip.Addr     // of a redirect to another host, one of a family at most; nil: this one
	Port       int              // of a redirect
	Masquerade bool             // it gets the router's own address, and nothing else is changed
}

// To is where a redirect sends packets of a family; ok is false where it sends none, and the
// packet stays as it is.
func (t *Translation) To(family int) (to netip.Addr, ok bool) {
	for _, a := range t.Targets {
		if a.Is6() == (family == packet.IPv6) {
			return a, true
		}
	}
	return netip.Addr{}, t.Targets == nil
}

// Passes is the direction in which the host's filter sees what a redirect has changed: coming
// in where it is given to the host, going through where it is sent on.
func (t *Translation) Passes() packet.Direction {
	if t.Targets == nil {
		return packet.Inbound
	}
	return packet.Forward
}

// Of is what is changed of packets of a family.
func (t *Translation) Of(family int) packet.Translation {
	if t.Masquerade {
		return packet.Translation{Masqueraded: true}
	}
	to, _ := t.To(family)
	return packet.Translation{Here: !to.IsValid(), To: to, Port: t.Port}
}

// translations are those that a host carries out, redirects first: what it gives away
// of its own, then what it intercepts.
func translations(pol *policy.Policy, h *fleet.Host) (out []Translation) {
	own := h.Addresses()
	for _, r := range pol.Redirects {
		if !r.On(h) {
			continue
		}
		t := Translation{Decider: Decider{Kind: ByRedirect, Name: r.Name, Pos: r.Pos}, Targets: r.Targets, Port: r.Port,
			Direction: packet.Inbound,
			Match:     Match{From: r.From.Addrs, To: packet.Intersection(r.To.Addrs, own), Terms: []policy.Term{r.Term}}}
		if at := r.To.At[h]; at != nil {
			t.Match.To = at
		}
		if r.Through != nil {
			t.Direction, t.Match.To = packet.Forward,
				packet.Without(r.To.Addrs, packet.Union(packet.Union(own, packet.Loopback), h.Broadcast()))
		}
		out = append(out, t.plain())
	}
	for _, m := range pol.Masquerades {
		if m.On(h) {
			t := Translation{Decider: Decider{Kind: ByMasquerade, Name: m.Name, Pos: m.Pos}, Masquerade: true,
				Match: Match{From: packet.Without(m.From.Addrs, own), To: m.To.Addrs, Ifaces: m.Via, Leaving: m.Via != nil}}
			out = append(out, t.plain())
		}
	}
	rank := func(t Translation) int { return present(t.Masquerade)*2 + present(t.Direction == packet.Forward) }
	slices.SortStableFunc(out, func(a, b Translation) int {
		if d := rank(a) - rank(b); d != 0 {
			return d
		}
		return strings.Compare(a.Name, b.Name)
	})
	return out
}

// masked is an allow for those of its left side that come as a router, to where the
// router lets them go so. Nobody comes to a router as that router.
func (p piece) masked(sp *packet.Space, pol *policy.Policy, h *fleet.Host, dir packet.Direction) (parts []piece) {
	if dir != packet.Inbound || p.match.From == nil {
		return nil // who comes as whom makes no difference
	}
	for _, q := range pol.Masquerades {
		if !q.Behind(p.match.From, h) {
			continue
		}
		as := p
		as.match.From, as.match.To = packet.Without(q.Routers, h.Addresses()),
			intersect(p.match.To, packet.Intersection(h.Addresses(), q.To.Addrs))
		if p.span.On != nil { // between addresses on it, the router's too
			as.match.From = packet.Intersection(as.match.From, p.span.On.Addrs)
		}
		as.set = as.match.Set(sp, dir)
		parts = append(parts, as)
	}
	return parts
}

// plain asks for nothing where everything is asked for.
func (t Translation) plain() Translation {
	if everything := packet.Everything(); t.Match.From.Equal(everything) {
		t.Match.From = nil
	} else if t.Match.To.Equal(everything) {
		t.Match.To = nil
	}
	return t
}

// translated is d, what becomes of packets by the host's rules, with how they are
// translated: a redirect's are decided about as they came, in the direction they came.
func (p *Plan) translated(sp *packet.Space, d packet.Decision, unfiltered packet.Decision, by func(Decider) int32) packet.Decision {
	// (What is for the host itself never goes through, and nothing else arrives there.)
	own := sp.Addrs(packet.Dst, p.Host.Addresses())
	fresh := sp.Minus(sp.Value(packet.State, packet.New), sp.And(sp.Value(packet.Hook, packet.Through), own))
	fresh = sp.Minus(fresh, sp.And(sp.Value(packet.Hook, packet.In),
		sp.Not(sp.Or(own, sp.Addrs(packet.Dst, packet.Union(p.Host.Broadcast(), packet.Loopback))))))
	routed := sp.And(fresh, sp.Values(packet.Hook, packet.Through, packet.Out))
	ends := map[packet.Direction]packet.Decision{packet.Forward: unfiltered}
	for i := range p.ends {
		ends[p.ends[i].direction] = p.ends[i].decision(sp, by)
	}
	behind := packet.Empty // those that some masquerade is about: two change no more than one
	for i := range p.Translations {
		if t := &p.Translations[i]; t.Masquerade {
			behind = sp.Or(behind, t.Match.Set(sp, Anywhere))
		}
	}
	d = sp.Choose(sp.And(routed, behind), sp.Translate(d, packet.Translation{Masqueraded: true}), d)
	for i := range slices.Backward(p.Translations) {
		t := &p.Translations[i]
		if t.Masquerade {
			continue
		}
		came := sp.AndAll(fresh, sp.Values(packet.Hook, packet.In, packet.Through), t.Match.Set(sp, Anywhere))
		decided := p.asIf(sp, ends[t.Direction], t)
		for _, family := range []int{packet.IPv4, packet.IPv6} {
			to, ok := t.To(family)
			if !ok {
				continue
			}
			behind := packet.Empty
			for k := range p.Translations {
				if m := &p.Translations[k]; m.Masquerade && to.IsValid() {
					sent := Match{From: m.Match.From} // (one with `via` stands on no host that sends on)
					if m.Match.To == nil || m.Match.To.Contains(to) {
						behind = sp.Or(behind, sent.Set(sp, Anywhere))
					}
				}
			}
			then := sp.Choose(behind, sp.Translate(decided, packet.Translation{Masqueraded: true}), decided)
			d = sp.Choose(sp.And(came, sp.Value(packet.Family, family)), sp.Translate(then, t.Of(family)), d)
		}
	}
	return d
}

// asIf is d for packets that cross in another direction than the translation's, as if they
// crossed in that. What a router takes to itself leaves by no interface: no rule about one,
// of what is left to others, is about it.
func (p *Plan) asIf(sp *packet.Space, d packet.Decision, t *Translation) packet.Decision {
	d = sp.Restrict(d, packet.Hook, packet.Num(int(t.Direction)))
	if t.Direction == packet.Inbound {
		return sp.Restrict(d, packet.OutIface, packet.Value{})
	}
	name := "lo"
	if t.Passes() == packet.Inbound {
		return sp.Restrict(d, packet.OutIface, packet.InterfaceRange(name).Lo)
	}
	if len(p.Host.Interfaces) > 0 {
		name = p.Host.Interfaces[0].Name
	}
	return sp.Choose(sp.Value(packet.Hook, packet.In), sp.Restrict(d, packet.OutIface, packet.InterfaceRange(name).Lo), d)
}
