package nft

import (
	"slices"

	"yellowfence.example/yfence/core/kernel"
	"yellowfence.example/yfence/core/packet"
)

// compare is the packets for which `left op right` holds. What is not modelled
// is an unknown named after its text; the same text is the same unknown.
func (r *reader) compare(c *kernel.Chain, left *expr, op string, right *expr) (result packet.Set) {
	whole := left
	unknown := func() packet.Set {
		return r.sp.Unknown((&expr{kind: kindMatch, text: op, args: []expr{*whole, *right}}).String())
	}
	if left.kind == kindJoined {
		if s := r.growing(c, right); s != nil {
			return r.among(c, whole, op, right, s, unknown)
		}
		return r.concat(c, left.args, op, right, unknown)
	}
	var mask *expr
	if left.kind == kindBoth && len(left.args) == 2 {
		left, mask = &left.args[0], &left.args[1]
	}
	if m, ok := markOf(left); ok {
		return r.marked(c, m, op, mask, right, unknown)
	}
	if left.kind == kindExthdr && left.text != "frag" {
		return r.option(left, op, mask, right)
	}
	if left.kind == kindExthdr || left.kind == kindPayload && left.part == "frag-off" {
		return r.fragment(left, op, mask, right, unknown)
	}
	if s := r.growing(c, right); s != nil {
		return r.among(c, whole, op, right, s, unknown)
	}
	switch {
	case left.kind == kindPayload && left.text == "ether" && left.part == "type" && mask == nil: // what is sent has no such header yet
		return r.sp.Minus(r.compare(c, &expr{kind: kindMeta, text: "protocol"}, op, right), r.sp.Value(packet.Hook, packet.Out))
	case left.kind == kindMeta && left.text == "protocol" && mask == nil && right.kind == kindWord &&
		slices.Contains(otherThanIP, right.text):
		return map[string]packet.Set{"!=": packet.All}[op]
	case left.kind == kindMeta && mask == nil && (left.text == "pkttype" || left.text == "iiftype"):
		if s, ok := r.frames(c, left, op, right); ok {
			return s
		}
	case left.kind == kindFib && mask == nil:
		if s, ok := r.fib(c, left, op, right); ok {
			return s
		}
	case left.kind == kindCT && left.text == "status" && op == "in" && mask == nil && right.text == "dnat":
		return r.sp.Unknown(kernel.Translated)
	case left.kind == kindCT && left.part == "original" && mask == nil:
		if s, ok := r.original(c, left, op, right); ok {
			return s
		}
	}
	switch {
	case left.kind == kindCT && mask == nil:
		if s, ok := r.connection(c, left, op, right, unknown); ok {
			return s
		}
	case left.kind == kindChance:
		return r.happens(&expr{kind: kindMatch, text: op, args: []expr{*whole, *right}}, "by chance")
	}
	if left.kind == kindPayload && left.text == "ip6" && left.part == "nexthdr" && mask == nil {
		return r.nextHeader(c, op, right)
	}
	f, ok := fieldOf(left)
	if !ok || mask != nil && f.field != packet.TCPFlags {
		// whatever it says, it says it of that header
		if _, known := headers[left.text]; known && left.kind == kindPayload && left.text != "th" {
			return r.sp.And(r.scope(c, aField{header: left.text}), unknown())
		}
		return unknown()
	}
	inside := r.scope(c, f)
	if f.inTransport() && r.joined[place{family: c.Family, table: c.Table}] {
		// What stands there in a later piece is not what the whole will have.
		answered := r.answered(c)
		defer func() { result = r.sp.Or(r.sp.And(result, answered), r.sp.Minus(unknown(), answered)) }()
	}
	switch f.field {
	case packet.TCPFlags:
		return r.flags(inside, op, mask, right, unknown)
	case packet.User, packet.Group, packet.Unit:
		return r.sentBy(c, f, op, right, unknown)
	case packet.Time, packet.IPsec:
		return r.circumstance(f, op, right, unknown)
	}
	if f.header == "th" {
		// For a protocol without ports this reads the same two bytes, whatever they are.
		rest := r.sp.AndAll(r.shown(c), r.sp.Not(inside), unknown())
		defer func() { result = r.sp.Or(r.sp.And(result, inside), rest) }()
	}
	if f.field == packet.State && r.early[place{family: c.Family, table: c.Table}] && (c.Hook == "" || runsEarly(c)) {
		return r.earlyState(c, f, op, right, unknown)
	}
	switch op {
	case "==", "in":
		if values, exact := r.values(c, f, right); exact {
			return r.sp.And(inside, values)
		}
	case "!=":
		// Flags that are not all set, or not any, are two meanings.
		if values, exact := r.values(c, f, right); exact && right.kind != kindList {
			return r.sp.Minus(inside, values)
		}
	case "<", ">", "<=", ">=":
		if limits, ok := f.beyond(op, right); ok {
			return r.sp.And(inside, r.sp.Ranges(f.field, limits))
		}
	}
	return r.sp.And(inside, unknown())
}

// original is a match on where a packet was sent before it was redirected. Without a
// connection it holds for nothing.
func (r *reader) original(c *kernel.Chain, left *expr, op string, right *expr) (s packet.Set, ok bool) {
	f, known := map[string]aField{"proto-dst": {field: packet.DstPort}, "ip daddr": {field: packet.Dst, family: packet.IPv4},
		"ip6 daddr": {field: packet.Dst, family: packet.IPv6}}[left.text]
	if !known || op != "==" && op != "!=" && op != "in" {
		return s, false
	}
	elements := []expr{*right}
	if plural(right) {
		var changing bool
		if elements, changing = r.several(c, right); changing {
			return s, false
		}
	}
	var runs []packet.Range
	for i := range elements {
		run, ok := f.run(elements[i].value())
		if !ok {
			return s, false
		}
		runs = append(runs, run)
	}
	s = r.out.OriginalDst(r.sp, f.field, runs)
	if op == "!=" {
		s = r.sp.Not(s)
	}
	if f.field == packet.Dst {
		s = r.sp.And(s, r.sp.Value(packet.Family, f.family))
	}
	return r.sp.And(s, r.sp.Values(packet.State, packet.New, packet.Established, packet.Related)), true
}

// earlyState is a match on the connection state where no connection has been
// looked up yet.
func (r *reader) earlyState(c *kernel.Chain, f aField, op string, right *expr, unknown func() packet.Set) packet.Set {
	values, exact := r.values(c, f, right)
	if r.zoned || c.Hook == "" || c.Priority == trackingPriority || !exact || op == "!=" && right.kind == kindList || op != "==" &&
		op != "in" && op != "!=" {
		return unknown()
	}
	seen := kernel.Untracked(r.sp, values)
	if op == "!=" {
		seen = r.sp.Not(seen)
	}
	return seen
}

// concat is a match on several fields joined, against a set of joined values.
func (r *reader) concat(c *kernel.Chain, fields []expr, op string, right *expr, unknown func() packet.Set) packet.Set {
	inside := packet.All
	for i := range fields {
		known, ok := fieldOf(&fields[i])
		if !ok {
			return unknown()
		}
		inside = r.sp.And(inside, r.scope(c, known))
	}
	elements, unread := []expr{*right}, false
	if right.kind != kindJoined {
		elements, unread = r.elements(c, right)
	}
	var sets []packet.Set
	for i := range elements {
		e := elements[i].value()
		if e.kind != kindJoined || len(e.args) != len(fields) {
			unread = true
			continue
		}
		s := packet.All
		for i := range fields {
			s = r.sp.And(s, r.compare(c, &fields[i], "==", &e.args[i]))
		}
		sets = append(sets, s)
	}
	s := r.sp.OrAll(sets...)
	switch {
	case unread || op != "==" && op != "!=":
		return r.sp.And(inside, unknown())
	case op == "!=":
		return r.sp.Minus(inside, s)
	}
	return s
}

// The names that nft lists numbers by.
var (
	protocols = kernel.Protocols
	families  = map[string]int{"ipv4": packet.IPv4, "ipv6": packet.IPv6, "ip": packet.IPv4, "ip6": packet.IPv6}
	states    = map[string]int{"new": packet.New, "established": packet.Established, "related": packet.Related, "invalid": packet.Invalid,
		"untracked": packet.Untracked}
	icmpTypes = map[string]int{"echo-reply": 0, "destination-unreachable": 3, "source-quench": 4, "redirect": 5, "echo-request": 8,
		"router-advertisement": 9,
		"router-solicitation":  10, "time-exceeded": 11, "parameter-problem": 12, "timestamp-request": 13, "timestamp-reply": 14,
		"info-request": 15,
		"info-reply":   16, "address-mask-request": 17, "address-mask-reply": 18}
	// nft gives codes the names they have for "destination unreachable", whatever the type.
	icmpCodes = map[string]int{"net-unreachable": 0, "host-unreachable": 1, "prot-unreachable": 2, "port-unreachable": 3, "frag-needed": 4,
		"net-prohibited": 9, "host-prohibited": 10, "admin-prohibited": 13}
	icmpv6Codes = map[string]int{"no-route": 0, "admin-prohibited": 1, "addr-unreachable": 3, "port-unreachable": 4, "policy-fail": 5,
		"reject-route": 6}
	icmpv6Types = map[string]int{"destination-unreachable": 1, "packet-too-big": 2, "time-exceeded": 3, "parameter-problem": 4,
		"echo-request": 128, "echo-reply": 129,
		"mld-listener-query": 130, "mld-listener-report": 131, "mld-listener-done": 132, "mld-listener-reduction": 132,
		"nd-router-solicit": 133, "nd-router-advert": 134,
		"nd-neighbor-solicit": 135, "nd-neighbor-advert": 136, "nd-redirect": 137, "router-renumbering": 138, "ind-neighbor-solicit": 141,
		"ind-neighbor-advert":  142,
		"mld2-listener-report": 143}
)

// scope is what a match on the field asks of the packet besides: nft makes a
// rule that reads a header fail for packets that do not have it.
func (r *reader) scope(c *kernel.Chain, f aField) packet.Set {
	if f.header == "" {
		return packet.All
	}
	key := scope{f.header, r.pieces(c)}
	s, known := r.scopes[key]
	if !known {
		if s = f.scope(r.sp); f.inTransport() {
			s = r.sp.And(s, r.shown(c))
		}
		r.scopes[key] = s
	}
	return s
}

// scope is what matches on a header ask besides, where fragments of families are seen.
type scope struct {
	header string
	pieces [2]bool
}

// several are the values of a right side that is plural.
func (r *reader) several(c *kernel.Chain, right *expr) (elements []expr, unknown bool) {
	if right.kind == kindList {
		return right.args, false
	}
	return r.elements(c, right)
}

// values is the packets whose field has one of the values of a right side;
// exact is false where some of it is not understood.
func (r *reader) values(c *kernel.Chain, f aField, right *expr) (s packet.Set, exact bool) {
	if !plural(right) {
		run, ok := f.run(right)
		return r.sp.Ranges(f.field, []packet.Range{run}), ok
	}
	elements, unknown := r.several(c, right)
	if unknown {
		return packet.Empty, false
	}
	runs := make([]packet.Range, len(elements))
	for i := range elements {
		run, ok := f.run(elements[i].value())
		if !ok {
			return packet.Empty, false
		}
		runs[i] = run
	}
	return r.sp.Ranges(f.field, runs), true
}
