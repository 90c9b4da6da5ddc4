package testbed

import (
	"fmt"
	"net/netip"
	"testing"

	"github.com/stretchr/testify/require"

	"yellowfence.example/yfence/core/dialect/iptables"
	"yellowfence.example/yfence/core/packet"
)

// TestWhatMakesIptablesTrack is the same of the other tools: the table nat is nothing by itself.
func TestWhatMakesIptablesTrack(t *testing.T) {
	need(t)
	for _, tool := range []string{"iptables-legacy-restore", "iptables-nft-restore"} {
		for _, nat := range []string{"", "*nat\n:PREROUTING ACCEPT\nCOMMIT\n",
			"*nat\n:PREROUTING ACCEPT\n-A PREROUTING -p udp --dport 9 -j ACCEPT\nCOMMIT\n",
			"*nat\n:PREROUTING ACCEPT\n-A PREROUTING -p udp --dport 9 -j REDIRECT --to-ports 10\nCOMMIT\n",
			"*nat\n:POSTROUTING ACCEPT\n-A POSTROUTING -o eth1 -j MASQUERADE\nCOMMIT\n",
			"*nat\n:POSTROUTING ACCEPT\n-A POSTROUTING -o eth1 -j SNAT --to-source 10.60.0.1\nCOMMIT\n",
			"*nat\n:PREROUTING ACCEPT\n-A PREROUTING -p udp --dport 9 -j DNAT --to-destination 10.60.3.7\nCOMMIT\n"} {
			j, err := NewJudge(own("yf-tracks"))
			require.NoError(t, err)
			text := nat + "*filter\n:FORWARD ACCEPT\n-A FORWARD -p udp -m udp --dport 1000 -j DROP\nCOMMIT\n"
			_, err = j.Host.Run([]byte(text), tool)
			require.NoError(t, err)
			sp := packet.NewSpace()
			rs, err := iptables.Read(sp, packet.IPv4, "f", text, iptables.Host{})
			require.NoError(t, err)
			j.Tracks = [2]bool{true, true} // the first piece comes in either case
			p := packet.Packet{Hook: packet.Through, Family: "ipv4", Src: netip.MustParseAddr("10.40.3.2"),
				Dst: netip.MustParseAddr("10.40.3.1"), Protocol: "udp", SrcPort: new(32080), DstPort: new(1000), In: "wan0", Out: "eth0",
				State: "new", Fragment: "later"}
			got, err := j.Verdicts([]packet.Packet{p})
			require.NoError(t, err)
			require.Equal(t, sp.Outcome(rs.Decision(sp), p).Verdict, got[0], "%s %q", tool, nat)
			require.NoError(t, j.Close())
		}
	}
}

// TestWhatMakesTheKernelTrack: pieces of a packet are put together where something asks for
// connections, in the families for which it does: a rule about ports decides otherwise then.
func TestWhatMakesTheKernelTrack(t *testing.T) {
	need(t)
	j, err := NewJudge(own("yf-tracks"))
	require.NoError(t, err)
	defer func() { require.NoError(t, j.Close()) }()
	const nat = "chain n {\n type nat hook %s priority %d; policy accept;\n %s\n }\n"
	pre := func(rule string) string { return fmt.Sprintf(nat, "prerouting", -100, rule) }
	post := func(rule string) string { return fmt.Sprintf(nat, "postrouting", 100, rule) }
	for _, more := range []string{"", "ct state new", "meta nfproto ipv4 ct state new", pre(""), pre("accept"),
		pre("udp dport 8080 dnat ip to 10.60.3.7:8080"), pre("udp dport 8080 dnat ip6 to [fd60::3:7]:8080"),
		pre("udp dport 8080 redirect to :9090"), post("udp dport 8080 masquerade"),
		post("meta nfproto ipv4 oifname \"eth1\" snat ip to 10.60.0.1"), post("oifname \"eth1\" snat ip6 to fd60::1")} {
		rule, chain := more, ""
		if len(more) > 40 {
			rule, chain = "", more
		}
		script := "flush ruleset\ntable inet t {\n chain f {\n type filter hook forward priority 0; policy accept;\n " + rule +
			" udp dport 1000 drop\n }\n" + chain + "}\n"
		require.NoError(t, j.Host.Load(script), script)
		sp, rs := inForce(t, j)
		d := fullyRead(sp, rs)
		for _, way := range [][2]string{{"10.40.3.2", "10.40.3.1"}, {"fd40::3:2", "fd40::3:1"}} {
			for _, piece := range []string{"", "later"} {
				require.NoError(t, j.forget())
				p := packet.Packet{Hook: packet.Through, Family: "ipv4", Src: netip.MustParseAddr(way[0]),
					Dst: netip.MustParseAddr(way[1]), Protocol: "udp", SrcPort: new(32080), DstPort: new(1000), In: "wan0", Out: "eth0",
					State: "new", Fragment: piece}
				if p.Src.Is6() {
					p.Family = "ipv6"
				}
				if piece != "" && p.Family == "ipv6" && !j.Tracks[packet.IPv6] { // see TestKernelAgrees
					*p.SrcPort, *p.DstPort, p.TCPFlags = 6<<12, 0, packet.FormatTCPFlags(int(p.Src.As16()[13-8]))
				}
				got, err := j.Verdicts([]packet.Packet{p})
				require.NoError(t, err)
				if sp.Outcome(d, p).Verdict != got[0] {
					t.Errorf("%s %q: the kernel says %s of %s\n%s", p.Family, piece, got[0], p, script)
				}
			}
		}
	}
}
