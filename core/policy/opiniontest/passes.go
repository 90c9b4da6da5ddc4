package opiniontest

import (
	"math/rand/v2"
	"net/netip"
	"slices"
	"strings"

	"yellowfence.example/yfence/core/fence"
	"yellowfence.example/yfence/core/fleet"
	"yellowfence.example/yfence/core/packet"
)

// Breaks says that a packet between two ends breaks an expectation: that it passes what never
// does, or does not pass what always does. It is a new connection's first packet; its
// interfaces are chosen here.
func (o *Opinion) Breaks(e *fence.Expectation, p packet.Packet) bool {
	from, to := o.owners(p.Src), o.owners(p.Dst)
	if p.Src.BitLen() != p.Dst.BitLen() || !p.Src.IsValid() || p.DstPort == nil {
		return false
	}
	if !slices.ContainsFunc(e.Services, place{Opinion: o, p: p}.speaks) || from == nil && to == nil && e.Through == nil ||
		slices.ContainsFunc(from, func(h *fleet.Host) bool { return slices.Contains(to, h) }) {
		return false
	}
	return slices.ContainsFunc(parts(&fence.Rule{From: e.From, To: e.To, Within: e.Within}), func(part *fence.Rule) bool {
		return o.breaksPart(e, part, p, from, to)
	})
}

// breaksPart is Breaks for what the expectation says within one peer.
func (o *Opinion) breaksPart(e *fence.Expectation, part *fence.Rule, p packet.Packet, from, to []*fleet.Host) bool {
	if !o.holds(part.To, p.Dst) {
		return false
	}
	left := o.holds(part.From, p.Src)
	on := func(seg fence.Ident) bool { return o.inNetwork(seg.Name, p.Src) && o.inNetwork(seg.Name, p.Dst) }
	var segments []fence.Ident // on which it lies
	for _, seg := range e.On {
		if on(seg) {
			segments = append(segments, seg)
		}
	}
	by := func(hosts []*fleet.Host, iface string, seg fence.Ident) bool {
		return hosts == nil || slices.Contains(place{o, hosts[0], p}.on(seg.Name), iface)
	}
	meant := func(sent, came packet.Packet) bool { // over the segment, at both ends
		return e.On == nil || slices.ContainsFunc(segments,
			func(seg fence.Ident) bool { return by(from, sent.Out, seg) && by(to, came.In, seg) })
	}
	switch {
	case e.Kind == fence.Always:
		return left && !o.passes(e, p, from, to, true, meant)
	case e.Kind == fence.Never:
		return left && o.passes(e, p, from, to, false, meant)
	case left && e.On == nil:
		return false
	}
	return o.passes(e, p, from, to, false, func(sent, came packet.Packet) bool { // anything but the left side's on a segment
		return !left || !slices.ContainsFunc(segments,
			func(seg fence.Ident) bool { return (to != nil || by(from, sent.Out, seg)) && by(to, came.In, seg) })
	})
}

// Between is a random packet that an expectation may be about.
func (o *Opinion) Between(rng *rand.Rand, e *fence.Expectation) packet.Packet {
	from, to := []netip.Addr{}, []netip.Addr{}
	for _, a := range o.Addresses() {
		if e.Kind == fence.Only || o.holds(e.From, a) {
			from = append(from, a)
		}
		if o.holds(e.To, a) {
			to = append(to, a)
		}
	}
	p := packet.Packet{State: "new", Protocol: "tcp", Family: "ipv4", User: []string{"", "root", "backup"}[rng.IntN(3)],
		Unit: []string{"", "web.service", "mirror.service"}[rng.IntN(3)], IPsec: rng.IntN(3) == 0}
	if len(from) == 0 || len(to) == 0 {
		return p
	}
	p.Src, p.Dst = from[rng.IntN(len(from))], to[rng.IntN(len(to))]
	for n := 0; p.Src.Is4() != p.Dst.Is4() && n < 20; n++ {
		p.Dst = to[rng.IntN(len(to))]
	}
	if p.Src.Is6() {
		p.Family = "ipv6"
	}
	p.SrcPort, p.DstPort = new(50000), new(22)
	o.serve(rng, &fence.Rule{Services: e.Services}, &p)
	return p
}

// Expectation is one of the policy's by its place; they are in the order in which they stand.
func (o *Opinion) Expectation(n int) *fence.Expectation { return o.expects[n] }

func (o *Opinion) owners(a netip.Addr) (out []*fleet.Host) {
	for _, h := range o.fleet.Hosts {
		if h.Addresses().Contains(a) {
			out = append(out, h)
		}
	}
	return out
}

// passes says that a packet passes by every interface that it is expected on, whatever the rates;
// or, if not always is asked for, by some interface, within them; of the ways that are meant.
func (o *Opinion) passes(e *fence.Expectation, p packet.Packet, from, to []*fleet.Host, always bool,
	meant func(sent, came packet.Packet) bool) bool {
	passes, counted := []bool{}, func(a Answer) bool { // whether that end lets it pass, as far as it counts
		switch {
		case always && a.By == "leave":
			return false
		case always:
			return a.Passes() || a.By == "ground" || a.By == "local"
		}
		return a.Passes()
	}
	for _, sent := range o.ends(e, from, p, packet.Out, always) {
		for _, q := range o.comesAs(sent, to) {
			for _, came := range o.ends(e, to, q, packet.In, always) {
				if !meant(sent, came) {
					continue
				}
				routed := o.routed(p, always, counted)
				yes, last := routed, Answer{}
				for _, role := range e.Through {
					way := o.through(role.Name, p, always, counted)
					if from == nil && to == nil { // a router alone decides
						last = way
					}
					yes = yes && (way.Does == "" || counted(way))
				}
				for _, h := range from {
					last = o.Of(h, sent, !always)
					yes = yes && counted(last)
				}
				for _, h := range to {
					last = o.Of(h, came, !always)
					yes = yes && counted(last)
				}
				if !always && last.By == "ground" { // what the ground admits is not counted
					yes = false
				}
				passes = append(passes, yes)
			}
		}
	}
	if always {
		return !slices.Contains(passes, false)
	}
	return slices.Contains(passes, true)
}

// through is what a role's hosts do on a packet's way: the best of it, or if always is asked
// for the worst, by whichever interfaces it can come and go.
func (o *Opinion) through(role string, p packet.Packet, always bool, counted func(Answer) bool) (found Answer) {
	for _, h := range o.fleet.Hosts {
		if !h.HasRole(role) {
			continue
		}
		for _, in := range o.expectedAt(h, p.Src, always) {
			for _, out := range o.expectedAt(h, p.Dst, always) {
				q := p
				q.Hook, q.In, q.Out, q.User, q.Unit = packet.Through, in, out, "", ""
				a := o.Of(h, q, !always)
				if found.Does == "" || counted(a) != always && (always || a.By != "ground") {
					found = a
				}
			}
		}
	}
	return found
}

func (o *Opinion) expectedAt(h *fleet.Host, peer netip.Addr, always bool) (names []string) {
	for _, i := range h.Interfaces {
		names = append(names, i.Name)
	}
	for name, d := range o.networks {
		if on := (place{o, h, packet.Packet{}}).on(name); always && d.Segment && on != nil && o.inNetwork(name, peer) {
			return on
		}
	}
	return names
}

// ends are the packet as one end sees it, by each interface that it may have there.
func (o *Opinion) ends(e *fence.Expectation, hosts []*fleet.Host, p packet.Packet, hook int, always bool) (out []packet.Packet) {
	p.Hook, p.In, p.Out = hook, "", ""
	if hosts == nil {
		return []packet.Packet{p}
	}
	h, peer := hosts[0], p.Src
	if hook == packet.Out {
		peer = p.Dst
	}
	var names []string
	for _, i := range h.Interfaces {
		names = append(names, i.Name)
	}
	if !always {
		names = append(names, "zz0")
		for _, l := range o.leaves {
			for _, i := range l.Interfaces {
				names = append(names, strings.Replace(i.Text, "*", "0", 1))
			}
		}
	}
	at := place{o, h, p}
	if always && e.On == nil {
		for name, d := range o.networks {
			if on := at.on(name); d.Segment && on != nil && o.inNetwork(name, peer) {
				names = on
			}
		}
	}
	for _, name := range names {
		q := p
		if hook == packet.In {
			q.In, q.User, q.Unit = name, "", ""
		} else {
			q.Out = name
		}
		out = append(out, q)
	}
	return out
}

// comesAs is the packet as it may arrive: as it was sent, or as one of a router's, behind which
// its sender is. No router sends on what is for itself, nor hides behind itself.
func (o *Opinion) comesAs(p packet.Packet, to []*fleet.Host) []packet.Packet {
	out := []packet.Packet{p}
	for _, m := range o.masks {
		if to == nil || !o.holds(m.From, p.Src) || !o.holds(m.To, p.Dst) {
			continue
		}
		for _, router := range o.fleet.Hosts {
			if !routes(m.Through, router) || slices.Contains(to, router) || router.Addresses().Contains(p.Src) {
				continue
			}
			for _, r := range router.Addresses().Ranges() {
				for a := r.From(); r.Contains(a); a = a.Next() {
					if a.Is4() == p.Src.Is4() {
						q := p
						q.Src = a
						out = append(out, q)
					}
				}
			}
		}
	}
	return out
}

// routed says that the routers let a packet go on which a rule says it goes through: by all
// hosts of each role, or by one of each.
func (o *Opinion) routed(p packet.Packet, always bool, counted func(Answer) bool) bool {
	for _, r := range append(slices.Clone(o.allows), o.blocks...) {
		goes := func(part *fence.Rule) bool { return o.holds(part.From, p.Src) && o.holds(part.To, p.Dst) }
		if len(r.Through) == 0 || !slices.ContainsFunc(parts(r), goes) || !slices.ContainsFunc(r.Services, place{Opinion: o, p: p}.speaks) {
			continue
		}
		if !o.letsOn(r.Through, p, always, counted, false) {
			return false
		}
	}
	for _, j := range o.joins {
		if o.joined(j, p) && !o.letsOn(j.Through, p, always, counted, true) {
			return false
		}
	}
	return true
}

// letsOn says that the hosts of each of some roles let a packet on: all of them, or one of each. A
// router that stands alone does not forward what is its own, if that is to count.
func (o *Opinion) letsOn(roles []fence.Ident, p packet.Packet, always bool, counted func(Answer) bool, own bool) bool {
	for _, role := range roles {
		var by []bool
		routers := slices.DeleteFunc(slices.Clone(o.fleet.Hosts), func(h *fleet.Host) bool { return !h.HasRole(role.Name) })
		for _, h := range routers {
			if own && len(routers) == 1 && (h.Addresses().Contains(p.Src) || h.Addresses().Contains(p.Dst)) {
				continue
			}
			q := p
			q.Hook, q.In, q.Out, q.User, q.Unit = packet.Through, h.Interfaces[0].Name, h.Interfaces[min(1, len(h.Interfaces)-1)].Name,
				"", ""
			by = append(by, counted(o.Of(h, q, !always)))
		}
		if by != nil && (always && slices.Contains(by, false) || !always && !slices.Contains(by, true)) {
			return false
		}
	}
	return true
}
