package adopt

import (
	"cmp"
	"net/netip"
	"slices"

	"go4.org/netipx"

	"yellowfence.example/yfence/core/fence"
	"yellowfence.example/yfence/core/fleet"
	"yellowfence.example/yfence/core/kernel"
	"yellowfence.example/yfence/core/packet"
)

// segment is a network that hosts are attached to.
type segment struct {
	name     string
	prefixes []netip.Prefix
	addrs    *netipx.IPSet
	local    bool // whoever has an interface on it drops what comes from its addresses by another
}

// declared is the segment as a policy declares it.
func (s segment) declared() *fence.NetworkDecl {
	d := &fence.NetworkDecl{Ident: fence.Ident{Name: s.name}, Segment: true, Local: s.local}
	for _, p := range s.prefixes {
		d.Addrs.Items = append(d.Addrs.Items, items(p.String())...)
	}
	return d
}

// attached works the segments out: those that the fleet file names, and for the other
// interfaces the networks of their addresses.
func (w *writer) attached() {
	named := map[string][]netip.Prefix{}
	var order []string
	add := func(name string, p netip.Prefix) {
		if named[name] == nil {
			order = append(order, name)
		}
		if p = p.Masked(); !slices.Contains(named[name], p) {
			named[name] = append(named[name], p)
		}
	}
	nets := map[netip.Prefix]string{} // of the first prefix that an interface has
	for _, h := range w.fleet.Hosts {
		for k := range h.Interfaces {
			i := &h.Interfaces[k]
			if len(i.Addresses) == 0 {
				continue
			}
			name := i.Segment
			w.used[name] = true // the fleet file speaks of it
			for _, p := range i.Addresses {
				name = cmp.Or(name, nets[p.Masked()])
			}
			if name == "" {
				name = "net-" + slug(i.Addresses[0].Masked().Addr().String())
			}
			for _, p := range i.Addresses {
				nets[p.Masked()] = name
				add(name, p)
			}
		}
	}
	for _, name := range order {
		one := segment{name: name}
		one.is(named[name])
		w.segments = append(w.segments, one)
		w.taken[name] = true
	}
}

// segmentOf is the segment that a host's interface is on; "" if it is on none.
func (w *writer) segmentOf(h *fleet.Host, iface string) string {
	for _, i := range h.Interfaces {
		if i.Name != iface {
			continue
		}
		for _, s := range w.segments {
			if i.Segment == s.name || i.Segment == "" &&
				slices.ContainsFunc(i.Addresses, func(p netip.Prefix) bool { return s.addrs.Contains(p.Addr()) }) {
				return s.name
			}
		}
	}
	return ""
}

// refusesForged tells of the segments that a host is on the widest prefixes around theirs
// from which it drops all that comes by another interface: nil where it does not.
func (w *writer) refusesForged(sp *packet.Space, h *fleet.Host, rs *kernel.Ruleset) map[string][]netip.Prefix {
	drops := sp.Certain(sp.Where(rs.Decision(sp), func(o packet.Outcome) bool { return o.Verdict == packet.Drop }))
	out := map[string][]netip.Prefix{}
	for _, s := range w.segments {
		on := []string{"lo"}
		for _, i := range h.Interfaces {
			if w.segmentOf(h, i.Name) == s.name {
				on = append(on, i.Name)
			}
		}
		if len(on) == 1 {
			continue
		}
		passes := sp.Minus(sp.AndAll(sp.WellFormed(), sp.Value(packet.Hook, packet.In), sp.Not(sp.Interfaces(packet.InIface, on...))),
			drops)
		refused := func(p netip.Prefix) bool {
			return sp.And(passes, sp.Addrs(packet.Src, packet.Prefixes(p))) == packet.Empty
		}
		var wide []netip.Prefix
		for _, p := range s.prefixes {
			if !refused(p) {
				wide = nil
				break
			}
			for p.Bits() > map[bool]int{true: 8, false: 32}[p.Addr().Is4()] { // nobody means more by it
				next := netip.PrefixFrom(p.Addr(), p.Bits()-1).Masked()
				if !refused(next) {
					break
				}
				p = next
			}
			wide = append(wide, p)
		}
		out[s.name] = wide
	}
	return out
}

// local marks the segments that all hosts on them protect so, as wide as all do.
func (w *writer) local(forged []map[string][]netip.Prefix) {
	for i := range w.segments {
		s := &w.segments[i]
		var wide []netip.Prefix
		all := true
		for _, f := range forged {
			protects, on := f[s.name]
			switch {
			case !on:
				continue
			case protects == nil:
				all = false
			case wide == nil:
				wide = slices.Clone(protects)
			default:
				for k := range wide {
					if protects[k].Bits() > wide[k].Bits() {
						wide[k] = protects[k]
					}
				}
			}
		}
		if wide == nil || !all {
			continue
		}
		s.local, w.used[s.name] = true, true
		s.is(wide)
	}
}

// is gives a segment its addresses.
func (s *segment) is(prefixes []netip.Prefix) {
	s.prefixes, s.addrs = prefixes, packet.Prefixes(prefixes...)
}

// placed says which of a host's own addresses statements are about by the segments that they
// are on, and joins those that are alike then.
func (w *writer) placed(s *sketch, all []statement) []statement {
	out := slices.Clone(all)
	for i := range out {
		of := &out[i]
		if of.here == nil {
			continue
		}
		left := of.here
		own := s.host.Addresses()
		for _, g := range w.segments {
			on := packet.Intersection(own, g.addrs)
			for _, family := range []int{packet.IPv4, packet.IPv6} {
				if part := packet.OfFamily(on, family); len(part.Ranges()) > 0 && len(packet.Without(part, left).Ranges()) == 0 {
					left = packet.Without(left, part)
					if !slices.Contains(of.at, g.name) {
						of.at = append(of.at, g.name)
					}
					w.used[g.name] = true
				}
			}
		}
		for _, p := range left.Prefixes() {
			of.at = append(of.at, packet.PrefixText(p))
		}
		of.here = nil
	}
	return joined(out)
}
