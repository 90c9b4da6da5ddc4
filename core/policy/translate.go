package policy

import (
	"net/netip"
	"slices"

	"go4.org/netipx"

	"yellowfence.example/yfence/core/fence"
	"yellowfence.example/yfence/core/fleet"
	"yellowfence.example/yfence/core/packet"
	"yellowfence.example/yfence/core/source"
)

// A Redirect changes where new connections go: on the hosts of its right side, or
// on routers that it names.
type Redirect struct {
	Name     string
	From, To Side
	Term     Term         // one port of one protocol
	Through  []*Role      // the routers; nil: the right side's hosts
	Target   *Side        // another host; nil: the one that does it
	Targets  []netip.Addr // of Target, one of a family at most
	Port     int
	Off      bool
	Pos      source.Pos
}

// On says that a host carries the redirect out: a router that it goes through, or a host that
// it is for.
func (r *Redirect) On(h *fleet.Host) bool {
	switch {
	case r.Off:
		return false
	case r.Through != nil:
		return Routes(r.Through, h)
	}
	return r.To.Names(h)
}

// A Masquerade makes peers that a role's hosts forward seen as these.
type Masquerade struct {
	Name     string
	From, To Side
	Through  []*Role
	Routers  *netipx.IPSet // all addresses of their hosts
	Via      []string      // where it leaves by one of these; none: by any
	Off      bool
	Pos      source.Pos
}

// On says that a host carries it out.
func (m *Masquerade) On(h *fleet.Host) bool { return !m.Off && Routes(m.Through, h) }

// Routes says that a host is of one of the roles that something goes through: it is a router
// there.
func Routes(through []*Role, h *fleet.Host) bool {
	return slices.ContainsFunc(through, func(r *Role) bool { return h.HasRole(r.Name) })
}

// Behind says that some of a side's peers are seen as the masquerade's routers at a host.
func (m *Masquerade) Behind(from *netipx.IPSet, h *fleet.Host) bool {
	return !m.Off && overlap(from, m.From.Addrs) && overlap(h.Addresses(), m.To.Addrs)
}

// overlap says that two sets have an address in common.
func overlap(a, b *netipx.IPSet) bool {
	return a.Equal(packet.Everything()) && len(b.Ranges()) > 0 || len(packet.Intersection(a, b).Ranges()) > 0
}

// redirect makes a redirect, and tells what a kernel could not do.
func (r *resolver) redirect(d *fence.Redirect) {
	out := &Redirect{Name: d.Name, From: r.side(d.From), To: r.side(d.To), Off: d.Off != nil, Pos: d.Pos}
	if terms := r.serviceTerms([]fence.ServiceTerm{d.Service}); len(terms) == 1 {
		out.Term = terms[0]
	}
	inner := r.serviceTerms([]fence.ServiceTerm{d.Port})
	if len(inner) == 1 {
		out.Port = inner[0].Ports.Lo
		if inner[0].Protocol != out.Term.Protocol {
			r.errorf(fence.Ident{Name: d.Port.Text, Pos: d.Port.Pos}, "redirect",
				"the redirect %q takes %s and gives %s: a connection keeps its protocol", d.Name, d.Service.Text,
				d.Port.Text).Hint = "write the same protocol on both sides of `to`"
		}
	}
	if out.Through = r.through(d.Through); d.Through == nil && !out.To.Named {
		r.errorf(d.Declared(), "no-end", "the redirect %q names no hosts of ours that could carry it out",
			d.Name).Hint = "name a role, host NAME or fleet on the right side, or the routers with `through ROLE`"
	}
	if d.Target != nil {
		side := r.side(fence.Peers{Items: []fence.Peer{*d.Target}, Pos: d.Target.Pos})
		out.Target = &side
		for _, run := range side.Addrs.Ranges() {
			second := slices.ContainsFunc(out.Targets, func(a netip.Addr) bool { return a.Is4() == run.From().Is4() })
			if run.From() != run.To() || second {
				r.errorf(fence.Ident{Name: d.Target.Text, Pos: d.Target.Pos}, "redirect",
					"the redirect %q goes to %s, which is more than one address of a family", d.Name,
					d.Target.Text).Hint = "say which: an address, or `host NAME at SEGMENT`"
				break
			}
			out.Targets = append(out.Targets, run.From())
		}
	}
	r.pol.Redirects = append(r.pol.Redirects, out)
}

// masquerade makes a masquerade, with the addresses of the routers that others see.
func (r *resolver) masquerade(d *fence.Masquerade) {
	m := &Masquerade{Name: d.Name, From: r.side(d.From), To: r.side(d.To), Through: r.through(d.Through), Off: d.Off != nil, Pos: d.Pos}
	for _, i := range d.Via {
		m.Via = append(m.Via, i.Text)
	}
	var routers netipx.IPSetBuilder
	for _, role := range m.Through {
		routers.AddSet(r.group("role "+role.Name, role.Hosts).addrs)
	}
	m.Routers, _ = routers.IPSet()
	r.pol.Masquerades = append(r.pol.Masquerades, m)
}

// leavingBy refuses what is about the interfaces by which packets leave where a host sends
// connections on to others as well: by which interface these leave its routes say, and not the policy.
func (r *resolver) leavingBy() {
	sends := map[*fleet.Host]*Redirect{}
	for _, q := range r.pol.Redirects {
		for _, h := range r.pol.Fleet.Hosts {
			if q.Target != nil && q.On(h) {
				sends[h] = q
			}
		}
	}
	told := func(kind, name string, pos source.Pos, on func(h *fleet.Host) bool) {
		for _, h := range r.pol.Fleet.Hosts {
			if q := sends[h]; q != nil && on(h) {
				r.errorf(fence.Ident{Name: name, Pos: pos}, "redirect",
					"the %s %q says by which interfaces packets leave, and on %s redirect %q sends some on to another host: by which "+
						"these leave is not known",
					kind, name, h.Name, q.Name).Hint = "name no interface there, or have another host carry the redirect out"
				return
			}
		}
	}
	for _, m := range r.pol.Masquerades {
		if m.Via != nil {
			told("masquerade", m.Name, m.Pos, m.On)
		}
	}
	for i := range r.pol.Leaves {
		if l := &r.pol.Leaves[i]; l.Direction == packet.Forward {
			told("leave", l.Name, l.Pos, l.Concerns)
		}
	}
}

// through looks up the roles of routers.
func (r *resolver) through(names []fence.Ident) (roles []*Role) {
	for _, i := range names {
		if role := r.roles[i.Name]; role != nil {
			roles = append(roles, role)
		} else {
			r.unknown(i, "role", keysOf(r.roles)...)
		}
	}
	return roles
}
