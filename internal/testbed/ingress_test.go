package testbed

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"yellowfence.example/yfence/core/dialect/nft"
	"yellowfence.example/yfence/core/kernel"
	"yellowfence.example/yfence/core/packet"
)

// TestIngressInTheKernel: chains at ingress, of netdev and of inet, before chains that see
// whole packets; what they drop, mark and let pass is what the kernel does.
func TestIngressInTheKernel(t *testing.T) {
	need(t)
	j, err := NewJudge(own("yf-ingress"))
	require.NoError(t, err)
	defer func() { require.NoError(t, j.Close()) }()
	const perRuleset = 60
	rounds := max(12, *verdicts/200)
	count, dropped, judged := map[string]int{}, 0, 0
	for round := range uint64(rounds) {
		require.NoError(t, j.forget())
		rng := rand.New(rand.NewPCG(*seed, 1000+round))
		var b strings.Builder
		b.WriteString("flush ruleset\n")
		rules := func() {
			for range 1 + rng.IntN(4) {
				fmt.Fprintf(&b, "\t\t%s %s\n", pick(rng, "ip saddr 10.40.3.0/24", "ip saddr 198.51.100.0/24", "ip6 saddr fd40::/48",
					"ip6 daddr fd60::/48", "tcp dport { 22, 80, 1000-2000 }", "udp dport 53", "meta l4proto icmp", "meta l4proto { 6, 17 }",
					"tcp flags & (syn | ack) == syn", "ip frag-off & 0x1fff != 0", "iifname \"wan0\"", "meta mark 4", "ip protocol 17"),
					pick(rng, "drop", "drop", "accept", "meta mark set 4", "counter", "jump more"))
			}
			b.WriteString("\t}\n")
		}
		device := pick(rng, Interfaces...)
		family := pick(rng, "netdev", "inet")
		fmt.Fprintf(&b, "table %s door {\n\tchain more {\n\t\tudp dport 1000-3000 drop\n\t}\n\tchain in {\n\t\ttype filter hook ingress "+
			"device %q priority %d; policy accept;\n", family, device, pick(rng, -500, 0, 10))
		rules()
		if rng.IntN(2) == 0 {
			fmt.Fprintf(&b, "\tchain second {\n\t\ttype filter hook ingress device %q priority 20; policy %s;\n", device,
				pick(rng, "accept", "drop"))
			rules()
		}
		b.WriteString("}\ntable inet t {\n\tchain i {\n\t\ttype filter hook input priority 0; policy accept;\n\t\tmeta mark 4 " +
			"drop\n\t\ttcp dport 22 drop\n\t}\n\tchain f {\n\t\ttype filter hook forward priority 0; policy accept;\n\t\tmeta mark 4 udp " +
			"dport 53 drop\n\t}\n}\n")
		script := b.String()
		require.NoError(t, j.Host.Load(script), script)
		sp, rs := inForce(t, j)
		listed, err := j.Host.Run(nil, "nft", "-a", "list", "ruleset") // which says the device
		require.NoError(t, err)
		rs, err = nft.ReadText(sp, "listing", listed, &kernel.Names{Routes: rs.Routes})
		require.NoError(t, err)
		decision := fullyRead(sp, rs)
		for _, unknown := range sp.UnknownsOf(sp.Where(decision, func(o packet.Outcome) bool { return o.Verdict == packet.Admit })) {
			if strings.HasPrefix(unknown, "whether packets of other interfaces come over") { // here none is above another
				decision = sp.Answered(decision, unknown, false)
			}
		}
		packets := make([]packet.Packet, perRuleset)
		for i := range packets {
			packets[i] = randomPacket(rng, int(j.tag)+i)
			if p := &packets[i]; p.Fragment != "" && p.Family == "ipv6" && !j.Tracks[packet.IPv6] { // see TestKernelAgrees
				*p.SrcPort, *p.DstPort, p.TCPFlags = 6<<12, 0, packet.FormatTCPFlags(int(p.Src.As16()[13-8]))
			}
		}
		packets = slices.DeleteFunc(packets, func(p packet.Packet) bool { // ports of later pieces are not read here
			return len(sp.Outcomes(sp.Only(decision, sp.Exactly(p)))) != 1
		})
		judged += len(packets)
		if wrong := hold(t, j, sp, decision, packets, count); wrong != nil {
			t.Fatalf("seed %d round %d: %s\n%s", *seed, round, wrong.what, script)
		}
		for _, p := range packets {
			if sp.Outcome(decision, p).Verdict == packet.Drop {
				dropped++
			}
		}
	}
	t.Logf("%d verdicts of the kernel: %v", judged, count)
	require.Greater(t, dropped, rounds*3)
	require.Greater(t, judged, rounds*perRuleset*8/10, "most is certain")
}
