package nft

import (
	"cmp"
	"slices"
	"strings"

	"yellowfence.example/yfence/core/kernel"
	"yellowfence.example/yfence/core/packet"
)

// A kernel that tracks connections puts the pieces of a packet together before
// most chains see it. Otherwise they see the pieces, and only the first shows
// the ports.

// familiesOf are the families that a table sees.
func familiesOf(table string) (families [2]bool) {
	return [2]bool{packet.IPv4: table == "ip" || table == "inet", packet.IPv6: table == "ip6" || table == "inet"}
}

// tracks says of each family whether its connections are tracked, as far as a
// listing shows: something in it asks for them, or translates. A chain of type nat does not by
// itself, and a translation of one family in a table of both only that family's
// (nft_nat_init in the kernel's net/netfilter/nft_nat.c; the kernel's judge has a test of it).
func (l *listing) tracks() (tracks [2]bool) {
	add := func(table string) {
		for family, is := range familiesOf(table) {
			tracks[family] = tracks[family] || is
		}
	}
	for i := range l.rules {
		for _, family := range l.rules[i].nat {
			add(cmp.Or(family, l.rules[i].family))
		}
	}
	for i := range l.rules {
		if tracks == [2]bool{true, true} {
			break
		}
		if slices.ContainsFunc(l.rules[i].exprs, tracking) {
			add(l.rules[i].family)
		}
	}
	return tracks
}

// tracking says that the kernel tracks connections where a rule has this.
func tracking(e expr) bool {
	if e.kind == kindCT {
		return true
	}
	if e.kind == kindOther || e.kind == kindPassing || e.kind == kindCounted {
		for _, word := range []string{"ct ", "flow ", "synproxy", "tproxy"} {
			if strings.HasPrefix(e.text, word) {
				return true
			}
		}
	}
	return slices.ContainsFunc(e.args, tracking)
}

// pieces says of each family whether rules of a chain may see fragments.
func (r *reader) pieces(c *kernel.Chain) (pieces [2]bool) {
	if len(r.joined) > 0 && r.joined[place{family: c.Family, table: c.Table}] {
		return [2]bool{true, true}
	}
	return [2]bool{!r.out.Tracks[packet.IPv4], !r.out.Tracks[packet.IPv6]}
}

// shown is the packets whose ports the rules of a chain can ask for.
func (r *reader) shown(c *kernel.Chain) packet.Set {
	pieces := r.pieces(c)
	if pieces == [2]bool{} {
		return packet.All
	}
	s, known := r.scopes[scope{"", pieces}]
	if !known {
		s = r.sp.Or(r.answered(c), r.sp.Unknown(kernel.LaterPorts))
		r.scopes[scope{"", pieces}] = s
	}
	return s
}

// answered is the packets to which the kernel gives an answer where a rule of a
// chain rejects them: no later fragments.
func (r *reader) answered(c *kernel.Chain) packet.Set {
	s := packet.All
	for family, seen := range r.pieces(c) {
		if seen {
			r.out.Fragments = true
			s = r.sp.Minus(s, r.sp.And(r.sp.Value(packet.Family, family), r.sp.Value(packet.Fragment, packet.Later)))
		}
	}
	return s
}

// The bits of an IPv4 header's frag-off: where the piece begins, and that more come.
const (
	offsetBits = 0x1fff
	moreBit    = 0x2000
)

// fragment is a match on being a fragment.
func (r *reader) fragment(left *expr, op string, mask, right *expr, unknown func() packet.Set) packet.Set {
	r.out.Fragments = true
	family := r.sp.Value(packet.Family, packet.IPv4)
	if left.kind == kindExthdr {
		family = r.sp.Value(packet.Family, packet.IPv6)
	}
	// Of the later pieces all but the last have others behind.
	more := r.sp.Or(r.sp.Value(packet.Fragment, packet.First),
		r.sp.And(r.sp.Value(packet.Fragment, packet.Later), r.sp.Unknown("whether a later fragment is the last")))
	any := r.sp.Not(r.sp.Value(packet.Fragment, packet.Whole))
	n, isNumber := right.int()
	is := packet.Empty
	switch {
	case left.kind == kindExthdr && left.text == "frag" && left.part == "" && mask == nil && right.kind == kindTruth:
		is = any
		if right.text != "1" {
			is = r.sp.Not(any)
		}
	case left.kind == kindExthdr && left.text == "frag" && left.part == "more-fragments" && mask == nil && isNumber && n <= 1:
		is = more
		if n == 0 {
			is = r.sp.Minus(any, more)
		}
	case left.kind == kindPayload && left.text == "ip" && mask != nil && isNumber:
		among, ok := mask.int()
		switch {
		case ok && n == 0 && among == offsetBits:
			is = r.sp.Not(r.sp.Value(packet.Fragment, packet.Later))
		case ok && n == 0 && among == offsetBits|moreBit:
			is = r.sp.Not(any)
		case ok && among == moreBit && (n == 0 || n == moreBit):
			if is = more; n == 0 {
				is = r.sp.Not(more)
			}
		default:
			return r.sp.And(family, unknown())
		}
	default:
		return r.sp.AndAll(family, any, unknown())
	}
	switch op {
	case "==":
		return r.sp.And(family, is)
	case "!=":
		if left.kind == kindExthdr && left.part != "" {
			return r.sp.AndAll(family, any, r.sp.Not(is))
		}
		return r.sp.Minus(family, is)
	}
	return r.sp.And(family, unknown())
}
