package nft

import (
	"yellowfence.example/yfence/core/dialect"
	"yellowfence.example/yfence/core/packet"
)

// fib is a match on what the host's routes say of an address: of which kind it is,
// or by which interface it is reached (nft_fib_ipv4.c and nft_fib_ipv6.c in the
// kernel's net). ok is false where the routes are not known, or it asks for more.
func (r *reader) fib(c *dialect.Chain, left *expr, op string, right *expr) (s packet.Set, ok bool) {
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
	case left.text == "type" && by == "":
		s, ok = r.fibType(c, field, right)
	case left.text == "oif" && by == "iif" && field == packet.Src && right.kind == kindTruth:
		s, ok = r.out.Routes.WayBack(r.sp)
		// DHCP's first packets have no source yet.
		near := packet.Union(dialect.LocalMulticast, dialect.Broadcast)
		s = r.sp.Or(s, r.sp.And(r.sp.Addrs(packet.Src, dialect.ZeroNet), r.sp.Addrs(packet.Dst, near)))
		if right.text != "1" {
			s = r.sp.Not(s)
		}
	}
	if op == "!=" {
		s = r.sp.Not(s)
	}
	return s, ok
}

// fibType is the packets whose address is of one of some kinds.
func (r *reader) fibType(c *dialect.Chain, field packet.Field, right *expr) (s packet.Set, ok bool) {
	kinds := []expr{*right}
	if plural(right) {
		var changing bool
		if kinds, changing = r.several(c, right); changing {
			return s, false
		}
	}
	for i := range kinds {
		addrs, ok := r.out.Routes.Kind(kinds[i].value().text)
		if !ok {
			return s, false
		}
		s = r.sp.Or(s, r.sp.Addrs(field, addrs))
	}
	return s, true
}
