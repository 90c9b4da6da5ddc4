package nft

import (
	"net/netip"
	"slices"
	"strconv"
	"strings"

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
	case left.kind == kindMeta && left.text == "protocol" && mask == nil && right.kind == kindWord && slices.Contains(otherThanIP, right.text):
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
		if _, known := headers[left.text]; known && left.kind == kindPayload && left.text != "th" { // whatever it says, it says it of that header
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
	f, known := map[string]aField{"proto-dst": {field: packet.DstPort}, "ip daddr": {field: packet.Dst, family: packet.IPv4}, "ip6 daddr": {field: packet.Dst, family: packet.IPv6}}[left.text]
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
	if r.zoned || c.Hook == "" || c.Priority == trackingPriority || !exact || op == "!=" && right.kind == kindList || op != "==" && op != "in" && op != "!=" {
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

// nextHeader is what an IPv6 header says that follows it: the protocol, where no other header of
// IPv6 stands between; of pieces of a packet, that they are pieces (RFC 8200, section 4.5),
// unless the chain comes after they were put together.
func (r *reader) nextHeader(c *kernel.Chain, op string, right *expr) packet.Set {
	const fragment = 44
	protocol := r.compare(c, &expr{kind: kindMeta, text: "l4proto"}, op, right)
	piece := packet.Set(r.sp.Restrict(packet.Decision(protocol), packet.Protocol, packet.Num(fragment)))
	whole := packet.All
	if r.pieces(c)[packet.IPv6] {
		whole = r.sp.Value(packet.Fragment, packet.Whole)
	}
	return r.sp.And(r.sp.Value(packet.Family, packet.IPv6), r.sp.Or(r.sp.And(whole, protocol), r.sp.Minus(piece, whole)))
}

// aField is a left side that we model.
type aField struct {
	header string
	field  packet.Field
	names  map[string]int // values that have names
	family int            // of addresses
	level  int            // of control groups that is asked for; 0 where it is not told
}

// headers are the payload protocols with the fields of theirs that we model.
var headers = map[string]map[string]packet.Field{
	"ip":      {"saddr": packet.Src, "daddr": packet.Dst, "protocol": packet.Protocol},
	"ip6":     {"saddr": packet.Src, "daddr": packet.Dst},
	"tcp":     {"sport": packet.SrcPort, "dport": packet.DstPort, "flags": packet.TCPFlags},
	"udp":     {"sport": packet.SrcPort, "dport": packet.DstPort},
	"sctp":    {"sport": packet.SrcPort, "dport": packet.DstPort},
	"dccp":    {"sport": packet.SrcPort, "dport": packet.DstPort},
	"udplite": {"sport": packet.SrcPort, "dport": packet.DstPort},
	"th":      {"sport": packet.SrcPort, "dport": packet.DstPort},
	"icmp":    {"type": packet.ICMPType, "code": packet.ICMPCode},
	"icmpv6":  {"type": packet.ICMPType, "code": packet.ICMPCode},
	"ah":      {}, "esp": {}, "comp": {}, "igmp": {}, // what they say is not modelled
}

// otherThanIP are protocols of frames, by the names that nft gives them, that hold no packets of ours.
var otherThanIP = []string{"arp", "vlan", "8021q", "8021ad"}

var metaKeys = map[string]packet.Field{
	"iifname": packet.InIface, "oifname": packet.OutIface, "iif": packet.InIface, "oif": packet.OutIface,
	"l4proto": packet.Protocol, "nfproto": packet.Family, "protocol": packet.Family,
	"skuid": packet.User, "skgid": packet.Group, "time": packet.Time, "ipsec": packet.IPsec, "secpath": packet.IPsec,
}

func fieldOf(left *expr) (f aField, ok bool) {
	switch left.kind {
	case kindPayload:
		f.header = left.text
		f.field, ok = headers[f.header][left.part]
		switch {
		case f.field == packet.ICMPType && f.header == "icmp":
			f.names = icmpTypes
		case f.field == packet.ICMPType && f.header == "icmpv6":
			f.names = icmpv6Types
		case f.field == packet.ICMPCode && f.header == "icmp":
			f.names = icmpCodes
		case f.field == packet.ICMPCode:
			f.names = icmpv6Codes
		case f.field == packet.Protocol:
			f.names = protocols
		}
		if f.header == "ip6" {
			f.family = packet.IPv6
		}
	case kindMeta:
		f.field, ok = metaKeys[left.text]
		switch f.field {
		case packet.Protocol:
			f.names = protocols
		case packet.Family:
			f.names = families
		}
	case kindSocket:
		f.field = packet.Unit
		f.level, _ = strconv.Atoi(left.part)
		return f, left.text == "cgroupv2"
	case kindRT:
		return aField{header: "rt", field: packet.IPsec}, left.text == "ipsec"
	case kindCT:
		return aField{field: packet.State, names: states}, left.text == "state" && left.part == ""
	}
	return f, ok
}

// kernelNumbers are the kernel's own numbers for what we count otherwise: bits of
// the connection state, and protocol families.
var kernelNumbers = map[packet.Field]map[int]int{
	packet.State:  {1: packet.Invalid, 2: packet.Established, 4: packet.Related, 8: packet.New, 64: packet.Untracked},
	packet.Family: {2: packet.IPv4, 10: packet.IPv6},
}

var (
	protocols = kernel.Protocols
	families  = map[string]int{"ipv4": packet.IPv4, "ipv6": packet.IPv6, "ip": packet.IPv4, "ip6": packet.IPv6}
	states    = map[string]int{"new": packet.New, "established": packet.Established, "related": packet.Related, "invalid": packet.Invalid, "untracked": packet.Untracked}
	icmpTypes = map[string]int{"echo-reply": 0, "destination-unreachable": 3, "source-quench": 4, "redirect": 5, "echo-request": 8, "router-advertisement": 9,
		"router-solicitation": 10, "time-exceeded": 11, "parameter-problem": 12, "timestamp-request": 13, "timestamp-reply": 14, "info-request": 15,
		"info-reply": 16, "address-mask-request": 17, "address-mask-reply": 18}
	// nft gives codes the names they have for "destination unreachable", whatever the type.
	icmpCodes = map[string]int{"net-unreachable": 0, "host-unreachable": 1, "prot-unreachable": 2, "port-unreachable": 3, "frag-needed": 4,
		"net-prohibited": 9, "host-prohibited": 10, "admin-prohibited": 13}
	icmpv6Codes = map[string]int{"no-route": 0, "admin-prohibited": 1, "addr-unreachable": 3, "port-unreachable": 4, "policy-fail": 5, "reject-route": 6}
	icmpv6Types = map[string]int{"destination-unreachable": 1, "packet-too-big": 2, "time-exceeded": 3, "parameter-problem": 4, "echo-request": 128, "echo-reply": 129,
		"mld-listener-query": 130, "mld-listener-report": 131, "mld-listener-done": 132, "mld-listener-reduction": 132, "nd-router-solicit": 133, "nd-router-advert": 134,
		"nd-neighbor-solicit": 135, "nd-neighbor-advert": 136, "nd-redirect": 137, "router-renumbering": 138, "ind-neighbor-solicit": 141, "ind-neighbor-advert": 142,
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

// inTransport says that the field is in the header behind that of IP.
func (f aField) inTransport() bool {
	return !slices.Contains([]string{"", "ip", "ip6", "rt"}, f.header)
}

func (f aField) scope(sp *packet.Space) packet.Set {
	switch f.header {
	case "ip":
		return sp.Value(packet.Family, packet.IPv4)
	case "ip6":
		return sp.Value(packet.Family, packet.IPv6)
	case "icmp":
		return sp.And(sp.Value(packet.Family, packet.IPv4), sp.Value(packet.Protocol, packet.ICMP))
	case "icmpv6":
		return sp.And(sp.Value(packet.Family, packet.IPv6), sp.Value(packet.Protocol, packet.ICMPv6))
	case "th":
		return sp.Values(packet.Protocol, packet.PortProtocols...)
	}
	return sp.Value(packet.Protocol, protocols[f.header])
}

// plural says that a right side is a list, or a set in braces or of a name.
func plural(right *expr) bool {
	return right.kind == kindList || right.kind == kindSet || right.kind == kindWord && strings.HasPrefix(right.text, "@")
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

// run reads one element: a value, a prefix or a range.
func (f aField) run(e *expr) (run packet.Range, ok bool) {
	address := f.field == packet.Src || f.field == packet.Dst
	switch {
	case e.kind == kindPrefix:
		bits, err := strconv.Atoi(e.part)
		addr, errAddr := netip.ParseAddr(e.text)
		if err != nil || errAddr != nil || !address {
			return run, false
		}
		prefix, err := addr.Prefix(bits)
		if err != nil {
			return run, false
		}
		return packet.PrefixRange(prefix), true
	case e.kind == kindSpan && len(e.args) == 2:
		lo, okLo := f.run(&e.args[0])
		hi, okHi := f.run(&e.args[1])
		return packet.Range{Lo: lo.Lo, Hi: hi.Hi}, okLo && okHi && lo.Lo.Compare(hi.Hi) <= 0
	case e.kind != kindWord && e.kind != kindNumber:
		return run, false
	case address:
		addr, err := netip.ParseAddr(e.text)
		if err != nil || addr.Is6() != (f.family == packet.IPv6) {
			return run, false
		}
		return packet.Range{Lo: packet.Addr(addr), Hi: packet.Addr(addr)}, true
	case f.field == packet.InIface || f.field == packet.OutIface:
		if e.kind != kindWord || strings.Contains(e.text, `\`) {
			return run, false
		}
		return packet.InterfaceRange(e.text), true
	}
	n, isNumber := e.int()
	if numbers := kernelNumbers[f.field]; isNumber && numbers != nil { // as -n lists them
		if n, ok = numbers[n]; !ok {
			return run, false
		}
	}
	if !isNumber {
		n, ok = f.names[e.text]
		if !ok {
			return run, false
		}
	}
	if n < 0 || packet.Num(n).Compare(f.field.Limit()) > 0 {
		return run, false
	}
	return packet.Range{Lo: packet.Num(n), Hi: packet.Num(n)}, true
}

// beyond reads the right side of an inequality as the runs it leaves.
func (f aField) beyond(op string, right *expr) ([]packet.Range, bool) {
	run, ok := f.run(right)
	if !ok {
		return nil, false
	}
	lowest, highest := packet.Num(0), f.field.Limit()
	switch {
	case op == "<=":
		return []packet.Range{{Lo: lowest, Hi: run.Hi}}, true
	case op == ">=":
		return []packet.Range{{Lo: run.Lo, Hi: highest}}, true
	case op == "<" && run.Lo != lowest:
		return []packet.Range{{Lo: lowest, Hi: run.Lo.Prev()}}, true
	case op == ">" && run.Hi != highest:
		return []packet.Range{{Lo: run.Hi.Next(), Hi: highest}}, true
	}
	return nil, true
}
