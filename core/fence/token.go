package fence

import (
	"slices"
	"strings"

	"yellowfence.example/yfence/core/source"
)

// A Kind is a kind of token.
type Kind uint8

// The kinds of token.
const (
	EOF    Kind = iota
	Word        // names, keywords, addresses, ports: a run without blanks
	String      // "quoted", its text unquoted
	Comma       // ,
	Equals      // =
	Colon       // : between blanks
	Arrow       // ->
	Open        // {
	Close       // }
	Bad         // what the language has no use for
)

// kindNames are the kinds as messages name what was expected.
var kindNames = [...]string{EOF: "the end of the file", Word: "a word", String: "a quoted text", Comma: `","`, Equals: `"="`,
	Colon: `":"`, Arrow: `"->"`, Open: `"{"`, Close: `"}"`, Bad: "a stray character"}

// String is the kind as a message names it.
func (k Kind) String() string { return kindNames[k] }

// A Token is one piece of a policy file.
type Token struct {
	Kind  Kind
	Text  string // a word as it stands, a string unquoted
	Pos   source.Pos
	Width int  // in characters
	First bool // stands first on a line that is not indented: a statement begins
	Fresh bool // stands first on its line
}

// found says a token as a message names it.
func (t Token) found() string {
	text := t.Text
	if r := []rune(text); len(r) > 60 {
		text = string(r[:60]) + "…"
	}
	switch t.Kind {
	case Word, Bad:
		return `"` + text + `"`
	case String:
		return `the text "` + text + `"`
	}
	return t.Kind.String()
}

// errorf makes an error about the token.
func (t Token) errorf(code, format string, args ...any) source.Problem {
	return source.Errorf(t.Pos, t.Width, code, format, args...)
}

// A Word of the language: what it begins, how it is written, and what it means.
// The parser, the printer and the reference page are all made from these.
type keyword struct {
	Keyword string
	Form    string // how it is written, for messages and the reference page
	Means   string // one sentence for the reference page
}

// statements lists what can begin a statement, with the parser for it.
var statements []statement

// statement is a row of the table of statements: its word, how it is written, what it means,
// and what reads it.
type statement struct {
	keyword
	parse func(*parser, Token) Stmt // nil: it is no statement, but holds some
}

// modifiers lists what can follow the services of a rule, in the order in which
// it is printed.
var modifiers []modifier

// modifier is a row of the table of modifiers, which the parser, the printer, help and the
// pages on the language are made from.
type modifier struct {
	keyword
	on    string // the statements it goes with, by their first letters: see goesWith
	parse func(*parser, Token, *modified)
	print func(*modified) string // "" where it is not said
}

// statementOf and modifierOf find them by their words.
var (
	statementOf = map[string]*statement{}
	modifierOf  = map[string][]*modifier{} // one that says several things stands there for each
)

// modified is what a statement's modifiers are read into: a rule has all of
// them, the others only what is common to all.
type modified struct {
	rule   *Rule
	common *Common
}

// goesWith says that a modifier may stand in a kind of statement.
func (m modifier) goesWith(statement string) bool {
	return m.on == "" || strings.Contains(m.on, statement)
}

func init() {
	statements = []statement{
		{keyword{"policy", `policy NAME "description" language 1 [by NAME, …]`,
			"names the policy; once. `by` names who may change what is of no part"}, (*parser).policyDecl},
		{keyword{"network", `network NAME = ADDRESSES [except ADDRESSES] [shared]`,
			"addresses, prefixes, ranges `a-b`, other networks; `except` takes away from all before it. `network NAME from \"FILE\"` " +
				"reads them from a file of the policy's folder, one prefix a line; behind that, `fetched \"https://…\" every 1h up to " +
				"5000 changing 20 percent` has the service read the file again"}, (*parser).networkDecl},
		{keyword{"segment", "segment NAME = ADDRESSES [except ADDRESSES] [shared] [local]",
			"an attached network. An interface is on a segment when one of its addresses lies in it, or when the fleet file says so"},
			(*parser).segmentDecl},
		{keyword{"service", "service NAME = tcp|udp|sctp|tcp+udp PORTS, icmp [TYPE[/CODE]], … [unit NAME, …]",
			"ports of protocols, `icmp` and `icmpv6` with type and code, `protocol N`, other services; a bare port or range after a " +
				"comma takes the protocol before it. `unit` names the units that serve it, for `yfence listeners`"}, (*parser).serviceDecl},
		{keyword{"role", "role NAME { inbound|outbound|forward open|closed [on trial until DATE [else open]]   refuse by drop|reject   " +
			"log refused [up to N per DUR]   ground { … } }",
			"hosts with the same rules, and what happens on them to packets that no rule speaks of"}, (*parser).roleDecl},
		{keyword{"peers", "peers NAME = PEERS",
			"peers under one name: roles, hosts, networks, addresses, with `except` and `at` as in a rule"}, (*parser).peersDecl},
		{keyword{"part", `part NAME from "FOLDER" [for ROLE, …] [by NAME, …] "description"`,
			"a folder of the policy has names of its own; `for` names the roles that its rules may speak of besides its own, `by` who " +
				"may change it"}, (*parser).part},
		{keyword{"join", `join NETWORK, NETWORK, … [through ROLE, …] "description"`,
			"there is a way between these networks or segments; by hosts of these roles, which carry out the rules between them, or by " +
				"routers that are not ours"}, (*parser).join},
		{keyword{"ground", "ground { [inbound|outbound|forward] PART off|from PEERS … }",
			"turns parts of the ground off, or narrows them, on all hosts; in a role's braces on that role's"}, (*parser).groundDecl},
		{keyword{"allow", "allow NAME: PEERS -> PEERS : SERVICES  modifiers", "admits connections; the left side starts them"},
			(*parser).rule},
		{keyword{"block", "block NAME: PEERS -> PEERS : SERVICES  modifiers",
			"refuses them, whatever admits them, unless the allow is an exception"}, (*parser).rule},
		{keyword{"redirect", "redirect NAME: PEERS -> PEERS : PORT [through ROLE, …] to [PEER :] PORT", "changes where connections go"},
			(*parser).redirect},
		{keyword{"masquerade", "masquerade NAME: PEERS -> PEERS through ROLE, … [via INTERFACE, …]",
			"peers behind these routers are seen as the router; only where they leave by such an interface, if it says one"},
			(*parser).masquerade},
		{keyword{"leave", "leave NAME: PEERS : inbound|outbound|forwarded via INTERFACE, …",
			"sets aside traffic that other programs rule"}, (*parser).leave},
		{keyword{"with", withForm, "says once what the statements in the braces have in common; what one says itself counts instead"}, nil},
		{keyword{"expect", "expect NAME: never|always|only PEERS -> PEERS : SERVICES [within PEER, …] [on SEGMENT, …] [through ROLE, " +
			"…] [by steps]", "is proven, never rendered"}, (*parser).expect},
	}
	const rules, allow, block = "allow block", "allow", "block"
	modifiers = []modifier{
		{keyword{"within", "within PEER, …", "only where both ends are of the same one of these"}, rules + " expect", (*parser).within,
			func(m *modified) string {
				if m.rule.Within == nil {
					return ""
				}
				return "within " + Peers{Items: m.rule.Within}.String()
			}},
		{keyword{"on", "on SEGMENT, …", "only over interfaces on one of these and between addresses in it"}, rules + " expect",
			(*parser).on,
			func(m *modified) string { return named("on ", m.rule.On) }},
		{keyword{"arriving", "arriving SEGMENT, …", "only over interfaces on one of these, whatever the addresses"}, rules,
			func(p *parser, t Token, m *modified) { m.rule.Arriving = p.segments("arriving SEGMENT, …") },
			func(m *modified) string { return named("arriving ", m.rule.Arriving) }},
		{keyword{"through", "through ROLE, …", "forwarded by hosts of these roles, of each of them"}, rules + " expect",
			func(p *parser, t Token, m *modified) { m.rule.Through = p.roles() },
			func(m *modified) string { return through(m.rule.Through) }},
		{keyword{"from", "from user|unit|program NAME, …", "only what they send, decided at the sending end"}, rules, (*parser).from,
			printSenders},
		{keyword{"encrypted", "encrypted", "only what comes and goes by IPsec"}, rules,
			func(p *parser, t Token, m *modified) { m.rule.Encrypted = true },
			func(m *modified) string { return said("encrypted", m.rule.Encrypted) }},
		{keyword{"at", "at most N per DUR [per source]", "a token bucket of N, refilled at N per time; what exceeds it is refused"},
			allow, (*parser).atMost, printAtMost},
		{keyword{"over", "over BLOCK, …", "an exception to those blocks"}, allow,
			func(p *parser, t Token, m *modified) {
				m.rule.Over = list(p, func() Ident { return p.reference("the name of a block", "over BLOCK, …") })
			}, printOver},
		{keyword{"by", "by drop|reject", "silently, or with an answer: TCP reset, else ICMP port unreachable; drop unless said"}, block,
			func(p *parser, t Token, m *modified) { m.rule.By = p.choice("drop", "reject") }, printBy},
		{keyword{"by", "by steps", "counts what whoever may log in somewhere can reach from there, too"}, "expect",
			func(p *parser, t Token, m *modified) { m.rule.By = p.choice("steps") }, func(m *modified) string { return "" }},
		{keyword{"log", "log [up to N per DUR]", "log what the rule decides"}, rules,
			func(p *parser, t Token, m *modified) { m.rule.Log = p.log(t) },
			func(m *modified) string { return printLog("log", m.rule.Log) }},
		{keyword{"on", trialForm, "what it would refuse is admitted until then, logged and counted; then it refuses by itself, or with " +
			"`else open` never. A role's closed stance takes it, too"}, block, (*parser).on,
			func(m *modified) string { return printTrial(m.rule.Trial) }},
		{keyword{"guard", "guard", "part of the way in; takes no date and no `off`"}, allow,
			func(p *parser, t Token, m *modified) { m.rule.Guard = true },
			func(m *modified) string { return said("guard", m.rule.Guard) }},
		{keyword{"from", "from DATE|TIME", "begins by itself, at the beginning of that day or at that instant, UTC"}, rules, (*parser).from,
			func(m *modified) string {
				if m.rule.Since == nil {
					return ""
				}
				return "from " + m.rule.Since.Text
			}},
		{keyword{"until", "until DATE|TIME", "ends by itself, at the end of that day or at that instant, UTC"}, rules, (*parser).until,
			func(m *modified) string {
				if m.rule.Until == nil {
					return ""
				}
				return "until " + m.rule.Until.Text
			}},
		{keyword{"off", "off", "checked, kept, not in force; `yfence tidy` writes it in front of the statement, where nobody misses it"},
			"",
			func(p *parser, t Token, m *modified) { m.common.Off = &t.Pos },
			func(m *modified) string { return "" }},
		{keyword{"because", `because "why"`, "the reason"}, "",
			func(p *parser, t Token, m *modified) {
				m.common.Because = p.want(String, "a quoted reason", `because "why"`).Text
			},
			func(m *modified) string { return quotedAfter("because ", m.common.Because) }},
		{keyword{"owner", "owner NAME", "who answers for it"}, "",
			func(p *parser, t Token, m *modified) {
				m.common.Owner = p.singleWord("the owner's name", "owner NAME").Text
			},
			func(m *modified) string {
				if m.common.Owner == "" {
					return ""
				}
				return "owner " + wordText(m.common.Owner)
			}},
		{keyword{"ref", `ref "…"`, "where more is written about it"}, "",
			func(p *parser, t Token, m *modified) {
				m.common.Ref = p.want(String, "a quoted reference", `ref "…"`).Text
			},
			func(m *modified) string { return quotedAfter("ref ", m.common.Ref) }},
		{keyword{"knowingly", `knowingly CODE "why"`,
			"accepts that warning here, or on a declaration wherever that is named; once the warning is gone this is itself a warning"},
			"", (*parser).knowingly, printKnowingly},
	}
}

// reserved are the words that no name may be: all keywords of the language,
// those included that statements of a later version begin with.
var reserved = map[string]bool{}

func init() {
	for _, w := range []string{"policy", "network", "segment", "service", "role", "ground", "allow", "block", "redirect", "masquerade",
		"leave", "expect", "language", "shared", "local", "from", "except", "inbound", "outbound", "forward", "forwarded", "open", "closed",
		"refuse", "by", "drop", "reject", "log", "refused", "up", "to", "per", "on", "arriving", "at", "most", "over", "user", "unit",
		"program", "encrypted", "guard", "with", "join", "until", "off", "through", "within", "peers", "because", "owner", "ref",
		"knowingly", "via", "never", "always", "only",
		"host", "fleet", "everywhere", "strangers", "any", "tcp", "udp", "sctp", "tcp+udp", "icmp", "icmpv6", "protocol", "source",
		"port", "broadcast", "multicast", "steps", "trial", "else", "part", "for"} {
		reserved[w] = true
		reservedShape[len(w)][w[0]-'a'] = true
	}
}

// reservedShape is the lengths and first letters of reserved words: most names
// are told from them by that.
var reservedShape [16][26]bool

func init() { // after the one that fills the tables
	for i := range statements {
		statementOf[statements[i].Keyword] = &statements[i]
	}
	for i := range modifiers {
		word := modifiers[i].Keyword
		modifierOf[word] = append(modifierOf[word], &modifiers[i])
	}
}

// modifierFor is a modifier by its word, as it goes with a kind of statement; nil if there is none of the word.
func modifierFor(word, statement string) (m *modifier) {
	for _, m = range modifierOf[word] {
		if m.goesWith(statement) {
			return m
		}
	}
	return m
}

// Reserved says that a word belongs to the language and can name nothing.
func Reserved(word string) bool {
	if n := len(word); n == 0 || n >= len(reservedShape) || word[0] < 'a' || word[0] > 'z' || !reservedShape[n][word[0]-'a'] {
		return false
	}
	return reserved[word]
}

// keywords are the words that statements begin with, in the order of their table.
func keywords() []string {
	out := make([]string, len(statements))
	for i, s := range statements {
		out[i] = s.Keyword
	}
	return out
}

// ModifiersOf are the modifiers that go with a kind of statement, in the order in which they
// are printed.
func ModifiersOf(statement string) []string {
	var out []string
	for _, m := range modifiers {
		if m.goesWith(statement) && !slices.Contains(out, m.Keyword) { // from says two things
			out = append(out, m.Keyword)
		}
	}
	return out
}

// Keywords are the words that begin statements and modifiers, for highlighting and completion,
// in the order of the tables.
func Keywords() (statementWords, modifierKeywords []string) {
	for _, m := range modifiers {
		if !slices.Contains(modifierKeywords, m.Keyword) {
			modifierKeywords = append(modifierKeywords, m.Keyword)
		}
	}
	return keywords(), modifierKeywords
}

// IsName says that a word may name something: [a-z][a-z0-9-]*, at most 63
// characters, not reserved.
func IsName(word string) bool { return nameShaped(word) && !Reserved(word) }

// nameShaped says that a word has the form of a name; it may be a word of the language.
func nameShaped(word string) bool {
	if word == "" || len(word) > 63 || word[0] < 'a' || word[0] > 'z' {
		return false
	}
	for _, c := range []byte(word) {
		if (c < 'a' || c > 'z') && (c < '0' || c > '9') && c != '-' {
			return false
		}
	}
	return true
}
