package opiniontest

import (
	"net/netip"
	"slices"

	"yellowfence.example/yfence/core/fence"
	"yellowfence.example/yfence/core/fleet"
)

// holds says that an address is in a side: of one of its peers, and of none that is taken away.
func (o *Opinion) holds(s fence.Peers, a netip.Addr) bool {
	of := func(p fence.Peer) bool { return o.isOf(p, a) }
	return slices.ContainsFunc(s.Items, of) && !slices.ContainsFunc(s.Except, of)
}

// isOf says that an address is a peer's, and lies where it says.
func (o *Opinion) isOf(p fence.Peer, a netip.Addr) bool {
	for where := p.At; where != nil; where = where.At { // (of hosts at hosts it is said below)
		if alone := (fence.Peer{Kind: where.Kind, Name: where.Name, Addr: where.Addr}); !(o.ofHosts(p) && o.ofHosts(alone)) &&
			!o.isOf(alone, a) {
			return false
		}
	}
	switch p.Kind {
	case fence.EverywherePeer:
		return true
	case fence.MulticastPeer:
		return a.IsMulticast()
	case fence.BroadcastPeer:
		if a == netip.MustParseAddr("255.255.255.255") {
			return true
		}
		for _, h := range o.fleet.Hosts {
			for _, i := range h.Interfaces {
				for _, p := range i.Addresses {
					all := p.Masked() // its last address
					if p.Addr().Is4() && p.Bits() < 31 && all.Contains(a) && !all.Contains(a.Next()) {
						return true
					}
				}
			}
		}
		return false
	case fence.StrangersPeer:
		return !o.known(a)
	case fence.AddressPeer:
		return o.inItem(*p.Addr, a)
	}
	if p.Kind == fence.NamedPeer && o.networks[p.Name] != nil {
		return o.inNetwork(p.Name, a)
	}
	if d := o.peers[p.Name]; d != nil && !o.ofHosts(p) {
		return o.once("holds "+p.Name+a.String(), func() bool { return o.holds(d.Peers, a) })
	}
	return slices.ContainsFunc(o.fleet.Hosts, func(h *fleet.Host) bool { return o.isHost(p, h) && h.Addresses().Contains(a) })
}

// ofHosts says that a peer is hosts of ours.
func (o *Opinion) ofHosts(p fence.Peer) bool {
	if d := o.peers[p.Name]; d != nil { // and nothing else
		return !slices.ContainsFunc(slices.Concat(d.Peers.Items, d.Peers.Except),
			func(p fence.Peer) bool { return !o.ofHosts(p) || o.inPart(p) })
	}
	return p.Kind == fence.FleetPeer || p.Kind == fence.HostPeer || p.Kind == fence.NamedPeer && o.roles[p.Name] != nil
}

// inPart says that a peer is some addresses, and not hosts of ours that are named by both.
func (o *Opinion) inPart(p fence.Peer) bool {
	return p.At != nil && (!o.ofHosts(*p.At) || o.inPart(*p.At) || o.peers[p.Name] != nil &&
		!o.ofHosts(fence.Peer{Kind: p.Kind, Name: p.Name}))
}

// isHost says that a peer names a host of ours: by both names where it is at hosts of ours.
func (o *Opinion) isHost(p fence.Peer, h *fleet.Host) bool {
	for where := p.At; where != nil; where = where.At {
		if alone := (fence.Peer{Kind: where.Kind, Name: where.Name}); o.ofHosts(alone) && !o.isHost(alone, h) {
			return false
		}
	}
	switch p.Kind {
	case fence.FleetPeer:
		return true
	case fence.HostPeer:
		return h.Name == p.Name
	case fence.NamedPeer:
		if d := o.peers[p.Name]; d != nil {
			return o.once("carries "+p.Name+" "+h.Name, func() bool { return o.carries(d.Peers, h) })
		}
		return o.roles[p.Name] != nil && h.HasRole(p.Name)
	}
	return false
}

// wholly says that a peer names a host of ours, and all of it.
func (o *Opinion) wholly(p fence.Peer, h *fleet.Host) bool {
	d := o.peers[p.Name]
	return !o.inPart(p) && o.isHost(p, h) &&
		(d == nil || !o.once("narrowed "+p.Name+" "+h.Name, func() bool { return o.narrowed(d.Peers, h) }))
}

// once answers the same question once.
func (o *Opinion) once(question string, answer func() bool) bool {
	said, known := o.memo[question]
	if !known {
		if said = answer(); o.memo == nil {
			o.memo = map[string]bool{}
		}
		o.memo[question] = said
	}
	return said
}

// carries says that a side names a host, which it has not taken away.
func (o *Opinion) carries(s fence.Peers, h *fleet.Host) bool {
	names := func(p fence.Peer) bool { return o.isHost(p, h) }
	if !slices.ContainsFunc(s.Items, names) || slices.ContainsFunc(s.Except, func(p fence.Peer) bool { return o.wholly(p, h) }) {
		return false
	}
	return !o.narrowed(s, h) || slices.ContainsFunc(o.Addresses(),
		func(a netip.Addr) bool { return h.Addresses().Contains(a) && o.holds(s, a) })
}

// narrowed says that a side holds only some of a host's addresses.
func (o *Opinion) narrowed(s fence.Peers, h *fleet.Host) bool {
	whole := slices.ContainsFunc(s.Items, func(p fence.Peer) bool { return o.wholly(p, h) })
	return !whole || slices.ContainsFunc(o.Addresses(), func(a netip.Addr) bool {
		return h.Addresses().Contains(a) && slices.ContainsFunc(s.Except, func(p fence.Peer) bool { return o.isOf(p, a) })
	})
}

// known says that an address is no stranger's.
func (o *Opinion) known(a netip.Addr) bool {
	for _, h := range o.fleet.Hosts {
		if h.Addresses().Contains(a) {
			return true
		}
	}
	for name := range o.networks {
		if o.knownOf(name, a) {
			return true
		}
	}
	return false
}

// knownOf says that an address is written in a declaration that is not shared, and not taken
// from one that is.
func (o *Opinion) knownOf(name string, a netip.Addr) bool {
	d := o.networks[name]
	return !d.Shared && o.inNetwork(name, a) && slices.ContainsFunc(d.Addrs.Items, func(i fence.AddrItem) bool {
		if i.Name != "" {
			return o.knownOf(i.Name, a)
		}
		return o.inItem(i, a)
	})
}

func (o *Opinion) inNetwork(name string, a netip.Addr) bool {
	in := func(i fence.AddrItem) bool { return o.inItem(i, a) }
	d := o.networks[name]
	return slices.ContainsFunc(d.Addrs.Items, in) && !slices.ContainsFunc(d.Addrs.Except, in)
}

func (o *Opinion) inItem(i fence.AddrItem, a netip.Addr) bool {
	if i.Name != "" {
		return o.inNetwork(i.Name, a)
	}
	return a.BitLen() == i.From.BitLen() && i.From.Compare(a) <= 0 && a.Compare(i.To) <= 0
}

func names(list []fence.Ident, name string) bool {
	return slices.ContainsFunc(list, func(i fence.Ident) bool { return i.Name == name })
}
