package reach

import (
	"yellowfence.example/yfence/core/fleet"
	"yellowfence.example/yfence/core/packet"
	"yellowfence.example/yfence/core/policy"
)

// Redirected is packets that a redirect of the policy gives another destination.
type Redirected struct {
	Packets    packet.Set
	Targets    []Target // none: the host that carries it out
	intercepts bool     // on routers
}

// A Target is a host of ours that packets are redirected to.
type Target struct {
	Party
	Decision packet.Decision // what it does with them, said of packets as they were sent
	family   packet.Set
}

// Intercepts says that routers do it, so that the packets do not arrive where they were sent.
func (d *Redirected) Intercepts() bool { return d.intercepts }

// Redirects are those that the policy names.
func (r *Reach) Redirects() []Redirected { return r.redirects }

// redirected works out what redirects of the policy take from whom, once for all questions.
func (r *Reach) redirected() (out []Redirected) {
	sp := r.sp
	for _, q := range r.pol.Redirects {
		if q.Off || q.Through == nil && q.Target == nil { // which its own host has in its decision
			continue
		}
		d := Redirected{intercepts: q.Through != nil,
			Packets: sp.AndAll(sp.Addrs(packet.Src, q.From.Addrs), sp.Addrs(packet.Dst, q.To.Addrs), r.Services([]policy.Term{q.Term}))}
		for _, a := range q.Targets {
			for _, h := range r.pol.Fleet.Hosts {
				if !h.Addresses().Contains(a) {
					continue
				}
				p := Party{Hosts: []*fleet.Host{h}, class: r.planner.Class(h)}
				family := packet.IPv4
				if a.Is6() {
					family = packet.IPv6
				}
				in := sp.Restrict(sp.Restrict(r.End(p, packet.Inbound), packet.Dst, packet.Addr(a)), packet.DstPort, packet.Num(q.Port))
				d.Targets = append(d.Targets, Target{p, in, sp.Value(packet.Family, family)})
			}
		}
		out = append(out, d)
	}
	return out
}

// mask is packets that may come as another than who sent them.
type mask struct {
	of      *policy.Masquerade
	packets packet.Set
}

// behind are the masquerades with the packets that they change.
func (r *Reach) behind() (out []mask) {
	for _, m := range r.pol.Masquerades {
		if !m.Off {
			out = append(out, mask{m, r.sp.And(r.sp.Addrs(packet.Src, m.From.Addrs), r.sp.Addrs(packet.Dst, m.To.Addrs))})
		}
	}
	return out
}

// masked is d, what a party does with packets, for those that a router may have sent on
// as its own: whether it did is an unknown, and as which of its addresses. What is for a router
// itself it does not send on, nor does it hide behind itself.
func (r *Reach) masked(from, to Party, d packet.Decision) packet.Decision {
	sp := r.sp
	for _, m := range r.masks {
		routers := m.of.Routers
		for _, p := range []Party{from, to} {
			if len(p.Hosts) == 1 {
				routers = packet.Without(routers, p.Hosts[0].Addresses())
			}
		}
		for _, run := range routers.Ranges() {
			for a := run.From(); run.Contains(a); a = a.Next() {
				family := packet.IPv4
				if a.Is6() {
					family = packet.IPv6
				}
				as := sp.Restrict(d, packet.Src, packet.Addr(a))
				for _, seg := range r.pol.Segments() { // by the interface that it comes by then
					if on := to.Hosts[0].On(seg.Name, seg.Addrs); on != nil && seg.Addrs.Contains(a) {
						as = sp.Restrict(as, packet.InIface, packet.InterfaceRange(on[0]).Lo)
					}
				}
				either := sp.Unknown("whether it comes as " + a.String() + ", by masquerade " + m.of.Name)
				d = sp.Choose(sp.AndAll(m.packets, sp.Value(packet.Family, family), either), as, d)
			}
		}
	}
	return d
}

// Addressed is the packets from one party's addresses to another's, as each is seen by the
// other.
func (r *Reach) Addressed(from, to Party) packet.Set {
	return r.sp.And(r.sp.Addrs(packet.Src, from.Addrs), r.sp.Addrs(packet.Dst, to.Addrs))
}
