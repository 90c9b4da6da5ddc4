// Package reach works out what passes between the two ends of a policy: a
// connection passes when the sender's outbound and the receiver's inbound admit
// it. An end that is not ours admits everything.
//
//	r := reach.New(sp, pol, now)
//	for _, from := range r.Parties(rule.From) {
//		for _, to := range r.Parties(rule.To) {
//			d := r.Between(from, to) // what becomes of every packet between them
//		}
//	}
package reach

import (
	"slices"

	"go4.org/netipx"

	"yellowfence.example/yfence/core/compile"
	"yellowfence.example/yfence/core/fleet"
	"yellowfence.example/yfence/core/packet"
	"yellowfence.example/yfence/core/policy"
)

// A Reach answers for one policy and one instant. It must not be used by two
// goroutines at once, as its Space must not.
type Reach struct {
	sp    *packet.Space
	pol   *policy.Policy
	now   int64
	alone map[*fleet.Host]bool

	// worked out so far
	all      *netipx.IPSet // the fleet's addresses
	class    map[*fleet.Host]string
	plans    map[string]*compile.Plan
	ends     map[endKey]packet.Decision
	between  map[[2]string]packet.Decision
	deciders []Decider // counted from 1 by Outcome.By
}

type endKey struct {
	class string
	dir   policy.Direction
}

// A Decider is who decides, at which end.
type Decider struct {
	compile.Decider
	Direction policy.Direction
}

// New makes a Reach. Rules that have ended by now (in seconds since 1970) do not count.
func New(sp *packet.Space, pol *policy.Policy, now int64) *Reach {
	return &Reach{sp: sp, pol: pol, now: now, alone: compile.Alone(pol), class: map[*fleet.Host]string{}, plans: map[string]*compile.Plan{},
		ends: map[endKey]packet.Decision{}, between: map[[2]string]packet.Decision{}}
}

// A Party is hosts that the policy treats alike, or what is not ours.
type Party struct {
	Hosts []*fleet.Host // none: it is not ours
	Addrs *netipx.IPSet
	class string
}

// Ours says that the party is hosts of the fleet.
func (p Party) Ours() bool { return len(p.Hosts) > 0 }

// Parties takes a side apart: its hosts by how they are treated, and what it
// names besides.
func (r *Reach) Parties(s policy.Side) (out []Party) {
	index := map[string]int{}
	for _, h := range s.Hosts {
		class := r.classOf(h)
		i, known := index[class]
		if !known {
			i = len(out)
			index[class] = i
			out = append(out, Party{class: class, Addrs: &netipx.IPSet{}})
		}
		out[i].Hosts = append(out[i].Hosts, h)
	}
	for i := range out {
		var b netipx.IPSetBuilder
		for _, h := range out[i].Hosts {
			if at := s.At[h]; at != nil {
				b.AddSet(at)
			} else {
				h.AddAddresses(&b)
			}
		}
		out[i].Addrs, _ = b.IPSet() // errors only on invalid addresses, which the reader refuses
	}
	outside := s.Addrs
	if len(s.Hosts) > 0 {
		outside = s.Outside()
	}
	// An address of a host of ours is that host's, however it was named.
	hosts := r.pol.Fleet.Hosts
	if len(packet.Intersection(r.fleet(), outside).Ranges()) == 0 {
		hosts = nil
	}
	for _, h := range hosts {
		own := packet.Intersection(h.Addresses(), outside)
		if len(own.Ranges()) == 0 {
			continue
		}
		outside = packet.Without(outside, own)
		if s.Names(h) {
			continue
		}
		class := r.classOf(h)
		i, known := index[class]
		if !known {
			i = len(out)
			index[class] = i
			out = append(out, Party{class: class, Addrs: &netipx.IPSet{}})
		}
		out[i].Hosts, out[i].Addrs = append(out[i].Hosts, h), packet.Union(out[i].Addrs, own)
	}
	if len(outside.Ranges()) > 0 {
		out = append(out, Party{Addrs: outside})
	}
	return out
}

// fleet is the addresses of all hosts.
func (r *Reach) fleet() *netipx.IPSet {
	if r.all == nil {
		var b netipx.IPSetBuilder
		for _, h := range r.pol.Fleet.Hosts {
			h.AddAddresses(&b)
		}
		r.all, _ = b.IPSet()
	}
	return r.all
}

func (r *Reach) classOf(h *fleet.Host) string {
	class, ok := r.class[h]
	if !ok {
		class = compile.Class(r.pol, h, r.alone)
		r.class[h] = class
		if r.plans[class] == nil {
			r.plans[class] = compile.Host(r.sp, r.pol, h, r.now)
		}
	}
	return class
}

// Later names what the policy says of a party and no dialect writes yet.
func (r *Reach) Later(p Party) []string {
	if !p.Ours() {
		return nil
	}
	return r.plans[p.class].Later
}

// End is what a party's own filter does with packets of one direction, said of
// packets of any hook. Outcome.By is for Decider.
func (r *Reach) End(p Party, dir policy.Direction) packet.Decision {
	if !p.Ours() {
		return r.sp.Leaf(packet.Outcome{Verdict: packet.Admit})
	}
	key := endKey{p.class, dir}
	d, ok := r.ends[key]
	if !ok {
		attributed, deciders := r.plans[p.class].Attributed(r.sp)
		offset := int32(len(r.deciders))
		for _, by := range deciders {
			r.deciders = append(r.deciders, Decider{by, dir})
		}
		d = r.sp.Restrict(attributed, packet.Hook, packet.Num(int(dir)))
		unused := packet.OutIface
		if dir == policy.Outbound {
			unused = packet.InIface
		}
		d = r.sp.Restrict(d, unused, packet.Value{})
		d = r.sp.Map(d, func(o packet.Outcome) packet.Outcome {
			o.By += offset
			return o
		})
		r.ends[key] = d
	}
	return d
}

// Decider is who an outcome of End or Between is owed to; ok is false where no
// end is ours.
func (r *Reach) Decider(by int32) (d Decider, ok bool) {
	if by == 0 {
		return d, false
	}
	return r.deciders[by-1], true
}

// Between is what becomes of packets from one party to another, said of packets
// of any hook: OutIface is the sender's, InIface the receiver's. Where both ends
// admit it is the receiving end's outcome.
func (r *Reach) Between(from, to Party) packet.Decision {
	key := [2]string{"-", "-"}
	for i, p := range []Party{from, to} {
		if p.Ours() {
			key[i] = "=" + p.class
		}
	}
	d, ok := r.between[key]
	if !ok {
		out := r.End(from, policy.Outbound)
		if d = out; to.Ours() {
			leaves := r.sp.Where(out, func(o packet.Outcome) bool { return o.Verdict == packet.Admit })
			d = r.sp.Choose(leaves, r.End(to, policy.Inbound), out)
		}
		r.between[key] = d
	}
	return d
}

// Addressed is the packets from one party's addresses to another's.
func (r *Reach) Addressed(from, to Party) packet.Set {
	return r.sp.And(r.sp.Addrs(packet.Src, from.Addrs), r.sp.Addrs(packet.Dst, to.Addrs))
}

// AnyInterface is the packets that cross the network at both ends: by whatever
// interfaces, but not over loopback.
func (r *Reach) AnyInterface() packet.Set {
	sp := r.sp
	wired := func(f packet.Field) packet.Set { return sp.Not(sp.Interfaces(f, "lo")) }
	return sp.And(wired(packet.InIface), wired(packet.OutIface))
}

// Expected is the packets that use the interfaces one would expect: at each end
// that is ours the one on the peer's segment, or, where the peer is on none of
// the host's segments, any it has.
func (r *Reach) Expected(from, to Party) packet.Set {
	return r.sp.AndAll(r.AnyInterface(), r.expected(from, packet.OutIface, packet.Dst), r.expected(to, packet.InIface, packet.Src))
}

func (r *Reach) expected(p Party, iface, peer packet.Field) packet.Set {
	sp := r.sp
	if !p.Ours() {
		return packet.All
	}
	var names []string
	for _, h := range p.Hosts {
		for _, i := range h.Interfaces {
			if !slices.Contains(names, i.Name) {
				names = append(names, i.Name)
			}
		}
	}
	if names == nil {
		return packet.All
	}
	near, far := packet.Empty, sp.Interfaces(iface, names...)
	for _, seg := range r.pol.Segments() {
		if on := p.Hosts[0].On(seg.Name, seg.Addrs); on != nil { // alike for all of them
			attached := sp.Addrs(peer, seg.Addrs)
			near = sp.Or(near, sp.And(attached, sp.Interfaces(iface, on...)))
			far = sp.Minus(far, attached)
		}
	}
	return sp.Or(near, far)
}

// OnSegment is the packets that stay on a segment: between addresses in it, over
// the interfaces that ends of ours have on it.
func (r *Reach) OnSegment(seg *policy.Network, from, to Party) packet.Set {
	sp := r.sp
	s := sp.And(sp.Addrs(packet.Src, seg.Addrs), sp.Addrs(packet.Dst, seg.Addrs))
	for _, end := range []struct {
		party Party
		iface packet.Field
	}{{from, packet.OutIface}, {to, packet.InIface}} {
		if end.party.Ours() {
			s = sp.And(s, sp.Interfaces(end.iface, end.party.Hosts[0].On(seg.Name, seg.Addrs)...))
		}
	}
	return s
}

// Services is the packets of some service terms.
func (r *Reach) Services(terms []policy.Term) packet.Set {
	s := packet.Empty
	for _, t := range terms {
		s = r.sp.Or(s, compile.TermSet(r.sp, t))
	}
	return s
}

// Roles are the policy's roles with their hosts.
func (r *Reach) Roles() []*policy.Role { return r.pol.Roles }
