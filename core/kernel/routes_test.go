package kernel_test

import (
	"net/netip"
	"testing"

	"github.com/stretchr/testify/require"

	"yellowfence.example/yfence/core/fleet"
	"yellowfence.example/yfence/core/kernel"
)

const routed = "default via 203.0.113.2 dev wan0 \n10.40.0.0/16 dev eth0 proto kernel scope link src 10.40.0.1 \n10.40.9.0/24 via " +
	"10.40.0.9 dev eth0 metric 50 \n10.40.9.0/24 via 10.60.0.9 dev eth1 metric 10 \n" +
	"unreachable 192.0.2.0/24 metric 100 \ndefault \n\tnexthop via 10.60.0.9 dev eth1 weight 1 \n\tnexthop via 203.0.113.2 dev wan0 " +
	"weight 1 \n" +
	"local 10.40.0.1 dev eth0 table local proto kernel scope host src 10.40.0.1 \nbroadcast 10.40.255.255 dev eth0 table local proto " +
	"kernel scope link src 10.40.0.1 \nlocal 127.0.0.0/8 dev lo table local scope host \n" +
	"fe80::/64 dev eth0 proto kernel metric 256 pref medium\nfe80::/64 dev eth1 proto kernel metric 256 pref medium\ndefault dev wan0 " +
	"metric 1024 pref medium\nlocal fd40::1 dev eth0 table local proto kernel metric 0 pref medium\n"

// TestRoutes: the longest prefix counts, then the lowest metric; what is the host's own
// is not routed.
func TestRoutes(t *testing.T) {
	require.True(t, kernel.IsRoutes(routed))
	require.False(t, kernel.IsRoutes("*filter\n:INPUT ACCEPT [0:0]\nCOMMIT\n"))
	r, err := kernel.ReadRoutes(routed)
	require.NoError(t, err)
	via, ok := r.Via()
	require.True(t, ok)
	for address, want := range map[string][]string{
		"10.40.7.7": {"eth0"}, "10.40.9.7": {"eth1"}, "192.0.2.7": nil, "198.51.100.1": {"eth1", "wan0"}, "10.40.0.1": nil,
		"127.0.0.1": nil,
		"fe80::7":   {"eth0", "eth1"}, "2001:db8::7": {"wan0"}, "fd40::1": nil,
	} {
		a := netip.MustParseAddr(address)
		var by []string
		for _, name := range []string{"eth0", "eth1", "wan0", "lo"} {
			if s := via[name]; s != nil && s.Contains(a) {
				by = append(by, name)
			}
		}
		require.Equal(t, want, by, address)
		iface, one := r.Leaves(a)
		require.Equal(t, len(want) == 1, one, address)
		if one {
			require.Equal(t, want[0], iface)
		}
	}
	for kind, addresses := range map[string][]string{"local": {"10.40.0.1", "127.9.9.9", "fd40::1"},
		"broadcast": {"10.40.255.255", "255.255.255.255"}, "multicast": {"224.0.0.1", "ff02::1"}, "unicast": {"10.40.7.7", "2001:db8::7"}} {
		for _, other := range []string{"local", "broadcast", "multicast", "unicast"} {
			s, ok := r.Kind(other)
			require.True(t, ok)
			for _, a := range addresses {
				require.Equal(t, kind == other, s.Contains(netip.MustParseAddr(a)), "%s is %s", a, other)
			}
		}
	}
	_, ok = r.Kind("prohibit")
	require.False(t, ok)
	own, known := r.Own(netip.MustParseAddr("10.40.0.1"))
	require.Equal(t, [2]bool{true, true}, [2]bool{own, known})

	var nobody *kernel.Routes
	_, known = nobody.Own(netip.MustParseAddr("10.40.0.1"))
	require.False(t, known)
	_, ok = nobody.Kind("local")
	require.False(t, ok)
	more, err := kernel.ReadRoutes(routed + "10.0.0.0/8 dev eth1 table 100\n")
	require.NoError(t, err)
	_, ok = more.Via()
	require.False(t, ok, "which table counts depends on more than the destination")

	h := &fleet.Host{Interfaces: []fleet.Interface{{Name: "eth0", Addresses: []netip.Prefix{netip.MustParsePrefix("10.40.0.1/16")}}}}
	arriving, ok := kernel.RoutesOf(h).Arriving()
	require.True(t, ok)
	for a, want := range map[string]bool{"10.40.0.1": true, "10.40.255.255": true, "224.0.0.1": true, "10.40.7.7": false,
		"127.0.0.1": true} {
		require.Equal(t, want, arriving.Contains(netip.MustParseAddr(a)), a)
	}
}

func FuzzReadRoutes(f *testing.F) {
	f.Add(routed)
	f.Add("default\nnexthop dev\n")
	f.Fuzz(func(t *testing.T, text string) {
		r, err := kernel.ReadRoutes(text)
		if err == nil {
			r.Via()
			r.Kind("unicast")
		}
	})
}
