package fence

import (
	"fmt"
	"slices"
	"strings"

	"yellowfence.example/yfence/core/source"
)

// Parse reads one policy file. It always gives a tree, and every problem of the file.
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

func (p *parser) tok() Token { return p.cur }

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

func (p *parser) punct(k Kind) bool {
	if p.more() && p.tok().Kind == k {
		p.advance()
		return true
	}
	return false
}

// elsewhere is how the language says what people call otherwise.
var elsewhere = map[string]string{
	"deny": "to refuse something, write a block: " + blockForm, "drop": "to refuse something, write a block: " + blockForm, "reject": "to refuse something, write a block, with by reject if it is to be told: " + blockForm,
	"accept": "to admit something, write an allow: allow NAME: PEERS -> PEERS : SERVICES", "permit": "to admit something, write an allow: allow NAME: PEERS -> PEERS : SERVICES", "rule": "a rule is an allow or a block: allow NAME: PEERS -> PEERS : SERVICES",
	"group": "hosts of one kind are a role, addresses a network, several of them peers: peers NAME = PEERS", "zone": "where hosts are attached is a segment: segment NAME = ADDRESSES", "host": "hosts stand in the fleet file",
	"comment": "write because \"why\"; what stands behind a # is for readers alone", "include": "all .fence files of the folder are one policy", "disabled": "write off in front of the statement", "off": "it stands in front of a statement: off allow NAME: PEERS -> PEERS : SERVICES",
}

const blockForm = "block NAME: PEERS -> PEERS : SERVICES"

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

func (p *parser) checkName(t Token, name string) {
	switch {
	case IsName(name):
	case nameShaped(name):
		p.report(t.errorf("name", "%q is a word of the language and can name nothing", name).Hinted("choose another name, such as %q", name+"-1"))
	case len(name) > 63:
		p.report(t.errorf("name", "this name is %d characters long; a name has at most 63", len(name)).Hinted("shorten it"))
	default:
		p.report(t.errorf("name", "%s is not a name", Token{Kind: Word, Text: name}.found()).Hinted("a name is made of small letters, digits and hyphens and begins with a letter"))
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

func (p *parser) description() string {
	if p.more() && p.tok().Kind == String {
		return p.take().Text
	}
	return ""
}

func (p *parser) policyDecl(first Token) Stmt {
	d := &PolicyDecl{Ident: p.name("policy"), Description: p.description(), Language: 1}
	if p.word("language") {
		t := p.want(Word, "the language's number", p.form("policy"))
		n, err := number(t.Text)
		if err != nil || n != 1 {
			p.report(t.errorf("language", "this program reads language 1, not %s", t.Text).Hinted("write `language 1`, or use a program that knows this language"))
		}
		d.Language = n
	}
	if p.word("by") {
		d.By = p.people("policy")
	}
	return d
}

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

func (p *parser) addresses(form string) (a Addresses) {
	a.Items = list(p, func() AddrItem { return p.addrItem(form) })
	if p.word("except") {
		a.Except = list(p, func() AddrItem { return p.addrItem(form) })
	}
	return a
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

func (p *parser) rule(first Token) Stmt {
	r := &Rule{Block: first.Text == "block", Ident: p.named(first.Text)}
	r.From, r.To = p.sides(first.Text)
	p.want(Colon, `":" and the services`, p.form(first.Text))
	r.Services = p.services(p.form(first.Text))
	p.modifiers(first.Text, &modified{r, &r.Common})
	return r
}

func (p *parser) sides(keyword string) (from, to Peers) {
	from = p.peers(keyword)
	p.want(Arrow, `"->"`, p.form(keyword))
	return from, p.peers(keyword)
}

func (p *parser) peers(keyword string) Peers {
	peers := Peers{Pos: p.tok().Pos}
	peers.Items = p.peerList(keyword)
	if p.word("except") {
		peers.Except = p.peerList(keyword)
	}
	return peers
}

func (p *parser) peerList(keyword string) []Peer {
	p.peersRead = p.peersRead[:0]
	for {
		p.peersRead = append(p.peersRead, p.peer(keyword))
		if !p.punct(Comma) {
			return slices.Clone(p.peersRead)
		}
	}
}

func (p *parser) peer(keyword string) Peer {
	peer := p.plainPeer(keyword)
	if p.word("at") {
		where := p.plainPeer(keyword)
		peer.At = &where
		peer.Text += " at " + where.Text
	}
	return peer
}

// plainPeer takes a peer without the other whose it must be too.
func (p *parser) plainPeer(keyword string) Peer {
	const what = "a role, network, segment, host NAME, address, fleet, everywhere or strangers"
	t := p.want(Word, what, p.form(keyword))
	peer := Peer{Pos: t.Pos, Text: t.Text}
	switch {
	case t.Text == "fleet":
		peer.Kind = FleetPeer
	case t.Text == "everywhere":
		peer.Kind = EverywherePeer
	case t.Text == "strangers":
		peer.Kind = StrangersPeer
	case t.Text == "broadcast":
		peer.Kind = BroadcastPeer
	case t.Text == "multicast":
		peer.Kind = MulticastPeer
	case t.Text == "host":
		h := p.want(Word, "a host's name", "host NAME")
		peer.Kind, peer.Name, peer.Text = HostPeer, h.Text, "host "+h.Text
	case p.asking && hostNamed(t.Text):
		peer.Kind, peer.Name = NamedPeer, t.Text
	case qualified(t.Text):
		peer.Kind, peer.Name = NamedPeer, t.Text
	case looksLikeAddress(t.Text):
		item, pr := parseAddr(t)
		if pr != nil {
			p.problems = append(p.problems, *pr)
		}
		peer.Kind, peer.Addr = AddressPeer, &item
	case IsName(t.Text):
		peer.Kind, peer.Name = NamedPeer, t.Text
	case Reserved(t.Text):
		p.fail(t, "syntax", what, "%q is a word of the language", t.Text)
	default:
		hint := "a name is made of small letters, digits and hyphens and begins with a letter"
		if strings.HasSuffix(t.Text, ":") {
			hint = "the colon before the services stands between blanks"
		}
		p.fail(t, "name", what, "%s", hint)
	}
	return peer
}

// hostNamed says that a word with dots is a host's name and no address.
func hostNamed(word string) bool {
	if !strings.Contains(word, ".") || strings.ContainsAny(word, ":/") {
		return false
	}
	return strings.Trim(word, "0123456789.-") != ""
}

func (p *parser) modifiers(keyword string, into *modified) {
	p.said = p.said[:0]
	for p.more() {
		t := p.take()
		m := modifierFor(t.Text, keyword)
		if m == nil || t.Kind != Word {
			words := ModifiersOf(keyword)
			hint := "a modifier is one of " + strings.Join(words, ", ")
			if other := elsewhere[t.Text]; other != "" && t.Kind == Word {
				hint = other
			} else if near := source.Nearest(t.Text, words); near != "" && t.Kind == Word {
				hint = fmt.Sprintf("did you mean %q?", near)
			}
			p.fail(t, "modifier", "a modifier or the end of the statement", "%s", hint)
		}
		for _, before := range p.said {
			if before.Text == t.Text && t.Text != "knowingly" && t.Text != "from" && t.Text != "on" {
				p.report(t.errorf("twice", "%q is said twice", t.Text).Hinted("it was said before at %s; leave one", before.Pos))
			}
		}
		p.said = append(p.said, t)
		if !m.goesWith(keyword) {
			with := strings.ReplaceAll(m.on, " ", ", ")
			p.report(t.errorf("modifier", "%q goes with %s only", t.Text, with).Hinted("take it away"))
			if into.rule == nil {
				into.rule = &Rule{} // read it all the same, to nowhere
			}
		}
		m.parse(p, t, into)
		if r := into.rule; r != nil && r.Trial != nil && keyword != "block" && r.Trial.Pos == t.Pos {
			p.report(t.errorf("modifier", "on trial goes with block only, and with a closed stance").Hinted("take it away"))
		}
	}
}
