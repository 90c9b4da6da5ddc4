package packet_test

import (
	"fmt"
	"net/netip"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"go4.org/netipx"

	"yellowfence.example/yfence/core/packet"
)

// setOf is a set of addresses, and textOf says one.
func setOf(prefixes ...string) *netipx.IPSet {
	var all []netip.Prefix
	for _, p := range prefixes {
		all = append(all, netip.MustParsePrefix(p))
	}
	return packet.Prefixes(all...)
}

func textOf(s *netipx.IPSet) string {
	var out []string
	for _, p := range s.Prefixes() {
		out = append(out, packet.PrefixText(p))
	}
	return strings.Join(out, " ")
}

// TestSetsOfAddresses: what is in both, in either, in one alone, and of one family.
func TestSetsOfAddresses(t *testing.T) {
	a, b := setOf("10.0.0.0/24", "2001:db8::/64"), setOf("10.0.0.128/25", "10.0.1.0/24", "2001:db8::1/128")
	require.Equal(t, "10.0.0.0/23 2001:db8::/64", textOf(packet.Union(a, b)))
	require.Equal(t, "10.0.0.128/25 2001:db8::1", textOf(packet.Intersection(a, b)))
	require.Equal(t, "10.0.0.0/25", textOf(packet.OfFamily(packet.Without(a, b), packet.IPv4)))
	require.False(t, packet.Without(a, b).Contains(netip.MustParseAddr("2001:db8::1")))
	require.Empty(t, packet.Without(a, packet.Everything()).Ranges())
	require.Equal(t, "2001:db8::/64", textOf(packet.OfFamily(a, packet.IPv6)))
	mapped := packet.Prefixes(netip.MustParsePrefix("::ffff:10.0.0.0/120"))
	require.Empty(t, packet.OfFamily(mapped, packet.IPv4).Ranges(), "to a filter it is an address of IPv6")
	require.Equal(t, "0.0.0.0/0 ::/0", textOf(packet.Everything()))
	require.Equal(t, "10.0.0.0/24", textOf(setOf("10.0.0.7/24")), "it need not be masked")
	for address, own := range map[string]bool{"127.0.0.1": true, "127.255.255.255": true, "128.0.0.0": false, "::1": true, "::2": false} {
		require.Equal(t, own, packet.Loopback.Contains(netip.MustParseAddr(address)), address)
	}
	r := packet.PrefixRange(netip.MustParsePrefix("10.0.0.7/30"))
	require.Equal(t, packet.Range{Lo: packet.Addr(netip.MustParseAddr("10.0.0.4")), Hi: packet.Addr(netip.MustParseAddr("10.0.0.7"))}, r)
}

// TestDirections: their names in policies and in questions, and which fields hold whose address.
func TestDirections(t *testing.T) {
	for _, c := range []struct {
		direction          packet.Direction
		name, word         string
		local, peer, iface packet.Field
	}{
		{packet.Inbound, "inbound", "in", packet.Dst, packet.Src, packet.InIface},
		{packet.Outbound, "outbound", "out", packet.Src, packet.Dst, packet.OutIface},
		{packet.Forward, "forward", "through", packet.Dst, packet.Src, packet.InIface},
	} {
		require.Equal(t, []string{c.name, c.word}, []string{c.direction.String(), c.direction.Word()})
		require.Equal(t, []packet.Field{c.local, c.peer, c.iface}, []packet.Field{c.direction.Local(), c.direction.Peer(),
			c.direction.Interface()})
		named, ok := packet.DirectionNamed(c.name)
		require.True(t, ok && named == c.direction)
		said, ok := packet.DirectionOf(c.word)
		require.True(t, ok && said == c.direction)
		_, ok = packet.DirectionNamed(c.word)
		require.False(t, ok, "a policy does not say %q", c.word)
	}
	sp := packet.NewSpace()
	all := packet.Empty
	for _, d := range packet.Directions {
		require.Equal(t, packet.Empty, sp.And(all, sp.Crossing(d)), "a packet crosses in one direction")
		all = sp.Or(all, sp.Crossing(d))
	}
	require.Equal(t, packet.All, all)
}

// TestRates: as the language writes them, as the kernel counts them, and which of two is slower.
func TestRates(t *testing.T) {
	for _, c := range []struct {
		rate   packet.Rate
		text   string
		kernel string // number and unit; "" is none that is whole
	}{
		{packet.Rate{N: 4, Seconds: 60}, "4 per 1m", "4 minute"},
		{packet.Rate{N: 60, Seconds: 60}, "60 per 1m", "1 second"},
		{packet.Rate{N: 1, Seconds: 86400}, "1 per 1d", "1 day"},
		{packet.Rate{N: 48, Seconds: 2 * 86400}, "48 per 2d", "1 hour"},
		{packet.Rate{N: 3, Seconds: 90}, "3 per 90s", "2 minute"},
		{packet.Rate{N: 1, Seconds: 7}, "1 per 7s", ""},
		{packet.Rate{N: 7, Seconds: 7}, "7 per 7s", "1 second"},
	} {
		require.Equal(t, c.text, c.rate.String())
		n, unit, ok := c.rate.Kernel()
		require.Equal(t, c.kernel != "", ok, c.text)
		if ok {
			require.Equal(t, c.kernel, fmt.Sprint(n, " ", unit))
		}
	}
	minute, second, hour := packet.Rate{N: 60, Seconds: 60}, packet.Rate{N: 1, Seconds: 1}, packet.Rate{N: 60, Seconds: 3600}
	require.True(t, hour.Slower(minute))
	require.False(t, minute.Slower(hour))
	require.True(t, second.Slower(minute), "the same rate with a smaller bucket")
	require.False(t, minute.Slower(second))
	require.False(t, minute.Slower(minute))
}

// TestTranslations: how they are said, and which of two counts.
func TestTranslations(t *testing.T) {
	to := netip.MustParseAddr("192.0.2.7")
	for _, c := range []struct {
		is   packet.Translation
		want string
	}{
		{packet.Translation{}, ""},
		{packet.Translation{To: to, Port: 443}, "sent on to 192.0.2.7:443"},
		{packet.Translation{To: netip.MustParseAddr("2001:db8::7"), Port: 443}, "sent on to [2001:db8::7]:443"},
		{packet.Translation{To: to, Masqueraded: true}, "sent on to 192.0.2.7, masqueraded"},
		{packet.Translation{Port: 8080}, "redirected to port 8080"},
		{packet.Translation{Here: true}, "redirected to the host itself"},
		{packet.Translation{Masqueraded: true}, "masqueraded"},
	} {
		require.Equal(t, c.want, c.is.String())
		require.Equal(t, c.want != "", c.is.Changes())
	}
	sp := packet.NewSpace()
	ssh := sp.Value(packet.DstPort, 22)
	d := sp.Choose(ssh, sp.Leaf(packet.Outcome{Verdict: packet.Admit, Translated: packet.Translation{To: to}}),
		sp.Leaf(packet.Outcome{Verdict: packet.Drop}))
	only := func(d packet.Decision) packet.Outcome {
		out := sp.Outcomes(sp.Only(d, ssh))
		require.Len(t, out, 1)
		return out[0]
	}
	require.Equal(t, packet.Translation{To: to, Masqueraded: true}, only(sp.Translate(d, packet.Translation{Masqueraded: true})).Translated)
	require.Equal(t, packet.Translation{Port: 80}, only(sp.Translate(d, packet.Translation{Port: 80})).Translated,
		"the one that comes first counts")
	require.Equal(t, sp.Only(d, sp.Not(ssh)), sp.Only(sp.Translate(d, packet.Translation{Port: 80}), sp.Not(ssh)),
		"what is dropped is not changed")
}

// TestParts: a decision falls into the packets that each decides, whole and without overlap.
func TestParts(t *testing.T) {
	sp := packet.NewSpace()
	leaf := func(v packet.Verdict, by int32) packet.Decision { return sp.Leaf(packet.Outcome{Verdict: v, By: by}) }
	ssh, web, tcp := sp.Value(packet.DstPort, 22), sp.Values(packet.DstPort, 80, 443), sp.Value(packet.Protocol, packet.TCP)
	d := sp.Choose(sp.And(tcp, ssh), leaf(packet.Admit, 1), sp.Choose(web, leaf(packet.Reject, 2),
		sp.Choose(tcp, leaf(packet.Drop, 1), packet.Void)))
	parts := sp.Parts(d)
	require.Len(t, parts, 3)
	require.Equal(t, sp.Or(sp.And(tcp, ssh), sp.Minus(tcp, web)), parts[1])
	require.Equal(t, sp.Minus(web, sp.And(tcp, ssh)), parts[2])
	require.Equal(t, sp.Not(sp.Or(parts[1], parts[2])), parts[0], "what nobody decides")
	require.Len(t, sp.Outcomes(d), 3)
	for _, o := range sp.Outcomes(d) {
		require.Equal(t, o.Verdict != packet.Admit, o.Refused(), o.Verdict)
	}
	unknown := sp.Unknown("whether the tide is in")
	e := sp.Choose(unknown, leaf(packet.Admit, 1), leaf(packet.Drop, 2))
	require.Equal(t, leaf(packet.Admit, 1), sp.Answered(e, "whether the tide is in", true))
	require.Equal(t, leaf(packet.Drop, 2), sp.Answered(e, "whether the tide is in", false))
	require.Equal(t, d, sp.Answered(d, "whether it rains", true), "what is not asked changes nothing")
	require.Len(t, sp.UnknownFields(), 2)
}

// TestTCPFlags: a match of some flags under a mask holds for just the packets whose flags are so.
func TestTCPFlags(t *testing.T) {
	sp := packet.NewSpace()
	for _, c := range [][2]int{{packet.SYN, packet.SYN | packet.ACK}, {0, packet.SYN}, {0, 0}, {255, 255}, {packet.SYN, packet.ACK}} {
		match := sp.TCPFlagsMatch(c[0], c[1])
		for flags := range 256 {
			has := sp.And(match, sp.Value(packet.TCPFlags, flags)) != packet.Empty
			require.Equal(t, flags&c[1] == c[0], has, "%s of %s: %s", packet.FormatTCPFlags(c[0]), packet.FormatTCPFlags(c[1]),
				packet.FormatTCPFlags(flags))
		}
	}
	require.Equal(t, "none", packet.FormatTCPFlags(0))
	require.Equal(t, "fin,syn,rst,psh,ack,urg,ecn,cwr", packet.FormatTCPFlags(255))
}

// TestSenders: by which field each kind is told, and how one is said.
func TestSenders(t *testing.T) {
	for kind, field := range map[packet.SenderKind]packet.Field{packet.ByUser: packet.User, packet.ByUnit: packet.Unit,
		packet.ByProgram: packet.Program} {
		require.Equal(t, field, kind.Field())
		require.Equal(t, string(kind)+" backup", packet.Sender{Kind: kind, Name: "backup"}.String())
	}
}
