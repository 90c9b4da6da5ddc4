package packet

import (
	"go4.org/netipx"
)

// A Box is a set of packets that is a product: for each field it speaks of,
// the runs of values it allows, in order. A field it does not speak of is free.
type Box map[Field][]Range

// Boxes takes s apart into boxes that do not overlap, at most limit of them;
// whole is false where there are more. Unknowns must have been decided before
// (Possible, Certain). Values of a field that lead to the same rest are one
// box, so that a set that a person would call one thing is mostly one box.
func (sp *Space) Boxes(s Set, limit int) (boxes []Box, whole bool) {
	whole = true
	path := Box{}
	var walk func(r ref)
	walk = func(r ref) {
		switch {
		case r == ref(Empty):
			return
		case len(boxes) == limit:
			whole = false
			return
		case r == ref(All):
			box := make(Box, len(path))
			for f, ranges := range path {
				box[f] = ranges
			}
			boxes = append(boxes, box)
			return
		}
		field := sp.nodes[r].field
		var order []ref
		runs := map[ref][]Range{}
		lo := Value{}
		for _, e := range sp.edgesOf(r) {
			if runs[e.to] == nil {
				order = append(order, e.to)
			}
			runs[e.to] = append(runs[e.to], Range{lo, e.hi})
			lo = e.hi.Next()
		}
		for _, to := range order {
			path[field] = runs[to]
			walk(to)
		}
		delete(path, field)
	}
	walk(ref(s))
	return boxes, whole
}

// Project is the values of a field that some packet of s has.
func (sp *Space) Project(s Set, field Field) []Range {
	var runs []Range
	seen := map[ref]bool{}
	var walk func(ref)
	walk = func(r ref) {
		if r == ref(Empty) || seen[r] {
			return
		}
		seen[r] = true
		switch f := sp.nodes[r].field; {
		case f > field: // free of it
			runs = []Range{{Value{}, field.Limit()}}
		case f == field:
			lo := Value{}
			for _, e := range sp.edgesOf(r) {
				if e.to != ref(Empty) {
					runs = append(runs, Range{lo, e.hi})
				}
				lo = e.hi.Next()
			}
		default:
			for _, e := range sp.edgesOf(r) {
				walk(e.to)
			}
		}
	}
	walk(ref(s))
	joined := sp.Ranges(field, runs)
	boxes, _ := sp.Boxes(joined, 1)
	if len(boxes) == 0 {
		return nil
	}
	if boxes[0][field] == nil {
		return []Range{{Value{}, field.Limit()}}
	}
	return boxes[0][field]
}

// Addrs is the set of packets whose Src or Dst is one of addrs, of either family.
func (sp *Space) Addrs(field Field, addrs *netipx.IPSet) Set {
	if addrs == nil {
		return Empty
	}
	var runs [2][]Range
	for _, r := range addrs.Ranges() {
		family := IPv4
		if r.From().Is6() {
			family = IPv6
		}
		runs[family] = append(runs[family], Range{Addr(r.From()), Addr(r.To())})
	}
	set := Empty
	for family, ranges := range runs {
		if ranges != nil {
			set = sp.Or(set, sp.And(sp.Value(Family, family), sp.Ranges(field, ranges)))
		}
	}
	return set
}

// AddrSet is the way back from Addrs for a box: the addresses of both families
// that it allows for a field.
func (b Box) AddrSet(field Field) *netipx.IPSet {
	var builder netipx.IPSetBuilder
	for family, limit := range []Value{IPv4: Num(1<<32 - 1), IPv6: Src.Limit()} {
		if !b.Allows(Family, Num(family)) {
			continue
		}
		ranges := b[field]
		if ranges == nil {
			ranges = []Range{{Value{}, limit}}
		}
		for _, r := range ranges {
			if r.Lo.Compare(limit) > 0 {
				continue
			}
			if r.Hi.Compare(limit) > 0 {
				r.Hi = limit
			}
			builder.AddRange(netipx.IPRangeFrom(r.Lo.addr(family), r.Hi.addr(family)))
		}
	}
	set, _ := builder.IPSet() // errors only on invalid ranges
	return set
}

// Allows says that the box has packets whose field is v.
func (b Box) Allows(field Field, v Value) bool {
	ranges, spoken := b[field]
	for _, r := range ranges {
		if r.Lo.Compare(v) <= 0 && v.Compare(r.Hi) <= 0 {
			return true
		}
	}
	return !spoken
}

// Complement is the runs of a field's values that are in none of some runs, which are in order.
func Complement(field Field, ranges []Range) (out []Range) {
	next := Value{}
	for _, r := range ranges {
		if next.Compare(r.Lo) < 0 {
			out = append(out, Range{next, r.Lo.Prev()})
		}
		if r.Hi.Compare(field.Limit()) >= 0 {
			return out
		}
		next = r.Hi.Next()
	}
	return append(out, Range{next, field.Limit()})
}

// InterfaceNames says a field's runs as names, a prefix as "name*"; ok is false where they are neither.
func InterfaceNames(ranges []Range) (names []string, ok bool) {
	for _, r := range ranges {
		name := r.Lo.iface()
		switch {
		case r.Lo == r.Hi:
		case ifacePrefix(name) == r:
			name += "*"
		default:
			return nil, false
		}
		names = append(names, name)
	}
	return names, true
}
