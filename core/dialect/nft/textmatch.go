package nft

import (
	"slices"
	"strconv"
	"strings"
)

// matchOf reads a match, a verdict map or a change of a field.
func (t *textReader) matchOf(line []lexeme) (expr, []lexeme) {
	left, rest := t.leftOf(line)
	if left.kind == kindNone || len(rest) == 0 {
		return expr{}, nil
	}
	switch {
	case rest[0].is("set") && len(rest) > 1:
		right, rest := t.writtenOf(rest[1:])
		return expr{kind: kindMangle, args: t.of(left, right)}, rest
	case rest[0].is("vmap") && len(rest) > 1:
		right, rest := t.rightOf(rest[1:])
		return expr{kind: kindVmap, args: t.of(left, right)}, rest
	}
	op, said := "==", false
	if !rest[0].quoted {
		switch rest[0].text {
		case "==", "!=", "<", ">", "<=", ">=", "!":
			op, rest, said = rest[0].text, rest[1:], true
		}
	}
	if len(rest) == 0 {
		return expr{}, nil
	}
	right, rest := t.rightOf(rest)
	if len(rest) > 1 && rest[0].is("/") { // tcp flags syn / syn,ack: the value behind a mask
		var mask expr
		mask, rest = t.rightOf(rest[1:])
		left, said = expr{kind: kindBoth, args: t.of(left, mask)}, true
	}
	bits := left.kind == kindPayload && left.part == "flags" || left.kind == kindCT && left.text == "status"
	if bits && !said && right.kind != kindSet {
		op = "in" // any of them
	}
	if right.kind == kindList && op == "==" {
		op = "in"
	}
	return expr{kind: kindMatch, text: op, args: t.of(left, right)}, rest
}

// writtenOf reads what a field is set to: a value, a field, or either with bits
// taken out, put in and turned: meta mark & 0xffffff00 | 0x00000005
func (t *textReader) writtenOf(line []lexeme) (e expr, rest []lexeme) {
	if key, behind := t.leftOf(line); key.kind != kindNone && len(behind) > 1 && behind[0].is("map") { // the value goes by a field
		to, rest := t.rightOf(behind[1:])
		return expr{kind: kindMapped, args: t.of(key, to)}, rest
	}
	if e, rest = t.fieldIn(line); e.kind == kindNone {
		e, rest = t.rightOf(line)
	}
	for len(rest) > 1 {
		k, ok := map[string]kind{"&": kindBoth, "|": kindEither, "^": kindTurned}[rest[0].text]
		if !ok || rest[0].quoted {
			break
		}
		e, rest = expr{kind: k, args: t.of(e, plainOf(rest[1]))}, rest[2:]
	}
	return e, rest
}

// leftOf reads the left side of a match: a field, or several joined by dots.
func (t *textReader) leftOf(line []lexeme) (left expr, rest []lexeme) {
	left, rest = t.fieldIn(line)
	if left.kind == kindNone {
		return expr{}, nil
	}
	if len(rest) > 1 && rest[0].is(".") {
		parts := []expr{left}
		for len(rest) > 1 && rest[0].is(".") {
			var next expr
			if next, rest = t.fieldIn(rest[1:]); next.kind == kindNone {
				return expr{}, nil
			}
			parts = append(parts, next)
		}
		return expr{kind: kindJoined, args: parts}, rest
	}
	if len(rest) > 1 && rest[0].is("&") {
		mask, rest := t.maskOf(rest[1:])
		return expr{kind: kindBoth, args: t.of(left, mask)}, rest
	}
	return left, rest
}

// maskOf reads a mask: a value, or several in parentheses, as in (syn | ack).
func (t *textReader) maskOf(line []lexeme) (expr, []lexeme) {
	end := slices.IndexFunc(line, func(l lexeme) bool { return strings.HasSuffix(l.text, ")") })
	if !strings.HasPrefix(line[0].text, "(") || end < 0 {
		return plainOf(line[0]), line[1:]
	}
	var parts []expr
	for _, l := range line[:end+1] {
		if text := strings.Trim(l.text, "()"); text != "" && text != "|" {
			parts = append(parts, plainOf(lexeme{text: text}))
		}
	}
	return expr{kind: kindEither, args: parts}, line[end+1:]
}

// fieldIn reads the field that a match begins with, and gives what stands behind it; nil where
// none begins there.
func (t *textReader) fieldIn(line []lexeme) (expr, []lexeme) {
	if len(line) < 2 || line[0].quoted {
		return expr{}, nil
	}
	first, next := line[0].text, line[1].text
	// The field's first word says how many belong to it.
	switch first {
	case "ip", "ip6", "tcp", "udp", "th", "icmp", "icmpv6", "sctp", "dccp", "udplite", "ether", "vlan", "arp", "ah", "esp", "comp", "igmp":
		if (first == "tcp" || first == "ip") && next == "option" && len(line) > 2 {
			return optionIn(line)
		}
		return expr{kind: kindPayload, text: first, part: next}, line[2:]
	case "meta":
		return expr{kind: kindMeta, text: next}, line[2:]
	case "iif", "oif", "iifname", "oifname", "mark", "skuid", "skgid":
		return expr{kind: kindMeta, text: first}, line[1:]
	case "ct":
		if (next == "original" || next == "reply") && len(line) > 3 && (line[2].is("ip") || line[2].is("ip6")) {
			return expr{kind: kindCT, text: line[2].text + " " + line[3].text, part: next}, line[4:]
		}
		if (next == "original" || next == "reply") && len(line) > 2 {
			return expr{kind: kindCT, text: line[2].text, part: next}, line[3:]
		}
		return expr{kind: kindCT, text: next}, line[2:]
	case "rt":
		if slices.Contains(routingHeader, next) {
			return expr{kind: kindExthdr, text: first, part: next}, line[2:]
		}
		return expr{kind: kindRT, text: next}, line[2:]
	case "hbh", "dst", "mh", "srh":
		return expr{kind: kindExthdr, text: first, part: next}, line[2:]
	case "exthdr":
		return expr{kind: kindExthdr, text: next}, line[2:]
	case "frag":
		return expr{kind: kindExthdr, text: first, part: next}, line[2:]
	case "socket":
		if next == "cgroupv2" && len(line) > 3 && line[2].is("level") {
			return expr{kind: kindSocket, text: next, part: line[3].text}, line[4:]
		}
		return expr{kind: kindSocket, text: next}, line[2:]
	case "fib":
		return t.fibIn(line)
	case "numgen":
		if len(line) > 4 && line[2].is("mod") {
			return expr{kind: kindChance, text: words(line[:4])}, line[4:]
		}
	}
	return expr{}, nil
}

// routingHeader are the fields of an IPv6 routing header; what else rt tells, it tells of routes.
var routingHeader = []string{"nexthdr", "hdrlength", "type", "seg-left"}

// optionIn reads: tcp option maxseg size, or ip option lsrr
func optionIn(line []lexeme) (expr, []lexeme) {
	e := expr{kind: kindExthdr, text: words(line[:3])}
	if line = line[3:]; len(line) > 1 && !line[0].is("exists") && !line[0].is("missing") {
		e.part, line = line[0].text, line[1:]
	}
	return e, line
}

// fibIn reads: fib saddr . iif oif
func (t *textReader) fibIn(line []lexeme) (expr, []lexeme) {
	flags := []expr{{kind: kindWord, text: line[1].text}}
	line = line[2:]
	for len(line) > 1 && line[0].is(".") {
		flags, line = append(flags, expr{kind: kindWord, text: line[1].text}), line[2:]
	}
	if len(line) == 0 {
		return expr{}, nil
	}
	return expr{kind: kindFib, text: line[0].text, args: flags}, line[1:]
}

// rightOf reads a right side: a value, a list, a set in braces or a set's name.
func (t *textReader) rightOf(line []lexeme) (expr, []lexeme) {
	if line[0].is("{") {
		elements, n := t.elementsOf(line, 0)
		return expr{kind: kindSet, args: elements}, line[n:]
	}
	v, rest := t.valueOf(line)
	if len(rest) < 2 || !rest[0].is(",") {
		return v, rest
	}
	values := []expr{v}
	for len(rest) > 1 && rest[0].is(",") { // established,related
		v, rest = t.valueOf(rest[1:])
		values = append(values, v)
	}
	return expr{kind: kindList, args: values}, rest
}

// valueOf reads one value, or several joined by dots.
func (t *textReader) valueOf(line []lexeme) (expr, []lexeme) {
	v, line := t.plain(line[0]), line[1:]
	if len(line) > 1 && line[0].is("-") && line[1].quoted { // times
		v, line = expr{kind: kindSpan, args: t.of(v, plainOf(line[1]))}, line[2:]
	}
	if len(line) < 2 || !line[0].is(".") {
		return v, line
	}
	parts := []expr{v}
	for len(line) > 1 && line[0].is(".") {
		parts, line = append(parts, t.plain(line[1])), line[2:]
	}
	return expr{kind: kindJoined, args: parts}, line
}

// plain reads a word as a value: a range, or what plainOf reads.
func (t *textReader) plain(l lexeme) expr {
	if !l.quoted {
		lo, hi, ok := strings.Cut(l.text, "-")
		if ok && lo != "" && hi != "" && (isNumber(lo) && isNumber(hi) || strings.HasPrefix(lo, "0x") && strings.HasPrefix(hi, "0x") ||
			strings.ContainsAny(lo, ".:") && strings.ContainsAny(hi, ".:")) {
			return expr{kind: kindSpan, args: t.of(plainOf(lexeme{text: lo}), plainOf(lexeme{text: hi}))}
		}
	}
	return plainOf(l)
}

// plainOf reads a word as a value: an address, a prefix, a number or a name.
func plainOf(l lexeme) expr {
	s := l.text
	switch {
	case l.quoted:
		return expr{kind: kindWord, text: s}
	case s == "exists":
		return expr{kind: kindTruth, text: "1"}
	case s == "missing":
		return expr{kind: kindTruth}
	case isNumber(s):
		return expr{kind: kindNumber, text: s}
	}
	if i := strings.IndexByte(s, '/'); i > 0 && strings.ContainsAny(s[:i], ".:") {
		return expr{kind: kindPrefix, text: s[:i], part: s[i+1:]}
	}
	if hex, ok := strings.CutPrefix(s, "0x"); ok {
		if n, err := strconv.ParseUint(hex, 16, 63); err == nil {
			return expr{kind: kindNumber, text: strconv.FormatUint(n, 10)}
		}
	}
	return expr{kind: kindWord, text: s}
}

// isNumber says that a word is a decimal number.
func isNumber(s string) bool {
	for i := range len(s) {
		if s[i] < '0' || s[i] > '9' {
			return false
		}
	}
	return s != ""
}

// elementsOf reads the elements that stand in braces from i on, and where they
// end. What an element has besides its key and its verdict is passed over.
func (t *textReader) elementsOf(line []lexeme, i int) (elements []expr, end int) {
	if i >= len(line) || !line[i].is("{") {
		return nil, i
	}
	for i++; i < len(line) && !line[i].is("}"); {
		if line[i].is(",") {
			i++
			continue
		}
		e, rest := t.valueOf(line[i:])
		i = len(line) - len(rest)
		for i < len(line) && !line[i].is(",") && !line[i].is("}") {
			if line[i].is(":") && i+1 < len(line) {
				verdict, rest := t.statementOf(line[i+1:])
				if verdict.kind == kindNone { // a map of values
					verdict, rest = t.valueOf(line[i+1:])
				}
				e = expr{kind: kindList, args: t.of(e, verdict)}
				i = len(line) - len(rest)
				continue
			}
			i++
		}
		elements = append(elements, e)
	}
	return elements, min(i+1, len(line))
}
