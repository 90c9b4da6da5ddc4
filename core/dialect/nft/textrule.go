package nft

import (
	"encoding/json"
	"slices"
	"strconv"
	"strings"

	"yellowfence.example/yfence/core/packet"
)

// ruleOf makes of a rule's line the expressions that the JSON form has for it. A
// statement it does not know takes the rest of the line with it.
func ruleOf(line []lexeme) (exprs []any, comment string) {
	if n := len(line); n >= 2 && line[n-2].is("comment") && line[n-1].quoted {
		comment, line = line[n-1].text, line[:n-2]
	}
	for len(line) > 0 {
		e, rest := statementOf(line)
		if e == nil {
			return append(exprs, map[string]any{"unread": words(line)}), comment
		}
		exprs, line = append(exprs, e), rest
	}
	return exprs, comment
}

func words(line []lexeme) string {
	texts := make([]string, len(line))
	for i, l := range line {
		if texts[i] = l.text; l.quoted {
			texts[i] = `"` + l.text + `"`
		}
	}
	return strings.Join(texts, " ")
}

func one(kind string, arg any) map[string]any { return map[string]any{kind: arg} }

// statementOf reads the statement that a line begins with; nil if it is none that is known.
func statementOf(line []lexeme) (e any, rest []lexeme) {
	word := line[0].text
	switch {
	case line[0].quoted:
		return nil, nil
	case slices.Contains([]string{"accept", "drop", "return", "continue", "notrack"}, word):
		return one(word, nil), line[1:]
	case (word == "jump" || word == "goto") && len(line) > 1:
		return one(word, map[string]any{"target": line[1].text}), line[2:]
	case word == "counter":
		for line = line[1:]; len(line) > 1 && slices.Contains([]string{"packets", "bytes", "name"}, line[0].text); {
			line = line[2:]
		}
		return one("counter", nil), line
	case word == "log":
		return logOf(line[1:])
	case word == "limit" && len(line) > 2 && line[1].is("name"):
		return one("limit", line[2].text), line[3:]
	case word == "limit":
		rate, rest := limitOf(line)
		if rate == nil {
			return nil, nil
		}
		return one("limit", rate), rest
	case word == "reject":
		return rejectOf(line[1:])
	case (word == "add" || word == "update" || word == "delete") && len(line) > 2 && strings.HasPrefix(line[1].text, "@"):
		return setOf(line)
	}
	return matchOf(line)
}

func logOf(line []lexeme) (any, []lexeme) {
	f := map[string]any{}
	for len(line) > 1 {
		switch {
		case line[0].is("prefix"):
			f["prefix"] = line[1].text
		case line[0].is("level"):
			f["level"] = line[1].text
		case line[0].is("group"):
			f["group"] = json.Number(line[1].text)
		case line[0].is("snaplen") || line[0].is("queue-threshold"):
		case line[0].is("flags"):
			if len(line) > 2 && !line[1].is("all") && !line[1].is("skuid") && !line[1].is("ether") {
				line = line[1:] // flags tcp sequence,options
				for len(line) > 2 && line[2].is(",") {
					line = line[2:]
				}
			}
		default:
			return one("log", f), line
		}
		line = line[2:]
	}
	return one("log", f), line
}

// limitOf reads: limit rate [over] 4/minute [burst 5 packets]
func limitOf(line []lexeme) (f map[string]any, rest []lexeme) {
	line = line[1:]
	if len(line) < 2 || !line[0].is("rate") {
		return nil, nil
	}
	f = map[string]any{}
	if line = line[1:]; line[0].is("over") {
		f["inv"] = true
		if line = line[1:]; len(line) == 0 {
			return nil, nil
		}
	}
	n, unit, ok := strings.Cut(line[0].text, "/")
	if !ok { // 10 mbytes/second
		if len(line) < 2 {
			return nil, nil
		}
		_, unit, _ = strings.Cut(line[1].text, "/")
		f["rate_unit"] = "bytes"
		line = line[1:]
	}
	f["rate"], f["per"] = json.Number(n), unit
	line = line[1:]
	if len(line) > 2 && line[0].is("burst") {
		f["burst"] = json.Number(line[1].text)
		line = line[3:]
	}
	return f, line
}

func rejectOf(line []lexeme) (any, []lexeme) {
	f := map[string]any{}
	if len(line) < 3 || !line[0].is("with") {
		return one("reject", f), line
	}
	if line[1].is("tcp") && line[2].is("reset") {
		f["type"] = "tcp reset"
		return one("reject", f), line[3:]
	}
	f["type"], line = line[1].text, line[2:]
	if line[0].is("type") && len(line) > 1 {
		line = line[1:]
	}
	f["expr"] = line[0].text
	return one("reject", f), line[1:]
}

// setOf reads: update @set { ip saddr limit rate 4/minute burst 4 packets }
func setOf(line []lexeme) (any, []lexeme) {
	if !line[2].is("{") {
		return nil, nil
	}
	end := slices.IndexFunc(line, func(l lexeme) bool { return l.is("}") })
	if end < 0 {
		return nil, nil
	}
	inner, rest := line[3:end], line[end+1:]
	elem, inner := leftOf(inner)
	if elem == nil {
		return nil, nil
	}
	f := map[string]any{"op": line[0].text, "set": line[1].text, "elem": elem}
	var statements []any
	for len(inner) > 0 {
		if inner[0].is("timeout") && len(inner) > 1 {
			inner = inner[2:]
			continue
		}
		e, left := statementOf(inner)
		if e == nil {
			return nil, nil
		}
		statements, inner = append(statements, e), left
	}
	if statements != nil {
		f["stmt"] = statements
	}
	return one("set", f), rest
}

// matchOf reads a match, a verdict map or a change of a field.
func matchOf(line []lexeme) (any, []lexeme) {
	left, rest := leftOf(line)
	if left == nil || len(rest) == 0 {
		return nil, nil
	}
	switch {
	case rest[0].is("set") && len(rest) > 1:
		value, rest := rightOf(rest[1:])
		return one("mangle", map[string]any{"key": left, "value": value}), rest
	case rest[0].is("vmap") && len(rest) > 1:
		data, rest := rightOf(rest[1:])
		return one("vmap", map[string]any{"key": left, "data": data}), rest
	}
	op, said := "==", false
	if slices.Contains([]string{"==", "!=", "<", ">", "<=", ">=", "!"}, rest[0].text) && !rest[0].quoted {
		op, rest, said = rest[0].text, rest[1:], true
	}
	if len(rest) == 0 {
		return nil, nil
	}
	right, rest := rightOf(rest)
	if right == nil {
		return nil, nil
	}
	if len(rest) > 1 && rest[0].is("/") { // tcp flags syn / syn,ack: the value behind a mask
		var mask any
		mask, rest = rightOf(rest[1:])
		left, said = one("&", []any{left, mask}), true
	}
	if f, ok := fieldOf(left); ok && f.field == packet.TCPFlags && !said && anyMap(right)["set"] == nil {
		op = "in" // any of them
	}
	if _, isList := right.([]any); isList && op == "==" {
		op = "in"
	}
	return one("match", map[string]any{"op": op, "left": left, "right": right}), rest
}

// payloads are the headers whose fields are two words.
var payloads = []string{"ip", "ip6", "tcp", "udp", "th", "icmp", "icmpv6", "sctp", "dccp", "udplite", "ether", "vlan", "arp", "ah", "esp", "comp", "igmp"}

// leftOf reads the left side of a match: a field, or several joined by dots.
func leftOf(line []lexeme) (left any, rest []lexeme) {
	left, rest = fieldIn(line)
	if left == nil {
		return nil, nil
	}
	joined := []any{left}
	for len(rest) > 1 && rest[0].is(".") {
		var next any
		if next, rest = fieldIn(rest[1:]); next == nil {
			return nil, nil
		}
		joined = append(joined, next)
	}
	if len(joined) > 1 {
		return one("concat", joined), rest
	}
	if len(rest) > 1 && rest[0].is("&") {
		return one("&", []any{left, rest[1].text}), rest[2:]
	}
	return left, rest
}

func fieldIn(line []lexeme) (any, []lexeme) {
	if len(line) < 2 || line[0].quoted {
		return nil, nil
	}
	word, next := line[0].text, line[1].text
	switch {
	case slices.Contains(payloads, word):
		return one("payload", map[string]any{"protocol": word, "field": next}), line[2:]
	case word == "meta":
		return one("meta", map[string]any{"key": next}), line[2:]
	case slices.Contains([]string{"iif", "oif", "iifname", "oifname", "mark", "skuid", "skgid"}, word):
		return one("meta", map[string]any{"key": word}), line[1:]
	case word == "ct" && (next == "original" || next == "reply") && len(line) > 2:
		return one("ct", map[string]any{"key": line[2].text, "dir": next}), line[3:]
	case word == "ct":
		return one("ct", map[string]any{"key": next}), line[2:]
	case word == "rt":
		return one("rt", map[string]any{"key": next}), line[2:]
	case word == "socket" && next == "cgroupv2" && len(line) > 3 && line[2].is("level"):
		return one("socket", map[string]any{"key": "cgroupv2"}), line[4:]
	case word == "socket":
		return one("socket", map[string]any{"key": next}), line[2:]
	case word == "fib":
		return fibIn(line)
	}
	return nil, nil
}

// fibIn reads: fib saddr . iif oif
func fibIn(line []lexeme) (any, []lexeme) {
	flags := []any{line[1].text}
	line = line[2:]
	for len(line) > 1 && line[0].is(".") {
		flags, line = append(flags, line[1].text), line[2:]
	}
	if len(line) == 0 {
		return nil, nil
	}
	return one("fib", map[string]any{"result": line[0].text, "flags": flags}), line[1:]
}

// rightOf reads a right side: a value, a list, a set in braces or a set's name.
func rightOf(line []lexeme) (any, []lexeme) {
	if line[0].is("{") {
		elements, n := elementsOf(line, 0)
		return one("set", elements), line[n:]
	}
	v, rest := valueOf(line)
	list := []any{v}
	for len(rest) > 1 && rest[0].is(",") { // established,related
		v, rest = valueOf(rest[1:])
		list = append(list, v)
	}
	if len(list) > 1 {
		return list, rest
	}
	return list[0], rest
}

// valueOf reads one value, or several joined by dots.
func valueOf(line []lexeme) (any, []lexeme) {
	parts := []any{plainOf(line[0])}
	line = line[1:]
	for len(line) > 1 && line[0].is(".") {
		parts, line = append(parts, plainOf(line[1])), line[2:]
	}
	if len(parts) > 1 {
		return one("concat", parts), line
	}
	return parts[0], line
}

// plainOf reads a word as a value: an address, a prefix, a range or a name.
func plainOf(l lexeme) any {
	s := l.text
	switch {
	case l.quoted:
		return s
	case s == "exists":
		return true
	case s == "missing":
		return false
	}
	if addr, length, ok := strings.Cut(s, "/"); ok && strings.ContainsAny(addr, ".:") {
		return one("prefix", map[string]any{"addr": addr, "len": json.Number(length)})
	}
	if lo, hi, ok := strings.Cut(s, "-"); ok && lo != "" && hi != "" && (isNumber(lo) && isNumber(hi) || strings.ContainsAny(lo, ".:") && strings.ContainsAny(hi, ".:")) {
		return one("range", []any{plainOf(lexeme{text: lo}), plainOf(lexeme{text: hi})})
	}
	if isNumber(s) {
		return json.Number(s)
	}
	if hex, ok := strings.CutPrefix(s, "0x"); ok {
		if n, err := strconv.ParseUint(hex, 16, 63); err == nil {
			return json.Number(strconv.FormatUint(n, 10))
		}
	}
	return s
}

func isNumber(s string) bool { return s != "" && strings.Trim(s, "0123456789") == "" }

// elementsOf reads the elements that stand in braces from i on, and where they
// end. What an element has besides its key and its verdict is passed over.
func elementsOf(line []lexeme, i int) (elements []any, end int) {
	if i >= len(line) || !line[i].is("{") {
		return nil, i
	}
	elements = []any{}
	for i++; i < len(line) && !line[i].is("}"); {
		if line[i].is(",") {
			i++
			continue
		}
		key, rest := valueOf(line[i:])
		i = len(line) - len(rest)
		var e = key
		for i < len(line) && !line[i].is(",") && !line[i].is("}") {
			if line[i].is(":") && i+1 < len(line) {
				verdict, rest := statementOf(line[i+1:])
				if verdict == nil { // a map of values
					value, left := valueOf(line[i+1:])
					verdict, rest = value, left
				}
				e = []any{key, verdict}
				i = len(line) - len(rest)
				continue
			}
			i++
		}
		elements = append(elements, e)
	}
	return elements, min(i+1, len(line))
}
