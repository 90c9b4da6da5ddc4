package nft

import (
	"bytes"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"yellowfence.example/yfence/core/kernel"
	"yellowfence.example/yfence/core/packet"
)

// ReadText reads what `nft list ruleset` prints, with or without -a, -n and -s,
// as ReadJSON reads the other form. Rules are placed by file and line; file is
// the name to say. What is not understood of a rule makes the whole rest of that
// rule uncertain.
func ReadText(sp *packet.Space, file string, data []byte, names *kernel.Names) (*kernel.Ruleset, error) {
	l, err := listedText(file, data)
	if err != nil {
		return nil, err
	}
	return read(sp, l, names), nil
}

// listedText takes a listing in nft's own form apart.
func listedText(file string, data []byte) (*listing, error) {
	t := &textReader{lexer: lexer{text: string(data), line: 1}, file: file}
	t.rules = make([]listedRule, 0, bytes.Count(data, []byte("\n"))) // about one a line
	return &t.listing, t.ruleset()
}

// A lexeme is one piece of a listing: a word, a "string", or one of { } , ; and
// the end of a line.
type lexeme struct {
	text   string
	line   int
	quoted bool
	end    bool // of the text
}

// is says that a word stands there as such, and is no quoted text.
func (l lexeme) is(s string) bool { return !l.quoted && l.text == s }

// lexer takes a listing apart.
type lexer struct {
	text string
	at   int
	line int
}

// endsWord is what a word ends before.
var endsWord = func() (ends [256]bool) {
	for _, c := range []byte(" \t\r\n{},;\"") {
		ends[c] = true
	}
	return ends
}()

// next is the next word, quoted text or sign. Comments are passed over.
func (l *lexer) next() lexeme {
	for l.at < len(l.text) {
		switch c := l.text[l.at]; {
		case c == ' ' || c == '\t' || c == '\r':
			l.at++
		case c == '#': // a handle, which no answer needs
			if n := strings.IndexByte(l.text[l.at:], '\n'); n >= 0 {
				l.at += n
			} else {
				l.at = len(l.text)
			}
		case c == '\\' && strings.HasPrefix(l.text[l.at:], "\\\n"):
			l.at, l.line = l.at+2, l.line+1
		case c == '\n':
			l.at++
			l.line++
			return lexeme{text: "\n", line: l.line - 1}
		case c == '{' || c == '}' || c == ',' || c == ';':
			l.at++
			return lexeme{text: l.text[l.at-1 : l.at], line: l.line}
		case c == '"':
			end := strings.IndexAny(l.text[l.at+1:], "\"\n")
			// A text that does not end makes the rest one word, which no reader takes for anything.
			if end < 0 || l.text[l.at+1+end] == '\n' {
				word := l.text[l.at:]
				l.at = len(l.text)
				return lexeme{text: word, line: l.line}
			}
			s := l.text[l.at+1 : l.at+1+end]
			l.at += end + 2
			return lexeme{text: s, line: l.line, quoted: true}
		default:
			start := l.at
			for l.at < len(l.text) && !endsWord[l.text[l.at]] {
				l.at++
			}
			return lexeme{text: l.text[start:l.at], line: l.line}
		}
	}
	return lexeme{line: l.line, end: true}
}

// A textReader makes a listing of nft's text form.
type textReader struct {
	lexer
	slab
	listing
	file   string
	family string
	table  string
	line   []lexeme // of lineOf
}

// errorf is a mistake at a line of the dump.
func (t *textReader) errorf(line int, format string, args ...any) error {
	return &SyntaxError{line, fmt.Sprintf(format, args...)}
}

// skip gives the next lexeme that is no end of a line.
func (t *textReader) skip() lexeme {
	for {
		if l := t.next(); !l.is("\n") && !l.is(";") {
			return l
		}
	}
}

// want takes a word, or says what stands there instead.
func (t *textReader) want(s string) error {
	if l := t.next(); !l.is(s) {
		if l.end {
			return t.errorf(l.line, "the dump ends in the middle")
		}
		return t.errorf(l.line, "expected %q, found %q", s, l.text)
	}
	return nil
}

// ruleset reads tables up to the end.
func (t *textReader) ruleset() error {
	tables := 0
	for {
		l := t.skip()
		switch {
		case l.end && tables == 0 && strings.TrimSpace(t.text) == "":
			return t.errorf(1, "the dump is empty. A kernel without rules prints nothing: if it has none, name the file after the tool, "+
				"as charts-01.nft, or list it with nft -j")
		case l.end:
			return nil
		case !l.is("table"):
			return t.errorf(l.line, "expected a table, found %q: this is not what nft list ruleset prints", l.text)
		}
		tables++
		family, name := t.next(), t.next()
		t.family, t.table = family.text, name.text
		if err := t.want("{"); err != nil {
			return err
		}
		if err := t.inTable(); err != nil {
			return err
		}
	}
}

// inTable reads what stands between a table's braces.
func (t *textReader) inTable() error {
	for {
		l := t.skip()
		switch {
		case l.end:
			return t.errorf(l.line, "the dump ends in the middle")
		case l.is("}"):
			return nil
		case l.is("chain"):
			if err := t.chain(t.next().text); err != nil {
				return err
			}
		case l.is("set") || l.is("map"):
			if err := t.set(t.next().text); err != nil {
				return err
			}
		case l.is("limit"):
			if err := t.limit(t.next().text); err != nil {
				return err
			}
		default: // counters, quotas, helpers, flowtables, the table's own comment and flags
			if err := t.pass(); err != nil {
				return err
			}
		}
	}
}

// pass goes over what no answer needs: to the end of the line, and over the
// braces that it opens.
func (t *textReader) pass() error {
	depth := 0
	for {
		switch l := t.next(); {
		case l.end:
			return t.errorf(l.line, "the dump ends in the middle")
		case l.is("{"):
			depth++
		case l.is("}"):
			if depth--; depth == 0 {
				return nil
			}
		case l.is("\n") && depth == 0:
			return nil
		}
	}
}

// line takes the lexemes up to the end of a line or a ";", with what stands in braces whole.
// They are good until the next call.
func (t *textReader) lineOf(first lexeme) ([]lexeme, error) {
	line := t.line[:0]
	var within []bool // for each brace that is open: whether a chain without a name stands in it
	defer func() { t.line = line }()
	for l := first; ; l = t.next() {
		switch {
		case l.end:
			return nil, t.errorf(l.line, "the dump ends in the middle")
		case l.is("{"):
			within = append(within, len(line) > 0 && follows(line[len(line)-1]))
		case l.is("}"):
			within = within[:max(len(within)-1, 0)]
		case (l.is("\n") || l.is(";")) && len(within) == 0:
			return line, nil
		case l.is("\n") && !within[len(within)-1]:
			continue
		}
		line = append(line, l)
	}
}

// follows says that a brace behind this opens a chain that has no name.
func follows(l lexeme) bool { return l.is("jump") || l.is("goto") }

// unnamed takes the chains that have no name out of a line, and calls them after their place:
// a name that no chain can have.
func (t *textReader) unnamed(line []lexeme) []lexeme {
	open := 1 // sets in braces may stand before
	for ; open < len(line) && !(line[open].is("{") && follows(line[open-1])); open++ {
	}
	if open >= len(line) {
		return line
	}
	c := newChain(t.at(fmt.Sprintf("{%s:%d:%d}", t.file, line[open].line, len(t.chains))))
	t.chains = append(t.chains, c)
	depth, begin, end := 0, open+1, open
	rules := [][]lexeme{}
	for end = open; end < len(line); end++ {
		switch l := line[end]; {
		case l.is("{"):
			depth++
		case l.is("}"):
			depth--
		}
		if depth == 0 || depth == 1 && (line[end].is("\n") || line[end].is(";")) {
			if end > begin {
				rules = append(rules, slices.Clone(line[begin:end]))
			}
			begin = end + 1
		}
		if depth == 0 {
			break
		}
	}
	for _, r := range rules {
		t.rule(c, r)
	}
	out := append(slices.Clone(line[:open]), lexeme{text: c.Name, line: line[open].line})
	return append(out, line[min(end+1, len(line)):]...)
}

// translations are the families that a rule's translations say, "" where one says none.
func translations(line []lexeme) (families []string) {
	for i, l := range line {
		switch {
		case l.is("masquerade") || l.is("redirect"):
			families = append(families, "")
		case (l.is("dnat") || l.is("snat")) && i+1 < len(line) && (line[i+1].is("ip") || line[i+1].is("ip6")):
			families = append(families, line[i+1].text)
		case l.is("dnat") || l.is("snat"):
			families = append(families, "")
		}
	}
	return families
}

// rule adds a rule of a chain.
func (t *textReader) rule(c *kernel.Chain, line []lexeme) {
	line = t.unnamed(line)
	exprs, comment := t.ruleOf(line)
	t.rules = append(t.rules, listedRule{t.at(c.Name), exprs, comment, t.file + ":" + strconv.Itoa(line[0].line), translations(line)})
}

// at is the place of something in the table that is being read.
func (t *textReader) at(name string) place { return place{t.family, t.table, name} }

// limit reads a limit that has a name.
func (t *textReader) limit(name string) error {
	if err := t.want("{"); err != nil {
		return err
	}
	for {
		l := t.skip()
		if l.is("}") {
			return nil
		}
		line, err := t.lineOf(l)
		if err != nil {
			return err
		}
		if e, rest := t.limitOf(line); e.kind != kindNone && len(rest) == 0 {
			t.limits = append(t.limits, namedLimit{t.at(name), e})
		}
	}
}

// set reads a set or a map with its elements.
func (t *textReader) set(name string) error {
	if err := t.want("{"); err != nil {
		return err
	}
	s := &namedSet{place: t.at(name)}
	for {
		l := t.skip()
		if l.is("}") {
			t.sets = append(t.sets, s)
			return nil
		}
		line, err := t.lineOf(l)
		if err != nil {
			return err
		}
		switch what := line[0].text; {
		case what == "flags":
			for _, l := range line[1:] {
				s.changing = s.changing || slices.ContainsFunc(strings.Split(l.text, ","), changingFlag)
			}
		case what == "size" && len(line) > 1:
			s.size, _ = strconv.Atoi(line[1].text)
		case what == "timeout" && len(line) > 1:
			s.timeout, s.changing = seconds(line[1].text), true
		case what == "comment" && len(line) > 1:
			s.comment = line[1].text
		case what == "type" && len(line) == 2:
			s.holds = line[1].text
		case what == "elements" && len(line) > 2:
			s.elements, _ = t.elementsOf(line[2:], 0)
		}
	}
}

// seconds reads a time such as 1d2h30m.
func seconds(s string) int {
	days, rest, found := strings.Cut(s, "d")
	if !found {
		days, rest = "0", s
	}
	n, _ := strconv.Atoi(days)
	d, _ := time.ParseDuration(rest + map[bool]string{true: "0s"}[rest == ""])
	return n*86400 + int(d.Seconds())
}

// priorities are the names of priorities (nft(8), "Standard priority names").
var priorities = map[string]int{"raw": -300, "mangle": -150, "dstnat": -100, "filter": 0, "security": 50, "srcnat": 100, "out": 100}

// chain reads a chain with its rules.
func (t *textReader) chain(name string) error {
	if err := t.want("{"); err != nil {
		return err
	}
	c := newChain(t.at(name))
	t.chains = append(t.chains, c)
	for {
		l := t.skip()
		if l.is("}") {
			return nil
		}
		line, err := t.lineOf(l)
		if err != nil {
			return err
		}
		switch {
		case line[0].is("type") && len(line) > 3 && line[2].is("hook"):
			t.hook(c, line)
		case line[0].is("policy") && len(line) == 2 && c.Hook != "":
			if line[1].is("drop") {
				c.Policy = packet.Drop
			}
		case line[0].is("comment") && len(line) == 2:
		default:
			t.rule(c, line)
		}
	}
}

// hook reads: type filter hook input [device "x"|devices = { … }] priority filter + 10
func (t *textReader) hook(c *kernel.Chain, line []lexeme) {
	c.Type, c.Hook = line[1].text, line[3].text
	for i := 4; i < len(line); i++ {
		switch {
		case line[i].is("device") && i+1 < len(line):
			c.Devices = []string{line[i+1].text}
		case line[i].is("devices"):
			devices, _ := t.elementsOf(line[min(i+2, len(line)):], 0)
			for _, d := range devices {
				c.Devices = append(c.Devices, d.text)
			}
		case line[i].is("priority") && i+1 < len(line):
			n, named := priorities[line[i+1].text]
			if !named {
				n, _ = strconv.Atoi(line[i+1].text)
			}
			if i+3 < len(line) {
				by, _ := strconv.Atoi(line[i+3].text)
				if line[i+2].is("-") {
					by = -by
				}
				n += by
			}
			c.Priority = n
		}
	}
}
