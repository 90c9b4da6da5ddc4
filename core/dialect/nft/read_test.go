package nft_test

import (
	"fmt"
	"net/netip"
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"yellowfence.example/yfence/core/dialect/nft"
	"yellowfence.example/yfence/core/kernel"
	"yellowfence.example/yfence/core/packet"
)

func readFile(t *testing.T, sp *packet.Space, name string) *kernel.Ruleset {
	t.Helper()
	data, err := os.ReadFile("testdata/" + name)
	require.NoError(t, err)
	rs, err := nft.ReadJSON(sp, data, nil)
	require.NoError(t, err)
	return rs
}

// TestReadAnothersRules asks of a ruleset that is not ours, as nft 1.0.6 lists
// it, what becomes of packets, and where the answer is not certain, for want of
// understanding what.
func TestReadAnothersRules(t *testing.T) {
	sp := packet.NewSpace()
	rs := readFile(t, sp, "wild.json")
	d := rs.Decision(sp)
	for _, c := range []struct {
		what   string
		packet packet.Packet
		want   string
	}{
		{"answers", tcp("198.51.100.1", 4000, 9999, "established"), "admitted"},
		{"a mark", marked(tcp("198.51.100.1", 4000, 98, "new"), 7), "admitted"},
		{"a concatenation of a prefix and a port", tcp("10.40.7.7", 4000, 22, "new"), "admitted"},
		{"a verdict map that jumps", tcp("198.51.100.1", 4000, 80, "new"), "admitted"},
		{"a chain of a later priority drops what was accepted", tcp("10.60.3.1", 4000, 81, "new"), "dropped"},
		{"a log before a further match, which fails", tcp("198.51.100.1", 80, 443, "new"), "rejected"},
		{"to the connection tracker everything is invalid before it", tcp("198.51.100.1", 4000, 99, "new"), "dropped"},
	} {
		only := sp.Exactly(c.packet)
		// Besides what the case is about, these could each let a packet pass or not.
		for _, unknown := range []string{"meta skuid 1000", "fib daddr type broadcast",
			"chain netdev edge/e, which stands before or behind what we read"} { // nft 1.0.6 does not list its device
			only = sp.And(only, sp.Not(sp.Unknown(unknown)))
		}
		outcomes := sp.Outcomes(sp.Only(d, only))
		var verdicts []string
		for _, o := range outcomes {
			if v := o.Verdict.String(); len(verdicts) == 0 || verdicts[len(verdicts)-1] != v {
				verdicts = append(verdicts, v)
			}
		}
		require.Equal(t, c.want, strings.Join(verdicts, " or "), "%s: %s", c.what, c.packet)
	}

	admitted := sp.Where(d, func(o packet.Outcome) bool { return o.Verdict == packet.Admit })
	unread := strings.Join(sp.UnknownsOf(admitted), "\n")
	for _, want := range []string{"meta skuid 1000", "chain netdev edge/e"} {
		require.Contains(t, unread, want)
	}
	rejected := strings.Join(sp.UnknownsOf(sp.Where(d, func(o packet.Outcome) bool { return o.Verdict == packet.Reject })), "\n")
	for _, want := range []string{"fib daddr type broadcast",
		"tcp sport != 22 tcp dport != 22, which nft may have loaded as one comparison"} {
		require.Contains(t, rejected, want, "what only tells a reject from a drop")
	}
	require.NotContains(t, unread, "@watched", "a set that only refuses is read as it was listed")
	require.NotContains(t, unread, "dscp", "nothing asks for what is written there")
	require.Equal(t, packet.Bucket{Name: "inet admin/in handle 16", Every: 20e9, Burst: 5}, packet.Buckets(sp, admitted)[0],
		"a limit is a bucket of its own")
	require.NotContains(t, unread, "meta mark set", "a mark that is set changes nothing by itself")
}

func tcp(src string, sport, dport int, state string) packet.Packet {
	return packet.Packet{Hook: packet.In, Family: "ipv4", Protocol: "tcp", Src: netip.MustParseAddr(src),
		Dst:     netip.MustParseAddr("203.0.113.1"),
		SrcPort: &sport, DstPort: &dport, In: "eth0", State: state}
}

func marked(p packet.Packet, mark uint32) packet.Packet {
	p.Mark = mark
	return p
}

// TestRuleText compares our wording of a rule with nft's own.
func TestRuleText(t *testing.T) {
	sp := packet.NewSpace()
	rs := readFile(t, sp, "wild.json")
	own, err := os.ReadFile("testdata/wild.nft")
	require.NoError(t, err)
	squeeze := strings.NewReplacer(`counter packets 0 bytes 0 `, "", ` limit rate 10/second burst 5 packets`, "", `"`, "")
	lines := squeeze.Replace(string(own))
	same, all := 0, 0
	for _, c := range rs.Chains {
		for _, r := range c.Rules {
			all++
			if strings.Contains(lines, squeeze.Replace(r.Text.String())) {
				same++
			} else {
				t.Logf("%s: %s", r.At, r.Text)
			}
		}
	}
	require.GreaterOrEqual(t, same, all*3/4, "most rules read as nft writes them")
}

func TestBrokenDumps(t *testing.T) {
	whole, err := os.ReadFile("testdata/wild.json")
	require.NoError(t, err)
	for _, c := range []struct{ text, want string }{
		{"", "line 1: the dump is empty: not even a kernel without rules prints nothing"},
		{string(whole[:len(whole)/2]), fmt.Sprintf("line %d: the dump ends in the middle",
			1+strings.Count(string(whole[:len(whole)/2]), "\n"))},
		{"table inet t {", "line 1: invalid character 'a' in literal true (expecting 'r')"},
		{"{}", `line 1: no "nftables" list: this is not what nft -j list ruleset prints`},
		{`{"nftables": [{"rule": 5}]}`, "line 1: object 1 of the listing (rule) is no object of fields"},
	} {
		_, err := nft.ReadJSON(packet.NewSpace(), []byte(c.text), nil)
		require.EqualError(t, err, c.want)
	}
}

func TestNoRulesNoFilterAndAFilterWithoutRules(t *testing.T) {
	for text, bare := range map[string]bool{
		`{"nftables": [{"metainfo": {"version": "1.0.6"}}]}`:                                                                   true,
		`{"nftables": [{"table": {"family": "inet", "name": "t"}}, {"chain": {"family": "inet", "table": "t", "name": "c"}}]}`: true,
		`{"nftables": [{"chain": {"family": "inet", "table": "t", "name": "c", "type": "nat", "hook": "prerouting", "prio": -100, ` +
			`"policy": "accept"}}]}`: true,
		`{"nftables": [{"chain": {"family": "inet", "table": "t", "name": "c", "type": "filter", "hook": "input", "prio": 0, "policy": ` +
			`"accept"}}]}`: false,
	} {
		rs, err := nft.ReadJSON(packet.NewSpace(), []byte(text), nil)
		require.NoError(t, err)
		require.Equal(t, bare, rs.Bare(), text)
	}
}

// TestOrderOfTiedChains: of two chains with one priority no dump tells which runs
// first. Where it matters the answer is uncertain; where it does not, it is not.
func TestOrderOfTiedChains(t *testing.T) {
	chains := func(first, second string) string {
		return `{"nftables": [
			{"chain": {"family": "inet", "table": "t", "name": "a", "type": "filter", "hook": "input", "prio": 0, "policy": "accept"}},
			{"chain": {"family": "inet", "table": "t", "name": "b", "type": "filter", "hook": "input", "prio": 0, "policy": "accept"}},
			{"rule": {"family": "inet", "table": "t", "chain": "a", "handle": 3, "expr": [` + first + `]}},
			{"rule": {"family": "inet", "table": "t", "chain": "b", "handle": 4, "expr": [` + second + `]}}]}`
	}
	port := func(n int) string {
		return fmt.Sprintf(`{"match": {"op": "==", "left": {"payload": {"protocol": "tcp", "field": "dport"}}, "right": %d}}, `, n)
	}
	for _, c := range []struct {
		first, second string
		uncertain     bool
	}{
		{port(22) + `{"drop": null}`, port(22) + `{"reject": null}`, true},
		{port(22) + `{"drop": null}`, port(80) + `{"reject": null}`, false},
		{port(22) + `{"accept": null}`, port(22) + `{"drop": null}`, false},
	} {
		sp := packet.NewSpace()
		rs, err := nft.ReadJSON(sp, []byte(chains(c.first, c.second)), nil)
		require.NoError(t, err)
		rejected := sp.Where(rs.Decision(sp), func(o packet.Outcome) bool { return o.Verdict == packet.Reject })
		require.Equal(t, c.uncertain, len(sp.UnknownsOf(rejected)) > 0, "%s / %s", c.first, c.second)
	}
}

func TestLoopsAndMissingChainsAreUncertain(t *testing.T) {
	for text, want := range map[string]string{
		`{"chain": {"family": "ip", "table": "t", "name": "x"}}, {"rule": {"family": "ip", "table": "t", "chain": "c", "handle": 1, "expr": [{"jump": {"target": "x"}}]}},
		 {"rule": {"family": "ip", "table": "t", "chain": "x", "handle": 2, "expr": [{"jump": {"target": "x"}}]}}`: "the chains of table t jump in a circle",
		`{"rule": {"family": "ip", "table": "t", "chain": "c", "handle": 1, ` +
			`"expr": [{"jump": {"target": "gone"}}]}}`: "chain gone, which the dump does not hold",
	} {
		sp := packet.NewSpace()
		rs, err := nft.ReadJSON(sp, []byte(`{"nftables": [{"chain": {"family": "ip", "table": "t", "name": "c", "type": "filter", `+
			`"hook": "input", "prio": 0, "policy": "drop"}}, `+text+`]}`), nil)
		require.NoError(t, err)
		admitted := sp.Where(rs.Decision(sp), func(o packet.Outcome) bool { return o.Verdict == packet.Admit })
		require.Contains(t, strings.Join(sp.UnknownsOf(admitted), "\n"), want)
	}
}

func FuzzReadJSON(f *testing.F) {
	whole, err := os.ReadFile("testdata/wild.json")
	if err != nil {
		f.Fatal(err)
	}
	f.Add(whole)
	f.Add([]byte(`{"nftables": [{"rule": {"expr": [{"vmap": {"key": {"concat": []}, "data": {"set": [[1]]}}}, {"match": null}, ` +
		`"accept"]}}]}`))
	f.Fuzz(func(t *testing.T, data []byte) {
		within(func(sp *packet.Space) (*kernel.Ruleset, error) { return nft.ReadJSON(sp, data, nil) })
	})
}
