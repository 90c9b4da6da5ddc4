package nft

import (
	"net/netip"
	"slices"
	"strconv"
	"strings"

	"yellowfence.example/yfence/core/kernel"
	"yellowfence.example/yfence/core/packet"
)

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

// metaKeys are the keys of `meta` that are fields of a packet.
var metaKeys = map[string]packet.Field{
	"iifname": packet.InIface, "oifname": packet.OutIface, "iif": packet.InIface, "oif": packet.OutIface,
	"l4proto": packet.Protocol, "nfproto": packet.Family, "protocol": packet.Family,
	"skuid": packet.User, "skgid": packet.Group, "time": packet.Time, "ipsec": packet.IPsec, "secpath": packet.IPsec,
}

// fieldOf is the field that a left side asks for; ok is false for one that we do not model,
// which then decides nothing for certain.
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

// inTransport says that the field is in the header behind that of IP.
func (f aField) inTransport() bool {
	return !slices.Contains([]string{"", "ip", "ip6", "rt"}, f.header)
}

// scope is the packets that have the field at all: to ask for it is to ask for its header.
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

// run reads one element: a value, a prefix or a range.
func (f aField) run(e *expr) (run packet.Range, ok bool) {
	// A prefix, a span or one value; whatever else a listing may hold there is not modelled.
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
	// A number, or a name that stands for one. With -n a kernel's own numbers are listed, which are
	// not ours for states and the like.
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
