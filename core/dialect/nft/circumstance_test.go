package nft_test

import (
	"fmt"
	"net/netip"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"yellowfence.example/yfence/core/dialect/nft"
	"yellowfence.example/yfence/core/kernel"
	"yellowfence.example/yfence/core/packet"
)

// ruleset is a listing with one chain on a hook, and another that it may jump to.
func ruleset(family, hook, priority, rules string) string {
	return fmt.Sprintf("table %s t {\n\tchain other {\n\t\tmeta mark set 0x00000005 return\n\t}\n\tchain c {\n\t\ttype filter hook %s "+
		"priority %s; policy drop;\n\t\t%s\n\t}\n}\n",
		family, hook, priority, strings.ReplaceAll(rules, "; ", "\n\t\t"))
}

func TestMarksOfRules(t *testing.T) {
	for _, c := range []struct {
		rules    string
		mark, ct uint32
		want     string
	}{
		{"meta mark 0x00000005 accept", 5, 0, "admitted"},
		{"meta mark 0x00000005 accept", 4, 0, "dropped"},
		{"meta mark != 0x00000005 accept", 4, 0, "admitted"},
		{"meta mark & 0x000000f0 == 0x00000010 accept", 0x1f, 0, "admitted"},
		{"meta mark & 0x000000f0 > 0x00000010 accept", 0x2f, 0, "admitted"},
		{"meta mark & 0x000000f0 <= 0x00000010 accept", 0x2f, 0, "dropped"},
		{"meta mark { 0x00000001-0x00000003, 0x00000009 } accept", 2, 0, "admitted"},
		{"ct mark 0x00000007 accept", 0, 7, "admitted"},
		{"meta mark set 0x00000005; meta mark 0x00000005 accept", 1, 0, "admitted"},
		{"meta mark 0x00000001 meta mark set 0x00000005; meta mark 0x00000005 accept", 1, 0, "admitted"},
		{"meta mark 0x00000001 meta mark set 0x00000005; meta mark 0x00000005 accept", 2, 0, "dropped"},
		{"meta mark 0x00000001 meta mark set 0x00000005 accept", 1, 0, "admitted"},
		{"meta mark set 0x00000005 meta mark 0x00000005 accept", 1, 0, "admitted"},
		{"meta mark set 0x00000005 tcp dport 1 accept; meta mark 0x00000005 accept", 1, 0, "admitted"},
		{"meta mark set meta mark & 0xffffff00 | 0x00000005; meta mark 0x00000105 accept", 0x1ff, 0, "admitted"},
		{"meta mark set meta mark ^ 0x00000001; meta mark 0x00000002 accept", 3, 0, "admitted"},
		{"meta mark set ct mark; meta mark 0x00000007 accept", 0, 7, "admitted"},
		{"ct mark set meta mark; ct mark 0x00000007 accept", 7, 1, "admitted"},
		{"ct mark set meta mark | 0x00000100; ct mark 0x00000107 accept", 7, 1, "admitted"},
		{"meta mark vmap { 0x00000001 : accept, 0x00000002-0x00000005 : drop }", 1, 0, "admitted"},
		{"jump other; meta mark 0x00000005 accept", 1, 0, "admitted"},
		{"meta mark set tcp dport map { 22 : 0x00000001 }; meta mark 0x00000001 accept", 7, 0, "admitted"},
		{"meta mark set tcp dport map { 23 : 0x00000001 }; meta mark 0x00000001 accept", 7, 0, "dropped"},
		{"meta mark set tcp dport map { 23 : 0x00000001 } accept; meta mark 0x00000007 drop", 7, 0, "dropped"},
		{"meta mark set meta mark map { 7 : 0x00000001 }; meta mark 0x00000001 accept", 7, 0, "uncertain"},
		{"meta mark set tcp dport map @nowhere; meta mark 0x00000001 accept", 7, 0, "uncertain"},
		{"meta mark set tcp dport map { 22 : 0x00000001 }; accept", 7, 0, "admitted"},
		{"meta mark set 0x00000005 log prefix \"x\" tcp dport 22 accept", 7, 0, "admitted"},
		{"meta skgid 33 accept", 0, 0, "dropped"},
		{"meta skgid != 33 accept", 0, 0, "dropped"},
	} {
		sp := packet.NewSpace()
		rs, err := nft.ReadText(sp, "", []byte(ruleset("inet", "input", "filter", c.rules)), &kernel.Names{})
		require.NoError(t, err)
		p := marked(tcp("198.51.100.1", 4000, 22, "new"), c.mark)
		p.ConnMark = c.ct
		require.Equal(t, c.want, fares(sp, rs.Decision(sp), p), c.rules)
	}
}

// TestMarksAreSaid: rules about marks and flags read as nft lists them.
func TestMarksAreSaid(t *testing.T) {
	for _, rule := range []string{
		"meta mark 0x00000005 accept", "meta mark & 0x000000f0 != 0x00000010 drop",
		"meta mark { 0x00000001-0x00000003, 0x00000009 } accept",
		"ct mark 0x00000007 accept", "meta mark set 0x00000005", "meta mark set meta mark & 0xffffff00 | 0x00000005",
		"meta mark set meta mark ^ 0x00000001",
		"ct mark set meta mark | 0x00000100", "meta mark set ct mark", "tcp flags syn / syn,ack accept", "tcp flags != syn / fin,syn drop",
		"ip frag-off & 8191 != 0 drop", "exthdr frag exists drop", "frag more-fragments 1 drop", "meta skgid { 33, 34 } accept",
	} {
		rs, err := nft.ReadText(packet.NewSpace(), "", []byte(ruleset("inet", "input", "filter", rule)), nil)
		require.NoError(t, err)
		require.Equal(t, rule, rs.Chains[1].Rules[0].Text.String())
	}
}

// fares says what surely becomes of a packet.
func fares(sp *packet.Space, d packet.Decision, p packet.Packet) string {
	of := sp.Outcomes(sp.Only(d, sp.Exactly(p)))
	if len(of) != 1 {
		return "uncertain"
	}
	return of[0].Verdict.String()
}

// TestRedirect: what is given to the host itself is what its input hook then sees.
func TestRedirect(t *testing.T) {
	const table = "table inet t {\n\tchain pre {\n\t\ttype nat hook prerouting priority dstnat; policy accept;\n\t\ttcp dport 8080 " +
		"redirect to :80\n\t\ttcp dport 49500 redirect\n\t}\n" +
		"\tchain post {\n\t\ttype nat hook postrouting priority srcnat; policy accept;\n\t\toifname \"wan0\" masquerade\n\t\tsnat ip to " +
		"203.0.113.1\n\t}\n" +
		"\tchain in {\n\t\ttype filter hook input priority filter; policy drop;\n\t\ttcp dport { 80, 49500 } accept\n%s\t}\n\tchain on " +
		"{\n\t\ttype filter hook forward priority filter; policy drop;\n\t\ttcp dport 25 accept\n\t}\n}\n"
	for _, c := range []struct {
		hook, port int
		state      string
		want       string
	}{
		{packet.In, 8080, "new", "admitted"},
		{packet.In, 8080, "established", "uncertain"},
		{packet.In, 80, "established", "admitted"},
		{packet.In, 8096, "new", "dropped"},
		{packet.Through, 8080, "new", "admitted"}, // it is intercepted
		{packet.Through, 49500, "new", "admitted"},
		{packet.Through, 25, "new", "admitted"}, // and its source changed
		{packet.Through, 80, "new", "dropped"},
	} {
		for _, form := range []string{"\t\tip daddr 192.0.2.1 tcp dport 22 accept\n", "\t\tip daddr 192.0.2.1 tcp dport 80 drop\n"} {
			sp := packet.NewSpace()
			rs, err := nft.ReadText(sp, "", []byte(fmt.Sprintf(table, form)), nil)
			require.NoError(t, err)
			p := tcp("198.51.100.1", 4000, c.port, c.state)
			if p.Hook = c.hook; c.hook == packet.Through {
				p.Out = "wan0"
			}
			require.Equal(t, c.want, fares(sp, rs.Decision(sp), p), p.String())
			about := sp.And(sp.Exactly(p), sp.WellFormed())
			require.Equal(t, c.want, fares(sp, rs.About(sp, about).Decision(sp), p), "%s, alone", p)
		}
	}
	// A rule that asks which of its addresses the packet is for cannot be answered.
	sp := packet.NewSpace()
	rs, err := nft.ReadText(sp, "", []byte(strings.Replace(fmt.Sprintf(table, ""), "tcp dport { 80",
		"ip daddr 203.0.113.1 tcp dport { 80", 1)), nil)
	require.NoError(t, err)
	require.Equal(t, "uncertain", fares(sp, rs.Decision(sp), tcp("198.51.100.1", 4000, 8080, "new")))
	require.Equal(t, "dropped", fares(sp, rs.Decision(sp), tcp("198.51.100.1", 4000, 8096, "new")))
}

// TestFragments: where connections are tracked a fragment fares as the whole
// packet does; else it may have none.
func TestFragments(t *testing.T) {
	const ssh = "tcp dport 22 accept; ip saddr 192.0.2.1 accept; reject"
	for _, c := range []struct {
		family, hook, priority, rules string
		want4, want6                  string // of a later fragment that is forwarded
	}{
		{"inet", "forward", "filter", ssh, "uncertain", "uncertain"},
		{"inet", "forward", "filter", "reject", "dropped", "dropped"}, // and not rejected: there is no answer to it
		{"inet", "forward", "filter", "ct state invalid drop; " + ssh, "admitted", "admitted"},
		{"ip", "forward", "filter", "ct state invalid drop; " + ssh, "admitted", "admitted"},
		{"ip6", "forward", "filter", "ct state invalid drop; tcp dport 22 accept", "admitted", "admitted"},
		{"inet", "forward", "filter", "tcp dport 22 drop; accept", "uncertain", "uncertain"},
		{"inet", "prerouting", "raw", "ct state established accept; tcp dport 22 accept", "admitted", "admitted"},
		{"inet", "prerouting", "-450", "ct state established accept; tcp dport 22 accept", "uncertain", "uncertain"},
		{"inet", "forward", "filter", "meta l4proto tcp accept", "admitted", "admitted"},
		{"inet", "forward", "filter", "ip frag-off & 8191 != 0 accept", "admitted", "dropped"},
		{"inet", "forward", "filter", "ip frag-off & 16383 == 0 drop; accept", "admitted", "admitted"},
		{"inet", "forward", "filter", "ip frag-off & 8192 != 0 accept", "uncertain", "dropped"},
		{"inet", "forward", "filter", "exthdr frag exists accept", "dropped", "admitted"},
		{"inet", "forward", "filter", "exthdr frag missing drop; accept", "admitted", "admitted"},
		{"inet", "forward", "filter", "frag more-fragments 1 accept", "dropped", "uncertain"},
		{"inet", "forward", "filter", "ip frag-off 5 accept", "uncertain", "dropped"},
	} {
		sp := packet.NewSpace()
		rs, err := nft.ReadText(sp, "", []byte(ruleset(c.family, c.hook, c.priority, c.rules)), nil)
		require.NoError(t, err)
		d := rs.Decision(sp)
		p := tcp("198.51.100.1", 4000, 22, "new")
		p.Hook, p.Out = packet.Through, "eth1"
		p.Fragment = "later"
		require.Equal(t, c.want4, fares(sp, d, p), "%s %s", c.family, c.rules)
		q := p
		q.Family, q.Src, q.Dst = "ipv6", v6, v6
		require.Equal(t, c.want6, fares(sp, d, q), "%s %s (IPv6)", c.family, c.rules)
	}
	// What is for the host itself is put together before the input hook, in IPv4.
	sp := packet.NewSpace()
	rs, err := nft.ReadText(sp, "", []byte(ruleset("inet", "input", "filter", ssh)), nil)
	require.NoError(t, err)
	p := tcp("198.51.100.1", 4000, 22, "new")
	p.Fragment = "later"
	require.Equal(t, "admitted", fares(sp, rs.Decision(sp), p))
	p.Family, p.Src, p.Dst = "ipv6", v6, v6
	require.Equal(t, "uncertain", fares(sp, rs.Decision(sp), p))
	require.Equal(t, "admitted", fares(sp, sp.Answered(rs.Decision(sp), kernel.LaterPorts, true), p))
	require.Equal(t, "dropped", fares(sp, sp.Answered(rs.Decision(sp), kernel.LaterPorts, false), p))
}

var v6 = netip.MustParseAddr("2001:db8::1")
