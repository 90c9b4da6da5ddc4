package reach

import (
	"fmt"
	"slices"

	"yellowfence.example/yfence/core/fleet"
	"yellowfence.example/yfence/core/packet"
	"yellowfence.example/yfence/core/policy"
)

// mostInterfaces is how many interfaces of a router are told apart.
const mostInterfaces = 8

// Through is d, what becomes of packets, with what the hosts of each of some roles do with them
// on their way. By which host of a role they go, and by which of its interfaces, is an unknown:
// if always is said, by those that the packets are expected on.
func (r *Reach) Through(roles []*policy.Role, d packet.Decision, always bool) packet.Decision {
	sp := r.sp
	for _, role := range roles {
		all := sp.Leaf(packet.Outcome{Verdict: packet.Drop})
		if always || len(role.Hosts) == 0 {
			all = sp.Leaf(packet.Outcome{Verdict: packet.Admit})
		}
		for _, p := range r.alike(role.Hosts) {
			names := interfacesOf(p.Hosts[0])
			for _, in := range names {
				for _, out := range names {
					by := sp.Unknown(fmt.Sprintf("whether it goes through %s by %s and %s", p.Hosts[0].Name, in, out))
					if always {
						by = sp.AndAll(by, r.expectedBy(p.Hosts[0], in, packet.Src), r.expectedBy(p.Hosts[0], out, packet.Dst))
					}
					all = sp.Choose(by, r.Forwards(p, in, out), all)
				}
			}
		}
		if passes := sp.Leaf(packet.Outcome{Verdict: packet.Admit}); d == passes { // neither end is ours: a router alone decides
			d = all
		} else {
			d = r.then(all, d)
		}
	}
	return d
}

// interfacesOf are the names of a host's interfaces, as many as are looked at; "" alone for one
// that tells none.
func interfacesOf(h *fleet.Host) (names []string) {
	for _, i := range h.Interfaces[:min(len(h.Interfaces), mostInterfaces)] {
		names = append(names, i.Name)
	}
	if names == nil {
		return []string{""}
	}
	return names
}

// expectedBy is the packets whose peer is on a segment that an interface is on, or on none of the host's.
func (r *Reach) expectedBy(h *fleet.Host, iface string, peer packet.Field) packet.Set {
	near, far := packet.Empty, packet.All
	for _, seg := range r.pol.Segments() {
		if on := h.On(seg.Name, seg.Addrs); on != nil {
			attached := r.sp.Addrs(peer, seg.Addrs)
			if far = r.sp.Minus(far, attached); slices.Contains(on, iface) {
				near = r.sp.Or(near, attached)
			}
		}
	}
	return r.sp.Or(near, far)
}
