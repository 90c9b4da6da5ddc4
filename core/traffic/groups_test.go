package traffic_test

import (
	"fmt"
	"net/netip"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"yellowfence.example/yfence/core/packet"
	"yellowfence.example/yfence/core/policy"
	"yellowfence.example/yfence/core/policy/policytest"
	"yellowfence.example/yfence/core/say"
	"yellowfence.example/yfence/core/source"
	"yellowfence.example/yfence/core/traffic"
)

// noon is when all that is seen in these tests was.
const noon = 1_795_867_200

// prefix is an address, or a prefix of some.
func prefix(text string) netip.Prefix {
	if strings.Contains(text, "/") {
		return netip.MustParsePrefix(text)
	}
	return whole(text)
}

// saw adds a flow that hosts told: "in 192.0.2.1 -> 10.40.4.1 tcp 22 x3 by block b"; a flow through
// may say its interfaces: "through eth1 > eth2 ...".
func saw(t testing.TB, records map[string]*traffic.Record, host, text string) {
	m := regexp.MustCompile(`^(in|out|through) (?:at (\S+) )?(\S+) -> (\S+) (tcp|udp|icmp) (-?\d+) x(\d+)(?: ` +
		`by (.+))?$`).FindStringSubmatch(text)
	require.NotNil(t, m, text)
	protocol, _ := packet.ProtocolNumber(m[5])
	f := traffic.Flow{Direction: m[1], Protocol: protocol, By: m[8], Src: prefix(m[3]), Dst: prefix(m[4])}
	if m[1] == "in" {
		f.In = m[2]
	}
	n := int64(0)
	_, err := fmt.Sscan(m[6], &f.Port)
	require.NoError(t, err)
	_, err = fmt.Sscan(m[7], &n)
	require.NoError(t, err)
	if records[host] == nil {
		records[host] = traffic.NewRecord()
	}
	sums := records[host].Seen
	if f.By != "" {
		sums = records[host].Refused
	}
	sums.Add(f, n, noon)
}

// harbour is the demo's policy with a text of it replaced, and statements added.
func harbour(t testing.TB, was, added string) *policy.Policy {
	files := policytest.SaltmarshFiles(t, "../..")
	found := was == ""
	for i, f := range files {
		if f.Name == "rules.fence" {
			files[i].Text = strings.Replace(f.Text, was, "", 1) + added
			found = found || files[i].Text != f.Text+added
		}
	}
	require.True(t, found, was)
	in, problems := policy.Read(files, policytest.Saltmarsh(t, "../..").Fleet)
	require.Empty(t, problems)
	pol, problems := policy.Resolve(in)
	for _, p := range problems {
		require.NotEqual(t, source.Error, p.Severity, "%s: %s", added, p)
	}
	return pol
}

// TestRefusals: what is refused is told by reason, ours first, with the one rule that would admit it
// and what that opens besides; and that rule does admit it.
func TestRefusals(t *testing.T) {
	pol := harbour(t, "", "")
	records := map[string]*traffic.Record{}
	for _, line := range [][2]string{
		{"depot-01", "in at eth2 10.60.6.60 -> 10.60.5.50 tcp 9443 x7 by stance inbound closed"},
		{"beacon-01", "out 10.40.4.11 -> 192.0.2.10 tcp 443 x3 by stance outbound closed"},
		{"beacon-02", "out 10.40.4.12 -> 192.0.2.11 tcp 443 x2 by stance outbound closed"},
		{"charts-01", "in at eth0 198.18.7.9 -> 203.0.113.70 tcp 22 x20 by block no-pests"},
		{"charts-01", "in at eth0 198.51.99.3 -> 203.0.113.70 tcp -1 x5000 by stance inbound closed"},
		{"charts-02", "in at eth0 198.51.99.4 -> 203.0.113.71 icmp 13 x2 by stance inbound closed"},
		{"jump-01", "in at eth0 198.51.99.5 -> 203.0.113.65 tcp 22 x9 by allow front-door exceeded"},
		{"logbook-01", "in at eth2 10.60.3.31 -> 10.60.3.40 tcp 5432 x4 by stance inbound closed"},
		{"lockgate-01", "through 10.40.2.21 -> 10.60.5.50 tcp 22 x1 by stance forward closed"},
		{"broker-01", "in at eth1 203.0.113.4 -> 10.40.2.21 tcp 80 x1 by stance inbound closed"},
		{"pilotage-01", "in at eth0 10.40.9.9 -> 203.0.113.72 tcp 443 x1 by local quay-lan"},
		{"broker-02", "out 10.40.2.22 -> 192.0.2.12 tcp 25 x6 by block no-mail on trial"},
	} {
		saw(t, records, line[0], line[1])
	}
	all, more := traffic.Refusals(packet.Budget{}, say.NamesOf(pol), records, noon-60, noon, 20)
	require.Zero(t, more)
	var said []string
	for _, r := range all {
		line := fmt.Sprintf("%s: %s %s (%s) -> %s (%s): %s x%d by %d on %d", r.By, r.Direction, r.From.Name, r.From.Who, r.To.Name,
			r.To.Who,
			r.Service, r.Times, r.SendersOf, r.HostsOf)
		for _, s := range []string{r.Manner, map[bool]string{true: "passes"}[r.Passes], r.Rule, r.Opens} {
			if s != "" {
				line += " | " + s
			}
		}
		said = append(said, line)
	}
	require.Equal(t, `stance inbound closed: in watch (ours) -> depot (ours): tcp 9443 x7 by 1 on 1 | allow watch-to-depot-tcp-9443: watch -> depot : tcp 9443
stance inbound closed: in pilotage (ours) -> logbook (ours): postgresql x4 by 1 on 1 | passes
stance forward closed: through broker (ours) -> depot (ours): ssh x1 by 1 on 1 | allow broker-to-depot-ssh: broker -> depot : ssh  through lockgate | from 1 more of the 2 hosts of broker
block no-mail: out broker (ours) -> suppliers (known): smtp x6 by 1 on 1 | on trial | allow broker-to-suppliers-smtp: broker -> suppliers : smtp  over no-mail | from 1 more of the 2 hosts of broker, and to all of suppliers
stance outbound closed: out beacon (ours) -> suppliers (known): https x5 by 2 on 2 | allow beacon-to-suppliers-https: beacon -> suppliers : https | from 1 more of the 3 hosts of beacon, and to all of suppliers
local quay-lan: in quay-lan (known) -> pilotage (ours): https x1 by 1 on 1
stance inbound closed: in office (known) -> broker (ours): http x1 by 1 on 1 | allow office-to-broker-http: office -> broker : http | from all of office, and to 1 more of the 2 hosts of broker
block no-pests: in pests (stranger) -> charts (ours): ssh x20 by 1 on 1 | allow pests-to-charts-ssh: 198.18.7.9 -> charts : ssh  over no-pests | to 3 more of the 4 hosts of charts
allow front-door: in strangers (stranger) -> jump (ours): ssh x9 by 1 on 1 | over its limit
stance inbound closed: in strangers (stranger) -> charts (ours): icmp 13 x2 by 1 on 1 | allow strangers-to-charts-icmp-13: 198.51.99.4 -> charts : icmp 13 | to 3 more of the 4 hosts of charts
stance inbound closed: in strangers (stranger) -> charts (ours): many ports of tcp x5000 by 1 on 1`, strings.Join(said, "\n"))

	// Each rule, added to the policy, admits what was refused at that end.
	for _, r := range all {
		if r.Rule == "" {
			continue
		}
		then := harbour(t, "", r.Rule+"\n")
		again, _ := traffic.Refusals(packet.Budget{}, say.NamesOf(then), records, noon-60, noon, 20)
		for _, a := range again {
			if a.By == r.By && a.From == r.From && a.To == r.To && a.Service == r.Service && r.Manner == "" {
				require.True(t, a.Passes, r.Rule)
			}
		}
	}
	few, more := traffic.Refusals(packet.Budget{}, say.NamesOf(pol), records, noon-60, noon, 3)
	require.Equal(t, []int{3, len(all) - 3}, []int{len(few), more})
	require.Equal(t, []bool{false, false, true}, []bool{few[0].Search, few[1].Search, few[2].Search})
	none, _ := traffic.Refusals(packet.Budget{}, say.NamesOf(pol), records, noon+1, noon, 3)
	require.Empty(t, none)
}

// TestSeen: connections that were seen are told by who admits them, with a statement for those that
// nobody says; and of a change, which of them it would refuse.
func TestSeen(t *testing.T) {
	pol := harbour(t, "", "")
	records := map[string]*traffic.Record{}
	for _, line := range [][2]string{
		{"logbook-01", "in 10.60.3.31 -> 10.60.3.40 tcp 5432 x40"},
		{"beacon-01", "out 10.40.4.11 -> 10.40.2.21 tcp 8883 x4"},
		{"broker-01", "in 10.40.4.11 -> 10.40.2.21 tcp 8883 x3"},
		{"charts-01", "in 198.51.99.0/24 -> 203.0.113.70 tcp 443 x30"},
		{"charts-02", "in 198.51.100.0/24 -> 203.0.113.71 tcp 443 x3"}, // half of it is the crew's
		{"charts-01", "out 203.0.113.70 -> 192.0.2.11 udp 53 x20"},
		{"charts-01", "out 203.0.113.70 -> 192.0.2.130 tcp 443 x10"},
		{"charts-01", "in 192.0.2.130 -> 203.0.113.70 tcp 8096 x5"},
	} {
		saw(t, records, line[0], line[1])
	}
	all, _ := traffic.Connections(packet.Budget{}, pol, records, noon-60, noon, 20)
	var said []string
	for _, c := range all {
		said = append(said, strings.TrimRight(fmt.Sprintf("%s %s -> %s: %s x%d of %d on %d by %s %t %s", c.Direction, c.From.Name,
			c.To.Name,
			c.Service, c.Times, c.SendersOf, c.HostsOf, c.By, c.Stated, c.Rule), " "))
	}
	require.Equal(t, []string{
		"in pilotage -> logbook: postgresql x40 of 1 on 1 by allow logbook-db true",
		"in strangers -> charts: https x33 of 2 on 2 by allow chart-web true",
		"out charts -> suppliers: udp 53 x20 of 1 on 1 by allow lookups true",
		"out charts -> tile-cache: https x10 of 1 on 1 by stance outbound open false allow charts-to-tile-cache-https: charts -> " +
			"192.0.2.130 : https",
		"in tile-cache -> charts: tcp 8096 x5 of 1 on 1 by allow tiles true",
		"out beacon -> broker: broker-tls x4 of 1 on 1 by allow positions true",
	}, said)

	for _, c := range []struct{ what, change, was, want string }{
		{"nothing", "", "", ""},
		{"a block", "block quiet: everywhere -> charts : https\n", "",
			"strangers -> charts: https x33 by block quiet, was allow chart-web"},
		{"a rule less", "", "allow logbook-db:       pilotage -> logbook : postgresql  because \"dispatch writes every tour down\"\n",
			"pilotage -> logbook: postgresql x40 by stance inbound closed, was allow logbook-db"},
	} {
		then := harbour(t, c.was, c.change)
		var said []string
		for _, cut := range traffic.Cuts(packet.Budget{}, pol, then, records, noon-60, noon) {
			said = append(said, fmt.Sprintf("%s -> %s: %s x%d by %s, was %s", cut.From.Name, cut.To.Name, cut.Service, cut.Times, cut.By,
				cut.Was))
		}
		require.Equal(t, c.want, strings.Join(said, "\n"), c.what)
	}
}

// TestAgainst: what was seen though an expectation says that it never is.
func TestAgainst(t *testing.T) {
	records := map[string]*traffic.Record{}
	for _, line := range [][2]string{
		{"logbook-01", "in 10.60.3.31 -> 10.60.3.40 tcp 5432 x40"},     // as the expectations say
		{"logbook-01", "in 10.60.0.7 -> 10.60.3.40 tcp 5432 x3"},       // a neighbour's
		{"beacon-01", "in 198.51.99.0/24 -> 10.40.4.11 tcp 22 x2"},     // a stranger
		{"charts-01", "in 10.40.2.11 -> 10.40.2.10 tcp 22 x1"},         // from one to its like
		{"charts-01", "in 198.51.99.0/24 -> 203.0.113.70 tcp 443 x30"}, // anybody may
		{"beacon-01", "out 10.40.4.11 -> 10.40.2.21 tcp 8883 x90"},     // what they are for
		{"logbook-01", "out 10.40.3.40 -> 10.40.2.10 tcp 443 x7"},      // by steps is not looked at
		{"pilotage-01", "out 10.60.3.31 -> 10.60.3.40 tcp 5432 x40"},   // the other end of the first
		{"watch-01", "out 10.40.6.60 -> 10.40.4.11 tcp 22 x5"},         // no stranger
		{"lockgate-01", "through 10.40.4.12 -> 10.40.4.13 tcp 22 x1"},  // of beacons, on its way
	} {
		saw(t, records, line[0], line[1])
	}
	var said []string
	for _, c := range traffic.Against(packet.Budget{}, harbour(t, "", ""), records, noon-60, noon) {
		said = append(said, fmt.Sprintf("%s: %s %s -> %s : %s x%d", c.Expectation, c.Direction, c.From.Name, c.To.Name, c.Service, c.Times))
	}
	require.Equal(t, []string{
		"logbook-private: in hill-lan -> logbook : postgresql x3",
		"quiet-piers: in strangers -> beacon : ssh x2",
		"no-sideways: in charts -> charts : ssh x1",
		"no-sideways: through beacon -> beacon : ssh x1",
	}, said)
}

// TestProbesAreLeftOut: what the service has hosts try is nobody's traffic, and hides nobody else's.
func TestProbesAreLeftOut(t *testing.T) {
	records := map[string]*traffic.Record{}
	for _, line := range [][2]string{
		{"logbook-01", "in 10.40.2.10 -> 10.40.3.40 tcp 5432 x3 by stance inbound closed"},  // a probe
		{"logbook-01", "in 10.40.2.11 -> 10.40.3.40 tcp 5432 x30 by stance inbound closed"}, // more than one
		{"logbook-01", "in 10.40.2.10 -> 10.40.3.40 tcp 5433 x3 by stance inbound closed"},  // something else
		{"logbook-01", "in 10.60.3.31 -> 10.60.3.40 tcp 5432 x1"},
		{"logbook-01", "in 10.40.3.31 -> 10.40.3.40 tcp 5432 x2"},
	} {
		saw(t, records, line[0], line[1])
	}
	p := traffic.Probes{}
	for _, from := range []string{"10.40.2.10", "10.40.2.11"} {
		p.Add(netip.MustParseAddr(from), netip.MustParseAddr("10.40.3.40"), packet.TCP, 5432)
	}
	p.Add(netip.MustParseAddr("10.60.3.31"), netip.MustParseAddr("10.60.3.40"), packet.TCP, 5432)
	p.Add(netip.MustParseAddr("10.40.3.31"), netip.MustParseAddr("10.40.3.40"), packet.TCP, 5432)
	p.Add(netip.Addr{}, netip.MustParseAddr("10.40.3.40"), packet.TCP, 5432)
	p.LeaveOut(records)
	require.Equal(t, "stance inbound closed 10.40.2.10/32 port 5433: 3, 1795867200 to 1795867200\n"+
		"stance inbound closed 10.40.2.11/32 port 5432: 26, 1795867200 to 1795867200\n", told(records["logbook-01"].Refused))
	require.Equal(t, " 10.40.3.31/32 port 5432: 1, 1795867200 to 1795867200\n", told(records["logbook-01"].Seen))
}

// TestNarrowings: peers and services that nothing used are left out, and all that was seen still passes.
func TestNarrowings(t *testing.T) {
	records := map[string]*traffic.Record{}
	for _, line := range [][2]string{
		{"pilotage-01", "in 198.51.100.9 -> 203.0.113.72 tcp 443 x7"},  // dispatch, by the crew alone
		{"logbook-01", "in 10.60.3.31 -> 10.60.3.40 tcp 5432 x40"},     // has one peer of each side
		{"charts-01", "in 198.51.99.0/24 -> 203.0.113.70 tcp 443 x30"}, // everywhere stays
		{"beacon-01", "out 10.40.4.11 -> 10.40.2.21 tcp 8883 x9"},      // positions, never by UDP
		{"jump-01", "in 198.51.100.9 -> 203.0.113.65 tcp 22 x2"},       // a guard
	} {
		saw(t, records, line[0], line[1])
	}
	records["pilotage-01"].Watched = noon - 86400
	pol := harbour(t, "", "")
	var said []string
	for _, n := range traffic.Narrowings(packet.Budget{}, pol, records, noon-60, noon) {
		said = append(said, fmt.Sprintf("%s x%d without %s on %d of %d: %s", n.Statement, n.Times, strings.Join(n.Unused, ", "), n.Watching,
			n.Hosts, n.Rule))
		then := harbour(t, written[n.Statement], n.Rule+"\n")
		require.Empty(t, traffic.Cuts(packet.Budget{}, pol, then, records, noon-60, noon), n.Rule)
	}
	require.Equal(t, []string{
		"allow positions x9 without position-feed on 0 of 5: allow positions: beacon -> broker : broker-tls  on quay-lan",
		"allow dispatch x7 without office, pilot-api on 1 of 1: allow dispatch: crew-vpn -> pilotage : https  log",
	}, said)
}

// written are statements as the demo's policy writes them.
var written = map[string]string{
	"allow positions": "allow positions:        beacon -> broker : position-feed, broker-tls  on quay-lan\n",
	"allow dispatch":  "allow dispatch:         office, crew-vpn -> pilotage : pilot-api, https  log\n",
}
