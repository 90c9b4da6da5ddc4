package compare

import (
	"fmt"
	"math"
	"net/netip"
	"slices"
	"strings"

	"go4.org/netipx"

	"yellowfence.example/yfence/core/fence"
	"yellowfence.example/yfence/core/packet"
	"yellowfence.example/yfence/core/policy"
)

// Names says addresses and services in a policy's own words. It never changes;
// make it once for a policy.
type Names struct {
	pol   *policy.Policy
	known []known           // widest first
	named map[string]string // by the key of a set, of both its families or of one

	// addresses that examples come from: of each host, and the third of each network
	hostsFirst, strangersFirst []packet.Value
}

type known struct {
	name  string
	set   *netipx.IPSet
	size  float64
	halfs [2]*netipx.IPSet // its addresses of each family
}

// mostTastes is how many hosts, and networks, examples are looked for at: each costs time for
// every example, and in large fleets the first few are as typical as any.
const mostTastes = 200

// NamesOf collects what a policy and its fleet have names for.
func NamesOf(pol *policy.Policy) *Names {
	n := &Names{pol: pol}
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
	n.named = map[string]string{}
	for _, k := range slices.Concat([]known{everywhere}, n.known) {
		for i, set := range []*netipx.IPSet{k.set, k.halfs[0], k.halfs[1]} {
			key := keyOf(set)
			if _, taken := n.named[key]; !taken && key != "" {
				n.named[key] = k.name + []string{"", " (IPv4)", " (IPv6)"}[i]
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
	n.hostsFirst = slices.Concat(few(hosts[packet.Src]), few(strangers[packet.Src]))
	n.strangersFirst = slices.Concat(few(strangers[packet.Src]), few(hosts[packet.Src]))
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

// mostExceptions bounds what a name is said to be without.
const mostExceptions = 5

// mostNames bounds how many names and addresses a sentence lists.
const mostNames = 4

// Addresses says a set of addresses: by one name where one fits, as a name
// with exceptions, as several names, and what is left as prefixes. The answer
// is exact unless it ends in "and N more".
func (n *Names) Addresses(set *netipx.IPSet) string {
	if s, ok := n.one(set); ok {
		return s
	}
	four, six := packet.OfFamily(set, packet.IPv4), packet.OfFamily(set, packet.IPv6)
	if len(four.Ranges()) > 0 && len(six.Ranges()) > 0 {
		a, okA := n.one(four)
		b, okB := n.one(six)
		if okA && okB {
			return a + ", " + b
		}
	}
	var wide string // what nearly everybody is said as, where too many are excepted
	hidden := 0     // how many of them it does not say
	first := netip.Addr{}
	if ranges := set.Ranges(); len(ranges) > 0 {
		first = ranges[0].From()
	}
	for _, whole := range slices.Concat([]known{everywhere}, n.known) {
		for family, suffix := range []string{" (IPv4)", " (IPv6)", ""} {
			base := whole.set
			if family < 2 {
				base = whole.halfs[family]
			}
			if !base.Contains(first) || len(packet.Without(set, base).Ranges()) > 0 {
				continue
			}
			names, left := n.cover(packet.Without(base, set))
			prefixes := left.Prefixes()
			except := func(names []string) string { return whole.name + suffix + " except " + strings.Join(names, ", ") }
			all := len(names) + len(prefixes)
			for _, p := range prefixes[:min(len(prefixes), max(mostExceptions-len(names), 0))] {
				names = append(names, packet.PrefixText(p))
			}
			if all <= mostExceptions {
				return except(names)
			}
			if wide == "" {
				hidden = all - mostNames
				wide = except(append(names[:mostNames:mostNames], fmt.Sprintf("and %d more", hidden)))
			}
		}
	}
	names, left := n.cover(set)
	prefixes := left.Prefixes()
	if runs := set.Ranges(); len(runs) <= mostNames && len(names)+len(prefixes) > len(runs) {
		texts := make([]string, len(runs))
		for i, run := range runs {
			if texts[i] = run.String(); run.From() == run.To() {
				texts[i] = run.From().String()
			} else if p, ok := run.Prefix(); ok {
				texts[i] = p.String()
			}
		}
		return strings.Join(texts, ", ")
	}
	for i := 0; len(names) < mostNames && i < len(prefixes); i++ {
		names = append(names, packet.PrefixText(prefixes[i]))
		left = packet.Without(left, packet.Prefixes(prefixes[i]))
	}
	if more := len(left.Prefixes()); more > 0 || len(names) > mostNames {
		if more += max(len(names)-mostNames, 0); wide != "" && more > hidden {
			return wide
		}
		names = append(names[:min(len(names), mostNames)], fmt.Sprintf("and %d more", more))
	}
	return strings.Join(names, ", ")
}

// one says a set by one name, if one fits.
func (n *Names) one(set *netipx.IPSet) (string, bool) {
	if name, ok := n.named[keyOf(set)]; ok {
		return name, true
	}
	if p := set.Prefixes(); len(p) == 1 {
		return packet.PrefixText(p[0]), true
	}
	return "", false
}

// cover takes from a set what names say, the widest first; left is the rest.
func (n *Names) cover(set *netipx.IPSet) (names []string, left *netipx.IPSet) {
	left = set
	ranges := left.Ranges()
	// Single addresses, of which thousands may be named one after the other, are taken away together.
	single, singles := map[netip.Addr]bool{}, netipx.IPSetBuilder{}
	take := func() {
		if len(single) > 0 {
			gone, _ := singles.IPSet()
			left = packet.Without(left, gone)
			ranges, single, singles = left.Ranges(), map[netip.Addr]bool{}, netipx.IPSetBuilder{}
		}
	}
	for _, k := range n.known {
		if len(ranges) == 0 {
			break
		}
		for family, suffix := range []string{"", " (IPv4)", " (IPv6)"} {
			part := k.set
			if family > 0 {
				part = k.halfs[family-1]
			}
			inner := part.Ranges()
			few := !slices.ContainsFunc(inner, func(r netipx.IPRange) bool { return r.From() != r.To() })
			if !few {
				take()
			}
			if !holds(ranges, part) || few && slices.ContainsFunc(inner, func(r netipx.IPRange) bool { return single[r.From()] }) {
				continue
			}
			names = append(names, k.name+suffix)
			if few {
				for _, r := range inner {
					single[r.From()] = true
					singles.Add(r.From())
				}
			} else {
				left = packet.Without(left, part)
				ranges = left.Ranges()
			}
			break
		}
	}
	take()
	return names, left
}

// holds says that all of a set, which has something in it, lies in ranges that stand in order.
func holds(ranges []netipx.IPRange, part *netipx.IPSet) bool {
	inner := part.Ranges()
	for _, r := range inner {
		i, _ := slices.BinarySearchFunc(ranges, r.From(), func(have netipx.IPRange, at netip.Addr) int { return have.To().Compare(at) })
		if i == len(ranges) || ranges[i].From().Compare(r.From()) > 0 || ranges[i].To().Compare(r.To()) < 0 {
			return false
		}
	}
	return len(inner) > 0
}

// serviceText says a protocol and its runs of ports or types.
func serviceText(protocol int, field packet.Field, ranges []packet.Range) string {
	name := packet.ProtocolName(protocol)
	if ranges == nil {
		return name
	}
	parts := make([]string, 0, len(ranges))
	for _, r := range ranges {
		if r.Lo == r.Hi {
			parts = append(parts, fmt.Sprint(r.Lo.Int()))
		} else {
			parts = append(parts, fmt.Sprintf("%d-%d", r.Lo.Int(), r.Hi.Int()))
		}
	}
	if len(parts) > mostNames {
		parts = append(parts[:mostNames], fmt.Sprintf("and %d more", len(ranges)-mostNames))
	}
	if field == packet.ICMPType {
		name += " type"
	}
	return name + " " + strings.Join(parts, ", ")
}

// nameable says that a text can stand in a policy as it is.
func nameable(text string) bool { return fence.IsName(text) || text == "everywhere" || text == "fleet" }
