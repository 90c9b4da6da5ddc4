package fence

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

var kindNames = [...]string{EOF: "the end of the file", Word: "a word", String: "a quoted text", Comma: `","`, Equals: `"="`,
	Colon: `":"`, Arrow: `"->"`, Open: `"{"`, Close: `"}"`, Bad: "a stray character"}

func (k Kind) String() string { return kindNames[k] }

// A Token is one piece of a policy file.
type Token struct {
	Kind  Kind
	Text  string // a word as it stands, a string unquoted
	Pos   Pos
	Width int  // in characters
	First bool // stands first on a line that is not indented: a statement begins
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
func (t Token) errorf(code, format string, args ...any) Problem {
	return Errorf(t.Pos, t.Width, code, format, args...)
}

// statements lists what can begin a statement, with the parser for it.
var statements []statement

type statement struct {
	Keyword string
	Form    string // how it is written, for messages and the reference page
	parse   func(*parser, Token) Stmt
}

// modifiers lists what can follow the services of a rule.
var modifiers []modifier

type modifier struct {
	Keyword string
	Form    string
	on      string // "allow", "block" or "" for both
	parse   func(*parser, Token, *Rule)
}

func init() {
	statements = []statement{
		{"policy", `policy NAME "description" language 1`, (*parser).policyDecl},
		{"network", "network NAME = ADDRESSES [except ADDRESSES] [shared]", (*parser).networkDecl},
		{"segment", "segment NAME = ADDRESSES [except ADDRESSES] [shared] [local]", (*parser).segmentDecl},
		{"service", "service NAME = tcp|udp|sctp|tcp+udp PORTS, icmp TYPE, …", (*parser).serviceDecl},
		{"role", "role NAME { inbound|outbound|forward open|closed   refuse by drop|reject }", (*parser).roleDecl},
		{"allow", "allow NAME: PEERS -> PEERS : SERVICES  modifiers", (*parser).rule},
		{"block", "block NAME: PEERS -> PEERS : SERVICES  modifiers", (*parser).rule},
	}
	modifiers = []modifier{
		{"on", "on SEGMENT", "", (*parser).onModifier},
		{"over", "over BLOCK, …", "allow", (*parser).overModifier},
		{"by", "by drop|reject", "block", (*parser).byModifier},
		{"log", "log", "", func(p *parser, t Token, r *Rule) { r.Log = true }},
		{"guard", "guard", "allow", func(p *parser, t Token, r *Rule) { r.Guard = true }},
		{"because", `because "why"`, "", (*parser).becauseModifier},
	}
}

// reserved are the words that no name may be: all keywords of the language,
// those included that statements of a later version begin with.
var reserved = map[string]bool{}

func init() {
	for _, w := range []string{"policy", "network", "segment", "service", "role", "ground", "allow", "block", "redirect", "masquerade",
		"leave", "expect", "language", "shared", "local", "from", "except", "inbound", "outbound", "forward", "forwarded", "open", "closed",
		"refuse", "by", "drop", "reject", "log", "refused", "up", "to", "per", "on", "arriving", "at", "most", "over", "user", "unit",
		"program", "encrypted", "guard", "until", "off", "through", "because", "owner", "ref", "knowingly", "via", "never", "always", "only",
		"host", "fleet", "everywhere", "strangers", "any", "tcp", "udp", "sctp", "tcp+udp", "icmp", "icmpv6", "protocol", "source", "port"} {
		reserved[w] = true
	}
}

// Reserved says that a word belongs to the language and can name nothing.
func Reserved(word string) bool { return reserved[word] }

func keywords() []string {
	out := make([]string, len(statements))
	for i, s := range statements {
		out[i] = s.Keyword
	}
	return out
}

func modifierWords(on string) []string {
	var out []string
	for _, m := range modifiers {
		if m.on == "" || m.on == on {
			out = append(out, m.Keyword)
		}
	}
	return out
}

// IsName says that a word may name something: [a-z][a-z0-9-]*, at most 63
// characters, not reserved.
func IsName(word string) bool { return nameShaped(word) && !reserved[word] }

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
