package kernel_test

import (
	"net/netip"
	"slices"
	"testing"

	"github.com/stretchr/testify/require"

	"yellowfence.example/yfence/core/kernel"
	"yellowfence.example/yfence/core/packet"
)

// TestLinks: over which devices an interface's packets may come, however deep it lies.
func TestLinks(t *testing.T) {
	links := kernel.Links{
		"quay":   {Over: []string{"bond0"}},
		"bond0":  {Over: []string{"eth0", "eth1"}},
		"pier":   {Bridge: true, Over: []string{"eth2"}},
		"tunnel": {Over: []string{"tunnel"}}, // over itself, as nobody can make it, and as a listing may say
		"a":      {Over: []string{"b"}}, "b": {Over: []string{"a", "eth3"}},
	}
	for _, c := range []struct{ devices, want []string }{
		{[]string{"eth0"}, []string{"bond0", "pier", "quay"}}, // whatever is made part of a bridge carries its packets
		{[]string{"eth2"}, []string{"pier"}},
		{[]string{"bond0"}, []string{"pier", "quay"}},
		{[]string{"eth3"}, []string{"a", "b", "pier"}},
		{[]string{"tunnel"}, []string{"pier"}},
		{[]string{"pier", "eth1"}, []string{"bond0", "quay"}}, // a device itself is no other
		{nil, []string{"pier"}},
	} {
		require.Equal(t, c.want, links.Over(c.devices), c.devices)
	}
	require.Equal(t, []string{"pier"}, links.Bridges())
	require.Empty(t, kernel.Links(nil).Over([]string{"eth0"}))
}

// TestNames: who a host says its users, groups and control groups are, and what it says when nobody told.
func TestNames(t *testing.T) {
	n := &kernel.Names{Users: map[string]int{"harbour": 1001}, Groups: map[string]int{"crew": 7},
		Control: map[int]string{42: "/system.slice/ssh.service"},
		Gone:    []int{43}, Absent: []string{"user pilot", "unit tide.service", "nonsense"}}
	users, groups := n.ByNumber()
	require.Equal(t, []map[int]string{{1001: "harbour"}, {7: "crew"}}, []map[int]string{users, groups})
	path, known := n.ControlGroup(42)
	require.Equal(t, []any{"/system.slice/ssh.service", true}, []any{path, known})
	_, known = n.ControlGroup(44)
	require.False(t, known)
	require.True(t, n.IsGone(43))
	require.False(t, n.IsGone(42))
	same := &kernel.Names{Control: map[int]string{42: "/system.slice/ssh.service"}, Groups: map[string]int{"crew": 7},
		Users: map[string]int{"harbour": 1001},
		Gone:  []int{43}, Absent: []string{"user pilot", "unit tide.service", "nonsense"}}
	require.Equal(t, n.AppendTo(nil), same.AppendTo(nil))
	same.Users["harbour"] = 1002
	require.NotEqual(t, n.AppendTo(nil), same.AppendTo(nil))

	sp := packet.NewSpace()
	n.Narrow(sp)
	for name, field := range map[string]packet.Field{"pilot": packet.User, "tide.service": packet.Unit, "harbour": packet.User} {
		require.Equal(t, name == "harbour", sp.And(sp.WellFormed(), sp.Named(field, name)) != packet.Empty,
			"whom it has not sends nothing: %s", name)
	}

	var nobody *kernel.Names
	users, groups = nobody.ByNumber()
	require.Nil(t, users)
	require.Nil(t, groups)
	require.False(t, nobody.IsGone(43))
	_, known = nobody.ControlGroup(42)
	require.False(t, known)
	require.Empty(t, nobody.AppendTo(nil))
	nobody.Narrow(sp)
	unsaid := &kernel.Names{Unsaid: true, Users: map[string]int{"harbour": 1001}}
	users, _ = unsaid.ByNumber()
	require.Nil(t, users)
}

// TestKindsByInterface: what belongs to another interface is unicast to the one that a packet came by, and comes back the
// way it is reached.
func TestKindsByInterface(t *testing.T) {
	sp := packet.NewSpace()
	r, err := kernel.ReadRoutes("default via 203.0.113.2 dev wan0\n10.40.0.0/16 dev eth0\nlocal 10.40.0.1 dev eth0 table local\n" +
		"broadcast 10.40.255.255 dev eth0 table local\nlocal 203.0.113.1 dev wan0 table local\nanycast 203.0.113.0 dev wan0 table local\n")
	require.NoError(t, err)
	port := 22
	came := func(by, from, to string) packet.Packet {
		return packet.Packet{Hook: packet.In, Family: "ipv4", Src: netip.MustParseAddr(from), Dst: netip.MustParseAddr(to), Protocol: "tcp",
			SrcPort: &port, DstPort: &port, State: "new", In: by}
	}
	kinds := []string{"local", "broadcast", "multicast", "anycast", "unicast"}
	for _, c := range []struct{ by, to, is string }{
		{"eth0", "10.40.0.1", "local"}, {"wan0", "10.40.0.1", "unicast"}, {"wan0", "203.0.113.1", "local"},
		{"eth0", "10.40.255.255", "broadcast"}, {"wan0", "10.40.255.255", "unicast"}, {"wan0", "255.255.255.255", "broadcast"},
		{"eth0", "224.0.0.1", "multicast"}, {"eth0", "203.0.113.0", "anycast"}, {"wan0", "203.0.113.0", "anycast"},
		{"eth0", "198.51.100.7", "unicast"},
	} {
		for _, kind := range kinds {
			s, ok := r.KindBy(sp, packet.Dst, kind)
			require.True(t, ok)
			require.Equal(t, kind == c.is, sp.Has(s, came(c.by, "198.51.100.9", c.to)), "%s by %s is %s", c.to, c.by, kind)
		}
	}
	_, ok := r.KindBy(sp, packet.Dst, "prohibit")
	require.False(t, ok)
	var nobody *kernel.Routes
	_, ok = nobody.KindBy(sp, packet.Dst, "local")
	require.False(t, ok)

	back, ok := r.WayBack(sp)
	require.True(t, ok)
	for _, c := range []struct {
		by, from string
		right    bool
	}{{"eth0", "10.40.7.7", true}, {"wan0", "10.40.7.7", false}, {"wan0", "198.51.100.7", true}, {"eth0", "198.51.100.7", false},
		{"lo", "198.51.100.7", true}, {"eth9", "198.51.100.7", false}} {
		require.Equal(t, c.right, sp.Has(back, came(c.by, c.from, "10.40.0.1")), "%s by %s", c.from, c.by)
	}
	require.True(t, r.Tells(packet.IPv4))
	require.False(t, r.Tells(packet.IPv6))
	require.False(t, nobody.Tells(packet.IPv4))
}

// TestFramesTo: to whom the frame was that a packet came in goes by the packet's address, unless somebody made it by hand.
func TestFramesTo(t *testing.T) {
	sp := packet.NewSpace()
	odd := sp.Unknown("whether it is odd")
	rarely := func(string, string) packet.Set { return odd }
	port := 22
	to := func(address string, hook int) packet.Packet {
		p := packet.Packet{Hook: hook, Family: "ipv4", Src: netip.MustParseAddr("198.51.100.7"), Dst: netip.MustParseAddr(address),
			Protocol: "udp",
			SrcPort:  &port, DstPort: &port, State: "new", In: "eth0"}
		if hook == packet.Out {
			p.In, p.Out = "", "eth0"
		}
		return p
	}
	for _, c := range []struct {
		kinds []string
		want  []string // of the addresses below
	}{
		{[]string{"host"}, []string{"192.0.2.7"}}, {[]string{"unicast"}, []string{"192.0.2.7"}}, {[]string{"multicast"},
			[]string{"224.0.0.1"}},
		{[]string{"broadcast"}, []string{"255.255.255.255"}}, {[]string{"1", "2"}, []string{"224.0.0.1", "255.255.255.255"}},
		{[]string{"other"}, nil},
	} {
		s := kernel.FramesTo(sp, nil, c.kinds, packet.All, rarely)
		var got []string
		for _, a := range []string{"192.0.2.7", "224.0.0.1", "255.255.255.255"} {
			if sp.Has(s, to(a, packet.In)) {
				got = append(got, a)
			}
			require.Equal(t, slices.Contains(c.kinds, "host") || slices.Contains(c.kinds, "unicast"), sp.Has(s, to(a, packet.Out)),
				"what this host sends came in no frame: %s %s", c.kinds, a)
			by := sp.And(odd, sp.And(sp.Addrs(packet.Dst, packet.Prefixes(netip.PrefixFrom(netip.MustParseAddr(a), 32))),
				sp.Value(packet.Hook, packet.In)))
			require.Equal(t, by, sp.And(by, s), "one that was made by hand may have come to anybody: %s %s", c.kinds, a)
		}
		require.Equal(t, c.want, got, c.kinds)
	}
}

// TestSpread: a destination that is one of a few is each of them, and nobody knows which.
func TestSpread(t *testing.T) {
	sp := packet.NewSpace()
	at := netip.MustParseAddr
	out, ok := kernel.Spread(sp, "rule 3", at("10.40.0.1"), at("10.40.0.3"), 8080)
	require.True(t, ok)
	require.Len(t, out, 3)
	for i, b := range out {
		require.Equal(t, []any{kernel.DestinationNAT, 8080}, []any{b.Action, b.Port})
		require.Equal(t, at("10.40.0.1").As4()[3]+byte(i), b.To.As4()[3])
		require.Equal(t, i < 2, len(sp.UnknownsOf(b.Match)) == 1, "the last one is what is left")
	}
	one, ok := kernel.Spread(sp, "rule 3", at("fd40::1"), at("fd40::1"), 0)
	require.True(t, ok)
	require.Equal(t, sp.Value(packet.Family, packet.IPv6), one[0].Match)
	_, ok = kernel.Spread(sp, "rule 3", at("10.40.0.1"), at("10.40.0.17"), 0)
	require.False(t, ok, "they are many")
	_, ok = kernel.Spread(sp, "rule 3", at("10.40.0.2"), at("10.40.0.1"), 0)
	require.False(t, ok, "there are none")
}
