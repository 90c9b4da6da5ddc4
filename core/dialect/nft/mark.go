package nft

import (
	"math"
	"slices"

	"yellowfence.example/yfence/core/kernel"
	"yellowfence.example/yfence/core/packet"
)

// markOf says whose mark a field is.
func markOf(e *expr) (packet.Mark, bool) {
	switch {
	case e.kind == kindMeta && e.text == "mark":
		return packet.OfPacket, true
	case e.kind == kindCT && e.text == "mark" && e.part == "":
		return packet.OfConnection, true
	}
	return 0, false
}

// bits is a value as a mark.
func (e *expr) bits() (uint32, bool) {
	n, ok := e.int()
	return uint32(n), ok && n >= 0 && n <= math.MaxUint32
}

// connected is the packets that have a connection where a chain sees them: not
// those that the tracker calls invalid, nor any before it. On the others no match
// on a connection holds, and nothing is written on one.
func (r *reader) connected(c *kernel.Chain) packet.Set {
	has := r.sp.Values(packet.State, packet.New, packet.Established, packet.Related)
	switch {
	case !r.early[place{family: c.Family, table: c.Table}] || c.Hook != "" && !runsEarly(c):
		return has
	case c.Hook == "" || c.Priority == trackingPriority:
		return r.sp.And(has, r.sp.Unknown("whether chain "+c.Place()+" runs behind the tracking of connections"))
	}
	return packet.Empty
}

// marked is a match on a mark, in the bits of a mask if there is one.
func (r *reader) marked(c *kernel.Chain, m packet.Mark, op string, mask, right *expr, unknown func() packet.Set) packet.Set {
	s := r.markedAnyhow(c, m, op, mask, right, unknown)
	if m == packet.OfConnection {
		s = r.sp.And(s, r.connected(c))
	}
	return s
}

// markedAnyhow is the packets whose mark compares so with a value of which not all bits are
// known.
func (r *reader) markedAnyhow(c *kernel.Chain, m packet.Mark, op string, mask, right *expr, unknown func() packet.Set) packet.Set {
	// The bits that are compared: all, if no mask is said.
	among := uint32(math.MaxUint32)
	if mask != nil {
		var ok bool
		if among, ok = mask.bits(); !ok {
			return unknown()
		}
	}
	elements := []expr{*right}
	if plural(right) {
		var others bool
		if elements, others = r.several(c, right); others || right.kind == kindList || op != "==" && op != "!=" {
			return unknown()
		}
	}
	// Each value or span by itself. An order takes one value alone, which was seen to above.
	within := packet.Empty
	for i := range elements {
		lo := elements[i].value()
		hi := lo
		if lo.kind == kindSpan {
			lo, hi = lo.arg(0), lo.arg(1)
		}
		from, okFrom := lo.bits()
		to, okTo := hi.bits()
		if !okFrom || !okTo || from > to {
			return unknown()
		}
		switch op {
		case "<":
			return r.sp.Minus(r.sp.MarkedBetween(m, 0, from, among), r.sp.MarkedBetween(m, from, from, among))
		case "<=":
			return r.sp.MarkedBetween(m, 0, from, among)
		case ">":
			return r.sp.Not(r.sp.MarkedBetween(m, 0, from, among))
		case ">=":
			return r.sp.MarkedBetween(m, from, math.MaxUint32, among)
		}
		within = r.sp.Or(within, r.sp.MarkedBetween(m, from, to, among))
	}
	switch op {
	case "==":
		return within
	case "!=":
		return r.sp.Not(within)
	}
	return unknown()
}

// marking is what a statement writes as a mark; ok is false for one that writes none.
func (r *reader) marking(e *expr, at string) (m packet.Marking, ok bool) {
	to, ok := markOf(e.arg(0))
	if !ok {
		return m, false
	}
	if m, ok = written(e.arg(1)); !ok {
		m.Unknown = e.String() + " (" + at + ")"
	}
	m.To = to
	return m, true
}

// written works out what bits are taken from where, and which are turned.
func written(e *expr) (m packet.Marking, ok bool) {
	if n, isNumber := e.bits(); isNumber {
		return packet.Marking{Xor: n}, true
	}
	if from, isMark := markOf(e); isMark {
		return packet.Marking{From: from, And: math.MaxUint32}, true
	}
	if len(e.args) != 2 {
		return m, false
	}
	m, okLeft := written(e.arg(0))
	n, okRight := e.arg(1).bits()
	switch e.kind {
	case kindBoth:
		m.And, m.Xor = m.And&n, m.Xor&n
	case kindEither:
		m.And, m.Xor = m.And&^n, m.Xor|n
	case kindTurned:
		m.Xor ^= n
	default:
		return m, false
	}
	return m, okLeft && okRight
}

// markings is a rule that writes a mark which goes by a map: a rule for each of its values, which
// ask for different packets; of others nothing more is done. ok is false where the map is not
// all there, or is asked for what the rule writes.
func (r *reader) markings(c *kernel.Chain, cur kernel.Rule, e *expr, exprs []expr, at string, out []kernel.Rule) (rules []kernel.Rule,
	ok bool) {
	to, isMark := markOf(e.arg(0))
	mapped := e.arg(1)
	if _, itself := markOf(mapped.arg(0)); !isMark || mapped.kind != kindMapped || itself || mapped.arg(0).kind == kindJoined &&
		slices.ContainsFunc(mapped.arg(0).args, func(e expr) bool { _, ok := markOf(&e); return ok }) {
		return nil, false
	}
	elements, unknown := r.elements(c, mapped.arg(1))
	if unknown || len(exprs) > 0 && len(elements) > mostMarkings {
		return nil, false
	}
	keys, order := map[uint32]packet.Set{}, []uint32{}
	for i := range elements {
		pair := &elements[i]
		value, isBits := pair.arg(1).bits()
		if pair.kind != kindList || len(pair.args) != 2 || !isBits {
			return nil, false
		}
		if _, known := keys[value]; !known {
			order = append(order, value)
		}
		keys[value] = r.sp.Or(keys[value], r.compare(c, mapped.arg(0), "==", pair.args[0].value()))
	}
	if len(order) > mostMarkings {
		return nil, false
	}
	for _, value := range order {
		one := cur
		one.Match = r.sp.And(cur.Match, keys[value])
		out = r.marks(c, one, packet.Marking{To: to, Xor: value}, exprs, at, out)
	}
	return out, true
}

// mostMarkings is how many different marks of a map are told apart.
const mostMarkings = 256

// marks is a rule that writes a mark: what it asks and does after that is asked
// of the packet as it then is, and the mark stays where that fails.
func (r *reader) marks(c *kernel.Chain, cur kernel.Rule, m packet.Marking, exprs []expr, at string, out []kernel.Rule) []kernel.Rule {
	steps := r.statements(c, exprs, at, nil)
	last, logged := &steps[len(steps)-1], packet.Empty
	for i := range steps {
		if i < len(steps)-1 && steps[i].Branches != nil {
			cur.Branches = []kernel.Branch{{Match: packet.All, Action: kernel.Unmodelled, Why: (*statements)(&exprs).String()}}
			return append(out, cur)
		}
		if steps[i].Log {
			logged = r.sp.Or(logged, steps[i].Match)
		}
	}
	goesOn := packet.All
	if m.Unknown != "" { // what is not known may end the rule, too
		goesOn = r.sp.Unknown(m.Unknown + ", and the rule goes on")
	}
	writes := packet.All
	if m.From == packet.OfConnection || m.To == packet.OfConnection {
		writes = r.connected(c)
	}
	add := func(b kernel.Branch, match packet.Set) {
		if b.Match = match; match != packet.Empty {
			cur.Branches = append(cur.Branches, b)
		}
	}
	if m.From == packet.OfConnection { // without one there is nothing to read, which ends the rule
		add(kernel.Branch{Action: kernel.Pass}, r.sp.Not(writes))
	}
	for i, b := range slices.Concat(last.Branches, []kernel.Branch{{Match: packet.All, Action: kernel.Pass}}) {
		does := packet.All
		if i < len(last.Branches) {
			does = r.sp.AndAll(goesOn, last.Match, b.Match)
		}
		told := r.sp.AndAll(does, goesOn, logged)
		for _, set := range []packet.Set{told, r.sp.Minus(does, told)} {
			part := b
			part.Log = b.Log || set == told
			add(part, r.sp.Minus(set, writes))
			part.Marks = append([]packet.Marking{m}, b.Marks...)
			add(part, r.sp.And(writes, r.sp.MarkedBefore(set, m)))
		}
	}
	return append(out, cur)
}
