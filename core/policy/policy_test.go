package policy_test

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"yellowfence.example/yfence/core/fence"
	"yellowfence.example/yfence/core/fleet"
	"yellowfence.example/yfence/core/packet"
	"yellowfence.example/yfence/core/policy"
	"yellowfence.example/yfence/core/policy/policytest"
)

const head = "policy p language 1\nrole red\nrole blue\nrole green\n"

func TestSides(t *testing.T) {
	for peers, want := range map[string]string{
		"green":                          "named h4: 203.0.113.9/32",
		"host h2":                        "named h2: 10.40.3.1/32 198.51.100.7/32",
		"blue except host h3":            "named h2: 10.40.3.1/32 198.51.100.7/32",
		"crowd":                          "named h2 h3 h4: 10.40.3.1/32 10.60.3.1/32 198.51.100.7/32 203.0.113.9/32 fd60::3:1/128",
		"crowd at red":                   "named h2: 10.40.3.1/32 198.51.100.7/32",
		"fleet except crowd":             "named h1: 10.40.0.1/32 10.60.0.1/32 203.0.113.1/32 2001:db8:1::1/128 fd40::1/128 fd60::1/128",
		"some":                           "named h2: 10.40.3.1/32 192.0.2.0/28 192.0.2.16/30",
		"both at 192.0.0.0/8":            "named: 192.0.2.0/28 192.0.2.16/30",
		"everywhere at some":             "10.40.3.1/32 192.0.2.0/28 192.0.2.16/30",
		"fleet at blue":                  "named h2 h3: 10.40.3.1/32 10.60.3.1/32 198.51.100.7/32 fd60::3:1/128",
		"red at blue":                    "named h2: 10.40.3.1/32 198.51.100.7/32",
		"fleet except fleet at red":      "named h3 h4: 10.60.3.1/32 203.0.113.9/32 fd60::3:1/128",
		"fleet at 203.0.113.0/24":        "named h1 h4: 203.0.113.1/32 203.0.113.9/32",
		"green at blue":                  "named: ",
		"198.51.100.0/28 at red":         "198.51.100.7/32",
		"net at 192.0.2.8/29, green":     "named h4: 192.0.2.8/29 203.0.113.9/32",
		"fleet except red, blue":         "named h4: 203.0.113.9/32",
		"net":                            "192.0.2.0/28 192.0.2.16/30",
		"net except 192.0.2.0/28":        "192.0.2.16/30",
		"net, green":                     "named h4: 192.0.2.0/28 192.0.2.16/30 203.0.113.9/32",
		"everywhere":                     "0.0.0.0/0 ::/0",
		"everywhere except 128.0.0.0/1":  "0.0.0.0/1 ::/0",
		"192.0.2.9-192.0.2.10, fd00::/8": "192.0.2.9/32 192.0.2.10/32 fd00::/8",
	} {
		pol := policytest.Resolve(t, policytest.Fleet, head+
			"network net = inner, 192.0.2.16-192.0.2.19\nnetwork inner = 192.0.2.0/28\nallow a: "+peers+
			" -> fleet : ssh\npeers crowd = blue, host h4\npeers some = fleet at 10.40.0.0/16, net except host h1\npeers both = "+
			"crowd, net\n")
		s := pol.Rule("a").From
		got := ""
		if s.Named {
			got = "named"
			for _, h := range s.Hosts {
				got += " " + h.Name
			}
			got += ": "
		}
		var prefixes []string
		for _, p := range s.Addrs.Prefixes() {
			prefixes = append(prefixes, p.String())
		}
		require.Equal(t, want, got+strings.Join(prefixes, " "), peers)
	}
}

func TestServices(t *testing.T) {
	for services, want := range map[string]string{
		"ssh":         "tcp 22-22",
		"domain":      "tcp 53-53, udp 53-53",
		"own":         "tcp 1-2, udp 9-9",
		"ping":        "icmp type 8 family 0, icmpv6 type 128 family 1",
		"icmp 3/4":    "icmp type 3 code 4 family 0",
		"protocol 47": "gre 0-65535",
		"any":         "any",
	} {
		pol := policytest.Resolve(t, policytest.Fleet, head+"service own = more, udp 9\nservice more = tcp 1-2\nallow a: red -> blue : "+
			services+"\n")
		var got []string
		for _, term := range pol.Rule("a").Terms {
			s := "any"
			if term.Protocol != policy.AnyProtocol {
				s = packet.ProtocolName(term.Protocol)
				switch {
				case term.Type == policy.AnyType:
					s += fmt.Sprintf(" %d-%d", term.Ports.Lo, term.Ports.Hi)
				default:
					s += fmt.Sprintf(" type %d", term.Type)
					if term.Code != policy.AnyType {
						s += fmt.Sprintf(" code %d", term.Code)
					}
					s += fmt.Sprintf(" family %d", term.Family)
				}
			}
			got = append(got, s)
		}
		require.Equal(t, want, strings.Join(got, ", "), services)
	}
}

// TestStancesCombine: of what a host's roles say closed beats open, drop beats reject.
func TestStancesCombine(t *testing.T) {
	for _, c := range []struct{ roles, want string }{
		{"role red\nrole blue", "closed drop, open drop, open drop"},
		{"role red { inbound open }\nrole blue", "open drop, open drop, open drop"},
		{"role red { inbound open }\nrole blue { inbound closed }", "closed drop, open drop, open drop"},
		{"role red { outbound closed forward closed }\nrole blue", "closed drop, closed drop, closed drop"},
		{"role red { refuse by reject }\nrole blue", "closed reject, open reject, open reject"},
		{"role red { refuse by reject }\nrole blue { refuse by drop }", "closed drop, open drop, open drop"},
		{"role red { refuse by drop }\nrole blue { refuse by reject }", "closed drop, open drop, open drop"},
		{"role red { refuse by reject }\nrole blue { refuse by reject }", "closed reject, open reject, open reject"},
	} {
		roles, want := c.roles, c.want
		pol := policytest.Resolve(t, policytest.Fleet, "policy p language 1\nrole green\n"+roles+"\n")
		var got []string
		for _, d := range []packet.Direction{packet.Inbound, packet.Outbound, packet.Forward} {
			s := pol.StanceOf(pol.Fleet.Host("h2"), d)
			word := map[bool]string{true: "closed", false: "open"}[s.Closed]
			got = append(got, word+map[packet.Verdict]string{packet.Drop: " drop", packet.Reject: " reject"}[s.RefuseBy])
		}
		require.Equal(t, want, strings.Join(got, ", "), roles)
	}
}

func TestMessages(t *testing.T) {
	for _, c := range []struct{ text, want string }{
		{"allow a: red -> blue : sssh\n", `5:24 unknown: no service is named "sssh" | did you mean "ssh"?`},
		{"allow a: redd -> blue : ssh\n", `5:10 unknown: no role, network or segment is named "redd" | did you mean "red"?`},
		{"allow a: host h9 -> blue : ssh\n", `5:10 unknown: no host is named "h9" | did you mean "h1"?`},
		{"allow a: red -> blue : ssh on net\nnetwork net = 10.0.0.0/8\n",
			`5:31 unknown: no segment is named "net" | "net" is declared at p.fence:6:9 as something else`},
		{"allow a: red -> blue : ssh over b\nallow b: red -> blue : ssh\n",
			`5:33 over: "b" is an allow; an exception is made to a block | name the block that stands in the way`},
		{"segment wifi = 10.9.0.0/16\nallow a: red -> blue : ssh over wifi\n",
			"6:33 unknown: no block is named \"wifi\" | \"wifi\" is a segment: to admit only what stays on it, write `on wifi`"},
		{"allow a: red -> blue : ssh over c\nblock cc: red -> blue : ssh\n", `5:33 unknown: no block is named "c" | did you mean "cc"?`},
		{"network red = 10.0.0.0/8\n", `5:9 twice: "red" is declared twice | the other declaration is at p.fence:2:6; networks, ` +
			`segments, services, roles and peers share their names`},
		{"allow a: red -> blue : ssh\nblock a: red -> blue : ssh\n",
			`6:7 twice: two rules are named "a" | the other is at p.fence:5:7; a rule's name says which rule is meant`},
		{"network a = b\nnetwork b = a\n", `5:9 cycle: the network "a" is made of itself | one may name others, but not in a circle`},
		{"peers x = y\npeers y = x\nallow a: x -> red : ssh\n",
			`5:7 cycle: the peers "x" is made of itself | one may name others, but not in a circle`},
		{"service s = z\nservice z = s\n", `5:9 cycle: the service "s" is made of itself | one may name others, but not in a circle`},
		{"network net = 192.0.2.0/24\nallow a: net -> everywhere : ssh\n",
			"6:7 no-end: the rule \"a\" names hosts of ours at neither end | name a role, host NAME or fleet on one side, so that there " +
				"is a host to put the rule on, or a role it goes `through`, or join the networks through one"},
		{"role gate\nsegment s = 10.0.0.0/8\nallow a: gate -> everywhere : ssh on s through gate\n",
			`7:38 through: what goes through gate is on more than one segment: it takes no "on" | take one of the two away`},
		{"role gate\nallow a: gate -> everywhere : ssh encrypted through gate\n",
			"6:53 through: what is encrypted from end to end shows a router on its way nothing but ESP | take `through` away, and allow " +
				"`protocol 50` through gate"},
		{"allow a: red -> blue : ssh from 2027-01-02 until 2027-01-01\n",
			`5:44 date: the rule "a" ends before it begins | it begins on 2027-01-02; give it a later end`},
		{"allow a: red -> blue : ssh guard until 2027-01-01\n",
			`5:34 guard: a guard takes no "until": the way in must be sure | take it away, or take guard away`},
		{"allow a: red -> blue : ssh through lockgate\n", `5:36 unknown: no role is named "lockgate" | `},
		{"network net from \"nets.txt\"\n", `5:18 list: there is no list "nets.txt" | the file lies in the policy's folder; its name is ` +
			`written as from there`},
		{"network net from \"../nets.txt\"\n",
			`5:18 list: there is no list "../nets.txt" | a list must lie in the policy's folder, which this leaves`},
		{"expect a: always red -> blue : ssh\nexpect a: never red -> blue : ssh\n",
			`6:8 twice: two expectations are named "a" | the other is at p.fence:5:8; an expectation's name says which is meant`},
		{"network n = 192.0.2.0/24\nredirect r: everywhere -> n : tcp 80 to tcp 81\n",
			"6:10 no-end: the redirect \"r\" names no hosts of ours that could carry it out | name a role, host NAME or fleet on the " +
				"right side, or the routers with `through ROLE`"},
		{"network n = 192.0.2.0/24\nredirect r: everywhere -> red : tcp 80 to udp 81\n",
			"6:43 redirect: the redirect \"r\" takes tcp 80 and gives udp 81: a connection keeps its protocol | write the same protocol " +
				"on both sides of `to`"},
		{"network n = 192.0.2.0/24\nredirect r: everywhere -> red : tcp 80 to red : tcp 81\n",
			"6:43 redirect: the redirect \"r\" goes to red, which is more than one address of a family | say which: an address, or `host " +
				"NAME at SEGMENT`"},
		{"network n = 192.0.2.0/24\nmasquerade m: n -> everywhere through gate\n", "6:39 unknown: no role is named \"gate\" | "},
		{"redirect r: office -> red : tcp 80 through gate to tcp 81\n",
			"5:13 unknown: no role, network or segment is named \"office\" | \n5:44 unknown: no role is named \"gate\" | "},
		{"expect e: never red -> blue : ssh off\n",
			`5:35 expectation-off: the expectation "e" is off and does not say why | say so: because "…"`},
		{"expect e: never red -> blue : sssh on quai\n",
			"5:31 unknown: no service is named \"sssh\" | did you mean \"ssh\"?\n5:39 unknown: no segment is named \"quai\" | "},
		{"network office = 198.51.100.0/24\nallow a: office -> red : ssh from user backup\n",
			"6:35 sender: only the sending end knows who sends, and office is no host of ours | name a role, host NAME or fleet on the " +
				"left, or take `from user` away"},
		{"policy q language 1\n", "5:8 twice: the policy is named twice | the other name is at p.fence:1:8; leave one"},
	} {
		fl, problems := fleet.ReadJSON("fleet.json", []byte(policytest.Fleet))
		require.Empty(t, problems)
		file, problems := fence.Parse("p.fence", head+c.text)
		require.Empty(t, problems)
		_, problems = policy.Resolve(policy.Input{Files: []*fence.File{file}, Fleet: fl})
		var got []string
		for _, p := range problems {
			got = append(got, fmt.Sprintf("%d:%d %s: %s | %s", p.Line, p.Column, p.Code, p.Message, p.Hint))
		}
		require.Equal(t, c.want, strings.Join(got, "\n"), c.text)
	}
}

func TestAHostsRoleMustBeDeclared(t *testing.T) {
	fl, _ := fleet.ReadJSON("fleet.json", []byte(policytest.Fleet))
	file, _ := fence.Parse("p.fence", "policy p language 1\nrole red\nrole blu\nrole green\n")
	_, problems := policy.Resolve(policy.Input{Files: []*fence.File{file}, Fleet: fl})
	require.Len(t, problems, 2, "two hosts have the role blue")
	require.Equal(t, "fleet.json", problems[0].File)
	require.Equal(t, `no role is named "blue"`, problems[0].Message)
	require.Equal(t, `did you mean "blu"?`, problems[0].Hint)
}

// TestTheSegmentOfAnInterface: the fleet file and the policy must agree, and
// where segments overlap the fleet file must say.
func TestTheSegmentOfAnInterface(t *testing.T) {
	for _, c := range []struct{ segments, iface, want string }{
		{"segment quay = 10.40.0.0/16", `"addresses": ["10.40.0.1/16"]`, ""},
		{"segment quay = 10.40.0.0/16", `"addresses": ["10.40.0.1/16"], "segment": "quay"`, ""},
		{"segment quay = 10.40.0.0/16", `"addresses": ["10.40.0.1/16"], "segment": "hill"`, `1:113 unknown: no segment is named "hill" | `},
		{"segment quay = 10.40.0.0/16", `"addresses": ["10.60.0.1/16", "fd60::1/64"], "segment": "quay"`,
			`1:127 fleet-segment: no address of e lies in the segment "quay" | its addresses are 10.60.0.1/16, fd60::1/64; the segment ` +
				`is declared at p.fence:3:9`},
		{"segment quay = 10.40.0.0/16", `"addresses": ["10.60.0.1/16", "10.40.0.1/16"], "segment": "quay"`, ""},
		{"segment quay = 10.40.0.0/16", `"addresses": [], "segment": "quay"`, ""},
		{"segment quay = 10.40.0.0/16\nsegment pier = 10.40.1.0/24", `"addresses": ["10.40.2.1/16"]`, ""},
		{"segment quay = 10.40.0.0/16\nsegment pier = 10.40.1.0/24", `"addresses": ["10.40.1.1/16"]`,
			`1:66 fleet-segment: 10.40.1.1 lies in the segments quay and pier, which overlap | say which of them e is on: ` +
				`"segment": "quay"`},
		{"segment quay = 10.40.0.0/16\nsegment pier = 10.40.1.0/24", `"addresses": ["10.40.1.1/16"], "segment": "pier"`, ""},
		{"segment quay = 10.40.0.0/16\nsegment hill = 10.60.0.0/16", `"addresses": ["10.40.1.1/16", "10.60.1.1/16"]`, ""},
	} {
		fl, problems := fleet.ReadJSON("fleet.json",
			[]byte(`{"hosts": [{"name": "a", "roles": ["r"], "interfaces": [{"name": "e", `+c.iface+`}]}]}`))
		require.Empty(t, problems)
		file, problems := fence.Parse("p.fence", "policy p language 1\nrole r\n"+c.segments+"\n")
		require.Empty(t, problems)
		_, problems = policy.Resolve(policy.Input{Files: []*fence.File{file}, Fleet: fl})
		var got []string
		for _, p := range problems {
			got = append(got, fmt.Sprintf("%d:%d %s: %s | %s", p.Line, p.Column, p.Code, p.Message, p.Hint))
		}
		require.Equal(t, c.want, strings.Join(got, "\n"), "%s %s", c.segments, c.iface)
	}
}

// TestLogsOfRolesCombine: the lowest rate of what a host's roles say counts.
func TestLogsOfRolesCombine(t *testing.T) {
	for roles, want := range map[string]string{
		"role red\nrole blue":                                                                "none",
		"role red { log refused }\nrole blue":                                                "all",
		"role red\nrole blue { log refused up to 10 per 1m }":                                "10 per 1m",
		"role red { log refused }\nrole blue { log refused up to 10 per 1m }":                "10 per 1m",
		"role red { log refused up to 10 per 1m }\nrole blue { log refused }":                "10 per 1m",
		"role red { log refused up to 10 per 1m }\nrole blue { log refused up to 1 per 1m }": "1 per 1m",
		// the same rate, and the smaller bucket
		"role red { log refused up to 1 per 1m }\nrole blue { log refused up to 60 per 1h }": "1 per 1m",
	} {
		pol := policytest.Resolve(t, policytest.Fleet, "policy p language 1\nrole green\n"+roles+"\n")
		got := "none"
		if l := pol.StanceOf(pol.Fleet.Host("h2"), packet.Inbound).Log; l != nil && l.UpTo == nil {
			got = "all"
		} else if l != nil {
			got = l.UpTo.String()
		}
		require.Equal(t, want, got, roles)
	}
}

func TestAPolicyHasAName(t *testing.T) {
	file, _ := fence.Parse("p.fence", "role red\n")
	_, problems := policy.Resolve(policy.Input{Files: []*fence.File{file}, Fleet: &fleet.Fleet{}})
	require.Equal(t, "unnamed", problems[0].Code)
}

// TestLists: a network's addresses kept in a file of their own.
func TestLists(t *testing.T) {
	fl, _ := fleet.ReadJSON("fleet.json", []byte(policytest.Fleet))
	sources := []policy.Source{
		{Name: "p.fence", Text: head + "network pests from \"lists/pests.txt\"\nallow a: pests -> red : ssh\n"},
		{Name: "lists/pests.txt", Text: "# seen last week\n192.0.2.0/28\n\n192.0.2.77   # a scanner\n2001:db8:bad::/48\n"},
	}
	in, problems := policy.Read(sources, fl)
	require.Empty(t, problems)
	require.Equal(t, []string{"lists/pests.txt"}, policy.ListsOf(in.Files[0]))
	pol, problems := policy.Resolve(in)
	require.Empty(t, problems)
	var got []string
	for _, p := range pol.Rule("a").From.Addrs.Prefixes() {
		got = append(got, p.String())
	}
	require.Equal(t, []string{"192.0.2.0/28", "192.0.2.77/32", "2001:db8:bad::/48"}, got)

	sources[1].Text = "192.0.2.0/28\nnonsense\n10.0.0.1/8\n"
	in, _ = policy.Read(sources, fl)
	_, problems = policy.Resolve(in)
	require.Len(t, problems, 2)
	require.Equal(t, []any{"lists/pests.txt", 2, `"nonsense" is not an address`},
		[]any{problems[0].File, problems[0].Line, problems[0].Message})
	require.Equal(t, []any{3, "write 10.0.0.0/8 for the network, or 10.0.0.1 for the one address"},
		[]any{problems[1].Line, problems[1].Hint})
}

// TestTheRegistry: every registered name can be written in a policy, and its
// services read as what they are.
func TestTheRegistry(t *testing.T) {
	names := policy.RegisteredNames()
	require.Greater(t, len(names), 300)
	require.IsIncreasing(t, names)
	for _, name := range names {
		if name != "any" {
			require.True(t, fence.IsName(name), "%s cannot be written", name)
		}
	}
	for _, c := range []struct {
		protocol, port int
		want           string
	}{{packet.TCP, 22, "ssh"}, {packet.UDP, 22, ""}, {packet.UDP, 53, "domain"}, {packet.TCP, 53, "domain"}, {packet.UDP, 123, "ntp"},
		{packet.TCP, 123, ""},
		{packet.TCP, 5432, "postgresql"}, {packet.TCP, 443, "https"}, {packet.UDP, 69, "tftp"}, {packet.TCP, 3389, "ms-wbt-server"},
		{packet.SCTP, 3868, "diameter"}, {packet.TCP, 1, "tcpmux"}, {packet.TCP, 64999, ""}} {
		require.Equal(t, c.want, policy.ServiceAt(c.protocol, c.port), "%d/%d", c.protocol, c.port)
	}
}
