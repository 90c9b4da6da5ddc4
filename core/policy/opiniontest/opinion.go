// Package opiniontest is a second opinion: what docs/language.md says of one packet, done word for
// word and without a thought for speed. It shares nothing with what works by sets, and is there
// for tests to hold that against.
//
//	o := opiniontest.New(fl, now, files...)
//	o.Of(host, packet, true).Does // "admitted", "dropped", "rejected with tcp-reset", …
package opiniontest

import (
	"net/netip"
	"slices"
	"strconv"
	"strings"

	"yellowfence.example/yfence/core/fence"
	"yellowfence.example/yfence/core/fleet"
	"yellowfence.example/yfence/core/packet"
)

// An Opinion is a policy over a fleet, at an instant.
type Opinion struct {
	fleet      *fleet.Fleet
	now        int64
	registered func(name string) []string // what a registered service admits, as "tcp 22"

	networks map[string]*fence.NetworkDecl
	services map[string]*fence.ServiceDecl
	roles    map[string]*fence.RoleDecl
	peers    map[string]*fence.PeersDecl
	allows   []*fence.Rule
	blocks   []*fence.Rule
	ground   []fence.GroundPart
	joins    []*fence.JoinDecl
	leaves   []*fence.Leave
	masks    []*fence.Masquerade

	redirects []*fence.Redirect
	expects   []*fence.Expectation

	places []netip.Addr    // see Addresses
	memo   map[string]bool // what was said of declared peers: they are asked about again and again
	ports  []int
}

// New takes files without mistakes, and no lists. The instant is in seconds since 1970.
func New(fl *fleet.Fleet, now int64, registered func(name string) []string, files ...*fence.File) *Opinion {
	o := &Opinion{fleet: fl, now: now, registered: registered, networks: map[string]*fence.NetworkDecl{},
		services: map[string]*fence.ServiceDecl{}, roles: map[string]*fence.RoleDecl{}, peers: map[string]*fence.PeersDecl{}}
	for _, f := range files {
		for _, s := range f.Stmts {
			switch d := s.(type) {
			case *fence.NetworkDecl:
				o.networks[d.Name] = d
			case *fence.ServiceDecl:
				o.services[d.Name] = d
			case *fence.PeersDecl:
				o.peers[d.Name] = d
			case *fence.RoleDecl:
				o.roles[d.Name] = d
			case *fence.JoinDecl:
				o.joins = append(o.joins, d)
			case *fence.GroundDecl:
				o.ground = append(o.ground, d.Parts...)
			case *fence.Leave:
				if d.Off == nil {
					o.leaves = append(o.leaves, d)
				}
			case *fence.Masquerade:
				if d.Off == nil {
					o.masks = append(o.masks, d)
				}
			case *fence.Redirect:
				if d.Off == nil {
					o.redirects = append(o.redirects, d)
				}
			case *fence.Expectation:
				o.expects = append(o.expects, d)
			case *fence.Rule:
				if d.Off != nil || o.over(d) {
					continue
				}
				if d.Block {
					o.blocks = append(o.blocks, d)
				} else {
					o.allows = append(o.allows, d)
				}
			}
		}
	}
	return o
}

// over says that a rule's until has passed, or that it has not begun.
func (o *Opinion) over(r *fence.Rule) bool {
	if r.Since != nil {
		if begin, _ := r.Since.Begins(); o.now < begin {
			return true
		}
	}
	if o.onTrial(r.Trial) {
		return true
	}
	if r.Until == nil {
		return false
	}
	end, _ := r.Until.Instant()
	return o.now >= end
}

// An Answer is what becomes of a packet, and who decides it: leave, local, ground, allow, block
// or stance.
type Answer struct{ Does, By string }

// Passes says that it is admitted.
func (a Answer) Passes() bool { return a.Does == "admitted" }

// Of is what becomes of a packet that crosses a host: comes in, goes out or is forwarded, as its
// Hook says. Buckets have room, or none has any.
func (o *Opinion) Of(h *fleet.Host, p packet.Packet, room bool) Answer {
	at := place{o, h, p}
	open := p.Hook == packet.Through && !o.closed(h, "forward")
	if open && !slices.ContainsFunc(o.blocks,
		func(b *fence.Rule) bool { return len(b.Senders) == 0 && (routes(b.Through, h) || o.joinsFor(b, h)) }) {
		return Answer{"admitted", "stance"} // what is forwarded is untouched
	}
	if first := at.first(open, open && o.closing(h)); first.Does != "" {
		return first
	}
	var allows, blocks []*fence.Rule
	for _, b := range o.blocks {
		if at.matches(b) {
			blocks = append(blocks, b)
		}
	}
	for _, a := range o.allows {
		exception := !slices.ContainsFunc(blocks, func(b *fence.Rule) bool { return !names(a.Over, b.Name) })
		if exception && (!open || len(blocks) > 0) { // where forward is open it changes nothing else
			allows = append(allows, at.matching(a)...)
		}
	}
	switch {
	case len(allows) > 0 && (room || slices.ContainsFunc(allows, func(a *fence.Rule) bool { return a.AtMost == nil || !at.counts(a) })):
		return Answer{"admitted", "allow"}
	case len(allows) > 0: // beyond its rate
		return Answer{at.refused(o.refuseBy(h)), "allow"}
	case slices.ContainsFunc(blocks, func(b *fence.Rule) bool { return b.By == nil || b.By.Word == "drop" }):
		return Answer{"dropped", "block"}
	case len(blocks) > 0:
		return Answer{at.refused("reject"), "block"}
	case !o.closed(h, []string{packet.In: "inbound", packet.Out: "outbound", packet.Through: "forward"}[p.Hook]):
		return Answer{"admitted", "stance"}
	}
	return Answer{at.refused(o.refuseBy(h)), "stance"}
}

// place is a packet at a host.
type place struct {
	*Opinion
	h *fleet.Host
	p packet.Packet
}

func (at place) refused(by string) string {
	switch {
	case by == "drop":
		return "dropped"
	case at.p.Protocol == "tcp":
		return "rejected with tcp-reset"
	}
	return "rejected with port-unreachable"
}

// closed combines what the host's roles say of a direction.
func (o *Opinion) closed(h *fleet.Host, direction string) bool {
	said, closed := false, false
	for _, name := range h.Roles {
		for _, s := range o.roles[name].Stances {
			if s.Direction == direction {
				said, closed = true, closed || s.Closed && !o.onTrial(s.Trial)
			}
		}
	}
	return closed || !said && direction == "inbound"
}

// closing says that what is forwarded is on trial to be closed.
func (o *Opinion) closing(h *fleet.Host) bool {
	return slices.ContainsFunc(h.Roles, func(name string) bool {
		return slices.ContainsFunc(o.roles[name].Stances, func(s fence.Stance) bool {
			return s.Direction == "forward" && s.Closed && o.onTrial(s.Trial) && !s.Trial.Open
		})
	})
}

// onTrial says that something refuses nothing yet, or has gone back.
func (o *Opinion) onTrial(t *fence.Trial) bool {
	if t == nil {
		return false
	}
	end, _ := t.Until.Instant()
	return o.now < end || t.Open
}

// refuseBy: drop beats reject, and is meant where nobody says.
func (o *Opinion) refuseBy(h *fleet.Host) string {
	by := ""
	for _, name := range h.Roles {
		if c := o.roles[name].RefuseBy; c != nil && by != "drop" {
			by = c.Word
		}
	}
	if by == "" {
		return "drop"
	}
	return by
}

// first is what stands before any rule: what is left to others, local segments, the ground. What
// is closing has that part of the ground already which admits.
func (at place) first(open, closing bool) Answer {
	p, forward := at.p, at.p.Hook == packet.Through
	direction := []string{packet.In: "inbound", packet.Out: "outbound", packet.Through: "forwarded"}[p.Hook]
	for _, l := range at.leaves {
		by := func(name string) bool { return byOne(l.Interfaces, name) }
		if l.Direction == direction && at.carries(l.Peers, at.h) && (p.Hook != packet.Out && by(p.In) || p.Hook != packet.In && by(p.Out)) {
			return Answer{"admitted", "leave"}
		}
	}
	if p.Hook == packet.In || forward && !open {
		for name, d := range at.networks {
			on := at.on(name)
			if d.Segment && d.Local && on != nil && at.inNetwork(name, p.Src) && p.In != "lo" && !slices.Contains(on, p.In) {
				return Answer{"dropped", "local"}
			}
		}
	}
	four, six := p.Family == "ipv4", p.Family == "ipv6"
	in, out := p.Hook == packet.In, p.Hook == packet.Out
	icmp := func(types ...int) bool { return four && p.Protocol == "icmp" && slices.Contains(types, *p.ICMPType) }
	icmp6 := func(types ...int) bool { return six && p.Protocol == "icmpv6" && slices.Contains(types, *p.ICMPType) }
	udp := func(port int) bool { return p.Protocol == "udp" && *p.DstPort == port }
	near := netip.MustParsePrefix("fe80::/10").Contains(p.Src)
	for _, part := range []struct {
		name  string
		holds bool
		does  string
	}{
		{"loopback", in && p.In == "lo" || out && p.Out == "lo", "admitted"},
		{"replies", p.State == "established" || p.State == "related", "admitted"},
		{"invalid", p.State == "invalid" && !open, "dropped"},
		{"icmp-errors", (icmp(3, 11, 12) || icmp6(1, 2, 3, 4)) && (!open || closing), "admitted"},
		{"neighbours", in && icmp6(134, 135, 136) || out && icmp6(133, 135, 136), "admitted"},
		{"dhcp-client", in && (four && udp(68) || six && udp(546) && near) || out && (four && udp(67) || six && udp(547)), "admitted"},
		{"multicast-listener", in && (icmp6(130, 131, 132, 143) && near || four && p.Protocol == "igmp") || out &&
			(icmp6(130, 131, 132, 143) || four && p.Protocol == "igmp"), "admitted"},
		{"service", out && p.Protocol == "tcp" && slices.Contains(at.fleet.Service.Addresses, p.Dst) &&
			*p.DstPort == at.fleet.Service.Port, "admitted"},
	} {
		if part.holds && !at.off(part.name) {
			return Answer{part.does, "ground"}
		}
	}
	return Answer{}
}

// off says that the policy turned a part of the ground off in the packet's direction, or
// narrowed it to others than the packet's peer.
func (at place) off(part string) bool {
	peer, direction := at.p.Src, "inbound"
	if at.p.Hook == packet.Out {
		peer, direction = at.p.Dst, "outbound"
	}
	if at.p.Hook == packet.Through {
		direction = "forward"
	}
	changes := slices.Clone(at.ground)
	for _, role := range at.h.Roles {
		changes = append(changes, at.roles[role].Ground...)
	}
	for _, c := range changes {
		if c.Name != part || c.Direction != "" && c.Direction != direction {
			continue
		}
		if c.Off || !at.holds(c.From, peer) {
			return true
		}
	}
	return false
}

// matches says that a rule is rendered at the host, and speaks of the packet: within one of those
// that it says, and on one of those.
func (at place) matches(r *fence.Rule) bool { return len(at.matching(r)) > 0 }

// matching are the parts of a rule that speak of the packet here.
func (at place) matching(r *fence.Rule) (out []*fence.Rule) {
	for _, part := range parts(r) {
		if at.matchesPart(part) {
			out = append(out, part)
		}
	}
	return out
}

// parts are a rule's parts, each within one peer and on one segment at most.
func parts(r *fence.Rule) (out []*fence.Rule) {
	all := []fence.Rule{*r}
	if r.Within != nil {
		all = nil
		for _, w := range r.Within {
			part := *r
			part.From, part.To = in(r.From, w), in(r.To, w)
			all = append(all, part)
		}
	}
	for _, part := range all {
		if r.On == nil {
			out = append(out, &part)
		}
		for _, seg := range r.On {
			on := part
			on.On = []fence.Ident{seg}
			out = append(out, &on)
		}
	}
	return out
}

// in is a side as far as it is a peer's too.
func in(side fence.Peers, w fence.Peer) fence.Peers {
	items := slices.Clone(side.Items)
	for i := range items {
		for end := &items[i]; ; end = end.At {
			if end.At == nil {
				end.At = &w
				break
			}
			next := *end.At
			end.At = &next
		}
	}
	side.Items = items
	return side
}

func (at place) matchesPart(r *fence.Rule) bool {
	p := at.p
	if !slices.ContainsFunc(r.Services, at.speaks) || r.Encrypted && !p.IPsec {
		return false
	}
	if r.On != nil && (!slices.Contains(at.on(r.On[0].Name), at.iface()) || !at.inNetwork(r.On[0].Name, p.Src) ||
		!at.inNetwork(r.On[0].Name, p.Dst)) {
		return false
	}
	if r.Arriving != nil && p.Hook != packet.Through &&
		!slices.ContainsFunc(r.Arriving, func(seg fence.Ident) bool { return slices.Contains(at.on(seg.Name), at.iface()) }) {
		return false
	}
	switch p.Hook {
	case packet.Out:
		if !at.carries(r.From, at.h) || at.narrowed(r.From, at.h) && !(at.holds(r.From, p.Src) && at.h.Addresses().Contains(p.Src)) ||
			!at.holds(r.To, p.Dst) {
			return false
		}
		for _, s := range r.Senders {
			if !slices.Contains(s.Names, map[packet.SenderKind]string{packet.ByUser: p.User, packet.ByUnit: p.Unit,
				packet.ByProgram: p.Program}[s.Kind]) {
				return false
			}
		}
		return true
	case packet.In:
		if !at.carries(r.To, at.h) || at.narrowed(r.To, at.h) && !(at.holds(r.To, p.Dst) && at.h.Addresses().Contains(p.Dst)) {
			return false
		}
		return at.comesFrom(r) || !r.Block && at.masked(r)
	}
	return (routes(r.Through, at.h) || crosses(r) && at.crossing(p, at.h)) && at.comesFrom(r) && at.holds(r.To, p.Dst)
}

// counts says that an allow's `at most` acts here: at the receiving end if that is a host of
// ours, else at the sending end, else at a router.
func (at place) counts(r *fence.Rule) bool {
	ours := func(s fence.Peers, a netip.Addr) bool {
		return slices.ContainsFunc(at.fleet.Hosts, func(h *fleet.Host) bool { return at.carries(s, h) && h.Addresses().Contains(a) })
	}
	switch at.p.Hook {
	case packet.In:
		return true
	case packet.Out:
		return !ours(r.To, at.p.Dst)
	}
	return !ours(r.To, at.p.Dst) && !ours(r.From, at.p.Src)
}

// speaks says that a service is the packet's.
func (at place) speaks(t fence.ServiceTerm) bool {
	switch {
	case t.Any:
		return !slices.ContainsFunc(t.Except, at.speaks)
	case t.Name != "":
		if d := at.services[t.Name]; d != nil {
			return slices.ContainsFunc(d.Terms, func(of fence.ServiceTerm) bool {
				if of.Name == t.Name { // in its own declaration the registered one is meant
					return slices.ContainsFunc(at.registered(t.Name), at.registeredAs)
				}
				return at.speaks(of)
			})
		}
		return slices.ContainsFunc(at.registered(t.Name), at.registeredAs)
	case t.OneFamily && (at.p.Family == "ipv6") != (t.Family == packet.IPv6):
		return false
	case !slices.Contains(t.Protocols, number(at.p.Protocol)):
		return false
	case t.Ports != nil && (*at.p.DstPort < t.Ports.Lo || *at.p.DstPort > t.Ports.Hi):
		return false
	case t.Type != nil && *at.p.ICMPType != *t.Type:
		return false
	}
	return t.Code == nil || *at.p.ICMPCode == *t.Code
}

// registeredAs reads "tcp 22" and "icmpv6 128".
func (at place) registeredAs(text string) bool {
	protocol, n, _ := strings.Cut(text, " ")
	if protocol != at.p.Protocol || strings.HasPrefix(protocol, "icmp") && (protocol == "icmpv6") != (at.p.Family == "ipv6") {
		return false
	}
	want, _ := strconv.Atoi(n)
	if at.p.ICMPType != nil {
		return *at.p.ICMPType == want
	}
	return *at.p.DstPort == want
}

func number(protocol string) int {
	if n, ok := map[string]int{"icmp": 1, "igmp": 2, "tcp": 6, "udp": 17, "gre": 47, "icmpv6": 58, "sctp": 132}[protocol]; ok {
		return n
	}
	n, _ := strconv.Atoi(protocol)
	return n
}
