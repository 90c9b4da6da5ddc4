package say

import (
	"math"
	"slices"
	"strings"

	"go4.org/netipx"

	"yellowfence.example/yfence/core/packet"
	"yellowfence.example/yfence/core/policy"
)

// Names says addresses and services in a policy's own words. It never changes;
// make it once for a policy.
type Names struct {
	Policy *policy.Policy
	known  []known         // widest first
	named  map[string]Name // by the key of a set, of both its families or of one

	// addresses that examples come from: of each host, and the third of each network
	HostsFirst, StrangersFirst []packet.Value
}

// known is a name and what it calls. The sizes of sets order names: a wide one is tried first.
type known struct {
	name  string
	set   *netipx.IPSet
	size  float64
	halfs [2]*netipx.IPSet // its addresses of each family
}

// half is what a name calls, or its addresses of one family.
type half struct {
	Name
	set *netipx.IPSet
}

// half is a name for its addresses of one family alone.
func (k known) half(family int) half {
	return half{Name{k.name, []string{packet.IPv4: "IPv4", packet.IPv6: "IPv6"}[family]}, k.halfs[family]}
}

// halfFirst is all that a name can be said to mean, one family before both.
func (k known) halfFirst() [3]half {
	return [3]half{k.half(packet.IPv4), k.half(packet.IPv6), {Name{Text: k.name}, k.set}}
}

// wholeFirst is the same, both families before one.
func (k known) wholeFirst() [3]half {
	return [3]half{{Name{Text: k.name}, k.set}, k.half(packet.IPv4), k.half(packet.IPv6)}
}

// mostTastes is how many hosts, and networks, examples are looked for at: each costs time for
// every example, and in large fleets the first few are as typical as any.
const mostTastes = 200

// NamesOf collects what a policy and its fleet have names for: hosts, roles, peers, networks
// and the fleet. It takes a while for a large fleet; keep it for the policy.
func NamesOf(pol *policy.Policy) *Names {
	n := &Names{Policy: pol}
	add := func(name string, set *netipx.IPSet) {
		if len(set.Ranges()) > 0 {
			n.known = append(n.known, known{name, set, size(set),
				[2]*netipx.IPSet{packet.OfFamily(set, packet.IPv4), packet.OfFamily(set, packet.IPv6)}})
		}
	}
	var all netipx.IPSetBuilder
	for _, h := range pol.Fleet.Hosts {
		add("host "+h.Name, h.Addresses())
		all.AddSet(h.Addresses())
	}
	add("strangers", pol.Strangers)
	said := map[string]bool{} // what rules are within, as they would say it themselves
	for _, r := range pol.Rules {
		for _, s := range r.Spans {
			for _, side := range []*policy.Side{s.From, s.To} {
				if r.Within != "" && !said[side.Text] && !strings.Contains(side.Text, ",") && !strings.Contains(side.Text, " except ") {
					said[side.Text] = true
					add(side.Text, side.Addrs)
				}
			}
		}
	}
	for _, r := range pol.Roles {
		var b netipx.IPSetBuilder
		for _, h := range r.Hosts {
			b.AddSet(h.Addresses())
		}
		set, _ := b.IPSet()
		add(r.Name, set)
	}
	fleet, _ := all.IPSet()
	add("fleet", fleet)
	for _, net := range pol.Networks {
		add(net.Name, net.Addrs)
	}
	for _, p := range pol.Peers {
		add(p.Name, p.Side.Addrs)
	}
	// Of two of the same size the one declared by the user comes first: roles
	// and networks were added after hosts.
	slices.Reverse(n.known)
	slices.SortStableFunc(n.known, func(a, b known) int {
		switch {
		case a.size > b.size:
			return -1
		case a.size < b.size:
			return 1
		}
		return 0
	})
	n.named = map[string]Name{}
	for _, k := range slices.Concat([]known{everywhere}, n.known) {
		for _, h := range k.wholeFirst() {
			key := keyOf(h.set)
			if _, taken := n.named[key]; !taken && key != "" {
				n.named[key] = h.Name
			}
		}
	}
	hosts, strangers := packet.Preferences{}, packet.Preferences{}
	for _, h := range pol.Fleet.Hosts {
		for _, i := range h.Interfaces {
			for _, p := range i.Addresses {
				hosts.Prefer(packet.Src, p.Addr())
			}
		}
	}
	for _, net := range pol.Networks {
		for _, r := range net.Addrs.Ranges() {
			strangers.Prefer(packet.Src, r.From().Next().Next().Next())
		}
	}
	few := func(values []packet.Value) []packet.Value { return values[:min(len(values), mostTastes)] }
	n.HostsFirst = slices.Concat(few(hosts[packet.Src]), few(strangers[packet.Src]))
	n.StrangersFirst = slices.Concat(few(strangers[packet.Src]), few(hosts[packet.Src]))
	return n
}

// everywhere is known to every policy.
var everywhere = known{"everywhere", packet.Everything(), math.Inf(1),
	[2]*netipx.IPSet{packet.OfFamily(packet.Everything(), packet.IPv4), packet.OfFamily(packet.Everything(), packet.IPv6)}}

// keyOf is the same for two sets exactly when they hold the same addresses.
func keyOf(set *netipx.IPSet) string {
	var b []byte
	for _, r := range set.Ranges() {
		b = append(append(append(b, r.From().AsSlice()...), '-'), r.To().AsSlice()...)
	}
	return string(b)
}

// size is how many addresses a set has, as near as a float64 tells.
func size(set *netipx.IPSet) (total float64) {
	for _, p := range set.Prefixes() {
		total += math.Exp2(float64(p.Addr().BitLen() - p.Bits()))
	}
	return total
}
