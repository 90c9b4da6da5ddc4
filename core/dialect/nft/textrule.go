package nft

import (
	"net/netip"
	"slices"
	"strconv"
	"strings"

	"yellowfence.example/yfence/core/dialect"
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

// words is a piece of a rule as it stands in the dump.
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

// noted is the part of a log that only tells our host agent of a packet: nobody else hears of it.
const noted = "noted"

// passedOver is a line behind how much of a packet a log hands on.
func passedOver(line []lexeme) []lexeme {
	for len(line) > 1 && (line[0].is("snaplen") || line[0].is("queue-threshold")) {
		line = line[2:]
	}
	return line
}

// logOf reads what stands behind `log`.
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
			if line[1].is(strconv.Itoa(dialect.NoteGroup)) {
				e.part = noted
				return e, passedOver(line[2:])
			}
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

// rejectOf reads what stands behind `reject`.
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
