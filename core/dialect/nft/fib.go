package nft

import (
	"cmp"
	"maps"
	"slices"

	"yellowfence.example/yfence/core/kernel"
	"yellowfence.example/yfence/core/packet"
)

// fib is a match on what the host's routes say of an address: of which kind it is,
// or by which interface it is reached (nft_fib_ipv4.c and nft_fib_ipv6.c in the
// kernel's net). ok is false where the routes are not known, or it asks for more.
func (r *reader) fib(c *kernel.Chain, left *expr, op string, right *expr) (s packet.Set, ok bool) {
	if len(left.args) == 0 || op != "==" && op != "!=" && op != "in" {
		return s, false
	}
	field, known := map[string]packet.Field{"saddr": packet.Src, "daddr": packet.Dst}[left.args[0].text]
	by := ""
	if len(left.args) > 1 {
		by = left.args[1].text
	}
	switch {
	case !known || len(left.args) > 2:
		return s, false
	case left.text == "type" && (by == "" || by == "iif"):
		s, ok = r.fibType(c, field, by, right)
	case (left.text == "oif" || left.text == "oifname") && by == "":
		s, ok = r.fibVia(c, field, right)
	case left.text == "oif" && by == "iif" && field == packet.Src && (right.kind == kindTruth || right.text == "0"):
		s, ok = r.out.Routes.WayBack(r.sp)
		// DHCP's first packets have no source yet.
		near := packet.Union(kernel.LocalMulticast, kernel.Broadcast)
		s = r.sp.Or(s, r.sp.And(r.sp.Addrs(packet.Src, kernel.ZeroNet), r.sp.Addrs(packet.Dst, near)))
		if right.text != "1" {
			s = r.sp.Not(s)
		}
	}
	if op == "!=" {
		s = r.sp.Not(s)
	}
	return s, ok
}

// fibVia is the packets whose address is reached by one of some interfaces, or by any.
func (r *reader) fibVia(c *kernel.Chain, field packet.Field, right *expr) (s packet.Set, ok bool) {
	via, ok := r.out.Routes.Via()
	if !ok {
		return s, false
	}
	if n, isNumber := right.int(); isNumber && n != 0 {
		return s, false // an interface's number
	} else if isNumber {
		right = &expr{kind: kindTruth}
	}
	names, exact := r.values(c, aField{field: packet.InIface}, right)
	if right.kind == kindTruth {
		names, exact = packet.All, true
	}
	for _, name := range slices.Sorted(maps.Keys(via)) {
		if r.sp.Within(r.sp.Interfaces(packet.InIface, name), names) {
			s = r.sp.Or(s, r.sp.Addrs(field, via[name]))
		}
	}
	// Where all of these lead the kernel tells otherwise than by one route.
	doubt := r.sp.OrAll(r.sp.And(r.sp.Value(packet.Family, packet.IPv6), r.sp.Addrs(field, kernel.Multicast)),
		r.sp.Addrs(packet.Src, kernel.ZeroNet), r.sp.Interfaces(packet.InIface, "lo"))
	s = r.sp.Or(r.sp.Minus(s, doubt), r.sp.And(doubt,
		r.sp.Unknown("whether routes lead an address of many, of none or of the host itself by "+right.String())))
	if right.kind == kindTruth && right.text != "1" {
		s = r.sp.Not(s)
	}
	return s, exact
}

// fibKinds are the kernel's numbers of kinds of addresses, as -n lists them.
var fibKinds = map[string]string{"1": "unicast", "2": "local", "3": "broadcast", "4": "anycast", "5": "multicast"}

// fibType is the packets whose address is of one of some kinds; by is "iif" where it counts what
// it is to the interface that a packet came by.
func (r *reader) fibType(c *kernel.Chain, field packet.Field, by string, right *expr) (s packet.Set, ok bool) {
	kinds := []expr{*right}
	if plural(right) {
		var changing bool
		if kinds, changing = r.several(c, right); changing {
			return s, false
		}
	}
	for i := range kinds {
		kind := kinds[i].value().text
		kind = cmp.Or(fibKinds[kind], kind)
		if by == "iif" {
			of, ok := r.out.Routes.KindBy(r.sp, field, kind)
			if !ok {
				return s, false
			}
			s = r.sp.Or(s, of)
			continue
		}
		addrs, ok := r.out.Routes.Kind(kind)
		if !ok {
			return s, false
		}
		s = r.sp.Or(s, r.sp.Addrs(field, addrs))
	}
	return s, true
}
