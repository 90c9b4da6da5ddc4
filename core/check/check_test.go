package check_test

import (
	"flag"
	"fmt"
	"math/rand/v2"
	"os"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yellowfence.example/yfence/core/check"
	"yellowfence.example/yfence/core/fleet"
	"yellowfence.example/yfence/core/packet"
	"yellowfence.example/yfence/core/policy/policytest"
)

var update = flag.Bool("update", false, "write docs/checks.md anew")

const head = "policy p language 1\nrole red\nrole blue\nrole green\nnetwork vpn = 198.51.100.0/25\nsegment quay = 10.40.0.0/16 local\n"

// now is when the tests play: 2026-11-25.
const now = 1795564800

func problems(t *testing.T, fleetJSON, text string) []string {
	t.Helper()
	fl, found := fleet.ReadJSON("fleet.json", []byte(fleetJSON))
	require.Empty(t, found)
	_, found = check.Policy([]check.Source{{Name: "p.fence", Text: head + text}}, fl, now)
	var got []string
	for _, p := range found {
		s := fmt.Sprintf("%s:%d %s %s: %s", p.File, p.Line, p.Severity, p.Code, p.Message)
		if p.Packet != nil {
			s += " [" + p.Packet.String() + "]"
		}
		got = append(got, s)
	}
	return got
}

func TestTheWayIn(t *testing.T) {
	about := func(all []string) (out []string) { // the policies are too small to be sound otherwise
		for _, s := range all {
			if strings.Contains(s, " error ") || strings.Contains(s, "no-way-in") {
				out = append(out, s)
			}
		}
		return out
	}
	const sound = "allow way-in: vpn -> red : ssh guard\nallow hop: red -> fleet : ssh guard\n"
	for _, c := range []struct {
		what, text string
		want       []string
	}{
		{"sound: from outside to red, from red to all; forged sources on the local segment are no matter", sound, nil},
		{"no guard at all", "allow way-in: vpn -> red : ssh\n",
			[]string{"p.fence:7 error no-guard: no rule of this policy is a guard, so nothing keeps a way in"}},
		{"answers that an open stance lets go", sound + "ground { outbound replies off }\n", nil},
		{"answers that nobody admits", sound + "ground { inbound replies off }\n",
			[]string{`p.fence:8 error guard-refused: the answers of the guard "hop" are refused on h1 inbound: the ground's replies are ` +
				`not admitted there, and stance inbound closed refuses them`}},
		{"answers that are for others alone", sound + "ground { inbound replies from 10.40.0.0/16 }\n",
			[]string{`p.fence:8 error guard-refused: the answers of the guard "hop" are refused on h1 inbound: the ground's replies are ` +
				`not admitted there, and stance inbound closed refuses them`}},
		{"a block in the way", sound + "block b: everywhere -> blue : ssh\n",
			[]string{`p.fence:7 error guard-refused: the guard "way-in" is refused on h2 inbound: block b stands in its way [tcp ` +
				`198.51.100.7 port 50000 -> 10.40.3.1 port 22 in by eth0]`,
				`p.fence:8 error guard-refused: the guard "hop" is refused on h2 inbound: block b stands in its way [tcp 198.51.100.7 ` +
					`port 50000 -> 10.40.3.1 port 22 in by eth0]`}},
		{"an exception to it", "allow way-in: vpn -> red : ssh guard over b\nallow hop: red -> fleet : ssh guard over b\nblock b: " +
			"everywhere -> blue : ssh\n", nil},
		{"a block on the way out", sound + "block b: red -> host h4 : any\n",
			[]string{`p.fence:8 error guard-refused: the guard "hop" is refused on h4 inbound: block b stands in its way [tcp ` +
				`198.51.100.7 port 50000 -> 203.0.113.9 port 22 in by wan0]`,
				`p.fence:8 error guard-refused: the guard "hop" is refused on h1 outbound: block b stands in its way [tcp 10.40.0.1 port ` +
					`50000 -> 203.0.113.9 port 22 out by eth0]`}},
		{"a host that no guard reaches", "allow way-in: vpn -> red : ssh guard\nallow hop: red -> blue : ssh guard\n",
			[]string{`fleet.json:5 error no-way-in: no chain of guards reaches the host "h4"`}},
		{"a chain that begins nowhere", "allow way-in: vpn -> red : ssh guard\nallow hop: red -> blue : ssh guard\nallow own: green -> " +
			"green : ssh guard\n",
			[]string{`fleet.json:5 error no-way-in: no chain of guards reaches the host "h4"`}},
		{"a guard with a limit besides", sound + "allow road: everywhere -> red : ssh guard at most 4 per 1m\n", nil},
		{"a block refuses some of it, whatever its limit", sound +
			"allow road: everywhere -> red : ssh at most 4 per 1m guard\nblock b: 192.0.2.0/28 -> red : ssh\n",
			[]string{`p.fence:9 error guard-refused: the guard "road" is refused on h1 inbound: block b stands in its way [tcp 192.0.2.1 ` +
				`port 50000 -> 10.40.0.1 port 22 in by eth0]`}},
		{"no guard but with a limit", "allow way-in: vpn -> red : ssh guard at most 4 per 1m\n",
			[]string{"p.fence:7 error no-guard: every guard of this policy has a limit, so no way in is sure"}},
		{"a host that only such a guard reaches",
			"allow way-in: vpn -> red : ssh guard\nallow hop: red -> red, blue : ssh guard\nallow far: red -> green : ssh guard at most " +
				"4 per 1m\n",
			[]string{`fleet.json:5 error no-way-in: no chain of guards reaches the host "h4"`}},
		{"a segment that a host is not on", "allow way-in: vpn -> red : ssh guard\nallow hop: red -> fleet : ssh on quay guard\nallow " +
			"far: red -> host h4 : ssh guard\n",
			[]string{`fleet.json:4 error no-way-in: no chain of guards reaches the host "h3"`}},
	} {
		require.Equal(t, c.want, about(problems(t, policytest.Fleet, c.text)), c.what)
	}
	own := strings.Replace(policytest.Fleet, `"roles": ["green"],`, `"roles": ["green"], "own_console": true,`, 1)
	require.Equal(t, []string{`fleet.json:5 warning no-way-in: no chain of guards reaches the host "h4"`},
		about(problems(t, own, "allow way-in: vpn -> red : ssh guard\nallow hop: red -> blue : ssh guard\n")),
		"a host with a console of its own")
	accepted := strings.Replace(own, `"own_console": true,`,
		`"own_console": true, "knowingly": [{"code": "no-way-in", "because": "it stands beside the desk"}],`, 1)
	require.Empty(t, about(problems(t, accepted, "allow way-in: vpn -> red : ssh guard\nallow hop: red -> blue : ssh guard\n")),
		"which is accepted in the fleet file")
	stale := problems(t, accepted, sound)
	require.Contains(t, stale, `fleet.json:5 warning stale-knowingly: "h4" accepts no-way-in, which is no longer told`)
	others := strings.Replace(policytest.Fleet, `"roles": ["green"],`, `"roles": ["green"], "dialect": "none",`, 1)
	require.Equal(t, []string{`p.fence:4 warning others: h4 has no filter of ours: what is said of the role "green" is carried out at ` +
		`the other end alone`},
		slices.DeleteFunc(problems(t, others,
			"allow way-in: vpn -> red : ssh guard\nallow hop: red -> blue : ssh guard\nallow use: blue, green -> red : https\nexpect p: "+
				"always green -> red : https\n"),
			func(s string) bool { return !strings.Contains(s, "others") && !strings.Contains(s, "error") }),
		"a machine of others needs no way in, and admits everything")
}

// TestWarnings has one policy for each check that shows it, and one like it that does not.
func TestWarnings(t *testing.T) {
	const way = "allow way-in: vpn -> red : ssh guard knowingly one-family \"the VPN is IPv4\"\nallow hop: red -> fleet : ssh guard\n" +
		"allow use: blue, green -> red : https\n"
	warnings := func(text string) (out []string) {
		for _, s := range problems(t, policytest.Fleet, way+text) {
			_, said, isWarning := strings.Cut(s, " warning ")
			require.True(t, isWarning, "%s\n%s", s, text)
			out = append(out, said)
		}
		return out
	}
	require.Empty(t, warnings(""), "the ground that the cases stand on is sound")
	for _, c := range []struct{ text, want, sound string }{
		{"allow a: blue -> green : https on quay\n", `never-matches: the rule "a" matches no packet on any host`,
			"allow a: green -> blue : https\n"},
		{"network old = 192.0.2.0/28 knowingly one-family \"an old line\"\nallow a: old -> red : tcp 90\nallow b: old -> red : tcp 91 " +
			"knowingly one-family \"x\"\nallow c: 192.0.2.64/28 -> red : tcp 92\n",
			`one-family: the allow "c" admits nothing over IPv6, which its hosts have too`,
			"network old = 192.0.2.0/28 knowingly one-family \"an old line\"\nallow a: old -> red : tcp 90\n"},
		{"block b: blue -> red : tcp 99 on trial until 2026-12-01\n",
			"trial-ends: the trial of block b ends with 2026-12-01, and it refuses then",
			"block b: blue -> red : tcp 99 on trial until 2026-12-31\n"},
		{"block b: blue -> red : tcp 99 on trial until 2026-11-01\n",
			"trial-over: the trial of block b ended with 2026-11-01: it refuses now",
			"block b: blue -> red : tcp 99 on trial until 2026-12-01 else open\n"},
		{"role white { inbound closed on trial until 2026-11-01 else open } knowingly empty-role \"x\"\n",
			"trial-over: the trial of inbound closed of role white ended with 2026-11-01: it refuses nothing", ""},
		{"service ssh = tcp 2222\nallow a: vpn -> green : ssh\n",
			`shadowed: the service "ssh" is registered as tcp 22, and means something else here`,
			"service http = tcp 80\nservice ssh = tcp 2222 knowingly shadowed \"so it is\"\nallow a: vpn -> green : http, ssh\n"},
		{"allow a: vpn -> green : https\nblock b: everywhere -> green : tcp 100-1000\n",
			`contradicted: all that the allow "a" admits is refused by block b`,
			"allow a: vpn -> green : https over b\nblock b: everywhere -> green : tcp 100-1000\n"},
		{"allow a: vpn -> green : https\nallow b: vpn -> green : tcp 400-500\n", `covered: all that the rule "a" does is done by allow b`,
			"allow a: vpn -> green : https log\nallow b: vpn -> green : tcp 400-500\n"},
		{"allow a: vpn -> green : https\nallow b: vpn -> host h4 : tcp 443\n", `repeated: the rule "b" does exactly what allow a does`,
			"allow a: vpn -> green : https\nallow b: vpn -> green : http\n"},
		{"allow a: vpn -> green : https at most 4 per 1m\nallow b: vpn -> green : tcp 400-500\n",
			`limit-pointless: the limit of the allow "a" never counts: allow b admits all of it more freely`,
			"allow a: vpn -> green : https at most 4 per 1m\nallow b: 198.51.100.8 -> green : tcp 400-500\n"},
		{"allow a: vpn -> green : tcp 81, 82 at most 4 per 1m per source\nallow b: vpn -> green : tcp 81\nallow c: vpn -> green : " +
			"tcp 82\n", `limit-pointless: the limit of the allow "a" never counts: allow b and allow c together admit all of it ` +
			`more freely`, "allow a: vpn -> green : tcp 81, 82 at most 4 per 1m per source\nallow b: vpn -> green : tcp 81\nallow c: " +
			"198.51.100.9 -> green : tcp 82\n"},
		{"allow a: green -> vpn : https at most 4 per 1m\nallow b: green -> vpn : https at most 5 per 1m\n",
			`limit-pointless: the limit of the allow "a" never counts: allow b admits all of it more freely`,
			"allow a: green -> vpn : https at most 4 per 1m over c\nallow b: green -> vpn : https at most 5 per 1m\nblock c: green -> " +
				"198.51.100.9 : https\n"},
		{"allow a: 198.51.100.0/26 -> green : https\n",
			`part-of-network: the rule "a" names 198.51.100.0/26, which is a part of the network "vpn"`,
			"allow a: 198.51.100.0/26, 198.51.100.64/26 -> green : https\n"},
		{"network half = 198.51.100.0/26\nallow a: 198.51.100.0/27 -> green : https\nallow b: half -> green : http\n",
			`part-of-network: the rule "a" names 198.51.100.0/27, which is a part of the network "half"`,
			"allow a: vpn -> green : https\n"},
		{"role grey\n", `empty-role: no host has the role "grey"`, ""},
		{"network lan = 192.0.2.0/24\n", `unused: nothing uses "lan"`, "network lan = 192.0.2.0/24\nallow a: lan -> green : https\n"},
		{"service s = tcp 99\n", `unused: nothing uses the service "s"`, "service s = tcp 99\nallow a: vpn -> green : s\n"},
		{"network cdn = 192.0.2.0/24 shared\nallow a: cdn -> green : https\n",
			`shared-trust: the allow "a" trusts all of "cdn", and strangers are on it`,
			"network cdn = 192.0.2.0/24 shared\nallow a: cdn -> green : https knowingly shared-trust \"public\"\n"},
		{"allow a: everywhere -> green : tcp 5000-5500\n", `wide-open: the allow "a" lets everybody reach postgresql`,
			"allow a: everywhere -> green : https\n"},
		{"allow a: 0.0.0.0/1 -> green : https\n", `wide-source: the allow "a" takes 0.0.0.0/1 as a source, which is nearly everybody`,
			"allow a: 10.0.0.0/8 -> green : https\n"},
		{"allow a: vpn -> green : tcp 0-65535\n", `all-ports: the allow "a" opens every port`, "allow a: vpn -> green : tcp 1024-65535\n"},
		{"allow a: vpn -> green : icmp\n", `all-icmp: the allow "a" admits all of ICMP`, "allow a: vpn -> green : ping\n"},
		{"allow a: vpn -> host h1 : https\n", `one-family: the allow "a" admits nothing over IPv6, which its hosts have too`,
			"allow a: vpn, 2001:db8:5::/48 -> host h1 : https\n"},
		{"allow a: vpn -> green : tcp+udp 22\n", `both-protocols: the allow "a" opens udp 22, and ssh is tcp only`,
			"allow a: vpn -> green : domain\n"},
		{"allow a: vpn -> host h1 : ping\n", `one-family: the allow "a" admits nothing over IPv6, which its hosts have too`,
			"allow a: vpn -> host h1 : icmp 8\n"},
		{"allow a: vpn -> green : openvpn\n",
			`both-protocols: the allow "a" opens TCP and UDP, and a server of openvpn listens for one of them`,
			"allow a: vpn -> green : udp 1194\nallow b: vpn -> green : tcp+udp 443\n"},
		{"allow a: vpn -> green : http, tcp 80\n", `repeated: the rule "a" names tcp 80, which is part of http already`,
			"allow a: vpn -> green : http, tcp 81\n"},
		{"allow a: vpn -> green : http, tcp 80-90\n", `repeated: the rule "a" names http, which is part of tcp 80-90 already`, ""},
		{"allow a: quay -> red : udp 67 knowingly one-family \"DHCP is\"\n",
			`dhcp-unaddressed: the allow "a" admits DHCP from quay, and who asks for an address has none yet`,
			"allow a: everywhere -> red : udp 67 arriving quay\n"},
		{"redirect r: vpn -> green : tcp 8443 to tcp 9443\n",
			`redirect-unadmitted: the redirect "r" is for connections that no allow admits: tcp 8443 to green`,
			"redirect r: vpn -> green : tcp 8443 to tcp 9443\nallow a: vpn -> green : tcp 8443\n"},
		{"redirect r: vpn -> green : tcp 8443 to host h3 : tcp 9443\nallow a: vpn -> green : tcp 8443\n",
			`redirect-unadmitted: the redirect "r" is for connections that no allow admits: tcp 9443 to host h3`,
			"redirect r: vpn -> green : tcp 8443 to host h3 : tcp 9443\nallow a: vpn -> host h3 : tcp 9443 knowingly one-family " +
				"\"it is\"\n"},
		{"redirect r: vpn -> green : tcp 2222 to tcp 22\nallow a: vpn -> green : tcp 2222\n",
			`redirect-around: the allow "a" and the redirect "r" let others reach tcp 22 than allow hop does`,
			"redirect r: vpn -> green : tcp 2222 to tcp 22\nallow a: vpn -> green : tcp 2222 knowingly redirect-around \"a door\"\n"},
		{"leave l: green : inbound via wan0\n",
			`leave-all: the leave "l" is over every interface of h4: nothing inbound is refused there`,
			"leave l: red : inbound via eth1\n"},
		{"allow a: 10.60.3.1 -> green : https\n", `own-address: the rule "a" names 10.60.3.1, which is the address of h3`,
			"allow a: host h3 -> green : https\n"},
		{"allow a: 10.40.0.0/16 -> red, green : tcp 90 on quay knowingly one-family \"an old segment\"\n",
			`on-uncovered: the rule "a" asks for "quay", and h4 is not on it`,
			"allow a: 10.40.0.0/16 -> red : tcp 90 on quay knowingly one-family \"an old segment\"\n"},
		{"allow a: green -> vpn : https from user www\n",
			`sender-open: the allow "a" names who may send, and on h4 outbound is open to all`, ""},
		{"allow a: vpn -> green : https until 2026-11-24\n", `ended: the rule "a" ended with 2026-11-24`,
			"allow a: vpn -> green : https until 2026-11-24 off\n"},
		{"allow a: vpn -> green : https until 2026-12-01\n", `ends-soon: the rule "a" ends with 2026-12-01`,
			"allow a: vpn -> green : https until 2027-12-01\n"},
		{"allow a: vpn -> green : https knowingly wide-open \"once\"\n",
			`stale-knowingly: "a" accepts wide-open, which is no longer told`, ""},
		{"allow a: vpn -> green : https knowingly wide-opn \"typo\"\n", `stale-knowingly: no check has the code "wide-opn"`, ""},
	} {
		assert.Equal(t, []string{c.want}, warnings(c.text), c.text)
		assert.Empty(t, warnings(c.sound), c.sound)
	}
}

// TestSegmentsOfBothFamilies: what is said of one family of a segment that has both.
func TestSegmentsOfBothFamilies(t *testing.T) {
	const text = "policy p language 1\nrole red\nrole blue\nrole green\nnetwork vpn = 198.51.100.0/25, 2001:db8:5::/48\nsegment quay = " +
		"10.40.0.0/16, fd40::/48\n" +
		"allow way-in: vpn -> red : ssh guard\nallow hop: red -> fleet : ssh guard\nallow use: blue, green -> red : https\nallow all: " +
		"quay -> red : tcp 81, ping\n"
	fl, found := fleet.ReadJSON("fleet.json", []byte(policytest.Fleet))
	require.Empty(t, found)
	for rule, want := range map[string]string{
		"block x: 10.40.3.0/24 -> red : tcp 81": `one-family: the block "x" blocks nothing over ` +
			`IPv6, which the same machines have too`,
		"block x: 10.40.3.0/24, fd40::3:0/112 -> red : tcp 81": "",
		"block x: 203.0.113.0/24 -> red : tcp 81":              "", // nobody knows what else they have
		"block x: 10.40.3.0/24 -> red : icmp 8":                "",
		"allow x: 10.40.0.0/16 -> red : tcp 82  knowingly one-family \"old machines\"": `part-of-network: the rule "x" names ` +
			`10.40.0.0/16, which is a part of the segment "quay"`,
		"allow x: 10.40.3.0/24 -> red : tcp 82  knowingly one-family \"printers\"": "", // that has no other name
	} {
		_, found := check.Policy([]check.Source{{Name: "p.fence", Text: text + rule + "\n"}}, fl, now)
		got := ""
		for _, p := range found {
			if p.Line == 11 {
				got = p.Code + ": " + p.Message
			}
		}
		require.Equal(t, want, got, rule)
	}
}

// TestNoPath: two sites that a router joins, and a host with a public address.
func TestNoPath(t *testing.T) {
	const fleetJSON = `{"hosts": [
	 {"name": "a1", "roles": ["a"], "interfaces": [{"name": "e", "addresses": ["10.40.0.1/16"]}]},
	 {"name": "a2", "roles": ["a"], "interfaces": [{"name": "e", "addresses": ["10.40.0.2/16"]}, {"name": "f", "addresses": ["10.60.0.2/16"]}]},
	 {"name": "b1", "roles": ["b"], "interfaces": [{"name": "e", "addresses": ["10.60.0.3/16"]}]},
	 {"name": "gate", "roles": ["gate"], "interfaces": [{"name": "e", "addresses": ["10.40.0.9/16"]}, {"name": "f", "addresses": ["10.60.0.9/16"]}]},
	 {"name": "far", "roles": ["far"], "interfaces": [{"name": "e", "addresses": ["10.99.0.1/16"]}]},
	 {"name": "web", "roles": ["web"], "interfaces": [{"name": "e", "addresses": ["203.0.113.9/28"]}, {"name": "f", "addresses": ["10.40.0.4/16"]}]}]}`
	const roles = "policy p language 1\nnetwork vpn = 198.51.100.0/25\nsegment quay = 10.40.0.0/16\nsegment hill = 10.60.0.0/16\nrole " +
		"a\nrole b\nrole gate\nrole far\nrole web\n"
	fl, found := fleet.ReadJSON("fleet.json", []byte(fleetJSON))
	require.Empty(t, found)
	for rule, want := range map[string]string{
		"a -> b : https":                "a1",
		"b -> a : https":                "a1",
		"host a1 -> b : https":          "a1, b1",
		"host a2 -> b : https":          "",
		"b -> a at hill : https":        "", // it names those of a that are there
		"b -> a at host a1 : https":     "b1, a1",
		"a -> b : https  through gate":  "",
		"web -> b : https":              "", // it has an address that is reached from anywhere
		"host a1 -> far : https":        "", // nothing is known of far's way
		"host a1, vpn -> b : https":     "a1",
		"host a1 -> b, vpn : https":     "b1",
		"host a1 -> b : https  on hill": "", // another check's
		"host a1 -> b : https  knowingly no-path \"routed by the landlord\"": "",
	} {
		_, found := check.Policy([]check.Source{{Name: "p.fence", Text: roles + "allow x: " + rule +
			"\nallow g: vpn -> fleet : ssh guard\n"}}, fl, now)
		got := ""
		for _, p := range found {
			if p.Code == "no-path" {
				got = p.Message
			}
		}
		if want != "" {
			verb := ": it shares"
			if strings.Contains(want, ",") {
				verb = ": they share"
			}
			want = `the allow "x" has no path for ` + want + verb + " no segment with the other side, and neither is public"
		}
		require.Equal(t, want, got, rule)
	}
	// What goes through a router is no other rule's, and a block there is in the way.
	for _, c := range []struct{ rules, want string }{
		{"allow x: a -> b : https\nallow y: a -> b : https through gate\n", `covered: all that the rule "x" does is done by allow y`},
		{"allow x: a -> b : https through gate\nallow y: a -> b : https\n", `covered: all that the rule "y" does is done by allow x`},
		{"allow x: a -> b : https through gate\nallow y: a -> b : tcp 443 through gate\n",
			`repeated: the rule "y" does exactly what allow x does`},
		{"allow x: a -> b : https through gate\nallow y: a -> b : https through far\n", ""},
		{"allow x: a -> b : https through gate\nblock y: a -> everywhere : tcp 1-1000 through gate\n",
			`contradicted: all that the allow "x" admits is refused by block y`},
		{"allow x: a -> b : https through gate\nblock y: vpn -> everywhere : tcp 1-1000 through gate\n", ""},
		{"allow x: a, vpn -> b : https through gate\nblock y: a -> everywhere : tcp 1-1000 through gate\n", ""},
		{"allow x: vpn -> b : https\nblock y: a -> b : https\n", ""},
		{"allow x: a -> b : https\nblock y: a -> everywhere : https\n",
			`contradicted: all that the allow "x" admits is refused by block y`},
	} {
		rules, want := c.rules, c.want
		_, found := check.Policy([]check.Source{{Name: "p.fence", Text: roles + rules + "allow g: vpn -> fleet : ssh guard\n"}}, fl, now)
		got := ""
		for _, p := range found {
			if p.Code == "covered" || p.Code == "repeated" || p.Code == "contradicted" {
				got += p.Code + ": " + p.Message
			}
		}
		require.Equal(t, want, got, rules)
	}
	// The way in must get there too.
	wayIn := func(guards string) (out []string) {
		_, found := check.Policy([]check.Source{{Name: "p.fence", Text: roles + guards}}, fl, now)
		for _, p := range found {
			if p.Code == "no-way-in" {
				out = append(out, p.Message)
			}
		}
		return out
	}
	const in = "allow in: vpn -> host a1 : ssh guard\n"
	require.Equal(t, []string{`no chain of guards reaches the host "b1"`},
		wayIn(in+"allow hop: host a1 -> host a1, b, host a2, gate, far, web : ssh guard\n"),
		"the router between forwards nothing that no rule says goes through it")
	require.Empty(t, wayIn(in+"allow hop: host a1 -> a, gate, far, web : ssh guard\nallow over: host a1 -> b : ssh through gate guard\n"))
	require.Empty(t, wayIn(in+"allow hop: host a1 -> a, gate, far, web : ssh guard\nallow over: host a2 -> b : ssh guard\n"),
		"by a host that is on both")
}

// TestWarningsAboutRoles: those that are about what roles say.
func TestWarningsAboutRoles(t *testing.T) {
	policy := func(roles, rules string) []string {
		fl, found := fleet.ReadJSON("fleet.json", []byte(policytest.Fleet))
		require.Empty(t, found)
		_, found = check.Policy([]check.Source{{Name: "p.fence", Text: "policy p language 1\n" + roles +
			"allow way-in: 198.51.100.0/25, 2001:db8:5::/48 -> red : ssh guard\nallow hop: red -> fleet : ssh guard\n" + rules}}, fl, now)
		var got []string
		for _, p := range found {
			got = append(got, p.Code+": "+p.Message)
		}
		return got
	}
	const use = "allow use: blue, green -> red : https\n"
	require.Empty(t, policy("role red\nrole blue\nrole green\n", use))
	require.Equal(t, []string{`empty-role: no host has the role "grey"`},
		policy("role red\nrole blue\nrole green\nrole grey\n", use+"allow soon: red -> grey : https\n"))
	require.Empty(t, policy("role red\nrole blue\nrole green\nrole grey \"next year\" { outbound closed } knowingly empty-role \"not "+
		"bought yet\"\n", use+"allow soon: red -> grey : https\n"))
	require.Equal(t, []string{`unnamed-role: no rule names the role "green"`},
		policy("role red\nrole blue\nrole green\n", "allow use: blue -> red : https\n"))
	require.Empty(t, policy("role red\nrole blue\nrole green\n", "allow use: blue -> red except green : https\n"),
		"a role that is taken away is named")
	require.Equal(t, []string{`stance-overridden: "outbound open" of role "red" does not hold on h2, which is "blue" too`},
		policy("role red { outbound open }\nrole blue { outbound closed }\nrole green\n", use+
			"allow names: blue -> 192.0.2.53, 2001:db8::53 : domain, ntp\n"))
	require.Equal(t, []string{`outbound-blind: outbound is closed for "green", and h4 gets no answer from name servers (domain) and time ` +
		`servers (ntp)`},
		policy("role red\nrole blue\nrole green { outbound closed }\n", use))
	require.Empty(t, policy("role red\nrole blue\nrole green { outbound closed }\n", use+
		"allow names: green -> 192.0.2.53 : domain, ntp\n"))
}

// TestTheDocumentationListsAllChecks keeps docs/checks.md what the checks say of themselves.
func TestTheDocumentationListsAllChecks(t *testing.T) {
	var b strings.Builder
	b.WriteString("# What check finds\n\n`yfence check` tells these of a policy that reads well. A warning is accepted where it stands " +
		"with `knowingly CODE \"why\"`, or by the declaration that is its cause.\n`yfence check --explain CODE` prints any of them. This " +
		"page is made from the checks: `make generate`.\n")
	for _, c := range check.Checks {
		title, rest, _ := strings.Cut(c.Doc, "\n")
		fmt.Fprintf(&b, "\n## %s\n**%s**\n%s", c.Code, title, rest)
	}
	const page = "../../docs/checks.md"
	if *update {
		require.NoError(t, os.WriteFile(page, []byte(b.String()), 0o644))
	}
	want, err := os.ReadFile(page)
	require.NoError(t, err)
	require.Equal(t, string(want), b.String(), "make generate writes it anew")
}

func TestSummary(t *testing.T) {
	require.Equal(t, "no problems", check.Summary(nil))
}

func TestEveryCheckIsDocumented(t *testing.T) {
	for _, c := range check.Checks {
		require.Greater(t, len(c.Doc), 100, c.Code)
		require.True(t, strings.HasSuffix(c.Doc, "\n"), c.Code)
	}
}

// FuzzPolicy: whatever a policy and its list of addresses hold, it is checked, refused
// with a place, or ended as too complex; and the same text has the same problems again.
func FuzzPolicy(f *testing.F) {
	fl, found := fleet.ReadJSON("fleet.json", []byte(policytest.Fleet))
	require.Empty(f, found)
	for seed := range uint64(12) {
		f.Add(policytest.Random(rand.New(rand.NewPCG(11, seed))), "192.0.2.0/24\n2001:db8::/32 # crew\n")
	}
	f.Add(head+"network l = from \"l.txt\"\nallow a: l -> red : tcp 1-9\nexpect e: l can reach red : tcp 5\n",
		"10.0.0.0/8\n::ffff:10.0.0.0/104\n\x00")
	f.Fuzz(func(t *testing.T, text, list string) {
		sources := []check.Source{{Name: "p.fence", Text: text}, {Name: "l.txt", Text: list}}
		budget := packet.Budget{Edges: 200_000}
		_, problems, err := check.PolicyWithin(budget, sources, fl, now)
		for _, p := range problems {
			require.Positive(t, p.Line, p.Message)
			require.Positive(t, p.Column, p.Message)
			require.NotEmpty(t, p.Message)
		}
		if err == nil {
			_, again, _ := check.PolicyWithin(budget, sources, fl, now)
			require.Equal(t, problems, again)
		}
	})
}
