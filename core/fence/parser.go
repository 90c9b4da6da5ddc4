package fence

import (
	"fmt"
	"strings"

	"yellowfence.example/yfence/core/source"
)

// Parse reads one policy file. It always gives a tree, and every problem of the file. name is
// how places call the file; it is not opened. The cost is linear in the text.
func Parse(name, text string) (*File, []source.Problem) {
	p := &parser{scan: newScanner(name, text)}
	p.cur = p.scan.next()
	file := &File{Name: name}
	for p.tok().Kind != EOF {
		if t := p.tok(); t.Kind == Word && t.First && t.Text == "with" {
			p.with(file)
			continue
		}
		begin := p.tok().Pos.Line
		if stmt := p.statement(); stmt != nil {
			file.Stmts = append(file.Stmts, stmt)
			file.Lines = append(file.Lines, [2]int{begin, p.last})
		}
	}
	file.Comments = p.scan.comments
	problems := append(p.problems, p.scan.problems...)
	source.SortProblems(problems)
	return file, problems
}

// parser reads one file by recursive descent: each statement has a function of its name, which
// takes its tokens one by one and gives its part of the tree. A mistake ends the statement, not
// the file: what went wrong is noted, and the reading goes on where the next statement begins.
type parser struct {
	scan     *scanner
	cur      Token
	last     int // the line of the token before cur
	reading  *statement
	asking   bool  // it is a question: hosts go by their names alone
	taking   bool  // what `any` does not mean is being read
	inWith   *With // whose statements are being read; nil if it is none
	problems []source.Problem

	// what a statement's lists grow in, before they are known in length
	peersRead []Peer
	termsRead []ServiceTerm
	said      []Token
}

// broken unwinds a statement that cannot be read any further.
type broken struct{}

// tok is the token that was not taken yet.
func (p *parser) tok() Token { return p.cur }

// take takes the token, whatever it is.
func (p *parser) take() Token {
	t := p.cur
	p.advance()
	return t
}

// advance reads the next token; at the end there is no other.
func (p *parser) advance() {
	if p.cur.Kind != EOF {
		p.last = p.cur.Pos.Line
		p.cur = p.scan.next()
		if p.inWith != nil && p.inWith.begins(p.cur) {
			p.cur.First = true
		}
	}
}

// giveUp goes on behind what could not be read any further; it is to be deferred.
func (p *parser) giveUp(then func()) {
	if r := recover(); r != nil {
		if _, ok := r.(broken); !ok {
			panic(r)
		}
		then()
	}
}

// rest passes over what is left of a broken statement.
func (p *parser) rest() {
	for p.more() {
		p.advance()
	}
}

// more says that the statement goes on.
func (p *parser) more() bool { return !p.cur.First }

// report notes a problem; the statement goes on.
func (p *parser) report(pr source.Problem) { p.problems = append(p.problems, pr) }

// fail reports what was expected where t stands, and gives the statement up.
func (p *parser) fail(t Token, code, expected, hint string, args ...any) {
	found := t.found()
	if t.First && t.Kind != EOF && t == p.tok() {
		found = "the next statement"
	}
	p.report(t.errorf(code, "expected %s, found %s", expected, found).Hinted(hint, args...))
	panic(broken{})
}

// missing is fail for a token that the form of a statement asks for.
func (p *parser) want(kind Kind, expected, form string) Token {
	if t := p.tok(); t.Kind != kind || !p.more() {
		p.fail(t, "syntax", expected, "it is written: %s", form)
	}
	return p.take()
}

// word takes the next token if it is that word.
func (p *parser) word(w string) bool {
	if t := p.tok(); p.more() && t.Kind == Word && t.Text == w {
		p.advance()
		return true
	}
	return false
}

// punct takes a sign if it stands there.
func (p *parser) punct(k Kind) bool {
	if p.more() && p.tok().Kind == k {
		p.advance()
		return true
	}
	return false
}

// elsewhere is how the language says what people call otherwise.
var elsewhere = map[string]string{
	"deny": "to refuse something, write a block: " + blockForm, "drop": "to refuse something, write a block: " + blockForm,
	"reject": "to refuse something, write a block, with by reject if it is to be told: " + blockForm,
	"accept": "to admit something, write an allow: allow NAME: PEERS -> PEERS : SERVICES",
	"permit": "to admit something, write an allow: allow NAME: PEERS -> PEERS : SERVICES",
	"rule":   "a rule is an allow or a block: allow NAME: PEERS -> PEERS : SERVICES",
	"group":  "hosts of one kind are a role, addresses a network, several of them peers: peers NAME = PEERS",
	"zone":   "where hosts are attached is a segment: segment NAME = ADDRESSES", "host": "hosts stand in the fleet file",
	"comment": "write because \"why\"; what stands behind a # is for readers alone",
	"include": "all .fence files of the folder are one policy", "disabled": "write off in front of the statement",
	"off": "it stands in front of a statement: off allow NAME: PEERS -> PEERS : SERVICES",
}

// blockForm is how a block is written, for messages.
const blockForm = "block NAME: PEERS -> PEERS : SERVICES"

// statement reads one statement, with `off` before it, by the function that statementOf has for
// its first word. It gives nil after a mistake, with the rest of the statement passed over.
func (p *parser) statement() (stmt Stmt) {
	first := p.take()
	var off *Token // it stands in front
	defer p.giveUp(func() {
		stmt = nil
		p.rest()
	})
	if first.Kind == Word && first.First && first.Text == "off" && p.more() {
		before := first
		off, first = &before, p.take()
		first.First = true
	}
	known := statementOf[first.Text]
	if known == nil || known.parse == nil || first.Kind != Word || !first.First {
		hint := "a statement begins with one of " + strings.Join(keywords(), ", ")
		if !first.First {
			hint = "a statement begins at the start of a line; what is indented goes on with the one above"
		} else if word, colon := strings.CutSuffix(first.Text, ":"); colon && statementOf[word] != nil {
			hint = "it has a name: " + p.form(word)
		} else if other := elsewhere[first.Text]; other != "" {
			hint = other
		} else if near := source.Nearest(first.Text, keywords()); near != "" && first.Kind == Word {
			hint = fmt.Sprintf("did you mean %q?", near)
		}
		p.fail(first, "statement", "a statement", "%s", hint)
	}
	p.reading = known
	stmt = known.parse(p, first)
	if off != nil {
		p.turnOff(stmt, *off)
	}
	if p.more() {
		p.fail(p.tok(), "syntax", "the end of the statement", "it is written: %s", known.Form)
	}
	return stmt
}

// turnOff is for the word `off` in front of a statement.
func (p *parser) turnOff(stmt Stmt, off Token) {
	s, ok := stmt.(interface{ common() *Common })
	switch {
	case !ok:
		p.report(off.errorf("modifier", "a %s is never off", p.reading.Keyword).Hinted("take \"off\" away"))
	case s.common().Off != nil:
		p.report(off.errorf("twice", "%q is said twice", off.Text).Hinted("leave the one in front"))
	default:
		s.common().Off = &off.Pos
	}
}

// form is how a statement is written, for messages about it. It is asked for at
// every step, and mostly for the statement that is being read.
func (p *parser) form(keyword string) string {
	if p.reading != nil && p.reading.Keyword == keyword {
		return p.reading.Form
	}
	if s := statementOf[keyword]; s != nil {
		return s.Form
	}
	return ""
}

// name takes a name for something new.
func (p *parser) name(keyword string) Ident {
	t := p.want(Word, "a name", p.form(keyword))
	p.checkName(t, t.Text)
	return Ident{t.Text, t.Pos}
}

// checkName says what is wrong with a name, and how to mend it.
func (p *parser) checkName(t Token, name string) {
	switch {
	case IsName(name):
	case nameShaped(name):
		p.report(t.errorf("name", "%q is a word of the language and can name nothing", name).Hinted("choose another name, such as %q",
			name+"-1"))
	case len(name) > 63:
		p.report(t.errorf("name", "this name is %d characters long; a name has at most 63", len(name)).Hinted("shorten it"))
	default:
		p.report(t.errorf("name", "%s is not a name",
			Token{Kind: Word, Text: name}.found()).Hinted("a name is made of small letters, digits and hyphens and begins with a letter"))
	}
}

// reference takes the name of something declared elsewhere.
func (p *parser) reference(what, form string) Ident {
	t := p.want(Word, what, form)
	if !nameShaped(t.Text) && !qualified(t.Text) {
		p.fail(t, "name", what, "a name is made of small letters, digits and hyphens and begins with a letter")
	}
	return Ident{t.Text, t.Pos}
}

// about takes what a declaration ends with: its description, and what it accepts.
func (p *parser) about(description *string, accepted *Accepted) {
	*description = p.description()
	p.accepted(accepted)
}

// description takes quoted text if it stands there.
func (p *parser) description() string {
	if p.more() && p.tok().Kind == String {
		return p.take().Text
	}
	return ""
}

// list reads items with commas between them.
func list[T any](p *parser, item func() T) (items []T) {
	for {
		items = append(items, item())
		if !p.punct(Comma) {
			return items
		}
	}
}
