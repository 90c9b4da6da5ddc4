package fence

import (
	"strings"

	"yellowfence.example/yfence/core/source"
)

// A PartDecl gives a folder of the policy names of its own.
type PartDecl struct {
	Ident
	Folder      Text
	For         []Ident // the roles that its rules may speak of besides its own; nil is all
	By          []Label // who may change it; nil is whoever may change the policy
	Description string
	Accepted
}

// part reads `part NAME from "FOLDER"`, which takes in the files of another team.
func (p *parser) part(first Token) Stmt {
	d := &PartDecl{Ident: p.name("part")}
	if !p.word("from") {
		p.fail(p.tok(), "syntax", `"from" and the quoted name of a folder`, "it is written: %s", p.form("part"))
	}
	t := p.want(String, "the quoted name of a folder", p.form("part"))
	d.Folder = Text{t.Pos, t.Text}
	if p.word("for") {
		d.For = list(p, func() Ident { return p.reference("a role's name", p.form("part")) })
	}
	if p.word("by") {
		d.By = p.people("part")
	}
	p.about(&d.Description, &d.Accepted)
	return d
}

// people takes the names of who may change something.
func (p *parser) people(keyword string) []Label {
	return list(p, func() Label { return p.singleWord("a person's name", p.form(keyword)) })
}

// qualified says that a word is a name of a part: the part's, a dot, and the name.
func qualified(word string) bool {
	part, name, dot := strings.Cut(word, ".")
	return dot && nameShaped(part) && nameShaped(name)
}

// Qualify has a part's file say its names in full, as they are known outside of it: what it
// declares, and of what it uses what the part declares, which own says. Doing it again changes nothing.
func Qualify(file *File, part string, own func(name string, rule bool) bool) {
	file.names(func(name *string, pos source.Pos, rule, decl bool) {
		if !strings.Contains(*name, ".") && (decl || own(*name, rule)) {
			*name = part + "." + *name
		}
	})
}

// Bare is a name as its own part writes it: `web` of `harbour.web`.
func Bare(name string) string { return name[strings.LastIndexByte(name, '.')+1:] }
