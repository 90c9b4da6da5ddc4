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
	sp      *packet.Space
	pol     *policy.Policy
	now     int64
	planner *compile.Planner
	about   packet.Set // what it is asked about: of other packets it knows nothing

	// worked out so far
	all       *netipx.IPSet // the fleet's addresses
	ends      map[endKey]packet.Decision
	between   map[[2]string]packet.Decision
	routes    []Route
	redirects []Redirected
	masks     []mask
	deciders  []Decider // counted from 1 by Outcome.By
	counted   map[Decider]int32
}

// endKey is what an end's decision is kept by.
type endKey struct {
	class string
	dir   packet.Direction
	by    [2]string // of what is forwarded: the interfaces that a question names
}

// A Decider is who decides, at which end.
type Decider struct {
	compile.Decider
	Direction packet.Direction
}

// New makes a Reach for an instant, in seconds since 1970. Rules that have ended by then do not
// count; those that begin later do, from then on. What it works out it keeps, for all questions
// of one Space.
func New(sp *packet.Space, pol *policy.Policy, now int64) *Reach {
	r := &Reach{sp: sp, pol: pol, now: now, about: packet.All, planner: compile.NewPlanner(sp, pol, now),
		counted: map[Decider]int32{}, ends: map[endKey]packet.Decision{}, between: map[[2]string]packet.Decision{}}
	r.routes = r.routed()
	r.redirects, r.masks = r.redirected(), r.behind()
	return r
}

// About is a Reach that answers for some packets alone, and is the faster for it; the same where
// redirects give packets another port.
func (r *Reach) About(some packet.Set) *Reach {
	if len(r.pol.Redirects) > 0 {
		return r
	}
	of := *r
	of.about, of.deciders = some, nil
	of.counted, of.ends, of.between = map[Decider]int32{}, map[endKey]packet.Decision{}, map[[2]string]packet.Decision{}
	of.routes = of.routed()
	of.redirects, of.masks = of.redirected(), of.behind()
	return &of
}

// plan is a host's plan, as far as it concerns the packets that are asked about.
func (r *Reach) plan(h *fleet.Host) *compile.Plan {
	plan := r.planner.Plan(h)
	if r.about == packet.All {
		return plan
	}
	return plan.About(r.sp, r.about)
}

// A Party is hosts that the policy treats alike, or what is not ours.
type Party struct {
	Hosts []*fleet.Host // none: it is not ours
	Addrs *netipx.IPSet
	class string
}

// Ours says that the party is hosts of the fleet, which have filters of their own.
func (p Party) Ours() bool { return len(p.Hosts) > 0 }

// Parties takes a side apart: its hosts by how they are treated, and what it
// names besides.
func (r *Reach) Parties(s policy.Side) (out []Party) {
	index := map[string]int{}
	for _, h := range s.Hosts {
		out, _ = r.join(out, index, h)
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
		var i int
		out, i = r.join(out, index, h)
		out[i].Addrs = packet.Union(out[i].Addrs, own)
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

// End is what a party's own filter does with packets of one direction, said of
// packets of any hook. Outcome.By is for Decider.
func (r *Reach) End(p Party, dir packet.Direction) packet.Decision {
	if !p.Ours() {
		return r.sp.Leaf(packet.Outcome{Verdict: packet.Admit})
	}
	return r.end(p, dir, [2]string{})
}

// Forwards is what a router's own filter does with packets that come by one interface and go by
// another; "" is the router's first, and its second.
func (r *Reach) Forwards(p Party, in, out string) packet.Decision {
	return r.end(p, packet.Forward, [2]string{in, out})
}

// Forwarded is what becomes of packets by all routers that rules say they go through, between
// two interfaces if they are named.
func (r *Reach) Forwarded(in, out string) packet.Decision {
	d := r.sp.Leaf(packet.Outcome{Verdict: packet.Admit})
	for _, route := range r.routes {
		d = r.sp.Choose(route.Packets, r.then(d, r.by(route, in, out)), d)
	}
	return d
}

// end is what a party's filter does in a direction, with who decides by numbers that are the
// same for all ends. It is worked out once for hosts that are alike.
func (r *Reach) end(p Party, dir packet.Direction, by [2]string) packet.Decision {
	key := endKey{p.class, dir, by}
	d, ok := r.ends[key]
	if !ok {
		attributed, deciders := r.plan(p.Hosts[0]).Attributed(r.sp)
		d = r.owed(r.seen(attributed, p, dir, by), deciders, dir)
		r.ends[key] = d
	}
	return d
}

// Tried is what a party's own filter does with packets of one direction once its trials are over; ok
// is false where nothing is on trial. Outcome.By is for Decider.
func (r *Reach) Tried(p Party, dir packet.Direction) (d packet.Decision, ok bool) {
	if !p.Ours() {
		return d, false
	}
	d, deciders, ok := r.plan(p.Hosts[0]).Tried(r.sp, dir)
	if !ok {
		return d, false
	}
	return r.owed(r.seen(d, p, dir, [2]string{}), deciders, dir), true
}

// owed is a decision whose outcomes are owed to some deciders, each counted as it is everywhere: where
// two hosts do the same by the same rules, their decisions are the same.
func (r *Reach) owed(d packet.Decision, deciders []compile.Decider, dir packet.Direction) packet.Decision {
	by := make([]int32, len(deciders)+1)
	for i, one := range deciders {
		who := Decider{one, dir}
		if r.counted[who] == 0 {
			r.deciders = append(r.deciders, who)
			r.counted[who] = int32(len(r.deciders))
		}
		by[i+1] = r.counted[who]
	}
	return r.sp.Map(d, func(o packet.Outcome) packet.Outcome {
		o.By = by[o.By]
		return o
	})
}

// Alike takes parties together that do the same in a direction with some packets, and expect those by
// the same interfaces: asked about these alone, they are one. Hosts that stand alone in both lists stay
// apart, since what a host says to itself is another matter; and where routers or translations have a say
// all do.
func (r *Reach) Alike(list, other []Party, dir packet.Direction, some packet.Set) (out []Party) {
	if len(r.routes)+len(r.redirects)+len(r.masks) > 0 {
		return list
	}
	type like struct {
		does     packet.Decision
		expected packet.Set
		tried    packet.Decision
	}
	iface, peer := packet.InIface, packet.Src
	if dir == packet.Outbound {
		iface, peer = packet.OutIface, packet.Dst
	}
	index := map[like]int{}
	for _, p := range list {
		alone := len(p.Hosts) == 1 && slices.ContainsFunc(other,
			func(o Party) bool { return len(o.Hosts) == 1 && o.Hosts[0] == p.Hosts[0] })
		if !p.Ours() || alone {
			out = append(out, p)
			continue
		}
		key := like{does: r.sp.Only(r.End(p, dir), some), expected: r.expected(p, iface, peer), tried: packet.Void}
		if d, on := r.Tried(p, dir); on {
			key.tried = r.sp.Only(d, some)
		}
		i, known := index[key]
		if !known {
			index[key] = len(out)
			out = append(out, p)
			continue
		}
		out[i].Hosts = slices.Concat(out[i].Hosts, p.Hosts)
		out[i].Addrs = packet.Union(out[i].Addrs, p.Addrs)
	}
	return out
}

// seen is what a party's filter does with packets of one direction, said of packets of any hook.
func (r *Reach) seen(d packet.Decision, p Party, dir packet.Direction, by [2]string) packet.Decision {
	d = r.sp.Restrict(d, packet.Hook, packet.Num(int(dir)))
	switch dir {
	case packet.Inbound:
		d = r.sp.Restrict(d, packet.OutIface, packet.Value{})
	case packet.Outbound:
		d = r.sp.Restrict(d, packet.InIface, packet.Value{})
	case packet.Forward: // in a packet between two ends the interfaces are theirs
		for i, field := range []packet.Field{packet.InIface, packet.OutIface} {
			if of := p.Hosts[0].Interfaces; by[i] == "" && len(of) > 0 {
				by[i] = of[min(i, len(of)-1)].Name
			}
			if by[i] != "" {
				d = r.sp.Restrict(d, field, packet.InterfaceRange(by[i]).Lo)
			}
		}
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
		out := r.End(from, packet.Outbound)
		if d = out; to.Ours() {
			d = r.then(out, r.End(to, packet.Inbound))
		}
		if len(r.routes)+len(r.redirects)+len(r.masks) > 0 && (from.Ours() || to.Ours()) {
			way := out
			for _, route := range r.routes {
				way = r.sp.Choose(route.Packets, r.then(way, route.Decision), way)
			}
			if d = way; to.Ours() {
				d = r.then(way, r.masked(from, to, r.End(to, packet.Inbound)))
			}
			for i := range r.redirects {
				q := &r.redirects[i]
				then := way // a router that takes them to itself is where they go
				if !q.intercepts {
					then = d
				}
				for k := range q.Targets {
					then = r.sp.Choose(q.Targets[k].family, r.then(then, q.Targets[k].Decision), then)
				}
				d = r.sp.Choose(q.Packets, then, d)
			}
		}
		r.between[key] = d
	}
	return d
}

// then is what becomes of packets that fare as in d, and where that admits them as in next.
func (r *Reach) then(d, next packet.Decision) packet.Decision {
	passes := r.sp.Where(d, func(o packet.Outcome) bool { return o.Verdict == packet.Admit })
	return r.sp.Choose(passes, next, d)
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

// expected is the packets that come by, or leave by, an interface from which the peer can be
// reached at all.
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
	set := packet.Empty
	for _, name := range names {
		set = sp.Or(set, sp.And(sp.Interfaces(iface, name), r.expectedBy(p.Hosts[0], name, peer))) // alike for all of them
	}
	return set
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
	return compile.TermsSet(r.sp, terms)
}
