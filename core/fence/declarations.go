package fence

import (
	"fmt"
	"slices"
	"strings"

	"yellowfence.example/yfence/core/source"
)

// policyDecl reads `policy NAME`, which says what the policy is called and in which language it
// is.
func (p *parser) policyDecl(first Token) Stmt {
	d := &PolicyDecl{Ident: p.name("policy"), Description: p.description(), Language: 1}
	if p.word("language") {
		t := p.want(Word, "the language's number", p.form("policy"))
		n, err := number(t.Text)
		if err != nil || n != 1 {
			p.report(t.errorf("language", "this program reads language 1, not %s",
				t.Text).Hinted("write `language 1`, or use a program that knows this language"))
		}
		d.Language = n
	}
	if p.word("by") {
		d.By = p.people("policy")
	}
	return d
}

// networkDecl reads `network NAME`: addresses that stand there, or a list in a file that is
// fetched.
func (p *parser) networkDecl(first Token) Stmt {
	d := &NetworkDecl{Ident: p.name("network")}
	if p.word("from") {
		t := p.want(String, "the quoted name of a file", `network NAME from "FILE"`)
		d.List = &Text{t.Pos, t.Text}
		if p.word("fetched") {
			d.Fetch = p.fetch()
		}
		d.Shared = p.word("shared")
		p.about(&d.Description, &d.Accepted)
		return d
	}
	p.want(Equals, `"="`, p.form("network"))
	d.Addrs = p.addresses(p.form("network"))
	d.Shared = p.word("shared")
	p.about(&d.Description, &d.Accepted)
	return d
}

// fetchForm is how a network whose list is fetched is written, for messages.
const fetchForm = `network NAME from "FILE" [fetched "https://…" [every DUR] [up to N] [changing N percent]]`

// fetch reads from where a list is read anew.
func (p *parser) fetch() *Fetch {
	t := p.want(String, "the quoted https address of the list", fetchForm)
	f := &Fetch{URL: Text{t.Pos, t.Text}}
	if p.word("every") {
		d := p.take()
		seconds, ok := duration(d.Text)
		if !ok || seconds < 60 {
			p.fail(d, "time", "a length of time of a minute or more", "it is written as 30m, 1h or 1d")
		}
		f.Every = &Duration{d.Text, seconds}
	}
	if p.word("up") {
		if !p.word("to") {
			p.fail(p.tok(), "syntax", `"to" and how many lines`, "it is written: %s", fetchForm)
		}
		n := p.take()
		lines, err := number(n.Text)
		if err != nil || lines < 1 || lines > 100_000 {
			p.fail(n, "number", "a number of lines from 1 to 100000", "it is written: %s", fetchForm)
		}
		f.UpTo = lines
	}
	if p.word("changing") {
		n := p.take()
		percent, err := number(n.Text)
		if err != nil || percent < 1 || percent > 100 {
			p.fail(n, "number", "how many percent of its lines, from 1 to 100", "it is written: %s", fetchForm)
		}
		if !p.word("percent") {
			p.fail(p.tok(), "syntax", `"percent"`, "it is written: %s", fetchForm)
		}
		f.Changing = percent
	}
	return f
}

// segmentDecl reads `segment NAME`: what hosts are attached to, and whether strangers share it.
func (p *parser) segmentDecl(first Token) Stmt {
	d := &NetworkDecl{Segment: true, Ident: p.name("segment")}
	p.want(Equals, `"="`, p.form("segment"))
	d.Addrs = p.addresses(p.form("segment"))
	for p.more() && p.tok().Kind == Word && p.tok().Text != "knowingly" {
		switch t := p.take(); t.Text {
		case "shared":
			d.Shared = true
		case "local":
			d.Local = true
		default:
			p.fail(t, "syntax", `"shared", "local" or a description`, "it is written: %s", p.form("segment"))
		}
	}
	p.about(&d.Description, &d.Accepted)
	return d
}

// addresses reads a list of addresses and what is taken away from it.
func (p *parser) addresses(form string) (a Addresses) {
	a.Items = list(p, func() AddrItem { return p.addrItem(form) })
	if p.word("except") {
		a.Except = list(p, func() AddrItem { return p.addrItem(form) })
	}
	return a
}

// addrItem reads an address, a prefix, a range, or the name of a network.
func (p *parser) addrItem(form string) AddrItem {
	t := p.want(Word, "an address, a prefix, a range or a name", form)
	if qualified(t.Text) || nameShaped(t.Text) && !looksLikeAddress(t.Text) {
		if Reserved(t.Text) {
			p.fail(t, "syntax", "an address, a prefix, a range or a name", "%q is a word of the language", t.Text)
		}
		return AddrItem{Pos: t.Pos, Text: t.Text, Name: t.Text}
	}
	item, pr := parseAddr(t)
	if pr != nil {
		p.problems = append(p.problems, *pr)
	}
	return item
}

// roleDecl reads `role NAME` with its stances and its own ground.
func (p *parser) roleDecl(first Token) Stmt {
	d := &RoleDecl{Ident: p.name("role"), Description: p.description()}
	if p.punct(Open) {
		p.stances(d)
	}
	p.accepted(&d.Accepted)
	return d
}

// stances takes what stands in a role's braces.
func (p *parser) stances(d *RoleDecl) {
	const inRole = `"inbound", "outbound", "forward", "refuse by", "log refused" or "ground"`
	for {
		t := p.tok()
		if t.Kind == Close { // stands at the start of a line as often as not
			p.advance()
			return
		}
		// A statement that begins here means that the braces were forgotten, and it is to be read as one.
		if t.Kind == EOF || t.First && slices.Contains(keywords(), t.Text) {
			p.fail(t, "syntax", `"}"`, "the braces of role %q are not closed", d.Name)
		}
		p.take()
		switch t.Text {
		case "inbound", "outbound", "forward":
			w := p.choice("open", "closed")
			for _, s := range d.Stances {
				if s.Direction == t.Text {
					p.report(t.errorf("twice", "%s is said twice", t.Text).Hinted("it was said before at %s; leave one", s.Pos))
				}
			}
			stance := Stance{Pos: t.Pos, Direction: t.Text, Closed: w.Word == "closed"}
			if on := p.tok(); stance.Closed && on.Kind == Word && on.Text == "on" {
				p.take()
				if !p.word("trial") {
					p.fail(p.tok(), "syntax", `"trial"`, "it is written: %s closed %s", t.Text, trialForm)
				}
				stance.Trial = p.trial(on)
			}
			d.Stances = append(d.Stances, stance)
		case "refuse":
			if !p.word("by") {
				p.fail(p.tok(), "syntax", `"by"`, "it is written: refuse by drop|reject")
			}
			d.RefuseBy = p.choice("drop", "reject")
		case "log":
			if !p.word("refused") {
				p.fail(p.tok(), "syntax", `"refused"`, "it is written: log refused [up to N per DUR]")
			}
			d.LogRefused = p.log(t)
		case "ground":
			if d.Ground != nil {
				p.report(t.errorf("twice", "the ground is said twice").Hinted("put all of its parts into the same braces"))
			}
			d.Ground = append(d.Ground, p.groundParts()...)
		default:
			p.fail(t, "syntax", inRole+` or "}"`, "it is written: %s", p.form("role"))
		}
	}
}

// choice takes one of some words, or says which there are.
func (p *parser) choice(words ...string) *Choice {
	t := p.tok()
	if t.Kind != Word || !slices.Contains(words, t.Text) {
		hint := ""
		if near := source.Nearest(t.Text, words); near != "" {
			hint = fmt.Sprintf("did you mean %q?", near)
		}
		p.fail(t, "syntax", `"`+strings.Join(words, `" or "`)+`"`, "%s", hint)
	}
	p.take()
	return &Choice{t.Pos, t.Text}
}

// serviceDecl reads `service NAME`: its ports, and the units that provide it.
func (p *parser) serviceDecl(first Token) Stmt {
	d := &ServiceDecl{Ident: p.name("service")}
	p.want(Equals, `"="`, p.form("service"))
	d.Terms = p.services(p.form("service"))
	if p.word("unit") {
		d.Units = list(p, func() Label { return p.singleWord("a unit's name", p.form("service")) })
	}
	p.about(&d.Description, &d.Accepted)
	return d
}

// peersDecl reads `peers NAME`, a name for one side of rules.
func (p *parser) peersDecl(first Token) Stmt {
	d := &PeersDecl{Ident: p.name("peers")}
	p.want(Equals, `"="`, p.form("peers"))
	d.Peers = p.peers("peers")
	p.about(&d.Description, &d.Accepted)
	return d
}

// named takes a rule's name, which ends in a colon.
func (p *parser) named(keyword string) Ident {
	t := p.want(Word, "a name that ends in a colon", p.form(keyword))
	name, colon := strings.CutSuffix(t.Text, ":")
	if !colon {
		if p.more() && p.tok().Kind == Colon {
			p.take()
			p.report(t.errorf("syntax", "the colon stands directly behind a rule's name").Hinted("write `%s %s: …`", keyword, name))
		} else {
			p.fail(t, "syntax", "a name that ends in a colon", "every rule has a name: %s", p.form(keyword))
		}
	}
	p.checkName(t, name)
	return Ident{name, t.Pos}
}
