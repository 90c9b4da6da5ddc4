package nft_test

import (
	"context"
	"fmt"
	"net/netip"
	"os"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yellowfence.example/yfence/core/dialect/nft"
	"yellowfence.example/yfence/core/dialect/nft/nfttest"
	"yellowfence.example/yfence/core/kernel"
	"yellowfence.example/yfence/core/packet"
)

// TestBothFormsMeanTheSame reads one ruleset of many kinds in both forms. The
// kernel's judge does so with random ones.
func TestBothFormsMeanTheSame(t *testing.T) {
	sp := packet.NewSpace()
	fromJSON := readFile(t, sp, "wild.json")
	data, err := os.ReadFile("testdata/wild.nft")
	require.NoError(t, err)
	fromText, err := nft.ReadText(sp, "wild.nft", data, nil)
	require.NoError(t, err)
	require.Len(t, fromText.Chains, len(fromJSON.Chains))
	for i, c := range fromJSON.Chains {
		d := fromText.Chains[i]
		require.Equal(t, []any{c.Place(), c.Hook, c.Type, c.Priority, c.Policy}, []any{d.Place(), d.Hook, d.Type, d.Priority, d.Policy})
		require.Len(t, d.Rules, len(c.Rules), c.Place())
		for j, r := range c.Rules {
			require.Regexp(t, `^wild\.nft:\d+$`, d.Rules[j].At)
			if len(sp.UnknownsOf(r.Match))+len(packet.Buckets(sp, r.Match)) == 0 {
				require.Equal(t, r.Match, d.Rules[j].Match, r.Text)
			}
			require.Equal(t, r.Log, d.Rules[j].Log, r.Text)
		}
	}
}

// TestLargeRulesetsMeanTheSame in both forms.
func TestLargeRulesetsMeanTheSame(t *testing.T) {
	for _, shape := range nfttest.Shapes {
		sp := packet.NewSpace()
		fromText, err := nft.ReadText(sp, "f", []byte(nfttest.Large(shape, 300, 3)), nil)
		require.NoError(t, err)
		fromJSON, err := nft.ReadJSON(sp, []byte(nfttest.LargeJSON(shape, 300, 3)), nil)
		require.NoError(t, err)
		require.Equal(t, fromJSON.Decision(sp), fromText.Decision(sp), shape)
	}
}

// TestTextForm goes through what the text form has of its own: each is one rule
// of an inbound chain, and what it must mean as the JSON form says it.
func TestTextForm(t *testing.T) {
	for _, c := range []struct{ what, rule, same string }{
		{"a handle is passed over", "tcp dport 22 accept # handle 5", "tcp dport 22 accept"},
		{"a comment", `tcp dport 22 accept comment "why # not"`, "tcp dport 22 accept"},
		{"counters", "tcp dport 22 counter packets 5 bytes 300 accept", "tcp dport 22 accept"},
		{"a set over several lines", "tcp dport { 22, 80,\n\t\t     443-445 } accept", "tcp dport { 443-445, 22, 80 } accept"},
		{"states by number, as -n has them", "ct state 0x2,0x4 accept", "ct state 0x2,0x4 accept"},
		{"an explicit comparison", "ct state == established accept", "ct state established accept"},
		{"reject of every kind", "reject with icmp type port-unreachable", "reject with icmp port-unreachable"},
		{"a verdict map", "tcp dport vmap { 22 : accept, 80 : drop }", "tcp dport vmap { 80 : drop, 22 : accept }"},
		{"a log with all it can say", `log prefix "x: " level info flags all accept`, "log accept"},
		{"interfaces by pattern", `iifname "eth*" accept`, `iifname { "eth*" } accept`},
	} {
		sp := packet.NewSpace()
		read := func(rule string) packet.Decision {
			rs, err := nft.ReadText(sp, "f", []byte("table inet t {\n\tchain c {\n\t\ttype filter hook input priority filter; policy "+
				"drop;\n\t\t"+rule+"\n\t}\n}\n"), nil)
			require.NoError(t, err, rule)
			return rs.Decision(sp)
		}
		require.Equal(t, read(c.same), read(c.rule), c.what)
	}
}

// TestTheRestOfARuleIsUncertain: what is not understood takes the rest of its rule
// with it, and no other rule.
func TestTheRestOfARuleIsUncertain(t *testing.T) {
	sp := packet.NewSpace()
	rs, err := nft.ReadText(sp, "rules.nft",
		[]byte("table inet t {\n\tchain c {\n\t\ttype filter hook input priority filter - 5; policy drop;\n\t\ttcp dport 22 frobnicate 7 "+
			"accept\n\t\ttcp dport 80 accept\n\t}\n}\n"), nil)
	require.NoError(t, err)
	require.Equal(t, -5, rs.Chains[0].Priority)
	admitted := sp.Where(rs.Decision(sp), func(o packet.Outcome) bool { return o.Verdict == packet.Admit })
	require.True(t, sp.Within(sp.And(sp.Exactly(tcp("198.51.100.1", 4000, 80, "new")), sp.WellFormed()), sp.Certain(admitted)))
	ssh := sp.Exactly(tcp("198.51.100.1", 4000, 22, "new"))
	require.Equal(t, packet.Empty, sp.And(ssh, sp.Certain(admitted)))
	require.Equal(t, ssh, sp.And(ssh, sp.Possible(admitted)))
	require.Contains(t, strings.Join(sp.UnknownsOf(admitted), "\n"), "frobnicate 7 accept (rules.nft:4)")
}

func TestBrokenTextDumps(t *testing.T) {
	whole, err := os.ReadFile("testdata/wild.nft")
	require.NoError(t, err)
	for _, c := range []struct{ text, want string }{
		{"", "line 1: the dump is empty. A kernel without rules prints nothing: if it has none, name the file after the tool, as " +
			"charts-01.nft, or list it with nft -j"},
		{"*filter\n:INPUT ACCEPT\n", `line 1: expected a table, found "*filter": this is not what nft list ruleset prints`},
		{"table inet t\n", `line 1: expected "{", found "\n"`},
		{string(whole[:len(whole)/2]), "the dump ends in the middle"},
		{"table inet t {\n\tchain c {\n\t\ttcp dport { 22, 80\n", "line 4: the dump ends in the middle"},
	} {
		_, err := nft.ReadText(packet.NewSpace(), "f", []byte(c.text), nil)
		require.ErrorContains(t, err, c.want)
	}
}

// TestChainsWithoutAName: what stands in braces behind jump and goto is a chain, in both forms.
func TestChainsWithoutAName(t *testing.T) {
	const text = `table inet t {
	chain c {
		type filter hook input priority filter; policy accept;
		udp dport { 3031, 3032 } jump {
			ip saddr 198.51.100.9 accept
		}
		tcp dport 3031 jump {
			ip saddr 198.51.100.7 drop
			ip daddr { 192.0.2.1, 192.0.2.2 } drop
			accept
		} # handle 7
		tcp dport 22 goto {
			return
		}
		udp dport { 22, 23 } drop
		drop
	}
}
`
	const inJSON = `{"nftables": [{"table": {"family": "inet", "name": "t"}}, {"chain": {"family": "inet", "table": "t", "name": "c", "type": "filter", "hook": "input", "prio": 0, "policy": "accept"}},
 {"rule": {"family": "inet", "table": "t", "chain": "c", "handle": 6, "expr": [{"match": {"op": "==", "left": {"payload": {"protocol": "udp", "field": "dport"}}, "right": {"set": [3031, 3032]}}}, "jump {\n\t\t\tip saddr 198.51.100.9 accept\n\t\t}"]}},
 {"rule": {"family": "inet", "table": "t", "chain": "c", "handle": 7, "expr": [{"match": {"op": "==", "left": {"payload": {"protocol": "tcp", "field": "dport"}}, "right": 3031}}, "jump {\n\t\t\tip saddr 198.51.100.7 drop\n\t\t\tip daddr { 192.0.2.1, 192.0.2.2 } drop\n\t\t\taccept\n\t\t}"]}},
 {"rule": {"family": "inet", "table": "t", "chain": "c", "handle": 10, "expr": [{"match": {"op": "==", "left": {"payload": {"protocol": "tcp", "field": "dport"}}, "right": 22}}, "goto {\n\t\t\treturn\n\t\t}"]}},
 {"rule": {"family": "inet", "table": "t", "chain": "c", "handle": 11, "expr": [{"match": {"op": "==", "left": {"payload": {"protocol": "udp", "field": "dport"}}, "right": {"set": [22, 23]}}}, {"drop": null}]}},
 {"rule": {"family": "inet", "table": "t", "chain": "c", "handle": 12, "expr": [{"drop": null}]}}]}`
	sp := packet.NewSpace()
	fromText, err := nft.ReadText(sp, "f", []byte(text), nil)
	require.NoError(t, err)
	fromJSON, err := nft.ReadJSON(sp, []byte(inJSON), nil)
	require.NoError(t, err)
	require.Equal(t, fromText.Decision(sp), fromJSON.Decision(sp))
	for from, want := range map[string]packet.Verdict{"198.51.100.7 192.0.2.9 3031": packet.Drop,
		"198.51.100.8 192.0.2.9 3031": packet.Admit, "198.51.100.8 192.0.2.1 3031": packet.Drop,
		"198.51.100.8 192.0.2.9 22": packet.Admit, "198.51.100.8 192.0.2.9 23": packet.Drop} {
		f := strings.Fields(from)
		port, err := strconv.Atoi(f[2])
		require.NoError(t, err)
		p := packet.Packet{Hook: packet.In, Family: "ipv4", Src: netip.MustParseAddr(f[0]), Dst: netip.MustParseAddr(f[1]),
			Protocol: "tcp", SrcPort: new(50000), DstPort: &port, In: "eth0", State: "new"}
		require.Equal(t, want, sp.Outcome(fromText.Decision(sp), p).Verdict, from)
	}
}

func FuzzReadText(f *testing.F) {
	whole, err := os.ReadFile("testdata/wild.nft")
	if err != nil {
		f.Fatal(err)
	}
	f.Add(whole)
	f.Add([]byte("table ip t {\n\tchain c {\n\t\ttcp dport 1 jump {\n\t\t\tip saddr { 1.2.3.4 } goto {\n\t\t\t\tdrop; " +
		"accept\n\t\t\t}\n\t\t} # handle 1\n\t}\n}"))
	f.Add([]byte("table inet t {\n\tset s {\n\t\telements = { 1 : jump c, \"x\" . 5-6 timeout 3s }\n\t}\n\tchain c {\n\t\tfib saddr . " +
		"iif oif vmap @s\n\t\tupdate @s { ip6 saddr & ffff:: limit rate over 5/hour } log flags tcp\n\t}\n}"))
	f.Fuzz(func(t *testing.T, data []byte) {
		within(func(sp *packet.Space) (*kernel.Ruleset, error) { return nft.ReadText(sp, "f", data, nil) })
	})
}

// within reads and decides with as much as a service would give it, made small: whatever
// it was given, it ends with an answer, with an error or as too complex.
func within(read func(sp *packet.Space) (*kernel.Ruleset, error)) {
	over := time.Now().Add(5 * time.Second)
	budget := packet.Budget{Edges: 500_000, Halt: func() error {
		if time.Now().After(over) {
			return context.DeadlineExceeded
		}
		return nil
	}}
	_ = packet.Try(func() {
		sp := budget.Space()
		if rs, err := read(sp); err == nil {
			rs.Decision(sp)
			rs.Meanings(sp)
		}
	})
}

// TestHeadersSayTheirProtocol: a field of a header says nothing of packets without that header,
// also one that is not modelled; what an IPv6 header says that follows it is the protocol.
func TestHeadersSayTheirProtocol(t *testing.T) {
	const chain = "table inet t {\n\tchain c {\n\t\ttype filter hook input priority filter; policy accept;\n\t\t%s\n\t}\n}\n"
	for rule, want := range map[string]map[string]string{
		"udp length < 20 drop":           {"tcp": "admitted", "tcp6": "admitted", "udp": "uncertain"},
		"ip ttl 1 drop":                  {"tcp": "uncertain", "tcp6": "admitted"},
		"ip6 nexthdr tcp drop":           {"tcp": "admitted", "tcp6": "dropped", "udp6": "admitted"},
		"ip6 nexthdr != tcp drop":        {"tcp": "admitted", "tcp6": "admitted", "udp6": "dropped"},
		"ip6 nexthdr { tcp, 17 } accept": {"tcp6": "admitted"},
	} {
		sp := packet.NewSpace()
		rs, err := nft.ReadText(sp, "f", fmt.Appendf(nil, chain, rule), nil)
		require.NoError(t, err)
		d := rs.Decision(sp)
		for what, verdict := range want {
			protocol, six := strings.CutSuffix(what, "6")
			p := packet.Packet{Hook: packet.In, Family: "ipv4", Src: netip.MustParseAddr("198.51.100.7"),
				Dst: netip.MustParseAddr("192.0.2.1"), Protocol: protocol, SrcPort: new(50000), DstPort: new(22), In: "eth0", State: "new"}
			if six {
				p.Family, p.Src, p.Dst = "ipv6", netip.MustParseAddr("2001:db8::1"), netip.MustParseAddr("2001:db8::2")
			}
			got := sp.Outcome(d, p).Verdict.String()
			if len(sp.Outcomes(sp.Only(d, sp.Exactly(p)))) > 1 {
				got = "uncertain"
			}
			require.Equal(t, verdict, got, "%s %s", rule, what)
		}
	}
}
