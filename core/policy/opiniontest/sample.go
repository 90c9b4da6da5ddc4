package opiniontest

import (
	"math/rand/v2"
	"net/netip"
	"slices"
	"strconv"

	"yellowfence.example/yfence/core/fence"
	"yellowfence.example/yfence/core/fleet"
	"yellowfence.example/yfence/core/packet"
)

// Addresses are those at which something can change: of hosts, and at the ends of whatever the
// policy writes, with their neighbours.
func (o *Opinion) Addresses() []netip.Addr {
	if o.places == nil {
		o.places = []netip.Addr{netip.MustParseAddr("192.0.2.7"), netip.MustParseAddr("2001:db8:99::7"), netip.MustParseAddr("fe80::7"),
			netip.MustParseAddr("224.0.0.5"), netip.MustParseAddr("255.255.255.255"), netip.MustParseAddr("10.40.255.255"),
			netip.MustParseAddr("203.0.113.15"), netip.MustParseAddr("ff02::5")}
		for _, h := range o.fleet.Hosts {
			for _, r := range h.Addresses().Ranges() {
				o.places = append(o.places, r.From(), r.To())
			}
		}
		o.places = append(o.places, o.fleet.Service.Addresses...)
		note := func(items ...fence.AddrItem) {
			for _, i := range items {
				for _, a := range []netip.Addr{i.From, i.To} {
					if a.IsValid() {
						o.places = append(o.places, a)
						for _, b := range []netip.Addr{a.Prev(), a.Next()} {
							if b.IsValid() {
								o.places = append(o.places, b)
							}
						}
					}
				}
			}
		}
		for _, d := range o.networks {
			note(d.Addrs.Items...)
			note(d.Addrs.Except...)
		}
		for _, s := range o.sides() {
			for _, p := range append(slices.Clone(s.Items), s.Except...) {
				for of := &p; of != nil; of = of.At {
					if of.Addr != nil {
						note(*of.Addr)
					}
				}
			}
		}
		slices.SortFunc(o.places, netip.Addr.Compare)
		o.places = slices.Compact(o.places)
	}
	return o.places
}

func (o *Opinion) sides() (out []fence.Peers) {
	for _, d := range o.peers {
		out = append(out, d.Peers)
	}
	for _, r := range append(slices.Clone(o.allows), o.blocks...) {
		out = append(out, r.From, r.To)
	}
	for _, m := range o.masks {
		out = append(out, m.From, m.To)
	}
	for _, d := range o.redirects {
		out = append(out, d.From, d.To)
		if d.Target != nil {
			out = append(out, fence.Peers{Items: []fence.Peer{*d.Target}})
		}
	}
	for _, e := range o.expects {
		out = append(out, e.From, e.To)
	}
	for _, l := range o.leaves {
		out = append(out, l.Peers)
	}
	for _, g := range o.ground {
		out = append(out, g.From)
	}
	for _, r := range o.roles {
		for _, g := range r.Ground {
			out = append(out, g.From)
		}
	}
	return out
}

// Packet is a random packet at a host, as likely as not one that something of the policy is about.
func (o *Opinion) Packet(rng *rand.Rand, h *fleet.Host) packet.Packet {
	pick := func(items ...string) string { return items[rng.IntN(len(items))] }
	all := o.Addresses()
	own := h.Own()
	p := packet.Packet{Hook: rng.IntN(3), Src: all[rng.IntN(len(all))], Dst: all[rng.IntN(len(all))],
		State:    pick("new", "new", "new", "new", "new", "untracked", "established", "related", "invalid"),
		Protocol: pick("tcp", "tcp", "tcp", "udp", "udp", "icmp", "icmpv6", "igmp", "47", "sctp")}
	if rng.IntN(8) > 0 && p.Hook == packet.In {
		p.Dst = own[rng.IntN(len(own))]
	}
	if rng.IntN(8) > 0 && p.Hook == packet.Out {
		p.Src = own[rng.IntN(len(own))]
	}
	rule := o.about(rng, h, &p)
	for p.Src.Is4() != p.Dst.Is4() {
		if p.Hook == packet.In {
			p.Src = all[rng.IntN(len(all))]
		} else {
			p.Dst = all[rng.IntN(len(all))]
		}
	}
	if rule != nil { // its family has to be the addresses'
		for range 20 {
			if q := p; o.serve(rng, rule, &q) {
				p = q
				break
			}
		}
	}
	p.Family = map[bool]string{true: "ipv4", false: "ipv6"}[p.Src.Is4()]
	ifaces := []string{"lo", "ctr0", "zz0"}
	for range 6 {
		for _, i := range h.Interfaces {
			ifaces = append(ifaces, i.Name)
		}
	}
	if p.Hook != packet.Out {
		p.In = pick(ifaces...)
	}
	if p.Hook != packet.In {
		p.Out = pick(ifaces...)
	}
	switch p.Protocol {
	case "tcp", "udp", "sctp":
		if p.DstPort == nil {
			p.SrcPort, p.DstPort = new(50000), new(o.port(rng))
		}
	case "icmp", "icmpv6":
		if p.ICMPType != nil {
			break
		}
		types := []int{0, 1, 2, 3, 4, 8, 11, 12, 128, 130, 133, 134, 135, 136, 143, 200}
		p.ICMPType, p.ICMPCode = new(types[rng.IntN(len(types))]), new(rng.IntN(3))
		if (p.Protocol == "icmpv6") != (p.Family == "ipv6") { // the number alone says little then
			p.Protocol, p.ICMPType, p.ICMPCode = "89", nil, nil
		}
	}
	if p.Hook == packet.Out {
		p.User, p.Unit = pick("", "root", "backup", "www", "other"), pick("", "mirror.service", "web.service", "other.service")
	}
	p.IPsec = rng.IntN(5) == 0
	return p
}

// about makes a packet, more often than not, one from somebody of a rule's left side to somebody
// of its right, or from a router behind which they are.
func (o *Opinion) about(rng *rand.Rand, h *fleet.Host, p *packet.Packet) *fence.Rule {
	all := append(slices.Clone(o.allows), o.blocks...)
	if len(o.redirects) > 0 && rng.IntN(3) == 0 { // what comes to where a redirect changes it
		all = nil
		for _, d := range o.redirects {
			all = append(all, &fence.Rule{From: d.From, To: d.To, Services: []fence.ServiceTerm{d.Service}, Through: d.Through})
		}
	}
	rules := slices.DeleteFunc(all, func(r *fence.Rule) bool {
		switch p.Hook {
		case packet.In:
			return !o.carries(r.To, h)
		case packet.Out:
			return !o.carries(r.From, h)
		}
		return !routes(r.Through, h) && !o.joinsFor(r, h)
	})
	if len(rules) == 0 || rng.IntN(4) == 0 {
		return nil
	}
	r := rules[rng.IntN(len(rules))]
	one := func(s fence.Peers, p *netip.Addr) {
		var of []netip.Addr
		for _, a := range o.Addresses() {
			if o.holds(s, a) && a.Is4() == p.Is4() {
				of = append(of, a)
			}
		}
		if of != nil {
			*p = of[rng.IntN(len(of))]
		}
	}
	one(r.From, &p.Src)
	one(r.To, &p.Dst)
	if len(o.masks) > 0 && rng.IntN(2) == 0 {
		by := o.masks[rng.IntN(len(o.masks))].Through
		for _, router := range o.fleet.Hosts {
			if own := router.Own(); routes(by, router) && rng.IntN(2) == 0 {
				p.Src = own[rng.IntN(len(own))]
			}
		}
	}
	var of []netip.Addr // of the host's own, one of the same family
	for _, a := range h.Own() {
		if a.Is4() == p.Src.Is4() {
			of = append(of, a)
		}
	}
	if of != nil && p.Hook == packet.In && rng.IntN(3) > 0 {
		p.Dst = of[rng.IntN(len(of))]
	} else if of != nil && p.Hook == packet.Out && rng.IntN(3) > 0 {
		p.Src = of[rng.IntN(len(of))]
	}
	return r
}

// serve makes a packet one of a rule's service; ok is false if it is of the other family.
func (o *Opinion) serve(rng *rand.Rand, r *fence.Rule, p *packet.Packet) (ok bool) {
	t := r.Services[rng.IntN(len(r.Services))]
	if len(t.Except) > 0 && rng.IntN(2) == 0 { // what it is not about
		t = t.Except[rng.IntN(len(t.Except))]
	}
	for d := o.services[t.Name]; d != nil; d = o.services[t.Name] {
		if t = d.Terms[rng.IntN(len(d.Terms))]; t.Name == d.Name { // the registered one
			break
		}
	}
	if t.Any || t.Name != "" || len(t.Protocols) == 0 {
		return true
	}
	if t.OneFamily && (t.Family == packet.IPv4) != p.Src.Is4() {
		return false
	}
	p.Protocol = packet.ProtocolName(t.Protocols[rng.IntN(len(t.Protocols))])
	if t.Ports != nil {
		p.SrcPort, p.DstPort = new(50000), new(min(t.Ports.Lo+rng.IntN(t.Ports.Hi-t.Ports.Lo+1), 65535))
	}
	if t.Type != nil {
		p.ICMPType, p.ICMPCode = t.Type, new(0)
		if t.Code != nil {
			p.ICMPCode = t.Code
		}
	}
	return true
}

// port is one at which something can change.
func (o *Opinion) port(rng *rand.Rand) int {
	if o.ports == nil {
		o.ports = []int{22, 53, 67, 68, 123, 546, 547, 5432, o.fleet.Service.Port}
		var note func(terms []fence.ServiceTerm)
		note = func(terms []fence.ServiceTerm) {
			for _, t := range terms {
				if t.Ports != nil {
					o.ports = append(o.ports, t.Ports.Lo, t.Ports.Hi, max(t.Ports.Lo-1, 0), min(t.Ports.Hi+1, 65535))
				}
				if d := o.services[t.Name]; d != nil &&
					!slices.ContainsFunc(d.Terms, func(of fence.ServiceTerm) bool { return of.Name == t.Name }) {
					note(d.Terms)
				}
				for _, text := range o.registered(t.Name) {
					if n, err := strconv.Atoi(text[len(text)-2:]); err == nil && t.Name != "" {
						o.ports = append(o.ports, n)
					}
				}
			}
		}
		for _, r := range append(slices.Clone(o.allows), o.blocks...) {
			note(r.Services)
		}
	}
	return o.ports[rng.IntN(len(o.ports))]
}
