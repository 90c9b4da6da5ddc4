package group_test

import (
	"math/rand/v2"
	"net/netip"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yellowfence.example/yfence/core/compile"
	"yellowfence.example/yfence/core/dialect/group"
	"yellowfence.example/yfence/core/fleet"
	"yellowfence.example/yfence/core/packet"
	"yellowfence.example/yfence/core/policy"
	"yellowfence.example/yfence/core/policy/policytest"
)

// TestConformance: for random policies, with every overlap of blocks, exceptions and
// circumstances, what is written and read back admits just the connections that the
// policy admits, by what a group can tell about them.
func TestConformance(t *testing.T) {
	for seed := range policytest.Trials(26) {
		text := policytest.Random(rand.New(rand.NewPCG(11, seed)))
		pol := policytest.Resolve(t, policytest.Fleet, text)
		for _, h := range pol.Fleet.Hosts {
			sp := packet.NewSpace()
			admitted := group.Of(sp, compile.ForHost(sp, pol, h, 0))
			for _, can := range []group.Abilities{{}, {RulesPerGroup: 3, PeersPerRule: 2}, {Ordered: true},
				{Ordered: true, RulesPerGroup: 4, PeersPerRule: 3}} {
				groups, err := admitted.Write(sp, "charts", can)
				require.NoError(t, err)
				doc, err := group.Parse([]byte((&group.Document{Version: 1, Kind: group.Kind, Groups: groups}).String()))
				require.NoError(t, err)
				for _, g := range doc.Groups {
					for _, r := range slices.Concat(g.Inbound, g.Outbound) {
						require.False(t, can.PeersPerRule > 0 && len(r.Peers) > can.PeersPerRule)
					}
					require.False(t, can.RulesPerGroup > 0 && max(len(g.Inbound), len(g.Outbound)) > can.RulesPerGroup)
				}
				rs, err := group.Read(sp, h, pol.Fleet, doc)
				require.NoError(t, err)
				require.NoError(t, admitted.Prove(sp, rs), "seed %d host %s\n%s\n%s", seed, h.Name, text, doc)
			}
		}
	}
}

const fleetFile = `{"hosts": [
 {"name": "charts-01", "roles": ["charts"], "dialect": "none", "interfaces": [{"name": "eth0", "addresses": ["203.0.113.70/28"]}], "instance": {"cloud": "dunlin", "id": "p-1"}},
 {"name": "logbook-01", "roles": ["logbook"], "dialect": "nft", "interfaces": [{"name": "eth0", "addresses": ["203.0.113.71/28"]}, {"name": "eth1", "addresses": ["10.40.3.40/16", "fd40::3:40/64"]}], "instance": {"cloud": "dunlin", "id": "p-2"}},
 {"name": "jump-01", "roles": ["jump"], "dialect": "nft", "interfaces": [{"name": "eth1", "addresses": ["10.40.1.1/16"]}]}]}`

const names = `policy p language 1
network office = 198.51.100.0/24
network pests = 198.51.100.64/27
segment quay = 10.40.0.0/16
role charts
role logbook
role jump
`

// TestWritten is what groups come to for policies.
func TestWritten(t *testing.T) {
	const errors = "icmp 3 with 0.0.0.0/0 (ground icmp-errors)|icmp 11-12 with 0.0.0.0/0 (ground icmp-errors)"
	for _, c := range []struct {
		what, host, rules string
		want              string // inbound, but for the ground
		left              string
	}{
		{"nothing", "charts-01", "", "", ""},
		{"a port, from everywhere", "charts-01", "allow site: everywhere -> charts : tcp 80, 443",
			"tcp 80 with 0.0.0.0/0 (allow site)|tcp 443 with 0.0.0.0/0 (allow site)", ""},
		{"ports that touch are one run", "charts-01", "allow a: office -> charts : tcp 80-89\nallow b: office -> charts : tcp 90-99",
			"tcp 80-99 with 198.51.100.0/24 (allow a, allow b)", ""},
		{"a run within another's", "charts-01", "allow all: jump -> charts : tcp 1-65535\nallow one: office -> charts : tcp 22",
			"tcp 1-65535 with 10.40.1.1/32 (allow all)|tcp 22 with 198.51.100.0/24 (allow one)", ""},
		{"prefixes join, of those who may", "charts-01",
			"allow a: 198.51.100.0/25 -> charts : tcp 22-23\nallow b: 198.51.100.128/25 -> charts : tcp 22",
			"tcp 22 with 198.51.100.0/24 (allow b)|tcp 22-23 with 198.51.100.0/25 (allow a)", ""},
		{"a block is worked in", "charts-01", "allow a: office -> charts : ssh\nblock b: pests -> charts : any",
			"tcp 22 with 198.51.100.0/26, 198.51.100.96/27, 198.51.100.128/25 (allow a)", ""},
		{"a block that takes a port", "charts-01", "allow a: office -> charts : tcp 20-30\nblock b: office -> charts : tcp 25",
			"tcp 20-24 with 198.51.100.0/24 (allow a)|tcp 26-30 with 198.51.100.0/24 (allow a)", ""},
		{"everything", "charts-01", "allow a: office -> charts : any", "any with 198.51.100.0/24 (allow a)", ""},
		{"ICMP", "charts-01", "allow a: office -> charts : icmp 13, icmp 8/0",
			"icmp 8/0 with 198.51.100.0/24 (allow a)|icmp 11-13 with 198.51.100.0/24 (allow a)", ""},
		{"a protocol", "charts-01", "allow a: office -> charts : protocol 47", "47 with 198.51.100.0/24 (allow a)", ""},
		{"over the only interface there is", "charts-01", "allow a: everywhere -> charts : ssh on front\nsegment front = 203.0.113.64/28",
			"tcp 22 with 203.0.113.64/28 (allow a)", ""},
		{"over one of two", "logbook-01", "allow a: everywhere -> logbook : ssh on quay", "tcp 22 with 10.40.0.0/16 (allow a)",
			"allow a: which of its addresses, the interface"},
		{"how often", "logbook-01", "allow a: office -> logbook : ssh at most 4 per 1m", "tcp 22 with 198.51.100.0/24 (allow a)",
			"allow a: how often"},
		{"who sends is told where it is sent", "logbook-01", "allow a: jump -> logbook : ssh from user backup",
			"tcp 22 with 10.40.1.1/32 (allow a)", ""},
		{"until", "logbook-01", "allow a: office -> logbook : ssh until 2030-01-01", "tcp 22 with 198.51.100.0/24 (allow a)", ""},
		{"until it is over", "logbook-01", "allow a: office -> logbook : ssh until 2020-01-01", "", ""},
	} {
		t.Run(c.what, func(t *testing.T) {
			pol := policytest.Resolve(t, fleetFile, names+c.rules+"\n")
			sp := packet.NewSpace()
			a := group.Of(sp, compile.ForHost(sp, pol, pol.Fleet.Host(c.host), 1_800_000_000))
			require.Equal(t, c.left, strings.Join(a.Left, "|"))
			require.Equal(t, c.what == "until", a.Until == time.Date(2030, 1, 2, 0, 0, 0, 0, time.UTC).Unix())
			groups, err := a.Write(sp, "charts", group.Abilities{})
			require.NoError(t, err)
			var got []string
			for _, r := range groups[0].Inbound {
				if !strings.HasPrefix(r.Comment, "ground ") {
					got = append(got, r.String()+" ("+r.Comment+")")
				}
			}
			require.Equal(t, c.want, strings.Join(got, "|"))
			if c.host == "charts-01" && c.rules == "" {
				var all []string
				for _, r := range groups[0].Inbound {
					all = append(all, r.String()+" ("+r.Comment+")")
				}
				require.Contains(t, strings.Join(all, "|"), errors)
			}
		})
	}
}

// TestOrdered: where a cloud's rules may refuse, those who are to be kept out are, if that is said in
// less; and stay with what they are an exception to, however groups are split.
func TestOrdered(t *testing.T) {
	pol := policytest.Resolve(t, fleetFile, names+
		"allow a: everywhere -> charts : https, ssh\nblock b: pests -> charts : https\nallow c: office -> charts : tcp 8080\n")
	sp := packet.NewSpace()
	a := group.Of(sp, compile.ForHost(sp, pol, pol.Fleet.Host("charts-01"), 0))
	for _, can := range []group.Abilities{{Ordered: true}, {Ordered: true, RulesPerGroup: 2},
		{Ordered: true, RulesPerGroup: 3, PeersPerRule: 1}} {
		groups, err := a.Write(sp, "charts", can)
		require.NoError(t, err)
		refuses := 0
		for _, g := range groups {
			for i, r := range g.Inbound {
				if !r.Refuses {
					continue
				}
				refuses++
				require.Equal(t, "443", r.Service.Ports)
				last := g.Inbound[len(g.Inbound)-1]
				require.True(t, i+1 < len(g.Inbound) && (last.Service.Ports == "443" || g.Inbound[i+1].Service.Ports == "443"),
					"what it is an exception to is in the same group")
			}
		}
		require.Equal(t, can.RulesPerGroup == 2, refuses == 0, "where two rules are one more than are needed, nobody is refused")
		rs, err := group.Read(sp, pol.Fleet.Host("charts-01"), pol.Fleet, &group.Document{Groups: groups})
		require.NoError(t, err)
		require.NoError(t, a.Prove(sp, rs))
		plain, err := a.Write(sp, "charts", group.Abilities{})
		require.NoError(t, err)
		peers := func(groups []group.Group) (n int) {
			for _, g := range groups {
				for _, r := range slices.Concat(g.Inbound, g.Outbound) {
					n += len(r.Peers)
				}
			}
			return n
		}
		require.True(t, can.RulesPerGroup == 2 || peers(groups) < peers(plain))
	}
}

// TestRefused: a cloud that has no room, and a host that has nobody to leave anything to.
func TestRefused(t *testing.T) {
	pol := policytest.Resolve(t, fleetFile, names+
		"allow many: office -> charts : tcp 1, 3, 5, 7, 9\nallow few: everywhere -> charts : tcp 11\n")
	sp := packet.NewSpace()
	a := group.Of(sp, compile.ForHost(sp, pol, pol.Fleet.Host("charts-01"), 0))
	groups, err := a.Write(sp, "charts", group.Abilities{RulesPerGroup: 4, GroupsPerInstance: 4})
	require.NoError(t, err)
	require.Equal(t, []string{"charts", "charts_2", "charts_3"}, []string{groups[0].Name, groups[1].Name, groups[2].Name})
	_, err = a.Write(sp, "charts", group.Abilities{RulesPerGroup: 4, GroupsPerInstance: 2})
	var many *group.TooMany
	require.ErrorAs(t, err, &many)
	require.Equal(t, []any{packet.Inbound, 3, 4, 2, "allow many"},
		[]any{many.Direction, many.Groups, many.Each, many.May, many.Costs[0].Statement})
	require.Contains(t, err.Error(), "inbound rules take 3 groups of at most 4, and the cloud lets an instance be in 2; most come from "+
		"allow many 5, ")

	pol = policytest.Resolve(t, fleetFile, names+"allow a: office -> charts : ssh at most 4 per 1m\n")
	a = group.Of(sp, compile.ForHost(sp, pol, pol.Fleet.Host("charts-01"), 0))
	_, err = a.Write(sp, "charts", group.Abilities{})
	require.ErrorContains(t, err, "it has no way yet to say allow a: how often")
}

// TestBadDocuments: what is no document, or half of one, opens nothing.
func TestBadDocuments(t *testing.T) {
	pol := policytest.Resolve(t, fleetFile, names)
	head := `{"version": 1, "kind": "security-groups", "cloud": "dunlin", "groups": [{"name": "a", "inbound": [`
	rule := func(r string) string { return head + r + `], "outbound": []}]}` }
	for _, c := range []struct{ text, want string }{
		{"", "this is no whole document of security groups: EOF"},
		{head + `{"protocol": "tcp"`, "this is no whole document of security groups: unexpected EOF"},
		{`{"version": 1, "kind": "shopping-list"}`, `its kind is "shopping-list", not "security-groups"`},
		{`{"version": 2, "kind": "security-groups"}`, "it is of version 2; this program reads version 1"},
		{`{"version": 1, "kind": "security-groups"} x`, "something follows behind the document, at byte "},
		{`{"version": 1, "kind": "security-groups", "groups": [{"name": "a"}, {"name": "a"}]}`,
			`a group's name is "a", which is empty or stands twice`},
		{`{"version": 1, "kind": "security-groups", "groups": [], "members": [{"instance": "p-1", "groups": ["b"]}]}`,
			`the instance p-1 is in the group "b", which the document does not have`},
		{`{"version": 1, "kind": "security-groups", "groups": [{"name": "a"}], "members": [{"instance": "p-9", "groups": ["a"]}]}`,
			`the document does not say which groups the instance of charts-01 ("p-1") is in`},
		{`{"version": 1, "kind": "security-groups", "groups": [{"name": "a", "inbound": [{"service": "any", "of": 3}]}]}`,
			`unknown field "of"`},
		{rule(`{"service": "tpc", "peers": []}`),
			`a inbound rule 1: the protocol "tpc" is neither a number from 0 to 255 nor a range of them, nor one of any, tcp, udp, sctp, ` +
				`icmp, icmpv6`},
		{rule(`{"service": "icmp 300", "peers": []}`),
			`a inbound rule 1: the icmp type "300" is neither a number from 0 to 255 nor a range of them`},
		{rule(`{"service": "any 8", "peers": []}`), `a inbound rule 1: the protocol "any" has no port`},
		{rule(`{"service": "tcp 90-80", "peers": []}`),
			`a inbound rule 1: the port "90-80" is neither a number from 0 to 65535 nor a range of them`},
		{rule(`{"service": "icmp/3", "peers": []}`),
			`a inbound rule 1: the protocol "icmp/3" is neither a number from 0 to 255 nor a range of them`},
		{rule(`{"service": "tcp", "peers": ["10.0.0.0/33"]}`),
			`a inbound rule 1: the peer "10.0.0.0/33" is neither a prefix nor {"group": NAME}`},
		{rule(`{"service": "tcp", "peers": ["10.0.0.0/8"]}, {"service": "tcp", "peers": [{"group": "b"}]}`),
			"a inbound rule 2: the peer b is no group of the document"},
	} {
		text, want := c.text, c.want
		doc, err := group.Parse([]byte(text))
		if err == nil {
			_, err = group.Read(packet.NewSpace(), pol.Fleet.Host("charts-01"), pol.Fleet, doc)
		}
		require.ErrorContains(t, err, want, "%s", text)
	}
}

// TestPeersThatAreGroups stand for their members' addresses: those that the cloud says, else the fleet's.
func TestPeersThatAreGroups(t *testing.T) {
	pol := policytest.Resolve(t, fleetFile, names)
	doc, err := group.Parse([]byte(`{"version": 1, "kind": "security-groups", "cloud": "dunlin", "groups": [
		{"name": "charts", "inbound": [{"service": "tcp 22", "peers": [{"group": "others"}]}], "outbound": []}, {"name": "others", "inbound": [], "outbound": []}],
		"members": [{"instance": "p-1", "groups": ["charts"]}, {"instance": "p-2", "groups": ["others"]}, {"instance": "p-3", "groups": ["others"], "addresses": ["192.0.2.7"]}]}`))
	require.NoError(t, err)
	sp := packet.NewSpace()
	rs, err := group.Read(sp, pol.Fleet.Host("charts-01"), pol.Fleet, doc)
	require.NoError(t, err)
	d := rs.Decision(sp)
	for from, want := range map[string]packet.Verdict{"10.40.3.40": packet.Admit, "fd40::3:40": packet.Admit, "192.0.2.7": packet.Admit,
		"192.0.2.8": packet.Drop, "203.0.113.70": packet.Drop} {
		p := packet.Packet{Hook: packet.In, Family: "ipv4", Src: netip.MustParseAddr(from), Dst: netip.MustParseAddr("203.0.113.70"),
			Protocol: "tcp", SrcPort: new(50000), DstPort: new(22), In: "eth0", State: "new"}
		if p.Src.Is6() {
			p.Family, p.Dst = "ipv6", netip.MustParseAddr("2001:db8::70")
		}
		require.Equal(t, want, sp.Outcome(d, p).Verdict, from)
		p.State = "established"
		require.Equal(t, packet.Admit, sp.Outcome(d, p).Verdict, "a group is stateful")
	}
}

// FuzzRead: a document of whatever kind is read, or told what is wrong with it.
func FuzzRead(f *testing.F) {
	f.Add(`{"version": 1, "kind": "security-groups", "groups": [{"name": "a", "inbound": [{"service": "tcp 1-2", "peers": ["::/0", ` +
		`{"group": "a"}]}], "outbound": [{"service": "7-9", "peers": []}, {"service": "icmp 3/4"}]}], "members": [{"instance": "p-1", ` +
		`"groups": ["a"]}]}`)
	pol := policytest.Resolve(f, fleetFile, names)
	f.Fuzz(func(t *testing.T, text string) {
		doc, err := group.Parse([]byte(text))
		if err != nil {
			return
		}
		sp := packet.NewSpace()
		if rs, err := group.Read(sp, pol.Fleet.Host("charts-01"), pol.Fleet, doc); err == nil {
			again, err := group.Parse([]byte(doc.String()))
			require.NoError(t, err)
			same, err := group.Read(sp, pol.Fleet.Host("charts-01"), pol.Fleet, again)
			require.NoError(t, err)
			require.Equal(t, rs.Decision(sp), same.Decision(sp))
		}
	})
}

// BenchmarkInstances writes the groups of a thousand instances in a hundred groups.
func BenchmarkInstances(b *testing.B) {
	sources, fl := policytest.Large(2000, 100, 1000, 1)
	in, problems := policy.Read(sources, fl)
	require.Empty(b, problems)
	pol, _ := policy.Resolve(in)
	for _, h := range fl.Hosts {
		h.Instance = &fleet.Instance{Cloud: "dunlin", ID: h.Name}
	}
	before := 0 // a rule for each service and prefix of each statement, at each instance
	sp := packet.NewSpace()
	for _, h := range fl.Hosts {
		for _, c := range compile.ForHost(sp, pol, h, 0).Chains {
			for _, r := range c.Rules {
				if r.Verdict == packet.Admit {
					peers := r.Match.From
					if c.Direction == packet.Outbound {
						peers = r.Match.To
					}
					n := 2
					if peers != nil {
						n = len(peers.Prefixes())
					}
					before += max(len(r.Match.Terms), 1) * n
				}
			}
		}
	}
	for b.Loop() {
		doc, _, failed := group.OfFleet(pol, "dunlin", 0, group.Abilities{})
		require.Empty(b, failed)
		rules, peers := 0, 0
		for _, g := range doc.Groups {
			for _, r := range slices.Concat(g.Inbound, g.Outbound) {
				rules++
				peers += len(r.Peers)
			}
		}
		b.ReportMetric(float64(before), "rules-before")
		b.ReportMetric(float64(len(doc.Groups)), "groups")
		b.ReportMetric(float64(rules), "rules")
		b.ReportMetric(float64(peers), "peers")
	}
}

// TestSharedGroups: for random policies the groups that instances share are right for each of them.
func TestSharedGroups(t *testing.T) {
	shares := 0
	twins := strings.TrimSuffix(policytest.Fleet, "]}") + `,
 {"name": "h5", "roles": ["blue"], "interfaces": [{"name": "eth0", "addresses": ["10.60.3.2/16"]}]},
 {"name": "h6", "roles": ["blue"], "interfaces": [{"name": "eth0", "addresses": ["10.60.3.3/16", "fd60::3:3/64"]}]},
 {"name": "h7", "roles": ["green"], "interfaces": [{"name": "wan0", "addresses": ["203.0.113.10/28", "2001:db8:1::10/64"]}]},
 {"name": "h8", "roles": ["green"], "interfaces": [{"name": "wan0", "addresses": ["203.0.113.11/28"]}]}]}`
	for seed := range policytest.Trials(16) {
		text := policytest.Random(rand.New(rand.NewPCG(13, seed)))
		pol := policytest.Resolve(t, twins, text)
		for _, h := range pol.Fleet.Hosts {
			h.Instance = &fleet.Instance{Cloud: "dunlin", ID: h.Name}
		}
		doc, _, failed := group.OfFleet(pol, "dunlin", 0, group.Abilities{GroupPeers: seed%2 == 0})
		require.Empty(t, failed)
		for i, m := range doc.Members {
			for _, other := range doc.Members[:i] {
				if slices.Equal(m.Groups, other.Groups) {
					shares++
				}
			}
		}
		for _, h := range pol.Fleet.Hosts {
			sp := packet.NewSpace()
			rs, err := group.Read(sp, h, pol.Fleet, doc)
			require.NoError(t, err)
			require.NoError(t, group.Of(sp, compile.ForHost(sp, pol, h, 0)).Prove(sp, rs), "seed %d host %s\n%s\n%s", seed, h.Name, text,
				doc)
		}
	}
	require.Positive(t, shares)
}

// TestOfFleet: instances of the same roles share their groups, which are right for each of
// them; a group stands for its members where a cloud can say so.
func TestOfFleet(t *testing.T) {
	const fleetFile = `{"hosts": [
 {"name": "charts-01", "roles": ["charts"], "dialect": "nft", "interfaces": [{"name": "eth0", "addresses": ["203.0.113.70/28"]}], "instance": {"cloud": "dunlin", "id": "p-1"}},
 {"name": "charts-02", "roles": ["charts"], "dialect": "nft", "interfaces": [{"name": "eth0", "addresses": ["203.0.113.71/28", "2001:db8:1::71/64"]}], "instance": {"cloud": "dunlin", "id": "p-2"}},
 {"name": "charts-03", "roles": ["charts"], "dialect": "nft", "interfaces": [{"name": "eth0", "addresses": ["203.0.113.72/28", "2001:db8:1::72/64"]}], "instance": {"cloud": "dunlin", "id": "p-3"}},
 {"name": "charts-04", "roles": ["charts"], "dialect": "nft", "interfaces": [{"name": "eth0", "addresses": ["203.0.113.73/28"]}], "instance": {"cloud": "gull", "id": "p-1"}},
 {"name": "jump-01", "roles": ["jump"], "dialect": "none", "interfaces": [{"name": "eth0", "addresses": ["203.0.113.65/28"]}], "instance": {"cloud": "dunlin", "id": "p-4"}},
 {"name": "jump-02", "roles": ["jump"], "dialect": "none", "interfaces": [{"name": "eth0", "addresses": ["203.0.113.66/28"]}], "instance": {"cloud": "dunlin", "id": "p-5"}}]}`
	pol := policytest.Resolve(t, fleetFile, `policy p language 1
role charts { outbound closed }
role jump
allow hop: jump -> charts : ssh
allow feed: charts -> charts : tcp 9100
allow site: everywhere -> charts : https
block one: charts -> host charts-02 : tcp 9100
`)
	for _, can := range []group.Abilities{{}, {GroupPeers: true}, {GroupPeers: true, RulesPerGroup: 4}} {
		doc, left, failed := group.OfFleet(pol, "dunlin", 0, can)
		require.Empty(t, failed)
		require.Empty(t, left)
		read, err := group.Parse([]byte(doc.String()))
		require.NoError(t, err)
		require.Len(t, doc.Members, 5)
		for _, h := range pol.Fleet.Hosts {
			if h.Instance.Cloud != "dunlin" {
				continue
			}
			sp := packet.NewSpace()
			rs, err := group.Read(sp, h, pol.Fleet, read)
			require.NoError(t, err)
			require.NoError(t, group.Of(sp, compile.ForHost(sp, pol, h, 0)).Prove(sp, rs), "%s %s", h.Name, doc)
		}
		for _, g := range doc.Groups {
			for _, r := range g.Inbound {
				if r.Comment == "allow hop" {
					require.Equal(t, map[bool][]group.Peer{false: group.PeersOf(netip.MustParsePrefix("203.0.113.65/32"),
						netip.MustParsePrefix("203.0.113.66/32")), true: {{Group: "yf-jump"}}}[can.GroupPeers], r.Peers)
				}
			}
		}
	}
}

// TestRolesNamedToCollide: whatever roles are called, groups of several parts hold for each
// instance what the policy means for it, also once they are called after their content.
func TestRolesNamedToCollide(t *testing.T) {
	called := map[string]string{"red": "site", "blue": "site-2", "green": "site-of-h2"}
	named := func(text string) string {
		return regexp.MustCompile(`\b(red|blue|green)\b`).ReplaceAllStringFunc(text, func(role string) string { return called[role] })
	}
	parts := 0
	for seed := range policytest.Trials(13) {
		text := named(policytest.Random(rand.New(rand.NewPCG(17, seed))))
		pol := policytest.Resolve(t, named(policytest.Fleet), text)
		for _, h := range pol.Fleet.Hosts {
			h.Instance = &fleet.Instance{Cloud: "dunlin", ID: h.Name}
		}
		for _, can := range []group.Abilities{{RulesPerGroup: 2}, {RulesPerGroup: 4, Ordered: true}} {
			doc, _, failed := group.OfFleet(pol, "dunlin", 0, can)
			require.Empty(t, failed)
			for _, d := range []*group.Document{doc, group.ByContent(doc)} {
				d, err := group.Parse([]byte(d.String()))
				require.NoError(t, err, "seed %d\n%s", seed, text)
				parts = max(parts, len(d.Members[0].Groups))
				for _, h := range pol.Fleet.Hosts {
					sp := packet.NewSpace()
					rs, err := group.Read(sp, h, pol.Fleet, d)
					require.NoError(t, err)
					require.NoError(t, group.Of(sp, compile.ForHost(sp, pol, h, 0)).Prove(sp, rs), "seed %d host %s\n%s\n%s", seed,
						h.Name, text, d)
				}
			}
		}
	}
	require.Greater(t, parts, 3)
}
