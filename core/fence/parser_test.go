package fence

import (
	"fmt"
	"net/netip"
	"os"
	"reflect"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"yellowfence.example/yfence/core/packet"
	"yellowfence.example/yfence/core/source"
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
	require.Equal(t, source.Pos{File: "p.fence", Line: 3, Column: 5}, office.Addrs.Items[2].Pos)
	require.Equal(t, "203.0.113.9", office.Addrs.Except[0].From.String())
	require.True(t, office.Shared)
	require.Equal(t, "desks", office.Description)

	quay := file.Stmts[2].(*NetworkDecl)
	require.True(t, quay.Segment && quay.Shared && quay.Local)

	terms := file.Stmts[3].(*ServiceDecl).Terms
	require.Len(t, terms, 6)
	require.Equal(t, []any{[]int{packet.UDP}, packet.PortRange{Lo: 10120, Hi: 10129}}, []any{terms[1].Protocols, *terms[1].Ports},
		"a bare range takes the protocol before it")
	require.Equal(t, []int{packet.TCP, packet.UDP}, terms[2].Protocols)
	require.Equal(t, []int{3, 4}, []int{*terms[3].Type, *terms[3].Code})
	require.Equal(t, "ping", terms[4].Name)
	require.Equal(t, []int{47}, terms[5].Protocols)

	role := file.Stmts[4].(*RoleDecl)
	require.Equal(t, "reject", role.RefuseBy.Word)
	require.Equal(t, []bool{false, true}, []bool{role.Stances[0].Closed, role.Stances[1].Closed})

	rule := file.Stmts[5].(*Rule)
	require.Equal(t, source.Pos{File: "p.fence", Line: 10, Column: 7}, rule.Pos)
	kinds := []PeerKind{}
	for _, p := range rule.From.Items {
		kinds = append(kinds, p.Kind)
	}
	require.Equal(t, []PeerKind{NamedPeer, HostPeer, AddressPeer}, kinds)
	require.Equal(t, EverywherePeer, rule.To.Items[0].Kind)
	require.True(t, rule.Log != nil && rule.Guard && !rule.Block)
	require.Equal(t, []any{`it "must"`, "quay", "b"}, []any{rule.Because, rule.On[0].Name, rule.Over[0].Name})
	require.Equal(t, "reject", file.Stmts[6].(*Rule).By.Word)
}

// TestMessages shows what is said of each mistake: place, code, message, hint.
func TestMessages(t *testing.T) {
	for _, c := range []struct{ text, want string }{
		{"alow a: b -> c : ssh", `1:1 statement: expected a statement, found "alow" | did you mean "allow"?`},
		{"  allow a: b -> c : ssh", `1:3 statement: expected a statement, found "allow" | a statement begins at the start of a line; ` +
			`what is indented goes on with the one above`},
		{"allow a b -> c : ssh", `1:7 syntax: expected a name that ends in a colon, found "a" | every rule has a name: allow NAME: PEERS ` +
			`-> PEERS : SERVICES  modifiers`},
		{"allow a : b -> c : ssh", "1:7 syntax: the colon stands directly behind a rule's name | write `allow a: …`"},
		{"allow a: b c : ssh", `1:12 syntax: expected "->", found "c" | it is written: allow NAME: PEERS -> PEERS : SERVICES  modifiers`},
		{"allow a: b -> c: ssh", `1:15 name: expected a role, network, segment, host NAME, address, fleet, everywhere or strangers, ` +
			`found "c:" | the colon before the services stands between blanks`},
		{"allow a: b -> c : ssh lgo", `1:23 modifier: expected a modifier or the end of the statement, found "lgo" | did you mean "log"?`},
		{"allow a: b -> c : ssh log log", `1:27 twice: "log" is said twice | it was said before at p.fence:1:23; leave one`},
		{"block a: b -> c : ssh guard", `1:23 modifier: "guard" goes with allow only | take it away`},
		{"allow a: b -> c : ssh because why", `1:31 syntax: expected a quoted reason, found "why" | it is written: because "why"`},
		{"allow a: b -> c :\nallow d: e -> f : ssh",
			`2:1 syntax: expected a service, found the next statement | it is written: allow NAME: PEERS -> PEERS : SERVICES  modifiers`},
		{"allow a: b -> c", `1:16 syntax: expected ":" and the services, found the end of the file | it is written: allow NAME: PEERS -> ` +
			`PEERS : SERVICES  modifiers`},
		{"allow fleet: b -> c : ssh", `1:7 name: "fleet" is a word of the language and can name nothing | choose another name, such as ` +
			`"fleet-1"`},
		{"allow Way_in: b -> c : ssh", `1:7 name: "Way_in" is not a name | a name is made of small letters, digits and hyphens and ` +
			`begins with a letter`},
		{"network " + strings.Repeat("n", 64) + " = 10.0.0.0/8",
			"1:9 name: this name is 64 characters long; a name has at most 63 | shorten it"},
		{"network n = 999.1.2.3", `1:13 address: "999.1.2.3" is not an address | IPv4 addresses look like 192.0.2.7, IPv6 addresses like ` +
			`2001:db8::7`},
		{"network n = 10.0.0.1/33", `1:13 address: "10.0.0.1/33" is not a prefix | a prefix is an address and a length, at most /32 for ` +
			`IPv4 and /128 for IPv6`},
		{"network n = 10.0.0.1/8", `1:13 address: 10.0.0.1/8 has bits set behind its length | write 10.0.0.0/8 for the network, or ` +
			`10.0.0.1 for the one address`},
		{"network n = 10.0.0.9-10.0.0.1", `1:13 address: the range 10.0.0.9-10.0.0.1 ends before it begins | write 10.0.0.1-10.0.0.9`},
		{"network n = 10.0.0.9-fd00::1", `1:13 address: a range begins and ends in the same family | write two ranges, one for IPv4 and ` +
			`one for IPv6`},
		{"network n 10.0.0.0/8", `1:11 syntax: expected "=", found "10.0.0.0/8" | it is written: network NAME = ADDRESSES [except ` +
			`ADDRESSES] [shared]`},
		{"service s = tcp 65536", `1:17 port: expected a port, found "65536" | ports go from 0 to 65535`},
		{"service s = tcp +80", `1:17 port: expected a port or a range of ports, found "+80" | a port is a number from 0 to 65535, a ` +
			`range two of them with a hyphen between`},
		{"service s = tcp 90-80", `1:17 port: expected a range of ports, found "90-80" | this one ends before it begins: write 80-90`},
		{"service s = 80", `1:13 syntax: expected a service, found "80" | a bare port takes the protocol of the port before it; here ` +
			`none stands before it: write tcp 80 or udp 80`},
		{"service s = icmp 3, 80", `1:21 syntax: expected a service, found "80" | a bare port takes the protocol of the port before it; ` +
			`here none stands before it: write tcp 80 or udp 80`},
		{"service s = tcp 80 unit", `1:24 syntax: expected a unit's name, found the end of the file | it is written: service NAME = ` +
			`tcp|udp|sctp|tcp+udp PORTS, icmp [TYPE[/CODE]], … [unit NAME, …]`},
		{"service s = any except ping, any",
			`1:30 syntax: expected a service that is not meant, found "any" | any is not taken away from any; name the services: any ` +
				`except ping, ssh`},
		{"service s = any except", `1:23 syntax: expected a service, found the end of the file | it is written: service NAME = ` +
			`tcp|udp|sctp|tcp+udp PORTS, icmp [TYPE[/CODE]], … [unit NAME, …]`},
		{"service s = icmp 300", `1:18 number: expected an ICMP type, or TYPE/CODE, found "300" | both are numbers from 0 to 255`},
		{"role r { outbound opn }", `1:19 syntax: expected "open" or "closed", found "opn" | did you mean "open"?`},
		{"block a: b -> c : ssh on trial", `1:31 syntax: expected "until" and a date, found the end of the file | it is written: on ` +
			`trial until DATE [else open]`},
		{"allow a: b -> c : ssh on trial until 2027-03-31",
			"1:23 modifier: on trial goes with block only, and with a closed stance | take it away"},
		{"role r { inbound open on trial until 2027-03-31 }",
			`1:23 syntax: expected "inbound", "outbound", "forward", "refuse by", "log refused" or "ground" or "}", found "on" | it is ` +
				`written: role NAME { inbound|outbound|forward open|closed [on trial until DATE [else open]]   refuse by drop|reject   ` +
				`log refused [up to N per DUR]   ground { … } }`},
		{"off allow a: b -> c : ssh off", `1:1 twice: "off" is said twice | leave the one in front`},
		{"with owner pat {\nallow a: b -> c : ssh\nrole d\n}",
			`3:6 syntax: a role stands in no with | a with holds rules, redirects and the like; is the brace missing that closes the one ` +
				`at p.fence:1:1?`},
		{"with owner pat {\n}", "1:1 syntax: this with holds no statement | it is written: with [until DATE] [from DATE] [owner NAME] " +
			"[ref \"…\"] [because \"why\"] [off] { STATEMENTS }"},
		{"with owner pat {\nallow a: b -> c : ssh",
			`2:22 syntax: expected "}", found the end of the file | the braces of the with at p.fence:1:1 are not closed`},
		{"with log {\nallow a: b -> c : ssh\n}",
			"1:6 syntax: expected what the statements have in common, or \"{\", found \"log\" | it is written: with [until DATE] [from " +
				"DATE] [owner NAME] [ref \"…\"] [because \"why\"] [off] { STATEMENTS }"},
		{"with until 2027-01-01 {\n  leave l: b : inbound via x\n}",
			`2:9 modifier: "l" neither begins nor ends by itself, as the with at p.fence:1:1 says | only an allow and a block do; write ` +
				`it outside of the with`},
		{"with from user pat {\nallow a: b -> c : ssh\n}",
			"1:11 modifier: who sends is said by each rule, not by a with | a with takes from, until, off, because, owner, ref"},
		{"with owner pat {\nwith ref \"x\" {\nallow a: b -> c : ssh\n}\n}",
			`2:1 syntax: a with holds no other with | close the one at p.fence:1:1 before: }`},
		{"off role b", `1:1 modifier: a role is never off | take "off" away`},
		{"off", `1:1 statement: expected a statement, found "off" | it stands in front of a statement: off allow NAME: PEERS -> PEERS : ` +
			`SERVICES`},
		{"role r { outbound open outbound open }", `1:24 twice: outbound is said twice | it was said before at p.fence:1:10; leave one`},
		{"role r { outbound closed\nallow a: b -> c : ssh",
			`2:1 syntax: expected "}", found the next statement | the braces of role "r" are not closed`},
		{"allow a: b -> c : ssh at most 4 per 7s",
			"1:37 rate: 4 per 7s is no whole number per second, minute, hour or day, which is what the kernel counts by | the nearest " +
				"are 49371 per 1d and 49372 per 1d"},
		{"allow a: b -> c : ssh at most 4 per m",
			"1:37 time: expected a time, found \"m\" | a time is a number and s, m, h or d: 10s, 1m, 1h, 1d"},
		{"allow a: b -> c : ssh at most 0 per 1m",
			"1:31 number: expected a number from 1 to 1000000, found \"0\" | it is written: at most N per DUR [per source]"},
		{"allow a: b -> c : ssh until 2027-02-30",
			"1:29 date: \"2027-02-30\" is no date or time | write a day as 2027-03-31, an instant as 2027-03-31T12:00Z"},
		{"allow a: b -> c : ssh from group wheel", `1:28 syntax: expected "user" or "unit" or "program", found "group" | `},
		{"allow a: b -> c : ssh knowingly wide-open",
			`1:42 syntax: expected a quoted reason, found the end of the file | it is written: knowingly CODE "why"`},
		{"role r { ground { replies off } ground { invalid off } }",
			"1:33 twice: the ground is said twice | put all of its parts into the same braces"},
		{"join office", "1:1 syntax: a join names two networks or more | it is written: join NETWORK, NETWORK, … [through ROLE, …] " +
			"\"description\""},
		{"ground { replys off }", `1:10 ground: expected a part of the ground, found "replys" | did you mean "replies"?`},
		{"ground { replies of }", `1:18 syntax: expected "off" or "from PEERS", found "of" | it is written: ground { ` +
			`[inbound|outbound|forward] PART off|from PEERS … }`},
		{"redirect r: a -> b : tcp 80-90 to tcp 8080",
			"1:22 port: a redirect takes one port of one protocol, such as tcp 443 | write a redirect for each port"},
		{"masquerade m: a -> b", `1:21 syntax: expected "through" and a role, found the end of the file | it is written: masquerade ` +
			`NAME: PEERS -> PEERS through ROLE, … [via INTERFACE, …]`},
		{"leave l: charts : outwards via ctr0", `1:19 syntax: expected "inbound" or "outbound" or "forwarded", found "outwards" | `},
		{"expect e: nevr a -> b : any", `1:11 syntax: expected "never" or "always" or "only", found "nevr" | did you mean "never"?`},
		{"expect e: never a -> b : any log", `1:30 modifier: "log" goes with allow, block only | take it away`},
		{`network n from "l" fetched "https://lists.example/l" every 1s`,
			"1:60 time: expected a length of time of a minute or more, found \"1s\" | it is written as 30m, 1h or 1d"},
		{`network n from "l" fetched "https://lists.example/l" changing 10`,
			"1:65 syntax: expected \"percent\", found the end of the file | it is written: network NAME from \"FILE\" [fetched " +
				"\"https://…\" [every DUR] [up to N] [changing N percent]]"},
		{`network n from "l" fetched "https://lists.example/l" up to many`,
			"1:60 number: expected a number of lines from 1 to 100000, found \"many\" | it is written: network NAME from \"FILE\" " +
				"[fetched \"https://…\" [every DUR] [up to N] [changing N percent]]"},
		{"network n from list.txt", `1:16 syntax: expected the quoted name of a file, found "list.txt" | it is written: network NAME ` +
			`from "FILE"`},
		{"policy p \"open", `1:10 open-quote: this text is not closed on its line | put a " at its end`},
		{"policy p language 2", "1:19 language: this program reads language 1, not 2 | write `language 1`, or use a program that knows " +
			"this language"},
		{"allow a: b -> c : ssh §", `1:23 modifier: expected a modifier or the end of the statement, found "§" | a modifier is one of ` +
			`within, on, arriving, through, from, encrypted, at, over, log, guard, until, off, because, owner, ref, knowingly`},
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

// everything is every statement with every modifier, in the standard layout.
const everything = `policy harbour "a port" language 1 by ops, "harbour watch"
part tugs from "teams/tugs" for jump, broker by pat "the tugs"

# where people sit
network office    = 203.0.113.0/26, 192.0.2.10-192.0.2.19 except 203.0.113.9 shared  "desks"
network pests     from "lists/pests.txt"                                             # kept elsewhere
network lists     from "lists/more.txt" fetched "https://lists.example/more" every 30m up to 500 changing 5 percent shared
segment quay-lan  = 10.40.0.0/16 shared local

service feed = udp 10110, 10120-10129, tcp+udp 53, icmp 3/4, ping, protocol 47  unit feed.service, "feed 2.service"  "positions"
service nearly = any except ping, tcp 1-1023, 2049
role broker "collects" { outbound closed on trial until 2027-02-28   refuse by reject   log refused up to 10 per 1m }
join office, quay-lan, lists through jump  "the routers' way"
join pests, office
role jump { ground { forward replies off   inbound icmp-errors from office } }
ground { inbound icmp-errors from office   dhcp-client off }

allow front-door: everywhere -> jump : ssh  at most 4 per 1m per source  log up to 5 per 1h  until 2027-03-31T12:00Z
    because "pilots on the road"  owner pat  ref "HB-1"  knowingly wide-open "we watch it"
allow nightly:    broker at quay-lan, strangers -> host jump-01 : feed  on quay-lan  arriving quay-lan  through jump
    from unit backup.service  from user "a b", root  encrypted  over no-mail, old  log  guard
block no-mail:    fleet -> everywhere except office : smtp  by reject  off
block no-news:    fleet -> everywhere : tcp 119  on quay-lan on trial until 2027-03-31 else open

redirect catch:      fleet -> everywhere : tcp 80 through jump to host jump-01 : tcp 8080  because "cached"
redirect door:       office -> broker : tcp 443 to tcp 8443
masquerade out:      quay-lan -> everywhere through jump via wan*, "eth 1"
allow hail: broker -> broadcast, multicast : udp 5353
leave containers:    broker : forwarded via ctr*, "br 0"  because "the runtime's own"
with from 2027-01-04 until 2027-06-30 owner radiology ref "V-3" {  # the vendors
   # the first of them
   allow vendor:        office -> broker : ssh  until 2027-05-01  log
   off block vendor-b:  office -> broker : smtp
      owner pat
   # the last of them
}
expect quiet:        never strangers -> broker : any  on quay-lan
expect crew:         only office -> jump : ssh
`

func TestPrint(t *testing.T) {
	file, problems := Parse("p.fence", everything)
	require.Empty(t, problems)
	printed := Print(file)
	again, problems := Parse("p.fence", printed)
	require.Empty(t, problems, "%s", printed)
	require.Equal(t, plain(file), plain(again), "%s", printed)
	require.Equal(t, printed, Print(again), "printing it again changes nothing")
	for _, comment := range []string{"# where people sit", "# kept elsewhere"} {
		require.Equal(t, 1, strings.Count(printed, comment))
	}
	const golden = "testdata/everything.fence"
	if *update {
		require.NoError(t, os.MkdirAll("testdata", 0o755))
		require.NoError(t, os.WriteFile(golden, []byte(printed), 0o644))
	}
	want, err := os.ReadFile(golden)
	require.NoError(t, err)
	require.Equal(t, string(want), printed)
}

// plain is a tree without places, so that two can be compared.
func plain(file *File) string {
	return regexp.MustCompile(`fence\.Pos\{[^}]*\}|Pos:\([^)]*\)[^\s,}]*`).ReplaceAllString(fmt.Sprintf("%+v",
		dump(reflect.ValueOf(file.Stmts))), "")
}

// dump follows pointers, which %+v prints as addresses, and leaves places out.
func dump(v reflect.Value) any {
	switch v.Kind() {
	case reflect.Pointer, reflect.Interface:
		if v.IsNil() {
			return nil
		}
		if _, isPos := v.Interface().(*source.Pos); isPos {
			return "somewhere"
		}
		return dump(v.Elem())
	case reflect.Slice:
		var out []any
		for i := range v.Len() {
			out = append(out, dump(v.Index(i)))
		}
		return out
	case reflect.Struct:
		switch x := v.Interface().(type) {
		case source.Pos:
			return nil
		case netip.Addr:
			return x.String()
		}
		var out []any
		for i := range v.NumField() {
			out = append(out, v.Type().Field(i).Name, dump(v.Field(i)))
		}
		return out
	}
	return v.Interface()
}

// TestTidyComments shows where comments go.
func TestTidyComments(t *testing.T) {
	for _, c := range []struct{ in, want string }{
		{"# a\nrole b # c\n\n\n\n# d\n", "# a\nrole b  # c\n\n# d\n"},
		{"role   b{ # inside\n   outbound   closed # in\n}  # behind\n",
			"# inside\n# in\nrole b                  { outbound closed }  # behind\n"},
		{"allow a: b -> c : ssh # one\n   log # two\n", "# one\nallow a:                b -> c : ssh  log  # two\n"},
		{"allow a: b -> c : ssh off because \"x\"\noff\tblock b: b -> c : ssh\n",
			"off allow a:            b -> c : ssh  because \"x\"\noff block b:            b -> c : ssh\n"},
		{"  # indented\nrole b\nrole long-name\n", "# indented\nrole b\nrole long-name\n"},
		{"role b\n# between\nrole c\n\nnetwork n=10.0.0.0/8 \"x\"\nnetwork longer = 10.0.0.0/8, 192.0.2.0/24 \"y\"\n",
			"role b\n# between\nrole c\n\nnetwork n               = 10.0.0.0/8                            \"x\"\nnetwork longer          " +
				"= 10.0.0.0/8, 192.0.2.0/24              \"y\"\n"},
	} {
		in, want := c.in, c.want
		file, problems := Parse("p.fence", in)
		require.Empty(t, problems)
		require.Equal(t, want, Print(file))
	}
}

func TestRatesAndInstants(t *testing.T) {
	for text, want := range map[string]string{"4 per 1m": "4 minute", "60 per 1m": "1 second", "1 per 2m": "30 hour",
		"5 per 2m": "150 hour", "1 per 1d": "1 day", "100 per 1s": "100 second"} {
		file, problems := Parse("p.fence", "allow a: b -> c : ssh at most "+text)
		require.Empty(t, problems)
		n, unit, ok := file.Stmts[0].(*Rule).AtMost.Value().Kernel()
		require.True(t, ok)
		require.Equal(t, want, fmt.Sprint(n, " ", unit), text)
	}
	for text, want := range map[string]int64{"1970-01-01": 86400, "1970-01-01T00:01Z": 60, "1970-01-01T00:00:07Z": 7,
		"2024-02-29": 1709251200} {
		got, ok := (&Until{Text: text}).Instant()
		require.True(t, ok)
		require.Equal(t, want, got, text)
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
		require.Equal(t, want, source.Nearest(word, names), word)
	}
}

func FuzzParse(f *testing.F) {
	for _, s := range []string{"policy p language 1", "allow a: b -> c : ssh on q log", "role r { outbound closed }",
		"network n = 10.0.0.0/8 except fd00::/8",
		"service s = icmp 3/4, tcp 80, 443", "\"", "allow a:\n -> : {", "#", "role r {\n}\n", "a->b", everything} {
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
		if len(problems) > 0 {
			return
		}
		printed := Print(file)
		again, problems := Parse("f.fence", printed)
		require.Empty(t, problems, "%s", printed)
		require.Equal(t, plain(file), plain(again), "%s", printed)
		require.Equal(t, printed, Print(again), "%s", printed)
	})
}

func BenchmarkParse(b *testing.B) {
	text := strings.Repeat("allow dispatch: office, crew-vpn -> pilotage : pilot-api, https, tcp 8443-8446  log  because \"a reason\"\n",
		2000)
	b.SetBytes(int64(len(text)))
	for b.Loop() {
		Parse("b.fence", text)
	}
}

// TestNothingNestsForEver: what stands in itself a hundred thousand times is a mistake, and not a stack that overflows.
func TestNothingNestsForEver(t *testing.T) {
	for _, text := range []string{"with owner a {\n", "service s = any except any except ", "any except ", "role r { ground { ",
		"allow a: b at b at ", "off ", "part p from \"x\" for "} {
		_, problems := Parse("p.fence", strings.Repeat(text, 100_000))
		require.NotEmpty(t, problems, text)
	}
}
