package opiniontest

import (
	"net/netip"
	"slices"

	"yellowfence.example/yfence/core/fence"
	"yellowfence.example/yfence/core/fleet"
	"yellowfence.example/yfence/core/packet"
)

// crosses says that a rule is carried out by the routers of joins, too.
func crosses(r *fence.Rule) bool {
	return r.On == nil && !r.Encrypted && !(r.Block && r.Arriving != nil)
}

// joinsFor says that a router of joins carries out some of a rule.
func (o *Opinion) joinsFor(r *fence.Rule, h *fleet.Host) bool {
	if !crosses(r) {
		return false
	}
	all := o.Addresses()
	for _, src := range all {
		for _, dst := range all {
			p := packet.Packet{Src: src, Dst: dst}
			if src.Is4() == dst.Is4() && o.crossing(p, h) &&
				slices.ContainsFunc(parts(r), func(part *fence.Rule) bool { return o.holds(part.From, src) && o.holds(part.To, dst) }) {
				return true
			}
		}
	}
	return false
}

// crossing says that a packet goes from one network of a join to another by a host.
func (o *Opinion) crossing(p packet.Packet, h *fleet.Host) bool {
	return slices.ContainsFunc(o.joins, func(j *fence.JoinDecl) bool { return routes(j.Through, h) && o.joined(j, p) })
}

func (o *Opinion) joined(j *fence.JoinDecl, p packet.Packet) bool {
	for _, a := range j.Networks {
		for _, b := range j.Networks {
			if a.Name != b.Name && o.inNetwork(a.Name, p.Src) && o.inNetwork(b.Name, p.Dst) {
				return true
			}
		}
	}
	return false
}

// routes says that a host is of one of the roles that a rule goes through.
func routes(through []fence.Ident, h *fleet.Host) bool {
	return slices.ContainsFunc(through, func(role fence.Ident) bool { return h.HasRole(role.Name) })
}

// comesFrom says that the packet's source is of a rule's left side: where it says who sends, of
// hosts of ours that it names; and a block that says so is the sender's alone.
func (at place) comesFrom(r *fence.Rule) bool {
	if !at.holds(r.From, at.p.Src) || len(r.Senders) == 0 {
		return at.holds(r.From, at.p.Src)
	}
	return !r.Block && slices.ContainsFunc(at.fleet.Hosts, func(h *fleet.Host) bool {
		return at.carries(r.From, h) && h.Addresses().Contains(at.p.Src)
	})
}

// masked says that the packet comes as a router behind which some of a rule's left side may be.
func (at place) masked(r *fence.Rule) bool {
	all := func(a netip.Addr) bool { return at.holds(r.From, a) }
	for _, m := range at.masks {
		router := slices.ContainsFunc(at.fleet.Hosts, func(h *fleet.Host) bool {
			return routes(m.Through, h) && h.Addresses().Contains(at.p.Src) && !at.h.Addresses().Contains(at.p.Src)
		})
		behind := slices.ContainsFunc(at.Addresses(), func(a netip.Addr) bool {
			if len(r.Senders) > 0 && !slices.ContainsFunc(at.fleet.Hosts,
				func(h *fleet.Host) bool { return at.carries(r.From, h) && h.Addresses().Contains(a) }) {
				return false
			}
			return all(a) && at.holds(m.From, a) && (r.On == nil || at.inNetwork(r.On[0].Name, a))
		})
		if router && behind && at.h.Addresses().Contains(at.p.Dst) && at.holds(m.To, at.p.Dst) {
			return true
		}
	}
	return false
}

func (at place) iface() string {
	if at.p.Hook == packet.Out {
		return at.p.Out
	}
	return at.p.In
}

// on are the host's interfaces on a segment: the fleet file says so, or says nothing and an
// address lies in it.
func (at place) on(segment string) (names []string) {
	for _, i := range at.h.Interfaces {
		if i.Segment == segment || i.Segment == "" &&
			slices.ContainsFunc(i.Addresses, func(p netip.Prefix) bool { return at.inNetwork(segment, p.Addr()) }) {
			names = append(names, i.Name)
		}
	}
	return names
}
