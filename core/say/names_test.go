package say

import (
	"net/netip"
	"testing"

	"github.com/stretchr/testify/require"
	"go4.org/netipx"

	"yellowfence.example/yfence/core/fence"
	"yellowfence.example/yfence/core/packet"
	"yellowfence.example/yfence/core/policy/policytest"
)

func set(t *testing.T, ranges ...string) *netipx.IPSet {
	t.Helper()
	var b netipx.IPSetBuilder
	for _, s := range ranges {
		if p, err := netip.ParsePrefix(s); err == nil {
			b.AddPrefix(p)
		} else if a, err := netip.ParseAddr(s); err == nil {
			b.Add(a)
		} else {
			r, err := netipx.ParseIPRange(s)
			require.NoError(t, err)
			b.AddRange(r)
		}
	}
	out, err := b.IPSet()
	require.NoError(t, err)
	return out
}

// TestAddressesInThePolicysOwnNames shows how a set of addresses is said.
func TestAddressesInThePolicysOwnNames(t *testing.T) {
	n := NamesOf(policytest.Saltmarsh(t, "../.."))
	for _, c := range []struct {
		set  *netipx.IPSet
		want string
	}{
		{packet.Everything(), "everywhere"},
		{set(t, "0.0.0.0/0"), "everywhere (IPv4)"},
		{set(t, "::/0"), "everywhere (IPv6)"},
		{set(t, "10.60.0.0/16", "fd60::/48"), "hill-lan"},
		{set(t, "10.60.0.0/16"), "hill-lan (IPv4)"},
		{set(t, "10.40.4.11-10.40.4.13", "fd40::4:11-fd40::4:13"), "beacon"},
		{set(t, "10.40.2.21", "fd40::2:21"), "host broker-01"},
		{set(t, "10.40.6.60"), "watch at quay-lan (IPv4)"}, // of its addresses one
		{set(t, "192.0.2.200"), "192.0.2.200"},
		{set(t, "192.0.2.128/25"), "192.0.2.128/25"},
		{set(t, "10.60.0.0/16", "10.40.0.0/16"), "hill-lan (IPv4), quay-lan (IPv4)"},
		{set(t, "10.60.0.0/16", "2001:db8:77::/48"), "hill-lan (IPv4), office (IPv6)"},
		{packet.Without(set(t, "10.60.0.0/16"), set(t, "10.60.5.50")), "hill-lan (IPv4) except depot (IPv4)"},
		{packet.Without(packet.Everything(), set(t, "10.40.0.0/16", "fd40::/48")), "everywhere except quay-lan"},
		{set(t, "192.0.2.1", "192.0.2.3", "192.0.2.5", "192.0.2.7", "192.0.2.9", "192.0.2.200"),
			"192.0.2.1, 192.0.2.3, 192.0.2.5, 192.0.2.7, and 2 more"},
	} {
		require.Equal(t, c.want, n.Addresses(c.set).String())
	}
}

// TestOneMachine: where all hosts have a role, or there is one host, nobody means the fleet.
func TestOneMachine(t *testing.T) {
	n := NamesOf(policytest.Resolve(t, `{"hosts": [{"name": "gate-01", "roles": ["gate"], "dialect": "nft", "interfaces": [
		{"name": "eth0", "addresses": ["192.0.2.7/24"]}]}]}`, "policy p language 1\nrole gate\n"))
	require.Equal(t, "gate", n.Addresses(set(t, "192.0.2.7")).String())
	require.Equal(t, "strangers (IPv4)", n.Addresses(packet.Without(set(t, "0.0.0.0/0"), set(t, "192.0.2.7"))).String())
}

// TestTraffic shows how a set of packets is said.
func TestTraffic(t *testing.T) {
	n := NamesOf(policytest.Saltmarsh(t, "../.."))
	sp := packet.NewSpace()
	tcp := func(lo, hi int) packet.Set {
		return sp.And(sp.Value(packet.Protocol, packet.TCP), sp.Range(packet.DstPort, lo, hi))
	}
	hill := sp.Addrs(packet.Src, set(t, "10.60.0.0/16", "fd60::/48"))
	for _, c := range []struct {
		set       packet.Set
		direction packet.Direction
		want      string
	}{
		{packet.All, packet.In, "everything from everywhere"},
		{packet.All, packet.Out, "everything to everywhere"},
		{sp.And(tcp(5432, 5432), hill), packet.In, "tcp 5432 from hill-lan"},
		{sp.And(sp.Or(tcp(80, 80), tcp(8000, 8010)), hill), packet.In, "tcp 80, 8000-8010 from hill-lan"},
		{sp.AndAll(tcp(22, 22), hill, sp.Interfaces(packet.InIface, "eth1")), packet.In, "tcp 22 from hill-lan in by eth1"},
		{sp.AndAll(tcp(22, 22), hill, sp.Values(packet.State, packet.Established, packet.Related)), packet.In,
			"tcp 22 from hill-lan (established, related)"},
		{sp.And(sp.Value(packet.Protocol, packet.ICMP), sp.Value(packet.ICMPType, 8)), packet.In, "icmp type 8 from everywhere"},
		{sp.Or(sp.And(tcp(22, 22), hill), sp.And(sp.Value(packet.Protocol, packet.UDP), sp.Value(packet.DstPort, 53))), packet.In,
			"tcp 22 from hill-lan; udp 53 from everywhere"},
		{sp.And(tcp(25, 25), sp.Addrs(packet.Dst, set(t, "10.60.0.0/16"))), packet.Through,
			"tcp 25 from everywhere (IPv4) to hill-lan (IPv4)"},
		{sp.Not(tcp(22, 22)), packet.In, "most other protocols, tcp 0-21, 23-65535 from everywhere"},
	} {
		require.Equal(t, c.want, n.Traffic(sp, c.set, c.direction).String())
	}
}

// TestAllow shows which statement admits a traffic; each is one that parses.
func TestAllow(t *testing.T) {
	n := NamesOf(policytest.Saltmarsh(t, "../.."))
	sp := packet.NewSpace()
	of := func(protocol int, field packet.Field, lo, hi int) packet.Set {
		return sp.And(sp.Value(packet.Protocol, protocol), sp.Range(field, lo, hi))
	}
	from := func(s packet.Set, addresses ...string) packet.Set {
		return sp.And(s, sp.Addrs(packet.Src, set(t, addresses...)))
	}
	db := of(packet.TCP, packet.DstPort, 5432, 5432)
	for _, c := range []struct {
		set       packet.Set
		direction packet.Direction
		want      string
	}{
		{from(db, "10.60.0.0/16", "fd60::/48"), packet.In, "hill-lan -> logbook : postgresql"},
		{from(db, "10.60.0.0/16"), packet.In, "hill-lan -> logbook : postgresql"},
		{from(db, "10.40.2.21", "fd40::2:21"), packet.In, "host broker-01 -> logbook : postgresql"},
		{from(db, "10.40.6.60"), packet.In, "watch at quay-lan -> logbook : postgresql"},
		{from(db, "192.0.2.1", "192.0.2.128/25"), packet.In, "192.0.2.1, 192.0.2.128/25 -> logbook : postgresql"},
		{from(db, "192.0.2.1-192.0.2.6"), packet.In, "192.0.2.1-192.0.2.6 -> logbook : postgresql"},
		{sp.Or(db, of(packet.TCP, packet.DstPort, 8000, 8010)), packet.Out, "logbook -> everywhere : postgresql, tcp 8000-8010"},
		{of(packet.UDP, packet.DstPort, 53, 53), packet.In, "everywhere -> logbook : udp 53"}, // domain would be tcp, too
		{of(packet.ICMP, packet.ICMPType, 8, 8), packet.In, "everywhere -> logbook : icmp 8"},
		{sp.Value(packet.Protocol, packet.ICMPv6), packet.In, "everywhere -> logbook : icmpv6"},
		{sp.Value(packet.Protocol, packet.SCTP), packet.In, "everywhere -> logbook : sctp 0-65535"},
		{sp.Value(packet.Protocol, 47), packet.In, "everywhere -> logbook : protocol 47"},
		{from(packet.All, "10.60.0.0/16"), packet.In, "hill-lan -> logbook : any"},

		{packet.All, packet.In, ""}, // nobody means that
		{sp.Not(db), packet.In, ""}, // more than anybody lists
		{db, packet.Through, ""},    // it would have to say which way
		{of(packet.ICMP, packet.ICMPType, 0, 40), packet.In, ""},
		{sp.And(db, sp.Interfaces(packet.InIface, "eth1")), packet.In, ""},
		{sp.And(db, sp.Or(from(packet.All, "10.60.0.0/16"), sp.Value(packet.Family, packet.IPv6))), packet.In,
			"hill-lan, everywhere -> logbook : postgresql"},
		{from(db, "192.0.2.1", "192.0.2.3", "192.0.2.5", "192.0.2.7", "192.0.2.9", "192.0.2.200"), packet.In, ""},
	} {
		rule, ok := n.Allow(n.Traffic(sp, c.set, c.direction), "logbook")
		if c.want == "" {
			require.False(t, ok, "%s", n.Traffic(sp, c.set, c.direction))
			continue
		}
		require.True(t, ok, c.want)
		require.Equal(t, "allow NAME: "+c.want, fence.Line(rule))
		_, problems := fence.Parse("x", "policy x language 1\nallow name: "+c.want+"\n")
		require.Empty(t, problems)
	}
}
