package packet

import (
	"maps"
	"slices"

	"go4.org/netipx"
)

// A Box is a set of packets that is a product: for each field it speaks of,
// the runs of values it allows, in order. A field it does not speak of is free.
type Box map[Field][]Range

// told is the order in which a person tells what a packet is: what it is about
// before where it comes from. Fields that are not named come after, in their own order.
var told = []Field{Hook, Family, Protocol, SrcPort, DstPort, ICMPType, ICMPCode, Src, Dst}

// Boxes takes s apart into boxes that do not overlap, at most limit of them;
// whole is false where there are more. Unknowns must have been decided before
// (Possible, Certain). Values of a field that lead to the same rest are one
// box, so that a set that a person would call one thing is mostly one box.
func (sp *Space) Boxes(s Set, limit int) (boxes []Box, whole bool) {
	whole = true
	path := Box{}
	// Fields are told in the order in which people say them, not in the diagram's, unless taking them
	// to the front would cost too much.
	order := told
	if sp.edgesBelow(ref(s)) > maxReordered {
		order = nil
	}
	var walk func(r ref, order []Field)
	walk = func(r ref, order []Field) {
		switch {
		case r == ref(Empty):
			return
		case len(boxes) == limit:
			whole = false
			return
		case r == ref(All):
			boxes = append(boxes, maps.Clone(path))
			return
		}
		field, edges := sp.nodes[r].field, sp.edgesOf(r)
		// The next field in that order on which this part depends at all.
		for len(order) > 0 {
			field, order = order[0], order[1:]
			if edges = sp.front(r, field); len(edges) > 1 {
				break
			}
			field, edges = sp.nodes[r].field, sp.edgesOf(r)
		}
		// Runs of values that lead to the same place are one part of a box.
		var ends []ref
		runs := map[ref][]Range{}
		lo := Value{}
		for _, e := range edges {
			if runs[e.to] == nil {
				ends = append(ends, e.to)
			}
			runs[e.to] = append(runs[e.to], Range{lo, e.hi})
			lo = e.hi.Next()
		}
		for _, to := range ends {
			path[field] = runs[to]
			walk(to, order)
		}
		delete(path, field)
	}
	walk(ref(s), order)
	return boxes, whole
}

// maxReordered is how many edges a set may have to be told in another order than
// it is held in, which may take many more.
const maxReordered = 200_000

// edgesBelow counts the edges of r's diagram.
func (sp *Space) edgesBelow(r ref) (n int) {
	for r := range sp.reached(r) {
		n += int(sp.nodes[r].n)
	}
	return n
}

// front is r by the values of one field: the runs of the field's values with what
// r is for them, as if the field were tested before all others (the variable
// swap of R. Rudell, "Dynamic variable ordering for ordered binary decision
// diagrams", ICCAD 1993, for runs of values).
func (sp *Space) front(r ref, field Field) []edge {
	done := map[ref][]edge{}
	var front func(r ref) []edge
	front = func(r ref) []edge {
		switch own := sp.nodes[r].field; {
		// Below the field's own level nothing asks it any more; at its level its edges are what is wanted.
		case own > field:
			return []edge{{field.Limit(), r}}
		case own == field:
			return sp.edgesOf(r)
		}
		if known, ok := done[r]; ok {
			return known
		}
		// Above it, the same is done to what stands below each edge, and the runs are put over one another:
		// for each run of the field, what this node is with it.
		edges := sp.edgesOf(r)
		below, at := make([][]edge, len(edges)), make([]int, len(edges))
		for i, e := range edges {
			below[i] = front(e.to)
		}
		var out []edge
		for hi := (Value{}); len(out) == 0 || hi != field.Limit(); {
			hi = field.Limit()
			here := slices.Clone(edges)
			for i := range here {
				e := below[i][at[i]]
				here[i].to = e.to
				if e.hi.Compare(hi) < 0 {
					hi = e.hi
				}
			}
			for i := range at {
				if below[i][at[i]].hi == hi {
					at[i]++
				}
			}
			to := sp.make(sp.nodes[r].field, here)
			if n := len(out); n > 0 && out[n-1].to == to {
				out[n-1].hi = hi
			} else {
				out = append(out, edge{hi, to})
			}
		}
		done[r] = out
		return out
	}
	return front(r)
}

// Project is the values of a field that some packet of s has, as runs in order. All other
// fields may be anything, unknowns and buckets among them.
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

// Addrs is the set of packets whose Src or Dst, as field says, is one of addrs, of either
// family. The packets' family follows from the address.
func (sp *Space) Addrs(field Field, addrs *netipx.IPSet) Set {
	if addrs == nil {
		return Empty
	}
	key := addrsKey{field, addrs}
	if set, known := sp.addrs[key]; known {
		return set
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
	if len(sp.addrs) >= maxAddrs { // most are asked for again soon, or never
		clear(sp.addrs)
	}
	sp.addrs[key] = set
	return set
}

// addrsKey is a set of addresses, which never changes, as a set of packets.
type addrsKey struct {
	field Field
	addrs *netipx.IPSet
}

// maxAddrs is how many of them a Space remembers.
const maxAddrs = 1 << 14

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

// Allows says that the box has packets whose field is v, with the other fields as the box has
// them.
func (b Box) Allows(field Field, v Value) bool {
	ranges, spoken := b[field]
	for _, r := range ranges {
		if r.Lo.Compare(v) <= 0 && v.Compare(r.Hi) <= 0 {
			return true
		}
	}
	return !spoken
}

// Complement is the runs of a field's values that are in none of some runs, which are in order
// and do not touch.
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

// InterfaceNames says a field's runs as names, a prefix as "name*"; ok is false where they are
// neither, as the runs between two names. The name of no interface is "".
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
