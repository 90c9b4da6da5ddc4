package policy

import (
	"slices"
	"strings"

	"go4.org/netipx"

	"yellowfence.example/yfence/core/fence"
	"yellowfence.example/yfence/core/fleet"
	"yellowfence.example/yfence/core/packet"
)

func (r *resolver) side(p fence.Peers) Side {
	if s, ok := r.plainSide(p); ok {
		return s
	}
	s := Side{Pos: p.Pos, At: map[*fleet.Host]*netipx.IPSet{}}
	hosts := map[*fleet.Host]bool{}
	whole := map[*fleet.Host]bool{} // named without saying which address
	var b netipx.IPSetBuilder
	var texts, exceptions []string
	for _, peer := range p.Items {
		texts = append(texts, peer.Text)
		if peer.Name != "" {
			s.Refs = append(s.Refs, peer.Name)
		}
		s.Everywhere = s.Everywhere || peer.Kind == fence.EverywherePeer
		named, members, addrs := r.peer(peer)
		s.Named = s.Named || named
		var where *netipx.IPSet
		if peer.At != nil {
			where = r.addrItem(*peer.At)
			addrs = packet.Intersection(addrs, where)
			if !named {
				r.errorf(fence.Ident{Name: peer.At.Text, Pos: peer.At.Pos}, "at", "`at` says which address of a host of ours is meant; %s names none", peer.Text).Hint = "write the addresses themselves"
			}
		}
		for _, h := range members {
			hosts[h] = true
			if where == nil {
				whole[h] = true
				continue
			}
			both := packet.Intersection(h.Addresses(), where)
			if before := s.At[h]; before != nil {
				both = packet.Union(both, before)
			}
			s.At[h] = both
		}
		b.AddSet(addrs)
	}
	for h := range whole {
		delete(s.At, h)
	}
	for _, peer := range p.Except {
		exceptions = append(exceptions, peer.Text)
		_, members, addrs := r.peer(peer)
		for _, h := range members {
			delete(hosts, h)
		}
		b.RemoveSet(addrs)
	}
	s.Text = strings.Join(texts, ", ")
	if exceptions != nil {
		s.Text += " except " + strings.Join(exceptions, ", ")
	}
	for _, h := range r.pol.Fleet.Hosts {
		if hosts[h] {
			s.Hosts = append(s.Hosts, h)
		}
	}
	s.Addrs, _ = b.IPSet()
	s.named, s.own = hosts, newGroup(s.Hosts).addrs
	return s
}

// plainSide is side for what most sides are: one role, network or the like. It
// shares what was worked out for others that name the same.
func (r *resolver) plainSide(p fence.Peers) (s Side, ok bool) {
	if len(p.Items) != 1 || p.Except != nil || p.Items[0].At != nil {
		return s, false
	}
	peer := p.Items[0]
	s = Side{Text: peer.Text, Pos: p.Pos, Everywhere: peer.Kind == fence.EverywherePeer}
	if peer.Name != "" {
		s.Refs = []string{peer.Name}
	}
	named, g := r.peerGroup(peer)
	s.Named, s.Addrs, s.own = named, g.addrs, &netipx.IPSet{}
	if named {
		s.Hosts, s.named, s.own = g.hosts, g.named, g.addrs
	}
	return s, true
}

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
// those in networks and segments that are not shared. A network that only
// blocks name is one of strangers.
func (r *resolver) strangersOf() {
	allowed, blocked := map[string]bool{}, map[string]bool{}
	for _, d := range r.ruleOrder {
		for _, p := range slices.Concat(d.From.Items, d.From.Except, d.To.Items, d.To.Except) {
			if d.Block {
				blocked[p.Name] = true
			} else {
				allowed[p.Name] = true
			}
		}
	}
	b := netipx.IPSetBuilder{}
	b.AddSet(packet.Everything())
	for _, n := range r.pol.Networks {
		if !n.Shared && (allowed[n.Name] || !blocked[n.Name]) {
			b.RemoveSet(n.Addrs)
		}
	}
	b.RemoveSet(r.group("fleet", r.pol.Fleet.Hosts).addrs)
	r.strangers, _ = b.IPSet()
	r.pol.Strangers = r.strangers
}

// peer gives the hosts and addresses a peer stands for, and whether it names hosts of ours.
func (r *resolver) peer(p fence.Peer) (named bool, hosts []*fleet.Host, addrs *netipx.IPSet) {
	named, g := r.peerGroup(p)
	return named, g.hosts, g.addrs
}

func (r *resolver) peerGroup(p fence.Peer) (named bool, g *group) {
	at := fence.Ident{Name: p.Name, Pos: p.Pos}
	switch p.Kind {
	case fence.EverywherePeer:
		return false, &group{addrs: r.everything}
	case fence.StrangersPeer:
		return false, &group{addrs: r.strangers}
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
	if role, ok := r.roles[p.Name]; ok {
		return true, r.group("role "+p.Name, role.Hosts)
	}
	if d, ok := r.networks[p.Name]; ok {
		n := r.network(d)
		n.Used = true
		return false, &group{addrs: n.Addrs}
	}
	if h := r.hosts[p.Name]; h != nil && r.hostsByName {
		return true, r.group("host "+p.Name, []*fleet.Host{h})
	}
	what, names := "role, network or segment", append(keysOf(r.roles), keysOf(r.networks)...)
	if r.hostsByName {
		what, names = "host, role, network or segment", append(names, r.pol.Fleet.Names()...)
	}
	r.unknown(at, what, names...)
	return true, newGroup(nil)
}
