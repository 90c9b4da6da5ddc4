package nft

import (
	"encoding/json"
	"fmt"
	"net/netip"
	"slices"
	"strconv"
	"strings"

	"yellowfence.example/yfence/core/dialect"
	"yellowfence.example/yfence/core/packet"
)

// match reads a match statement.
func (r *reader) match(c *dialect.Chain, arg any) packet.Set {
	m, _ := arg.(map[string]any)
	return r.compare(c, m["left"], text(m["op"]), m["right"])
}

// compare is the packets for which `left op right` holds. What is not modelled
// is an unknown named after its text; the same text is the same unknown.
func (r *reader) compare(c *dialect.Chain, left any, op string, right any) (result packet.Set) {
	whole := left
	unknown := func() packet.Set {
		return r.sp.Unknown(exprText(map[string]any{"match": map[string]any{"left": whole, "op": op, "right": right}}))
	}
	if concat, ok := anyMap(left)["concat"].([]any); ok {
		return r.concat(c, concat, op, right)
	}
	mask := any(nil)
	if masked, is := anyMap(left)["&"].([]any); is && len(masked) == 2 {
		left, mask = masked[0], masked[1]
	}
	f, ok := fieldOf(left)
	if !ok || mask != nil && f.field != packet.TCPFlags {
		return unknown()
	}
	inside := f.scope(r.sp)
	switch f.field {
	case packet.TCPFlags:
		return r.flags(op, mask, right, unknown)
	case packet.User, packet.Unit:
		return r.sentBy(c, f, op, right, unknown)
	case packet.Time, packet.IPsec:
		return r.circumstance(f, op, right, unknown)
	}
	if f.header == "th" {
		// For a protocol without ports this reads the same two bytes, whatever they are.
		rest := r.sp.And(r.sp.Not(inside), unknown())
		defer func() { result = r.sp.Or(r.sp.And(result, inside), rest) }()
	}
	if f.field == packet.State && r.early[setKey{family: c.Family, table: c.Table}] && (c.Hook == "" || runsEarly(c)) {
		return r.earlyState(c, f, op, right, unknown)
	}
	values, exact := r.values(c, f, right)
	var s packet.Set
	switch op {
	case "==", "in":
		s = r.sp.And(inside, values)
	case "!=":
		if _, isList := right.([]any); isList {
			return r.sp.And(inside, unknown()) // flags that are not all set, or not any: two meanings
		}
		s = r.sp.Minus(inside, values)
	case "<", ">", "<=", ">=":
		limits, ok := f.beyond(op, right)
		if !ok {
			return r.sp.And(inside, unknown())
		}
		s, exact = r.sp.And(inside, r.sp.Ranges(f.field, limits)), true
	default:
		return r.sp.And(inside, unknown())
	}
	if !exact {
		return r.sp.And(inside, unknown())
	}
	return s
}

// earlyState is a match on the connection state where no connection has been
// looked up yet: to the kernel every packet is then invalid.
func (r *reader) earlyState(c *dialect.Chain, f aField, op string, right any, unknown func() packet.Set) packet.Set {
	values, exact := r.values(c, f, right)
	_, isList := right.([]any)
	if c.Hook == "" || c.Priority == trackingPriority || !exact || op == "!=" && isList || op != "==" && op != "in" && op != "!=" {
		return unknown()
	}
	holds := r.sp.Within(r.sp.Value(packet.State, packet.Invalid), values)
	if holds == (op != "!=") {
		return packet.All
	}
	return packet.Empty
}

// concat is a match on several fields joined, against a set of joined values.
func (r *reader) concat(c *dialect.Chain, fields []any, op string, right any) packet.Set {
	inside := packet.All
	for _, f := range fields {
		known, ok := fieldOf(f)
		if !ok {
			return r.sp.Unknown(exprText(map[string]any{"match": map[string]any{"left": map[string]any{"concat": fields}, "op": op, "right": right}}))
		}
		inside = r.sp.And(inside, known.scope(r.sp))
	}
	elements, unknown := []any{right}, false
	if !isConcat(right) {
		elements, unknown = r.elements(c, right)
	}
	var sets []packet.Set
	for _, e := range elements {
		m, _ := elementValue(e).(map[string]any)
		parts, _ := m["concat"].([]any)
		if len(parts) != len(fields) {
			unknown = true
			continue
		}
		s := packet.All
		for i := range fields {
			s = r.sp.And(s, r.compare(c, fields[i], "==", parts[i]))
		}
		sets = append(sets, s)
	}
	s := r.sp.OrAll(sets...)
	if unknown || op != "==" && op != "!=" {
		return r.sp.And(inside, r.sp.Unknown(exprText(map[string]any{"match": map[string]any{"left": map[string]any{"concat": fields}, "op": op, "right": right}})))
	}
	if op == "!=" {
		return r.sp.Minus(inside, s)
	}
	return s
}

func isConcat(v any) bool {
	m, _ := v.(map[string]any)
	_, ok := m["concat"]
	return ok
}

// aField is a left side that we model.
type aField struct {
	header string
	field  packet.Field
	names  map[string]int // values that have names
	family int            // of addresses
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
}

var metaKeys = map[string]packet.Field{
	"iifname": packet.InIface, "oifname": packet.OutIface, "iif": packet.InIface, "oif": packet.OutIface,
	"l4proto": packet.Protocol, "nfproto": packet.Family, "protocol": packet.Family,
	"skuid": packet.User, "time": packet.Time, "ipsec": packet.IPsec, "secpath": packet.IPsec,
}

func fieldOf(left any) (f aField, ok bool) {
	m, _ := left.(map[string]any)
	if p, is := m["payload"].(map[string]any); is {
		f.header = text(p["protocol"])
		f.field, ok = headers[f.header][text(p["field"])]
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
		return f, ok
	}
	if meta, is := m["meta"].(map[string]any); is {
		f.field, ok = metaKeys[text(meta["key"])]
		switch f.field {
		case packet.Protocol:
			f.names = protocols
		case packet.Family:
			f.names = families
		}
		return f, ok
	}
	if socket, is := m["socket"].(map[string]any); is && text(socket["key"]) == "cgroupv2" {
		return aField{field: packet.Unit}, true
	}
	if rt, is := m["rt"].(map[string]any); is && text(rt["key"]) == "ipsec" {
		return aField{header: "rt", field: packet.IPsec}, true
	}
	if ct, is := m["ct"].(map[string]any); is && text(ct["key"]) == "state" && ct["dir"] == nil {
		return aField{field: packet.State, names: states}, true
	}
	return f, false
}

// kernelNumbers are the kernel's own numbers for what we count otherwise: bits of
// the connection state, and protocol families.
var kernelNumbers = map[packet.Field]map[int]int{
	packet.State:  {1: packet.Invalid, 2: packet.Established, 4: packet.Related, 8: packet.New, 64: packet.Untracked},
	packet.Family: {2: packet.IPv4, 10: packet.IPv6},
}

var (
	protocols = map[string]int{"icmp": 1, "igmp": 2, "tcp": 6, "udp": 17, "dccp": 33, "gre": 47, "esp": 50, "ah": 51, "ipv6-icmp": 58, "icmpv6": 58, "sctp": 132, "udplite": 136}
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
	case "":
		return packet.All
	}
	return sp.Value(packet.Protocol, protocols[f.header])
}

// values is the packets whose field has one of the values of a right side;
// exact is false where some of it is not understood.
func (r *reader) values(c *dialect.Chain, f aField, right any) (s packet.Set, exact bool) {
	if list, ok := right.([]any); ok {
		right = map[string]any{"set": list}
	}
	elements := []any{right}
	_, isSet := anyMap(right)["set"]
	if isSet || strings.HasPrefix(text(right), "@") {
		var unknown bool
		if elements, unknown = r.elements(c, right); unknown {
			return packet.Empty, false
		}
	}
	var runs []packet.Range
	for _, e := range elements {
		run, ok := f.run(elementValue(e))
		if !ok {
			return packet.Empty, false
		}
		runs = append(runs, run)
	}
	return r.sp.Ranges(f.field, runs), true
}

func anyMap(v any) map[string]any { m, _ := v.(map[string]any); return m }

// run reads one element: a value, a prefix or a range.
func (f aField) run(v any) (run packet.Range, ok bool) {
	if p, is := anyMap(v)["prefix"].(map[string]any); is {
		bits, _ := number(p["len"])
		addr, err := netip.ParseAddr(text(p["addr"]))
		if err != nil || f.field != packet.Src && f.field != packet.Dst {
			return run, false
		}
		prefix, err := addr.Prefix(bits)
		if err != nil {
			return run, false
		}
		return packet.PrefixRange(prefix), true
	}
	if ends, is := anyMap(v)["range"].([]any); is && len(ends) == 2 {
		lo, okLo := f.run(ends[0])
		hi, okHi := f.run(ends[1])
		return packet.Range{Lo: lo.Lo, Hi: hi.Hi}, okLo && okHi && lo.Lo.Compare(hi.Hi) <= 0
	}
	switch f.field {
	case packet.Src, packet.Dst:
		addr, err := netip.ParseAddr(text(v))
		if err != nil || addr.Is6() != (f.family == packet.IPv6) {
			return run, false
		}
		return packet.Range{Lo: packet.Addr(addr), Hi: packet.Addr(addr)}, true
	case packet.InIface, packet.OutIface:
		name, is := v.(string)
		if !is || strings.Contains(name, `\`) {
			return run, false
		}
		return packet.InterfaceRange(name), true
	}
	n, isNumber := number(v)
	if numbers := kernelNumbers[f.field]; isNumber && numbers != nil { // as -n lists them
		if n, ok = numbers[n]; !ok {
			return run, false
		}
	}
	if !isNumber {
		n, ok = f.names[text(v)]
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
func (f aField) beyond(op string, right any) ([]packet.Range, bool) {
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

func number(v any) (int, bool) {
	switch n := v.(type) {
	case json.Number:
		i, err := strconv.Atoi(n.String())
		return i, err == nil
	case string:
		i, err := strconv.Atoi(n)
		return i, err == nil
	}
	return 0, false
}

// ruleText writes a rule's expressions the way nft lists them, counters left out.
func ruleText(exprs []any) string {
	var parts []string
	for _, e := range exprs {
		if _, isCounter := anyMap(e)["counter"]; !isCounter {
			parts = append(parts, exprText(e))
		}
	}
	return strings.Join(parts, " ")
}

// exprText writes an expression the way nft lists it. What it has no special
// form for comes out as its words in order, which is mostly how nft says it.
func exprText(v any) string {
	switch x := v.(type) {
	case nil:
		return ""
	case []any:
		parts := make([]string, len(x))
		for i, e := range x {
			parts[i] = exprText(e)
		}
		return strings.Join(parts, ",")
	case string:
		return x
	case map[string]any:
		for _, kind := range sortedKeys(x) {
			if f := forms[kind]; f != nil && len(x) == 1 {
				return f(x[kind])
			}
		}
		var parts []string
		for _, k := range sortedKeys(x) {
			parts = append(parts, strings.TrimSpace(k+" "+exprText(x[k])))
		}
		return strings.Join(parts, " ")
	}
	return fmt.Sprint(v)
}

func sortedKeys(m map[string]any) []string {
	keys := make([]string, 0, len(m))
	for k := range m {
		keys = append(keys, k)
	}
	slices.Sort(keys)
	return keys
}

// forms are the expressions whose text is more than their words.
var forms map[string]func(any) string

func init() {
	joined := func(separator, open, end string) func(any) string {
		return func(v any) string {
			list, _ := v.([]any)
			parts := make([]string, len(list))
			for i, e := range list {
				if pair, ok := e.([]any); ok && len(pair) == 2 {
					parts[i] = exprText(pair[0]) + " : " + exprText(pair[1])
				} else {
					parts[i] = exprText(e)
				}
			}
			return open + strings.Join(parts, separator) + end
		}
	}
	elements := joined(", ", "{ ", " }")
	of := func(f func(map[string]any) string) func(any) string {
		return func(v any) string { return f(anyMap(v)) }
	}
	forms = map[string]func(any) string{
		"match": of(func(m map[string]any) string {
			op := " " + text(m["op"]) + " "
			_, masked := anyMap(m["left"])["&"]
			if op == " in " || op == " == " && !masked {
				op = " "
			}
			right := exprText(m["right"])
			if left := exprText(m["left"]); strings.HasSuffix(left, "name") || left == "iif" || left == "oif" {
				if s := text(m["right"]); s != "" && !strings.HasPrefix(s, "@") {
					right = strconv.Quote(s)
				}
			}
			return exprText(m["left"]) + op + right
		}),
		"payload": of(func(m map[string]any) string {
			if m["base"] != nil {
				return fmt.Sprintf("@%s,%v,%v", text(m["base"]), m["offset"], m["len"])
			}
			return text(m["protocol"]) + " " + text(m["field"])
		}),
		"meta": of(func(m map[string]any) string {
			if k := text(m["key"]); !slices.Contains([]string{"iifname", "oifname", "iif", "oif"}, k) {
				return "meta " + k
			}
			return text(m["key"])
		}),
		"ct":     of(func(m map[string]any) string { return strings.TrimSpace("ct "+text(m["dir"])) + " " + text(m["key"]) }),
		"prefix": of(func(m map[string]any) string { return fmt.Sprintf("%s/%v", text(m["addr"]), m["len"]) }),
		"range":  joined("-", "", ""),
		"concat": joined(" . ", "", ""),
		"set": func(v any) string {
			if m := anyMap(v); m != nil { // the statement that changes a set, not the value
				return strings.TrimRight(fmt.Sprintf("%s %s { %s %s", text(m["op"]), text(m["set"]), exprText(m["elem"]), exprText(m["stmt"])), " ") + " }"
			}
			return elements(v)
		},
		"&": joined(" & ", "", ""),
		"|": joined(" | ", "(", ")"),
		"fib": of(func(m map[string]any) string {
			return fmt.Sprintf("fib %s %s", strings.ReplaceAll(exprText(m["flags"]), ",", " . "), text(m["result"]))
		}),
		"redirect": of(func(m map[string]any) string {
			if m["port"] == nil {
				return "redirect"
			}
			return "redirect to :" + exprText(m["port"])
		}),
		"elem": of(func(m map[string]any) string { return exprText(m["val"]) }),
		"jump": of(func(m map[string]any) string { return "jump " + text(m["target"]) }),
		"goto": of(func(m map[string]any) string { return "goto " + text(m["target"]) }),
		"vmap": of(func(m map[string]any) string { return exprText(m["key"]) + " vmap " + exprText(m["data"]) }),
		"reject": of(func(m map[string]any) string {
			switch {
			case text(m["type"]) == "":
				return "reject"
			case m["expr"] == nil:
				return "reject with " + text(m["type"])
			}
			return "reject with " + text(m["type"]) + " " + text(m["expr"])
		}),
		"log": of(func(m map[string]any) string {
			if p := text(m["prefix"]); p != "" {
				return "log prefix " + strconv.Quote(p)
			}
			return "log"
		}),
		"limit": func(v any) string {
			if name := text(v); name != "" {
				return "limit name " + strconv.Quote(name)
			}
			m := anyMap(v)
			over, burst := "", ""
			if inv, _ := m["inv"].(bool); inv {
				over = "over "
			}
			if n, ok := number(m["burst"]); ok && n != defaultBurst && m["burst_unit"] == nil {
				burst = fmt.Sprintf(" burst %d packets", n)
			}
			return fmt.Sprintf("limit rate %s%v/%s%s", over, m["rate"], text(m["per"]), burst)
		},
		"unread": func(v any) string { return text(v) },
		"mangle": of(func(m map[string]any) string { return exprText(m["key"]) + " set " + exprText(m["value"]) }),
	}
}
