package fence

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"yellowfence.example/yfence/core/packet"
)

func TestParseGivesTheTree(t *testing.T) {
	file, problems := Parse("p.fence", `policy harbour "a port" language 1
network office = 203.0.113.0/26, 2001:db8:77::/48,
    192.0.2.10-192.0.2.19 except 203.0.113.9 shared "desks"
segment quay = 10.40.0.0/16 shared local
service feed = udp 10110, 10120-10129, tcp+udp 53, icmp 3/4, ping, protocol 47
role broker "b" {
    inbound open   outbound closed
    refuse by reject
}
allow a: broker, host jump-01.quay, fd40:: except 10.0.0.1 -> everywhere : feed, tcp 22, 8000-8010  on quay  log  guard
    because "it \"must\""   over b  # a comment
block b: fleet -> office : any by reject
`)
	require.Empty(t, problems)
	require.Len(t, file.Stmts, 7)

	pol := file.Stmts[0].(*PolicyDecl)
	require.Equal(t, []any{"harbour", "a port", 1}, []any{pol.Name, pol.Description, pol.Language})

	office := file.Stmts[1].(*NetworkDecl)
	require.Len(t, office.Addrs.Items, 3)
	require.Equal(t, "203.0.113.63", office.Addrs.Items[0].To.String())
	require.Equal(t, "192.0.2.19", office.Addrs.Items[2].To.String())
	require.Equal(t, Pos{"p.fence", 3, 5}, office.Addrs.Items[2].Pos)
	require.Equal(t, "203.0.113.9", office.Addrs.Except[0].From.String())
	require.True(t, office.Shared)
	require.Equal(t, "desks", office.Description)

	quay := file.Stmts[2].(*NetworkDecl)
	require.True(t, quay.Segment && quay.Shared && quay.Local)

	terms := file.Stmts[3].(*ServiceDecl).Terms
	require.Len(t, terms, 6)
	require.Equal(t, []any{[]int{packet.UDP}, PortRange{10120, 10129}}, []any{terms[1].Protocols, *terms[1].Ports}, "a bare range takes the protocol before it")
	require.Equal(t, []int{packet.TCP, packet.UDP}, terms[2].Protocols)
	require.Equal(t, []int{3, 4}, []int{*terms[3].Type, *terms[3].Code})
	require.Equal(t, "ping", terms[4].Name)
	require.Equal(t, []int{47}, terms[5].Protocols)

	role := file.Stmts[4].(*RoleDecl)
	require.Equal(t, "reject", role.RefuseBy.Word)
	require.Equal(t, []bool{false, true}, []bool{role.Stances[0].Closed, role.Stances[1].Closed})

	rule := file.Stmts[5].(*Rule)
	require.Equal(t, Pos{"p.fence", 10, 7}, rule.Pos)
	kinds := []PeerKind{}
	for _, p := range rule.From.Items {
		kinds = append(kinds, p.Kind)
	}
	require.Equal(t, []PeerKind{NamedPeer, HostPeer, AddressPeer}, kinds)
	require.Equal(t, EverywherePeer, rule.To.Items[0].Kind)
	require.True(t, rule.Log && rule.Guard && !rule.Block)
	require.Equal(t, []any{`it "must"`, "quay", "b"}, []any{rule.Because, rule.On[0].Name, rule.Over[0].Name})
	require.Equal(t, "reject", file.Stmts[6].(*Rule).By.Word)
}

// TestMessages shows what is said of each mistake: place, code, message, hint.
func TestMessages(t *testing.T) {
	for _, c := range []struct{ text, want string }{
		{"alow a: b -> c : ssh", `1:1 statement: expected a statement, found "alow" | did you mean "allow"?`},
		{"  allow a: b -> c : ssh", `1:3 statement: expected a statement, found "allow" | a statement begins at the start of a line; what is indented goes on with the one above`},
		{"allow a b -> c : ssh", `1:7 syntax: expected a name that ends in a colon, found "a" | every rule has a name: allow NAME: PEERS -> PEERS : SERVICES  modifiers`},
		{"allow a : b -> c : ssh", "1:7 syntax: the colon stands directly behind a rule's name | write `allow a: …`"},
		{"allow a: b c : ssh", `1:12 syntax: expected "->", found "c" | it is written: allow NAME: PEERS -> PEERS : SERVICES  modifiers`},
		{"allow a: b -> c: ssh", `1:15 name: expected a role, network, segment, host NAME, address, fleet or everywhere, found "c:" | the colon before the services stands between blanks`},
		{"allow a: b -> c : ssh lgo", `1:23 modifier: expected a modifier or the end of the statement, found "lgo" | did you mean "log"?`},
		{"allow a: b -> c : ssh log log", `1:27 twice: "log" is said twice | it was said before at p.fence:1:23; leave one`},
		{"block a: b -> c : ssh guard", `1:23 modifier: "guard" goes with allow only | take it away, or write allow instead of block`},
		{"allow a: b -> c : ssh because why", `1:31 syntax: expected a quoted reason, found "why" | it is written: because "why"`},
		{"allow a: b -> c :\nallow d: e -> f : ssh", `2:1 syntax: expected a service, found the next statement | it is written: allow NAME: PEERS -> PEERS : SERVICES  modifiers`},
		{"allow a: b -> c", `1:16 syntax: expected ":" and the services, found the end of the file | it is written: allow NAME: PEERS -> PEERS : SERVICES  modifiers`},
		{"allow fleet: b -> c : ssh", `1:7 name: "fleet" is a word of the language and can name nothing | choose another name, such as "fleet-1"`},
		{"allow Way_in: b -> c : ssh", `1:7 name: "Way_in" is not a name | a name is made of small letters, digits and hyphens and begins with a letter`},
		{"network " + strings.Repeat("n", 64) + " = 10.0.0.0/8", "1:9 name: this name is 64 characters long; a name has at most 63 | shorten it"},
		{"network n = 999.1.2.3", `1:13 address: "999.1.2.3" is not an address | IPv4 addresses look like 192.0.2.7, IPv6 addresses like 2001:db8::7`},
		{"network n = 10.0.0.1/33", `1:13 address: "10.0.0.1/33" is not a prefix | a prefix is an address and a length, at most /32 for IPv4 and /128 for IPv6`},
		{"network n = 10.0.0.1/8", `1:13 address: 10.0.0.1/8 has bits set behind its length | write 10.0.0.0/8 for the network, or 10.0.0.1 for the one address`},
		{"network n = 10.0.0.9-10.0.0.1", `1:13 address: the range 10.0.0.9-10.0.0.1 ends before it begins | write 10.0.0.1-10.0.0.9`},
		{"network n = 10.0.0.9-fd00::1", `1:13 address: a range begins and ends in the same family | write two ranges, one for IPv4 and one for IPv6`},
		{"network n 10.0.0.0/8", `1:11 syntax: expected "=", found "10.0.0.0/8" | it is written: network NAME = ADDRESSES [except ADDRESSES] [shared]`},
		{"service s = tcp 65536", `1:17 port: expected a port, found "65536" | ports go from 0 to 65535`},
		{"service s = tcp 90-80", `1:17 port: expected a range of ports, found "90-80" | this one ends before it begins: write 80-90`},
		{"service s = 80", `1:13 syntax: expected a service, found "80" | a bare port takes the protocol of the port before it; here none stands before it: write tcp 80 or udp 80`},
		{"service s = icmp 3, 80", `1:21 syntax: expected a service, found "80" | a bare port takes the protocol of the port before it; here none stands before it: write tcp 80 or udp 80`},
		{"service s = icmp 300", `1:18 number: expected an ICMP type, or TYPE/CODE, found "300" | both are numbers from 0 to 255`},
		{"role r { outbound opn }", `1:19 syntax: expected "open" or "closed", found "opn" | did you mean "open"?`},
		{"role r { outbound open outbound open }", `1:24 twice: outbound is said twice | it was said before at p.fence:1:10; leave one`},
		{"role r { outbound closed\nallow a: b -> c : ssh", `2:1 syntax: expected "}", found the next statement | the braces of role "r" are not closed`},
		{"policy p \"open", `1:10 open-quote: this text is not closed on its line | put a " at its end`},
		{"policy p language 2", "1:19 language: this program reads language 1, not 2 | write `language 1`, or use a program that knows this language"},
		{"allow a: b -> c : ssh §", `1:23 modifier: expected a modifier or the end of the statement, found "§" | a modifier is one of on, over, log, guard, because`},
		{"role r \"\xff\"", `1:9 not-utf8: this byte (0xff) is no UTF-8 text | save the file as UTF-8`},
	} {
		_, problems := Parse("p.fence", c.text)
		var got []string
		for _, p := range problems {
			got = append(got, fmt.Sprintf("%d:%d %s: %s | %s", p.Line, p.Column, p.Code, p.Message, p.Hint))
		}
		require.Equal(t, c.want, strings.Join(got, "\n"), "%s", c.text)
	}
}

func TestEveryMistakeIsReported(t *testing.T) {
	file, problems := Parse("p.fence", "network a = 1.2.3\nrole b {\nallow c: d -> e : ssh\nnonsense\nrole f\n")
	require.Equal(t, []int{1, 3, 4}, []int{problems[0].Line, problems[1].Line, problems[2].Line})
	require.Len(t, problems, 3)
	require.Len(t, file.Stmts, 3, "what is sound is kept: the network, the rule behind the open brace, the last role")
}

func TestColumnsCountCharacters(t *testing.T) {
	_, problems := Parse("p.fence", `role b "Übersee" { outbund closed }`)
	require.Equal(t, 20, problems[0].Column)
}

func TestNearest(t *testing.T) {
	names := []string{"office", "crew-vpn", "quay-lan", "hill-lan"}
	for word, want := range map[string]string{"ofice": "office", "offcie": "office", "quai-lan": "quay-lan", "nothing": "", "": ""} {
		require.Equal(t, want, Nearest(word, names), word)
	}
}

func FuzzParse(f *testing.F) {
	for _, s := range []string{"policy p language 1", "allow a: b -> c : ssh on q log", "role r { outbound closed }", "network n = 10.0.0.0/8 except fd00::/8",
		"service s = icmp 3/4, tcp 80, 443", "\"", "allow a:\n -> : {", "#", "role r {\n}\n", "a->b"} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, text string) {
		file, problems := Parse("f.fence", text)
		require.NotNil(t, file)
		for _, p := range problems {
			require.Positive(t, p.Line)
			require.Positive(t, p.Column)
			require.NotEmpty(t, p.Message)
		}
	})
}

func BenchmarkParse(b *testing.B) {
	text := strings.Repeat("allow dispatch: office, crew-vpn -> pilotage : pilot-api, https, tcp 8443-8446  log  because \"a reason\"\n", 2000)
	b.SetBytes(int64(len(text)))
	for b.Loop() {
		Parse("b.fence", text)
	}
}
