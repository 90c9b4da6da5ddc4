package fence

import (
	"slices"
	"strings"

	"yellowfence.example/yfence/core/source"
)

// A With is what several statements have in common, said once in front of the braces that hold
// them. Each of them carries it as if it had said it itself; what it says itself counts instead.
type With struct {
	Pos source.Pos // of its word
	End source.Pos // of the brace that closes it

	Nested bool // it stands in another, which is a mistake

	Since, Until *Until
	Common       // without what is accepted: that is said where the cause stands
}

// withForm is how it is written, for messages.
const withForm = "with [until DATE] [from DATE] [owner NAME] [ref \"…\"] [because \"why\"] [off] { STATEMENTS }"

// common are the modifiers that several statements can have in common.
var common = []string{"from", "until", "off", "because", "owner", "ref"}

// with reads what several statements have in common, and these.
func (p *parser) with(file *File) {
	first := p.take()
	w, outer := &With{Pos: first.Pos}, p.inWith
	if outer != nil && outer.Nested { // nobody means that, and whoever does it a thousand times means harm
		p.fail(first, "syntax", "a rule, a redirect or the like", "close the with at %s before: }", outer.Pos)
	}
	if w.Nested = outer != nil; w.Nested {
		p.report(first.errorf("syntax", "a with holds no other with").Hinted("close the one at %s before: }", outer.Pos))
	}
	defer p.giveUp(func() { p.inWith = outer })
	p.shared(w)
	if p.tok().Kind != Open {
		return
	}
	p.inWith = w
	before, sound := len(file.Stmts), len(p.problems)
	p.advance()
	for p.cur.First = true; p.tok().Kind != Close; {
		begin := p.tok().Pos.Line
		if t := p.tok(); t.Kind == EOF {
			p.fail(t, "syntax", `"}"`, "the braces of the with at %s are not closed", w.Pos)
		}
		if p.tok().Text == "with" && p.tok().Kind == Word {
			p.with(file)
		} else if stmt := p.statement(); stmt != nil {
			p.give(w, stmt)
			file.Stmts, file.Lines = append(file.Stmts, stmt), append(file.Lines, [2]int{begin, p.last})
		}
	}
	if len(file.Stmts) == before && len(p.problems) == sound {
		p.report(first.errorf("syntax", "this with holds no statement").Hinted("it is written: %s", withForm))
	}
	w.End = p.tok().Pos
	p.inWith = outer
	p.advance()
	if p.more() {
		p.fail(p.tok(), "syntax", "the end of the with", "it is written: %s", withForm)
	}
}

// shared reads what is said in front of the braces.
func (p *parser) shared(w *With) {
	defer p.giveUp(func() {
		for p.more() && p.tok().Kind != Open {
			p.advance()
		}
	})
	said := &Rule{}
	for p.tok().Kind != Open {
		t := p.tok()
		if !p.more() || t.Kind != Word || !slices.Contains(common, t.Text) {
			p.fail(t, "syntax", `what the statements have in common, or "{"`, "it is written: %s", withForm)
		}
		modifierFor(t.Text, "allow").parse(p, p.take(), &modified{said, &w.Common})
	}
	for _, s := range said.Senders {
		p.report(source.Errorf(s.Pos, len(s.Kind), "modifier", "who sends is said by each rule, not by a with").Hinted("a with takes %s",
			strings.Join(common, ", ")))
	}
	w.Since, w.Until = said.Since, said.Until
}

// give has a statement say what it has in common with others.
func (p *parser) give(w *With, stmt Stmt) {
	s, ok := stmt.(interface{ common() *Common })
	if !ok {
		t := Token{Kind: Word, Text: p.reading.Keyword, Pos: stmt.Declared().Pos, Width: len(stmt.Declared().Name)}
		p.report(t.errorf("syntax", "a %s stands in no with",
			p.reading.Keyword).Hinted("a with holds rules, redirects and the like; is the brace missing that closes the one at %s?", w.Pos))
		return
	}
	c := s.common()
	c.With = w
	if c.Off == nil {
		c.Off = w.Off
	}
	for own, shared := range map[*string]string{&c.Because: w.Because, &c.Owner: w.Owner, &c.Ref: w.Ref} {
		if *own == "" {
			*own = shared
		}
	}
	r, isRule := stmt.(*Rule)
	for _, date := range []*Until{w.Since, w.Until} {
		if date != nil && !isRule {
			p.report(source.Errorf(stmt.Declared().Pos, len(stmt.Declared().Name), "modifier",
				"%q neither begins nor ends by itself, as the with at %s says", stmt.Declared().Name, w.Pos).
				Hinted("only an allow and a block do; write it outside of the with"))
			return
		}
	}
	if isRule && r.Since == nil {
		r.Since = w.Since
	}
	if isRule && r.Until == nil {
		r.Until = w.Until
	}
}

// begins says that a token begins a statement in a with: these are indented, so a word does
// that can begin one.
func (w *With) begins(t Token) bool {
	return t.Kind == Close || t.Fresh && t.Kind == Word && (t.Text == "off" || statementOf[strings.TrimSuffix(t.Text, ":")] != nil)
}

// WithOf is what a statement has in common with others; nil if it stands alone.
func WithOf(stmt Stmt) *With {
	if s, ok := stmt.(interface{ common() *Common }); ok {
		return s.common().With
	}
	return nil
}

// own is what of its modifiers a statement in a with says itself.
func (w *With) own(m *modified) *modified {
	c := *m.common
	if c.Off == w.Off {
		c.Off = nil
	}
	for own, shared := range map[*string]string{&c.Because: w.Because, &c.Owner: w.Owner, &c.Ref: w.Ref} {
		if *own == shared {
			*own = ""
		}
	}
	out := &modified{common: &c}
	if m.rule != nil {
		r := *m.rule
		if r.Since == w.Since {
			r.Since = nil
		}
		if r.Until == w.Until {
			r.Until = nil
		}
		out.rule = &r
	}
	return out
}

// row is the line that opens it.
func (w *With) row() row {
	r := row{head: "with" + said(" off", w.Off != nil)}
	dates := &modified{&Rule{Since: w.Since, Until: w.Until}, &w.Common}
	for _, m := range modifiers {
		if slices.Contains(common, m.Keyword) {
			if s := m.print(dates); s != "" {
				r.head += " " + s
			}
		}
	}
	r.head += " {"
	return r
}
