package nft

import (
	"net/netip"
	"slices"
	"strconv"
	"strings"
)

// ruleOf reads a rule's line. A statement it does not know takes the rest of
// the line with it.
func (t *textReader) ruleOf(line []lexeme) (rule statements, comment string) {
	if n := len(line); n >= 2 && line[n-2].is("comment") && line[n-1].quoted {
		comment, line = line[n-1].text, line[:n-2]
	}
	var es [16]expr
	read := es[:0]
	for len(line) > 0 {
		e, rest := t.statementOf(line)
		if e.kind == kindNone {
			e, rest = expr{kind: kindOther, text: words(line)}, nil
		}
		read, line = append(read, e), rest
	}
	return t.of(read...), comment
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

// statementOf reads the statement that a line begins with; nothing if it is none that is known.
func (t *textReader) statementOf(line []lexeme) (e expr, rest []lexeme) {
	first := line[0].text
	if line[0].quoted {
		return expr{}, nil
	}
	switch first {
	case "accept", "drop", "return", "continue":
		return expr{kind: verdictWords[first], text: first}, line[1:]
	case "jump", "goto":
		if len(line) > 1 {
			return expr{kind: map[string]kind{"jump": kindJump, "goto": kindGoto}[first], text: line[1].text}, line[2:]
		}
	case "notrack":
		return expr{kind: kindUntrack}, line[1:]
	case "dup": // a copy
		return expr{kind: kindPassing, text: words(line)}, nil
	case "dnat":
		return t.targetOf(line)
	case "flow":
		if len(line) > 2 && line[1].is("add") {
			return expr{kind: kindFlow, text: line[2].text}, line[3:]
		}
	case "quota":
		return countedOf(line, 3)
	case "meter":
		if end := slices.IndexFunc(line, func(l lexeme) bool { return l.is("}") }); end > 0 {
			return expr{kind: kindCounted, text: words(line[:end+1])}, line[end+1:]
		}
	case "counter":
		for line = line[1:]; len(line) > 1 && (line[0].is("packets") || line[0].is("bytes") || line[0].is("name")); {
			line = line[2:]
		}
		return expr{kind: kindCounter}, line
	case "log":
		return logOf(line[1:])
	case "limit":
		if len(line) > 2 && line[1].is("name") {
			return expr{kind: kindLimitNamed, text: line[2].text}, line[3:]
		}
		return t.limitOf(line[1:])
	case "reject":
		return rejectOf(line[1:])
	case "redirect":
		return t.redirectOf(line)
	case "masquerade", "snat":
		return expr{kind: kindSourceNAT, text: words(line)}, nil // with what comes of ports and flags
	case "ct":
		if len(line) > 2 && line[1].is("count") {
			return countedOf(line, 3)
		}
	case "add", "update", "delete":
		if len(line) > 2 && strings.HasPrefix(line[1].text, "@") {
			return t.setOf(line)
		}
	}
	return t.matchOf(line)
}

func logOf(line []lexeme) (expr, []lexeme) {
	e, group := expr{kind: kindLog}, false
	for len(line) > 1 {
		switch {
		case line[0].is("prefix"):
			e.text = line[1].text
		case line[0].is("level"):
			e.part = map[bool]string{true: "audit"}[line[1].is("audit")]
		case line[0].is("group"):
			group = true
		case line[0].is("snaplen") || line[0].is("queue-threshold"):
		case line[0].is("flags"):
			if len(line) > 2 && !line[1].is("all") && !line[1].is("skuid") && !line[1].is("ether") {
				line = line[1:] // flags tcp sequence,options
				for len(line) > 2 && line[2].is(",") {
					line = line[2:]
				}
			}
		default:
			return e, line
		}
		if line = line[2:]; group {
			e.part = ""
		}
	}
	return e, line
}

// limitOf reads, behind "limit": rate [over] 4/minute [burst 5 packets]
func (t *textReader) limitOf(line []lexeme) (expr, []lexeme) {
	if len(line) < 2 || !line[0].is("rate") {
		return expr{}, nil
	}
	var burst, over, of expr
	if line = line[1:]; line[0].is("over") {
		over = expr{kind: kindWord, text: "over"}
		if line = line[1:]; len(line) == 0 {
			return expr{}, nil
		}
	}
	n, unit, ok := strings.Cut(line[0].text, "/")
	if !ok { // 10 mbytes/second
		if len(line) < 2 {
			return expr{}, nil
		}
		of.kind = kindWord
		of.text, unit, _ = strings.Cut(line[1].text, "/")
		line = line[1:]
	}
	line = line[1:]
	if len(line) > 2 && line[0].is("burst") {
		burst = expr{kind: kindNumber, text: line[1].text}
		line = line[3:]
	}
	return expr{kind: kindLimit, text: unit, part: n, args: t.of(burst, over, of)}, line
}

func rejectOf(line []lexeme) (expr, []lexeme) {
	e := expr{kind: kindReject}
	if len(line) < 3 || !line[0].is("with") {
		return e, line
	}
	if line[1].is("tcp") && line[2].is("reset") {
		e.text = "tcp reset"
		return e, line[3:]
	}
	e.text, line = line[1].text, line[2:]
	if line[0].is("type") && len(line) > 1 {
		line = line[1:]
	}
	e.part = line[0].text
	return e, line[1:]
}

// redirectOf reads: redirect to :80, or redirect to :tcp dport map { … }
func (t *textReader) redirectOf(line []lexeme) (expr, []lexeme) {
	if len(line) == 1 {
		return expr{kind: kindRedirect}, nil
	}
	for len(line) > 3 && (slices.Contains(natFlags, line[len(line)-1].text) || line[len(line)-1].is(",")) {
		line = line[:len(line)-1]
	}
	whole := expr{kind: kindOther, text: words(line)}
	if len(line) < 3 || !line[1].is("to") || !strings.HasPrefix(line[2].text, ":") {
		return whole, nil
	}
	line = slices.Clone(line[2:])
	line[0].text = line[0].text[1:]
	if len(line) == 1 && isNumber(line[0].text) {
		return expr{kind: kindRedirect, text: line[0].text}, nil
	}
	if key, rest := t.leftOf(line); key.kind != kindNone && len(rest) > 1 && rest[0].is("map") {
		if to, rest := t.rightOf(rest[1:]); len(rest) == 0 {
			return expr{kind: kindRedirect, args: t.of(key, to)}, nil
		}
	}
	return whole, nil
}

// countedOf reads a statement of so many words, or one more with "over" among them.
func countedOf(line []lexeme, n int) (expr, []lexeme) {
	if len(line) > 2 && (line[1].is("over") || line[2].is("over")) {
		n++
	}
	if len(line) < n {
		return expr{}, nil
	}
	return expr{kind: kindCounted, text: words(line[:n])}, line[n:]
}

// targetOf reads: dnat ip to 10.0.0.2:80, or dnat ip to tcp dport map { … }
func (t *textReader) targetOf(line []lexeme) (expr, []lexeme) {
	other := expr{kind: kindOther, text: words(line)}
	to := slices.IndexFunc(line, func(l lexeme) bool { return l.is("to") })
	if to < 0 || to+1 >= len(line) {
		return other, nil
	}
	line = line[to+1:]
	if key, rest := t.leftOf(line); key.kind != kindNone {
		if len(rest) < 2 || !rest[0].is("map") {
			return other, nil
		}
		of, rest := t.rightOf(rest[1:])
		if len(rest) > 0 && !slices.Contains(natFlags, rest[0].text) {
			return other, nil
		}
		return expr{kind: kindTargetNAT, args: t.of(key, of)}, nil
	}
	if len(line) > 1 && !slices.Contains(natFlags, line[1].text) {
		return other, nil
	}
	address, port := line[0].text, ""
	if alone, is := strings.CutPrefix(address, ":"); is && isNumber(alone) {
		return expr{kind: kindTargetNAT, part: alone}, nil
	}
	if ap, err := netip.ParseAddrPort(address); err == nil {
		address, port = ap.Addr().String(), strconv.Itoa(int(ap.Port()))
	} else if span := t.plain(line[0]); span.kind == kindSpan && !strings.HasPrefix(address, "[") {
		return expr{kind: kindTargetNAT, args: t.of(span)}, nil
	} else if _, err := netip.ParseAddr(strings.Trim(address, "[]")); err != nil {
		return other, nil // a range with a port, or a port alone
	}
	return expr{kind: kindTargetNAT, text: strings.Trim(address, "[]"), part: port}, nil
}

// natFlags say how a translation is chosen where there are several.
var natFlags = []string{"random", "fully-random", "persistent"}

// setOf reads: update @set { ip saddr limit rate 4/minute burst 4 packets }
func (t *textReader) setOf(line []lexeme) (expr, []lexeme) {
	end := slices.IndexFunc(line, func(l lexeme) bool { return l.is("}") })
	if !line[2].is("{") || end < 0 {
		return expr{}, nil
	}
	inner, rest := line[3:end], line[end+1:]
	key, inner := t.leftOf(inner)
	if key.kind == kindNone {
		return expr{}, nil
	}
	args := []expr{key}
	for len(inner) > 0 {
		if inner[0].is("timeout") && len(inner) > 1 {
			inner = inner[2:]
			continue
		}
		e, left := t.statementOf(inner)
		if e.kind == kindNone {
			return expr{}, nil
		}
		args, inner = append(args, e), left
	}
	return expr{kind: kindSetWrite, text: line[0].text, part: line[1].text, args: args}, rest
}

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

func (t *textReader) fieldIn(line []lexeme) (expr, []lexeme) {
	if len(line) < 2 || line[0].quoted {
		return expr{}, nil
	}
	first, next := line[0].text, line[1].text
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
		if ok && lo != "" && hi != "" && (isNumber(lo) && isNumber(hi) || strings.HasPrefix(lo, "0x") && strings.HasPrefix(hi, "0x") || strings.ContainsAny(lo, ".:") && strings.ContainsAny(hi, ".:")) {
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
