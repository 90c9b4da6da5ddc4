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

// mostPlaces is how many pairs of a role and a segment are names of their own: in larger fleets
// it would take longer to know them than anybody waits.
const mostPlaces = 2000

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
	// Of names that call the same, those that are added later are said: a role and not the fleet,
	// where all hosts have it, and what the user declared before what follows from it.
	var all netipx.IPSetBuilder
	for _, h := range pol.Fleet.Hosts {
		all.AddSet(h.Addresses())
	}
	fleet, _ := all.IPSet()
	add("fleet", fleet)
	for _, h := range pol.Fleet.Hosts {
		add("host "+h.Name, h.Addresses())
	}
	add("strangers", pol.Strangers)
	roles := make([]*netipx.IPSet, len(pol.Roles))
	for i, r := range pol.Roles {
		var b netipx.IPSetBuilder
		for _, h := range r.Hosts {
			b.AddSet(h.Addresses())
		}
		roles[i], _ = b.IPSet()
	}
	if segments := pol.Segments(); len(segments)*len(roles) <= mostPlaces {
		for i, r := range pol.Roles {
			for _, seg := range segments {
				if at := packet.Intersection(roles[i], seg.Addrs); !at.Equal(roles[i]) {
					add(r.Name+" at "+seg.Name, at)
				}
			}
		}
	}
	for _, side := range within(pol) {
		add(side.Text, side.Addrs)
	}
	for i, r := range pol.Roles {
		add(r.Name, roles[i])
	}
	for _, net := range pol.Networks {
		add(net.Name, net.Addrs)
	}
	for _, p := range pol.Peers {
		add(p.Name, p.Side.Addrs)
	}
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
	n.examples()
	return n
}

// within are the sides of rules that are within something, one for each text, as they would say
// it themselves.
func within(pol *policy.Policy) (sides []*policy.Side) {
	said := map[string]bool{}
	for _, r := range pol.Rules {
		for _, s := range r.Spans {
			for _, side := range []*policy.Side{s.From, s.To} {
				if r.Within != "" && !said[side.Text] && !strings.Contains(side.Text, ",") && !strings.Contains(side.Text, " except ") {
					said[side.Text] = true
					sides = append(sides, side)
				}
			}
		}
	}
	return sides
}

// examples collects the addresses that examples come from.
func (n *Names) examples() {
	pol := n.Policy
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
