package policy

import (
	"cmp"
	"fmt"
	"net/netip"
	"slices"

	"go4.org/netipx"

	"yellowfence.example/yfence/core/fence"
	"yellowfence.example/yfence/core/fleet"
	"yellowfence.example/yfence/core/packet"
)

// side is one side of a statement: which hosts it names, with which of their addresses, and all
// addresses that it means.
func (r *resolver) side(p fence.Peers) Side {
	if s, ok := r.plainSide(p); ok {
		return s
	}
	s := Side{Text: p.String(), Pos: p.Pos, At: map[*fleet.Host]*netipx.IPSet{}}
	hosts := map[*fleet.Host]bool{}
	whole := map[*fleet.Host]bool{} // named without saying which address
	var b, away netipx.IPSetBuilder
	for _, peer := range p.Items {
		s.Refs = append(s.Refs, r.refs(peer)...)
		s.Everywhere = s.Everywhere || peer.Kind == fence.EverywherePeer && peer.At == nil
		s.Strangers = s.Strangers || peer.Kind == fence.StrangersPeer
		named, narrows, g := r.peer(peer)
		s.Named = s.Named || named
		for _, h := range g.hosts {
			hosts[h] = true
			whole[h] = whole[h] || !narrows && g.part[h] == nil
		}
		b.AddSet(g.addrs)
	}
	for _, peer := range p.Except {
		_, narrows, g := r.peer(peer)
		for _, h := range g.hosts {
			if !narrows && g.part[h] == nil {
				delete(hosts, h)
			}
			if peer.Kind == fence.HostPeer {
				s.At[h] = &netipx.IPSet{}
			}
		}
		b.RemoveSet(g.addrs)
		away.AddSet(g.addrs)
	}
	s.Addrs, _ = b.IPSet()
	taken, _ := away.IPSet()
	for h := range hosts { // of those that are named in part the side holds just these addresses
		own := h.Addresses()
		if gone := packet.Intersection(own, taken); whole[h] && len(gone.Ranges()) == 0 {
			continue
		}
		s.At[h] = packet.Intersection(own, s.Addrs)
		if len(s.At[h].Ranges()) == 0 {
			delete(hosts, h)
		}
	}
	for _, h := range r.pol.Fleet.Hosts {
		if hosts[h] {
			s.Hosts = append(s.Hosts, h)
		}
	}
	s.named, s.own = hosts, newGroup(s.Hosts).addrs
	return s
}

// plainSide is side for what most sides are: one role, network or the like. It
// shares what was worked out for others that name the same.
func (r *resolver) plainSide(p fence.Peers) (s Side, ok bool) {
	if len(p.Items) != 1 || p.Except != nil {
		return s, false
	}
	peer := p.Items[0]
	named, narrows, g := r.peer(peer)
	if narrows || g.part != nil {
		return s, false
	}
	s = Side{Text: peer.Text, Pos: p.Pos, Everywhere: peer.Kind == fence.EverywherePeer && peer.At == nil,
		Strangers: peer.Kind == fence.StrangersPeer, Refs: r.refs(peer)}
	s.Named, s.Addrs, s.own = named, g.addrs, &netipx.IPSet{}
	if named {
		s.Hosts, s.named, s.own = g.hosts, g.named, g.addrs
	}
	if g.mixed {
		s.own = newGroup(g.hosts).addrs
	}
	return s, true
}

// SideOf is a side of hosts of ours, whole: with all their addresses, as if a policy had named
// each.
func SideOf(hosts []*fleet.Host) Side {
	g := newGroup(hosts)
	s := Side{Text: "hosts of ours", Named: true, Hosts: hosts, Addrs: g.addrs, named: g.named, own: g.addrs}
	if len(hosts) == 1 {
		s.Text = hosts[0].Name
	}
	return s
}

// broadcast is the addresses that stand for all hosts of one of the fleet's networks (RFC 919).
func (r *resolver) broadcast() *netipx.IPSet {
	if g := r.groups["broadcast"]; g != nil {
		return g.addrs
	}
	var b netipx.IPSetBuilder
	for _, h := range r.pol.Fleet.Hosts {
		b.AddSet(h.Broadcast())
	}
	b.Add(netip.AddrFrom4([4]byte{255, 255, 255, 255}))
	b.RemoveSet(multicast)
	b.RemovePrefix(netip.MustParsePrefix("0.0.0.0/8"))
	all, _ := b.IPSet()
	r.groups["broadcast"] = &group{addrs: all}
	return all
}

// multicast is the addresses that stand for all who listen to them (RFC 1112, RFC 4291).
var multicast = func() *netipx.IPSet {
	var b netipx.IPSetBuilder
	b.AddPrefix(netip.MustParsePrefix("224.0.0.0/4"))
	b.AddPrefix(netip.MustParsePrefix("ff00::/8"))
	set, _ := b.IPSet()
	return set
}()

// group gives the group of a role or of the fleet, made once.
func (r *resolver) group(name string, hosts []*fleet.Host) *group {
	g := r.groups[name]
	if g == nil {
		g = newGroup(hosts)
		r.groups[name] = g
	}
	return g
}

// strangersOf works out who the strangers are: every address but our hosts' and
// those that are written in a declaration which is not shared. Rules have no say in it.
func (r *resolver) strangersOf() {
	b := netipx.IPSetBuilder{}
	b.AddSet(packet.Everything())
	for _, n := range r.pol.Networks {
		b.RemoveSet(r.known(n.Name))
	}
	b.RemoveSet(r.group("fleet", r.pol.Fleet.Hosts).addrs)
	r.strangers, _ = b.IPSet()
	r.pol.Strangers = r.strangers
}

// known is those of a network's addresses where no strangers are: none if it is shared, and
// not what it takes from one that is.
func (r *resolver) known(name string) *netipx.IPSet {
	d := r.networks[name]
	if known, done := r.unshared[name]; done || d == nil || d.Shared {
		return cmp.Or(known, &netipx.IPSet{})
	}
	r.unshared[name] = &netipx.IPSet{} // of a circle, which is an error of its own
	known := r.network(d).Addrs
	if d.List == nil {
		var b netipx.IPSetBuilder
		for _, item := range d.Addrs.Items {
			if item.Name != "" {
				b.AddSet(r.known(item.Name))
			} else {
				b.AddSet(r.addrItem(item))
			}
		}
		all, _ := b.IPSet()
		known = packet.Intersection(all, known) // without what is taken away
	}
	r.unshared[name] = known
	return known
}

// refs are the names that a peer is made of: what only narrows it is none, but for a host.
func (r *resolver) refs(p fence.Peer) (names []string) {
	for of := &p; of != nil; of = of.At {
		if of.Name != "" && (of == &p || of.Kind == fence.HostPeer) {
			names = append(names, of.Name)
		}
		if d := r.peersDecls[of.Name]; d != nil && of.Kind == fence.NamedPeer {
			names = append(names, r.peers(d).Side.Refs...)
		}
	}
	return names
}

// peer gives the hosts and addresses a peer stands for, whether it names hosts of ours, and
// whether it narrows those to some of their addresses. What is at a role's, or at other hosts of
// ours, is the hosts that are named by both, whole.
func (r *resolver) peer(p fence.Peer) (named, narrows bool, g *group) {
	named, g = r.peerGroup(p)
	key := fmt.Sprint(p.Kind, p.Name)
	for at := p.At; at != nil; at = at.At {
		key += fmt.Sprint(" at ", at.Kind, at.Name)
		ours, there := r.peerGroup(*at)
		switch {
		case !named || !ours || g.mixed || there.mixed:
			g = &group{hosts: g.hosts, named: g.named, addrs: packet.Intersection(g.addrs, there.addrs), mixed: g.mixed}
			narrows = named
		case narrows:
			both := g.of(there)
			g = &group{hosts: both.hosts, named: both.named, addrs: packet.Intersection(g.addrs, both.addrs)}
		default:
			if r.groups[key] == nil {
				r.groups[key] = g.of(there)
			}
			g = r.groups[key]
		}
	}
	return named, narrows, g
}

// of is the hosts that are in another group too.
func (g *group) of(o *group) *group {
	return newGroup(slices.DeleteFunc(slices.Clone(g.hosts), func(h *fleet.Host) bool { return !o.named[h] }))
}

// peerGroup is what a peer means: hosts of ours, if it names such, or addresses alone.
func (r *resolver) peerGroup(p fence.Peer) (named bool, g *group) {
	at := fence.Ident{Name: p.Name, Pos: p.Pos}
	// Words of the language need no looking up.
	switch p.Kind {
	case fence.EverywherePeer:
		return false, &group{addrs: r.everything}
	case fence.StrangersPeer:
		return false, &group{addrs: r.strangers}
	case fence.BroadcastPeer:
		return false, &group{addrs: r.broadcast()}
	case fence.MulticastPeer:
		return false, &group{addrs: multicast}
	case fence.AddressPeer:
		return false, &group{addrs: r.addrItem(*p.Addr)}
	case fence.FleetPeer:
		return true, r.group("fleet", r.pol.Fleet.Hosts)
	case fence.HostPeer:
		h := r.hosts[p.Name]
		if h == nil {
			r.unknown(at, "host", r.pol.Fleet.Names()...)
			return true, newGroup(nil)
		}
		return true, r.group("host "+p.Name, []*fleet.Host{h})
	}
	// A name is a role's, a network's or that of declared peers; names of these never meet.
	if role, ok := r.roles[p.Name]; ok {
		return true, r.group("role "+p.Name, role.Hosts)
	}
	if d, ok := r.networks[p.Name]; ok {
		n := r.network(d)
		n.Used = true
		return false, &group{addrs: n.Addrs}
	}
	if d, ok := r.peersDecls[p.Name]; ok {
		of := r.peers(d)
		of.Used = true
		s := of.Side
		if !s.Named {
			return false, &group{addrs: s.Addrs}
		}
		g := r.groups["peers "+p.Name]
		if g == nil {
			g = &group{hosts: s.Hosts, named: s.named, addrs: s.Addrs, mixed: !of.whole, part: s.At}
			r.groups["peers "+p.Name] = g
		}
		return true, g
	}
	// In questions a host goes by its name alone, behind everything that the policy declares.
	if h := r.hosts[p.Name]; h != nil && r.hostsByName {
		return true, r.group("host "+p.Name, []*fleet.Host{h})
	}
	what, names := "role, network or segment", append(append(keysOf(r.roles), keysOf(r.networks)...), keysOf(r.peersDecls)...)
	if r.hostsByName {
		what, names = "host, role, network or segment", append(names, r.pol.Fleet.Names()...)
	}
	r.unknown(at, what, names...)
	return true, newGroup(nil)
}
