package traffic

import (
	"net/netip"
	"slices"

	"go4.org/netipx"
	"yellowfence.example/yfence/core/compile"
	"yellowfence.example/yfence/core/fleet"
	"yellowfence.example/yfence/core/packet"
	"yellowfence.example/yfence/core/policy"
)

// A judge says what becomes of flows by a policy. Where a flow does not tell all of a packet, as its
// interface, what is left open may be anything.
type judge struct {
	sp      *packet.Space
	pol     *policy.Policy
	planner *compile.Planner
	classes map[string]*fate
	decided map[decidedKey]decided
}

// A likeness is what tells flows apart for a policy: hosts of one class do the same with what comes
// from the same end to the same port, at interfaces of the same name. A fleet's hosts have many such.
type likeness struct {
	class, direction, in, out, at string
	peer, far                     netip.Prefix
	protocol, port                int
}

// decided is what is known already of flows that are alike.
type decided struct {
	by         compile.Decider
	passes, ok bool
}

// decidedKey is of what, and which decider was asked for.
type decidedKey struct {
	likeness
	admitting bool
}

// like is what a flow at a host is like.
func (j *judge) like(h *fleet.Host, f Flow) likeness {
	l := likeness{class: j.planner.Class(h), direction: f.Direction, in: f.In, out: f.Out, peer: f.Src, far: f.Dst, protocol: f.Protocol,
		port: f.Port}
	local := f.Dst
	switch f.Direction {
	case packet.Outbound.Word():
		local, l.peer = f.Src, f.Dst
		l.far = netip.Prefix{}
	case packet.Inbound.Word():
		l.far = netip.Prefix{}
	default:
		return l // of what is forwarded both ends count
	}
	for _, i := range h.Interfaces {
		for _, p := range i.Addresses {
			if p.Addr() == local.Addr() {
				l.at = i.Name
			}
		}
	}
	if l.at == "" { // sent to all on a segment, or to an address that the fleet does not know
		l.far = local
	}
	return l
}

// fate is what hosts of a class do.
type fate struct {
	decision packet.Decision
	deciders []compile.Decider
	admitted packet.Set
}

// judgeOf makes one for an instant in seconds since 1970.
func judgeOf(sp *packet.Space, pol *policy.Policy, now int64) *judge {
	return &judge{sp, pol, compile.NewPlanner(sp, pol, now), map[string]*fate{}, map[decidedKey]decided{}}
}

// fate is what a host of the policy's fleet does with packets.
func (j *judge) fate(h *fleet.Host) *fate {
	class := j.planner.Class(h)
	f := j.classes[class]
	if f == nil {
		f = &fate{}
		f.decision, f.deciders = j.planner.Attributed(j.planner.Plan(h))
		f.admitted = j.sp.Where(f.decision, func(o packet.Outcome) bool { return o.Verdict == packet.Admit })
		j.classes[class] = f
	}
	return f
}

// set is the packets that a flow is of, new connections' first ones.
func (j *judge) set(f Flow) packet.Set {
	d, _ := packet.DirectionOf(f.Direction)
	family := packet.IPv6
	if f.Src.Addr().Is4() {
		family = packet.IPv4
	}
	sp := j.sp
	set := sp.AndAll(sp.Crossing(d), sp.Not(sp.Loopback()), sp.Value(packet.Family, family), sp.Value(packet.State, packet.New),
		sp.Value(packet.Protocol, f.Protocol), sp.WellFormed())
	set = sp.AndAll(set, sp.Addrs(packet.Src, j.addresses(f.Src)), sp.Addrs(packet.Dst, j.addresses(f.Dst)))
	switch {
	case f.Port < 0:
	case slices.Contains(packet.PortProtocols, f.Protocol):
		set = sp.And(set, sp.Value(packet.DstPort, f.Port))
	case f.Protocol == packet.ICMP || f.Protocol == packet.ICMPv6:
		set = sp.And(set, sp.Value(packet.ICMPType, f.Port))
	}
	if f.In != "" && d != packet.Outbound {
		set = sp.And(set, sp.Interfaces(packet.InIface, f.In))
	}
	if f.Out != "" && d != packet.Inbound {
		set = sp.And(set, sp.Interfaces(packet.OutIface, f.Out))
	}
	return set
}

// addresses are those that an end of a flow may be: where a prefix was kept it was a stranger's.
func (j *judge) addresses(p netip.Prefix) *netipx.IPSet {
	all := packet.Prefixes(p)
	if p.IsSingleIP() {
		return all
	}
	if strange := packet.Intersection(all, j.pol.Strangers); len(strange.Ranges()) > 0 {
		return strange
	}
	return all
}

// decides is who decides about a flow at a host; of several, one that admits some of it, or refuses
// some, as asked. passes says that some of it is admitted. ok is false where nothing is filtered.
func (j *judge) decides(h *fleet.Host, f Flow, admitting bool) (by compile.Decider, passes, ok bool) {
	key := decidedKey{j.like(h, f), admitting}
	if known, done := j.decided[key]; done {
		return known.by, known.passes, known.ok
	}
	defer func() { j.decided[key] = decided{by, passes, ok} }()
	fate := j.fate(h)
	for _, o := range j.sp.Outcomes(j.sp.Only(fate.decision, j.set(f))) {
		if o.By == 0 {
			continue
		}
		admits := o.Verdict == packet.Admit
		passes = passes || admits
		if !ok || admits == admitting {
			by, ok = fate.deciders[o.By-1], true
		}
	}
	return by, passes, ok
}
