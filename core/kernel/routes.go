package kernel

import (
	"cmp"
	"fmt"
	"maps"
	"net/netip"
	"slices"
	"strconv"
	"strings"

	"go4.org/netipx"

	"yellowfence.example/yfence/core/fleet"
	"yellowfence.example/yfence/core/packet"
)

// Routes are a host's, as far as rules ask for them: which addresses are its own,
// and by which interface others are reached. Nil is routes that nobody told.
type Routes struct {
	kinds   map[string]*netipx.IPSet // by what is done with a packet to them, as the local table says
	on      map[string]*netipx.IPSet // the same by kind and interface, as in "local eth0"
	via     map[string]*netipx.IPSet // reached best by an interface
	several bool                     // which table counts depends on more than the destination
}

// IsRoutes says that a text is what `ip route show table all` prints.
func IsRoutes(text string) bool {
	for line := range strings.Lines(text) {
		words := strings.Fields(line)
		if len(words) == 0 {
			continue
		}
		_, _, ok := routeTo(words)
		return ok && slices.Contains(words, "dev") || ok && slices.Contains(routeKinds, words[0])
	}
	return false
}

// routeKinds are the words that a line of a listing of routes may begin with, before where it
// leads.
var routeKinds = []string{"unicast", "local", "broadcast", "multicast", "anycast", "unreachable", "blackhole", "prohibit", "throw"}

// routeTo reads what a line of a route is about. The tool calls the widest of both
// families default; those of IPv6 say how they are preferred.
func routeTo(words []string) (kind string, to netip.Prefix, ok bool) {
	kind = "unicast"
	if slices.Contains(routeKinds, words[0]) && len(words) > 1 {
		kind, words = words[0], words[1:]
	}
	if words[0] == "default" {
		bits := netip.IPv4Unspecified()
		for _, w := range words {
			if a, err := netip.ParseAddr(w); err == nil && a.Is6() || w == "pref" {
				bits = netip.IPv6Unspecified()
			}
		}
		return kind, netip.PrefixFrom(bits, 0), true
	}
	if a, err := netip.ParseAddr(words[0]); err == nil {
		return kind, netip.PrefixFrom(a, a.BitLen()), true
	}
	p, err := netip.ParsePrefix(words[0])
	return kind, p, err == nil
}

// RoutesOf is what is known of a host's routes by what the fleet says of its addresses: which
// are its own, and nothing of how it reaches others.
func RoutesOf(h *fleet.Host) *Routes {
	return &Routes{kinds: map[string]*netipx.IPSet{"local": h.Addresses(), "broadcast": h.Broadcast()}, several: true}
}

// Arriving is the addresses that what arrives for the host itself is sent to; ok is
// false where that is not known.
func (r *Routes) Arriving() (s *netipx.IPSet, ok bool) {
	if r == nil {
		return nil, false
	}
	s = packet.Union(packet.Union(Multicast, limited), packet.Loopback)
	for _, more := range r.kinds {
		s = packet.Union(s, more)
	}
	return s, true
}

// route is one line of such a listing.
type route struct {
	kind    string
	to      netip.Prefix
	devices []string
	table   string
	metric  int
}

// ReadRoutes reads what `ip route show table all` and `ip -6 route show table all`
// print, in either order.
func ReadRoutes(text string) (*Routes, error) {
	var all []route
	n := 0
	for line := range strings.Lines(text) {
		n++
		words := strings.Fields(line)
		if len(words) == 0 {
			continue
		}
		after := func(word string) string {
			if i := slices.Index(words, word); i >= 0 && i+1 < len(words) {
				return words[i+1]
			}
			return ""
		}
		if words[0] == "nexthop" && len(all) > 0 {
			last := &all[len(all)-1]
			last.devices = append(last.devices, after("dev"))
			continue
		}
		kind, to, ok := routeTo(words)
		if !ok {
			return nil, fmt.Errorf("line %d: expected a route, as in 10.0.0.0/8 dev eth0, found %q", n, words[0])
		}
		r := route{kind: kind, to: to, table: cmp.Or(after("table"), "main")}
		if dev := after("dev"); dev != "" {
			r.devices = []string{dev}
		}
		r.metric, _ = strconv.Atoi(after("metric"))
		all = append(all, r)
	}
	return routesOf(all), nil
}

// routesOf lays routes over one another: the local table counts first, the longest
// prefix before others, and of two the one with the lower metric.
func routesOf(all []route) *Routes {
	r := &Routes{kinds: map[string]*netipx.IPSet{}, via: map[string]*netipx.IPSet{}}
	slices.SortStableFunc(all, func(a, b route) int {
		return cmp.Or(cmp.Compare(a.to.Bits(), b.to.Bits()), cmp.Compare(b.metric, a.metric))
	})
	kinds, via, on := map[string]*netipx.IPSetBuilder{}, map[string]*netipx.IPSetBuilder{}, map[string]*netipx.IPSetBuilder{}
	var before netip.Prefix
	put := func(in map[string]*netipx.IPSetBuilder, to netip.Prefix, names ...string) {
		if to != before || !to.Addr().IsLinkLocalUnicast() { // which is reached by each interface that has it
			for _, b := range in {
				b.RemovePrefix(to)
			}
		}
		before = to
		for _, name := range names {
			if in[name] == nil {
				in[name] = &netipx.IPSetBuilder{}
			}
			in[name].AddPrefix(to)
		}
	}
	for _, one := range all {
		switch one.table {
		case "local":
			put(kinds, one.to, one.kind)
			for _, dev := range one.devices {
				name := one.kind + " " + dev
				if on[name] == nil {
					on[name] = &netipx.IPSetBuilder{}
				}
				on[name].AddPrefix(one.to)
			}
		case "main", "default":
			if one.kind == "unicast" {
				put(via, one.to, one.devices...)
			} else {
				put(via, one.to)
			}
		default:
			r.several = true
		}
	}
	for name, b := range kinds {
		r.kinds[name], _ = b.IPSet() // of prefixes that were parsed
	}
	r.on = map[string]*netipx.IPSet{}
	for name, b := range on {
		r.on[name], _ = b.IPSet()
	}
	for name, b := range via {
		for _, local := range r.kinds {
			b.RemoveSet(local)
		}
		r.via[name], _ = b.IPSet()
	}
	return r
}

// Addresses that the kernel has rules of its own for.
var (
	ZeroNet        = prefixes("0.0.0.0/8")
	Broadcast      = prefixes("255.255.255.255/32")
	LocalMulticast = prefixes("224.0.0.0/24")
	Multicast      = prefixes("224.0.0.0/4", "ff00::/8")
)

// Addresses whose kind no route says.
var (
	limited = prefixes("255.255.255.255/32", "0.0.0.0/8") // broadcast, whatever the routes
)

// prefixes is a set of prefixes that are written in this program.
func prefixes(texts ...string) *netipx.IPSet {
	var b netipx.IPSetBuilder
	for _, t := range texts {
		b.AddPrefix(netip.MustParsePrefix(t))
	}
	s, _ := b.IPSet()
	return s
}

// Kind is the addresses of a kind as the kernel tells them apart for rules: local,
// broadcast, multicast or unicast, which is the rest. ok is false where that is not known.
func (r *Routes) Kind(kind string) (s *netipx.IPSet, ok bool) {
	switch {
	case kind == "multicast":
		return Multicast, true
	case r == nil:
		return nil, false
	}
	some := func(name string) *netipx.IPSet {
		if s := r.kinds[name]; s != nil {
			return packet.Without(s, packet.Union(Multicast, limited))
		}
		return &netipx.IPSet{}
	}
	switch kind {
	case "local":
		return some("local"), true
	case "broadcast":
		return packet.Union(some("broadcast"), limited), true
	case "anycast":
		return some("anycast"), true
	case "unicast":
		rest := packet.Everything()
		for _, other := range []*netipx.IPSet{some("local"), some("broadcast"), some("anycast"), Multicast, limited} {
			rest = packet.Without(rest, other)
		}
		return rest, true
	}
	return nil, false
}

// KindBy is the packets of which an address is of a kind to the interface that they came by: what
// belongs to another interface is unicast to it. ok is false where that is not known.
func (r *Routes) KindBy(sp *packet.Space, field packet.Field, kind string) (s packet.Set, ok bool) {
	if r == nil || r.on == nil || !slices.Contains([]string{"local", "broadcast", "multicast", "anycast", "unicast"}, kind) {
		return s, false
	}
	of := map[string]packet.Set{
		"multicast": sp.Addrs(field, Multicast),
		"broadcast": sp.Addrs(field, limited),
	}
	anycast, _ := r.Kind("anycast") // whatever the interface
	for name, addrs := range r.on {
		kind, dev, _ := strings.Cut(name, " ")
		if addrs = packet.Without(addrs, anycast); kind == "anycast" {
			continue
		}
		of[kind] = sp.Or(of[kind], sp.And(sp.Interfaces(packet.InIface, dev),
			sp.Addrs(field, packet.Without(addrs, packet.Union(Multicast, limited)))))
	}
	of["anycast"] = sp.Addrs(field, anycast)
	of["unicast"] = sp.Not(sp.OrAll(of["local"], of["broadcast"], of["multicast"], of["anycast"]))
	return of[kind], true
}

// Own says whether an address is the host's; known is false where nobody told.
func (r *Routes) Own(a netip.Addr) (own, known bool) {
	if packet.Loopback.Contains(a) {
		return true, true
	}
	if r == nil {
		return false, false
	}
	local := r.kinds["local"]
	return local != nil && local.Contains(a), true
}

// Tells says that routes of a family are known.
func (r *Routes) Tells(family int) bool {
	if r == nil {
		return false
	}
	for _, sets := range []map[string]*netipx.IPSet{r.kinds, r.via} {
		for _, s := range sets {
			if slices.ContainsFunc(s.Ranges(), func(run netipx.IPRange) bool { return run.From().Is6() == (family == packet.IPv6) }) {
				return true
			}
		}
	}
	return false
}

// Via is the addresses that are reached best by each interface; ok is false where
// that is not known.
func (r *Routes) Via() (via map[string]*netipx.IPSet, ok bool) {
	if r == nil || r.several {
		return nil, false
	}
	return r.via, true
}

// WayBack is the packets that arrive by the interface by which their source is
// reached best; ok is false where that is not known.
func (r *Routes) WayBack(sp *packet.Space) (s packet.Set, ok bool) {
	via, ok := r.Via()
	s = sp.Interfaces(packet.InIface, "lo") // what the host sends to itself
	for _, name := range slices.Sorted(maps.Keys(via)) {
		s = sp.Or(s, sp.And(sp.Interfaces(packet.InIface, name), sp.Addrs(packet.Src, via[name])))
	}
	return s, ok
}

// Leaves is the interface by which packets to an address leave; ok is false where
// that is not known, or there are several.
func (r *Routes) Leaves(to netip.Addr) (iface string, ok bool) {
	via, ok := r.Via()
	for name, s := range via {
		if s.Contains(to) {
			if iface != "" {
				return "", false
			}
			iface = name
		}
	}
	return iface, ok && iface != ""
}
