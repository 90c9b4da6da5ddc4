package fence

import (
	"regexp"
	"slices"
	"strings"
	"time"

	"yellowfence.example/yfence/core/packet"
	"yellowfence.example/yfence/core/source"
)

// The parts of the ground.
const (
	PartLoopback          = "loopback"
	PartReplies           = "replies"
	PartInvalid           = "invalid"
	PartICMPErrors        = "icmp-errors"
	PartNeighbours        = "neighbours"
	PartDHCPClient        = "dhcp-client"
	PartMulticastListener = "multicast-listener"
	PartService           = "service" // the way to the service of ours
)

// GroundParts are the parts of the ground, in the order in which they decide.
var GroundParts = []string{PartLoopback, PartReplies, PartInvalid, PartICMPErrors, PartNeighbours, PartDHCPClient, PartMulticastListener,
	PartService}

// groundDecl reads `ground`: what of it is changed for all roles.
func (p *parser) groundDecl(first Token) Stmt {
	return &GroundDecl{Ident: Ident{"ground", first.Pos}, Parts: p.groundParts()}
}

// groundParts takes the braces with changes to the ground: of the whole policy, or of a role.
func (p *parser) groundParts() (parts []GroundPart) {
	form := statementOf["ground"].Form
	p.want(Open, `"{"`, form)
	for {
		t := p.tok()
		if t.Kind == Close {
			p.advance()
			return parts
		}
		if t.Kind != Word || t.First && !p.inBraces(t) {
			p.fail(t, "syntax", `a part of the ground or "}"`, "the parts are %s", strings.Join(GroundParts, ", "))
		}
		p.take()
		part := GroundPart{Pos: t.Pos}
		if slices.Contains([]string{"inbound", "outbound", "forward"}, t.Text) {
			part.Direction = t.Text
			t = p.take()
		}
		part.Name = t.Text
		if near := source.Nearest(t.Text, GroundParts); !slices.Contains(GroundParts, t.Text) {
			hint := "the parts are " + strings.Join(GroundParts, ", ")
			if near != "" {
				hint = "did you mean \"" + near + "\"?"
			}
			p.fail(t, "ground", "a part of the ground", "%s", hint)
		}
		switch w := p.take(); {
		case w.Kind == Word && w.Text == "off":
			part.Off = true
		case w.Kind == Word && w.Text == "from":
			part.From = p.peers("ground")
		default:
			p.fail(w, "syntax", `"off" or "from PEERS"`, "it is written: %s", form)
		}
		parts = append(parts, part)
	}
}

// inBraces says that a token that begins a line goes on with what is in braces.
func (p *parser) inBraces(t Token) bool {
	return t.Kind == Word && !slices.Contains(keywords(), t.Text)
}

// redirect reads `redirect`. `at`, which older files have for `through`, is told.
func (p *parser) redirect(first Token) Stmt {
	r := &Redirect{Ident: p.named("redirect")}
	r.From, r.To = p.sides("redirect")
	p.want(Colon, `":" and a port`, p.form("redirect"))
	r.Service = p.onePort()
	if t := p.tok(); p.word("at") {
		p.formerly(t, "through")
		r.Through = p.roles()
	} else if p.word("through") {
		r.Through = p.roles()
	}
	if !p.word("to") {
		p.fail(p.tok(), "syntax", `"to"`, "it is written: %s", p.form("redirect"))
	}
	if t := p.tok(); p.more() && t.Kind == Word && protocolWords[t.Text] == nil {
		if _, err := number(t.Text); err == nil {
			p.fail(t, "port", "a port of a protocol, or another host", "say of which protocol: to tcp %s", t.Text)
		}
		peer := p.peer("redirect")
		r.Target = &peer
		p.want(Colon, `":" and a port`, p.form("redirect"))
	}
	r.Port = p.onePort()
	p.modifiers("redirect", &modified{nil, &r.Common})
	return r
}

// roles takes the routers that something goes through.
func (p *parser) roles() []Ident {
	return list(p, func() Ident { return p.reference("a role's name", "through ROLE, …") })
}

// segments takes the segments that something is on.
func (p *parser) segments(form string) []Ident {
	return list(p, func() Ident { return p.reference("a segment's name", form) })
}

// within takes what both ends are of.
func (p *parser) within(t Token, m *modified) {
	m.rule.Within = list(p, func() Peer { return p.plainPeer("within") })
}

// FormerCode is the code of what was written otherwise in policies from before the language was
// settled. It is read all the same, so that Print writes it as it is now.
const FormerCode = "former"

// formerly reports a word that is now another.
func (p *parser) formerly(t Token, now string) {
	p.report(t.errorf(FormerCode, "%q is now %q here", t.Text, now).Hinted("write %q; `yfence tidy --upgrade` does so in all files", now))
}

// onePort takes the service of a redirect: one port of one protocol.
func (p *parser) onePort() ServiceTerm {
	t := p.tok()
	term := p.serviceTerm("tcp|udp|sctp PORT", nil)
	if term.Ports == nil || term.Ports.Lo != term.Ports.Hi || len(term.Protocols) != 1 {
		p.report(t.errorf("port", "a redirect takes one port of one protocol, such as tcp 443").Hinted("write a redirect for each port"))
	}
	return term
}

// masquerade reads `masquerade`. `via` alone, which older files have for `through`, is told.
func (p *parser) masquerade(first Token) Stmt {
	m := &Masquerade{Ident: p.named("masquerade")}
	m.From, m.To = p.sides("masquerade")
	if t := p.tok(); p.word("via") {
		p.formerly(t, "through")
	} else if !p.word("through") {
		p.fail(t, "syntax", `"through" and a role`, "it is written: %s", p.form("masquerade"))
	}
	m.Through = p.roles()
	if p.word("via") {
		m.Via = p.interfaces("masquerade")
	}
	p.modifiers("masquerade", &modified{nil, &m.Common})
	return m
}

// leave reads `leave`: what is set aside for rules of other programs.
func (p *parser) leave(first Token) Stmt {
	l := &Leave{Ident: p.named("leave")}
	l.Peers = p.peers("leave")
	p.want(Colon, `":" and a direction`, p.form("leave"))
	l.Direction = p.choice("inbound", "outbound", "forwarded").Word
	if !p.word("via") {
		p.fail(p.tok(), "syntax", `"via" and interfaces`, "it is written: %s", p.form("leave"))
	}
	l.Interfaces = p.interfaces("leave")
	p.modifiers("leave", &modified{nil, &l.Common})
	return l
}

// interfaces reads names of interfaces, quoted where they are no words of ours.
func (p *parser) interfaces(keyword string) []Label {
	return list(p, func() Label { return p.singleWord("an interface", p.form(keyword)) })
}

// expect reads `expect`. Its modifiers are read as a rule's, of which it has some.
func (p *parser) expect(first Token) Stmt {
	e := &Expectation{Ident: p.named("expect")}
	e.Kind = Promise(p.choice(string(Never), string(Always), string(Only)).Word)
	e.From, e.To = p.sides("expect")
	p.want(Colon, `":" and the services`, p.form("expect"))
	e.Services = p.services(p.form("expect"))
	into := &Rule{}
	p.modifiers("expect", &modified{into, &e.Common})
	e.Within, e.On, e.Through = into.Within, into.On, into.Through
	if into.By != nil {
		if e.BySteps = &into.By.Pos; e.Kind != Never {
			p.report(source.Errorf(into.By.Pos, len("by"), "modifier",
				"by steps goes with never only").Hinted("take it away, or say what never is so"))
		}
	}
	return e
}

// singleWord takes a word, or a quoted text where it would be none.
func (p *parser) singleWord(what, form string) Label {
	t := p.tok()
	if p.more() && (t.Kind == Word || t.Kind == String && t.Text != "") {
		p.take()
		return Label{t.Pos, t.Text}
	}
	p.fail(t, "syntax", what, "it is written: %s", form)
	return Label{}
}

// from is who sends, or when the rule begins.
func (p *parser) from(t Token, m *modified) {
	if w := p.tok(); p.more() && w.Kind == Word && w.Text[0] >= '0' && w.Text[0] <= '9' {
		if m.rule.Since != nil {
			p.report(t.errorf("twice", "it is said twice when the rule begins").Hinted("leave one"))
		}
		m.rule.Since = p.instant(t, "from DATE|TIME")
		return
	}
	kind := p.choice(string(packet.ByUser), string(packet.ByUnit), string(packet.ByProgram))
	s := Sender{Pos: kind.Pos, Kind: packet.SenderKind(kind.Word)}
	for _, w := range list(p, func() Label { return p.singleWord("a name", "from "+kind.Word+" NAME, …") }) {
		s.Names = append(s.Names, w.Text)
	}
	m.rule.Senders = append(m.rule.Senders, s)
}

// atMost reads `at most N per DUR`, for all or for each source.
func (p *parser) atMost(t Token, m *modified) {
	if !p.word("most") {
		p.fail(p.tok(), "syntax", `"most"`, "it is written: at most N per DUR [per source]")
	}
	m.rule.AtMost = &AtMost{Rate: p.rate("at most N per DUR [per source]")}
	m.rule.AtMost.Pos = t.Pos
	if p.word("per") {
		if !p.word("source") {
			p.fail(p.tok(), "syntax", `"source"`, "it is written: at most N per DUR [per source]")
		}
		m.rule.AtMost.PerSource = true
	}
}

// log reads what may follow `log`: how many lines at most.
func (p *parser) log(t Token) *Log {
	l := &Log{Pos: t.Pos}
	if p.word("up") {
		if !p.word("to") {
			p.fail(p.tok(), "syntax", `"to"`, "it is written: log up to N per DUR")
		}
		r := p.rate("log up to N per DUR")
		l.UpTo = &r
	}
	return l
}

// rate reads `N per DUR`.
func (p *parser) rate(form string) Rate {
	t := p.want(Word, "a number", form)
	n, err := number(t.Text)
	if err != nil || n < 1 || n > 1_000_000 {
		p.fail(t, "number", "a number from 1 to 1000000", "it is written: %s", form)
	}
	if !p.word("per") {
		p.fail(p.tok(), "syntax", `"per" and a time`, "it is written: %s", form)
	}
	d := p.want(Word, "a time, such as 1m", form)
	seconds, ok := duration(d.Text)
	if !ok {
		p.fail(d, "time", "a time", "a time is a number and s, m, h or d: 10s, 1m, 1h, 1d")
	}
	r := Rate{t.Pos, n, Duration{d.Text, seconds}}
	if _, _, whole := r.Value().Kernel(); !whole {
		lower, higher := r.nearest()
		p.report(d.errorf("rate", "%d per %s is no whole number per second, minute, hour or day, which is what the kernel counts by", n,
			d.Text).
			Hinted("the nearest are %s and %s", lower, higher))
	}
	return r
}

// RateOf is a rate as it is written, for a statement that no text has yet.
func RateOf(r packet.Rate) Rate {
	_, per, _ := strings.Cut(r.String(), " per ")
	return Rate{N: r.N, Per: Duration{per, r.Seconds}}
}

// duration is a time in seconds: a whole number and s, m, h or d, a year and a day at most.
func duration(s string) (seconds int, ok bool) {
	if s == "" {
		return 0, false
	}
	unit := map[byte]int{'s': 1, 'm': 60, 'h': 3600, 'd': 86400}[s[len(s)-1]]
	n, err := number(s[:len(s)-1])
	return n * unit, unit > 0 && err == nil && n > 0 && n*unit <= 366*86400
}

// Value is the rate itself, without how and where it is written.
func (r Rate) Value() packet.Rate { return packet.Rate{N: r.N, Seconds: r.Per.Seconds} }

// nearest are the rates next to r that are whole numbers per day.
func (r Rate) nearest() (lower, higher packet.Rate) {
	const day = 86400
	perDay := r.N * day / r.Per.Seconds
	return packet.Rate{N: perDay, Seconds: day}, packet.Rate{N: perDay + 1, Seconds: day}
}

// instant is the form of a date or a time: 2027-03-31, 2027-03-31T12:00Z.
var instant = regexp.MustCompile(`^\d{4}-\d{2}-\d{2}(T\d{2}:\d{2}(:\d{2})?Z)?$`)

// on is the segments that a rule is on, or that a block is on trial.
func (p *parser) on(t Token, m *modified) {
	if p.word("trial") {
		if m.rule.Trial != nil {
			p.report(t.errorf("twice", "the trial is said twice").Hinted("leave one"))
		}
		m.rule.Trial = p.trial(t)
		return
	}
	if m.rule.On != nil {
		p.report(t.errorf("twice", "%q is said twice", t.Text).Hinted("name all segments behind one: on SEGMENT, …"))
	}
	m.rule.On = p.segments("on SEGMENT, …")
}

// trialForm is how a trial is written, for messages.
const trialForm = "on trial until DATE [else open]"

// trial takes what follows `on trial`.
func (p *parser) trial(t Token) *Trial {
	if !p.word("until") {
		p.fail(p.tok(), "syntax", `"until" and a date`, "it is written: %s", trialForm)
	}
	trial := &Trial{Pos: t.Pos, Until: *p.instant(t, trialForm)}
	if p.word("else") {
		if !p.word("open") {
			p.fail(p.tok(), "syntax", `"open"`, "it is written: %s", trialForm)
		}
		trial.Open = true
	}
	return trial
}

// printTrial is a trial as it is written.
func printTrial(t *Trial) string {
	if t == nil {
		return ""
	}
	return "on trial until " + t.Until.Text + said(" else open", t.Open)
}

// until reads the end of a rule.
func (p *parser) until(t Token, m *modified) { m.rule.Until = p.instant(t, "until DATE|TIME") }

// instant reads a day or an instant (RFC 3339, in UTC).
func (p *parser) instant(t Token, form string) *Until {
	w := p.want(Word, "a date or a time", form)
	u := &Until{t.Pos, w.Text}
	if _, ok := u.Instant(); !ok {
		p.report(w.errorf("date", "%s is no date or time", w.found()).Hinted("write a day as 2027-03-31, an instant as 2027-03-31T12:00Z"))
	}
	return u
}

// Begins is the first second of a day, or the instant, in seconds since 1970 (UTC); ok is false
// for a text that is neither.
func (u *Until) Begins() (int64, bool) {
	at, ok := u.Instant()
	if len(u.Text) == len(time.DateOnly) {
		at -= 24 * 60 * 60
	}
	return at, ok
}

// Instant is the first second at which the rule is no longer in force, in
// seconds since 1970 (UTC): of a day, the second after its end.
func (u *Until) Instant() (int64, bool) {
	if !instant.MatchString(u.Text) {
		return 0, false
	}
	for layout, length := range map[string]time.Duration{time.DateOnly: 24 * time.Hour, "2006-01-02T15:04Z": 0, "2006-01-02T15:04:05Z": 0} {
		if at, err := time.Parse(layout, u.Text); err == nil {
			return at.Add(length).Unix(), true
		}
	}
	return 0, false
}

// knowingly reads `knowingly CODE "why"`.
func (p *parser) knowingly(t Token, m *modified) { m.common.Accepted.add(p, t) }

// accepted takes what a declaration accepts, behind all else that it says.
func (p *parser) accepted(a *Accepted) {
	for p.more() && p.tok().Kind == Word && p.tok().Text == "knowingly" {
		a.add(p, p.take())
	}
}

// add reads the code and the reason behind `knowingly`.
func (a *Accepted) add(p *parser, t Token) {
	code := p.want(Word, "a warning's code", `knowingly CODE "why"`)
	why := p.want(String, "a quoted reason", `knowingly CODE "why"`)
	a.Knowingly = append(a.Knowingly, Knowingly{t.Pos, code.Text, why.Text})
}
