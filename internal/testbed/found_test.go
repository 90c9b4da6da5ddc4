package testbed

import (
	"fmt"
	"net/netip"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"yellowfence.example/yfence/core/packet"
)

// TestFoundByTheKernel plays again what the kernel and a decision once disagreed about.
func TestFoundByTheKernel(t *testing.T) {
	need(t)
	j, err := NewJudge(own("yf-found"))
	require.NoError(t, err)
	defer func() { require.NoError(t, j.Close()) }()
	num := func(n int) *int { return &n }
	tcp := packet.Packet{Hook: packet.In, In: "wan0", Family: "ipv4", Protocol: "tcp", State: "new",
		Src: netip.MustParseAddr("198.51.100.7"), Dst: Own[0], SrcPort: num(30000), DstPort: num(1000)}
	change := func(p packet.Packet, f func(*packet.Packet)) packet.Packet { f(&p); return p }
	reset := change(tcp, func(p *packet.Packet) { p.State, p.TCPFlags = "invalid", "rst" })
	through := change(tcp, func(p *packet.Packet) {
		p.Hook, p.In, p.Out, p.Dst = packet.Through, "eth0", "wan0", netip.MustParseAddr("192.0.2.9")
	})
	six := func(p *packet.Packet) {
		p.Family, p.Src, p.Dst = "ipv6", netip.MustParseAddr("2001:db8:5::5"), netip.MustParseAddr("2001:db8:1::9")
	}
	later := change(through, func(p *packet.Packet) { p.Fragment = "later" })
	later6 := change(later, func(p *packet.Packet) { six(p); p.SrcPort, p.DstPort, p.TCPFlags = num(6<<12), num(0), "fin,rst" })
	for i, c := range []struct {
		what, hook, priority, rules string
		packet                      packet.Packet
		want                        packet.Verdict
	}{
		{"what is invalid has no connection, and so no mark of one", "input", "filter", "ct mark 0 drop", reset, packet.Admit},
		{"nor one that is not some mark", "input", "filter", "ct mark != 7 drop", reset, packet.Admit},
		{"nor can one be written", "input", "filter", "ct mark set 5; ct mark 5 drop", reset, packet.Admit},
		{"to read one ends the rule", "input", "filter", "meta mark set ct mark drop", reset, packet.Admit},
		{"what new packets write stays", "input", "filter", "ct mark set 5; ct mark 5 drop", tcp, packet.Drop},
		{"before tracking everything is invalid", "prerouting", "-300", "ct state invalid drop", tcp, packet.Drop},
		{"and has no mark", "prerouting", "-300", "ct mark 0 drop", tcp, packet.Admit},
		{"a match on ports sees what stands there in a later fragment", "forward", "filter", "tcp sport != 22 drop", later, packet.Drop},
		{"in IPv6 the head of the whole packet", "forward", "filter", "tcp sport 24576 tcp flags & (fin|rst) == (fin|rst) drop", later6,
			packet.Drop},
		{"no fragment is seen where connections are tracked", "forward", "filter",
			"ct state invalid drop; ip frag-off & 0x1fff != 0 drop", later, packet.Admit},
		{"but before they are put together", "prerouting", "-450", "ct state established accept; ip frag-off & 0x1fff != 0 drop", later,
			packet.Drop},
		{"a later fragment that is rejected hears nothing", "forward", "filter", "reject", later, packet.Drop},
		{"nor does an ICMP error", "input", "filter", "reject", change(tcp, func(p *packet.Packet) {
			p.Protocol, p.State, p.SrcPort, p.DstPort, p.ICMPType, p.ICMPCode = "icmp", "related", nil, nil, num(3), num(1)
		}), packet.Reject},
		{"a mark written on the way in is seen behind", "prerouting", "-150", "meta mark set 7; meta mark 7 drop", tcp, packet.Drop},
		{"a mark is written even where the rule then fails", "input", "filter", "meta mark set 7 tcp dport 9 accept; meta mark 7 drop",
			tcp, packet.Drop},
	} {
		text := ruleset("inet", c.hook, c.priority, c.rules)
		require.NoError(t, j.Host.Load("flush ruleset\n"+text), c.what)
		sp, rs := inForce(t, j)
		p := c.packet
		if p.SrcPort != nil && p.Fragment == "" {
			p.SrcPort = num(30000 + i)
		}
		require.Nil(t, hold(t, j, sp, fullyRead(sp, rs), []packet.Packet{p}, map[string]int{}), c.what)
		require.Equal(t, c.want, sp.Outcome(fullyRead(sp, rs), p).Verdict, c.what)
	}
}

// ruleset has one chain on a hook, which accepts what no rule does anything else with.
func ruleset(family, hook, priority, rules string) string {
	text := ""
	for _, rule := range strings.Split(rules, "; ") {
		text += "\t\t" + rule + "\n"
	}
	return fmt.Sprintf("table %s t {\n\tchain c {\n\t\ttype filter hook %s priority %s; policy accept;\n%s\t}\n}\n", family, hook,
		priority, text)
}

// TestZonesInTheKernel: before connections are looked up, a packet whose zone was said has one
// that is new; what is read of that is uncertain rather than wrong.
func TestZonesInTheKernel(t *testing.T) {
	need(t)
	j, err := NewJudge(own("yf-zone"))
	require.NoError(t, err)
	defer func() { require.NoError(t, j.Close()) }()
	num := func(n int) *int { return &n }
	p := packet.Packet{Hook: packet.In, In: "wan0", Family: "ipv4", Protocol: "tcp", State: "new",
		Src: netip.MustParseAddr("198.51.100.7"), Dst: Own[0], SrcPort: num(30000), DstPort: num(1000)}
	for rules, want := range map[string]packet.Verdict{"ct state new drop": packet.Admit, "ct zone set 7; ct state new drop": packet.Drop,
		"ct zone set 7; ct mark 0 drop": packet.Admit} {
		require.NoError(t, j.Host.Load("flush ruleset\n"+ruleset("inet", "prerouting", "raw", rules)), rules)
		sp, rs := inForce(t, j)
		got, err := j.Verdicts([]packet.Packet{p})
		require.NoError(t, err)
		require.Equal(t, want, got[0], rules)
		may := sp.Outcomes(sp.Only(fullyRead(sp, rs), sp.Exactly(p)))
		require.Contains(t, may, packet.Outcome{Verdict: want}, rules)
		p.SrcPort = num(*p.SrcPort + 1)
	}
}
