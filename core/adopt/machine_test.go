package adopt_test

import (
	"net/netip"
	"testing"

	"github.com/stretchr/testify/require"

	"yellowfence.example/yfence/core/adopt"
	"yellowfence.example/yfence/core/check"
	"yellowfence.example/yfence/core/fleet"
	"yellowfence.example/yfence/core/listeners"
)

// TestBegin shows first policies of machines on which nothing filters; each is sound as it is.
func TestBegin(t *testing.T) {
	eth := []fleet.Interface{{Name: "eth0", Addresses: []netip.Prefix{netip.MustParsePrefix("192.0.2.7/24"),
		netip.MustParsePrefix("2001:db8::7/64")}}}
	in := func(local, remote string) adopt.LogIn {
		return adopt.LogIn{Local: netip.MustParseAddrPort(local), Remote: netip.MustParseAddrPort(remote)}
	}
	tcp := func(port int, address, process, unit string) listeners.Listener {
		return listeners.Listener{Protocol: "tcp", Address: address, Port: port, Process: process, Unit: unit}
	}
	for name, c := range map[string]struct {
		m        adopt.Machine
		has      []string
		not      []string
		warnings []string // their codes
	}{
		"somebody is logged in": {adopt.Machine{Interfaces: eth,
			LogIns: []adopt.LogIn{in("192.0.2.7:22", "198.51.100.9:50001"), in("192.0.2.7:22", "198.51.100.9:50002"),
				in("[2001:db8::7]:22", "[2001:db8:9::1]:50000"), in("127.0.0.1:22", "127.0.0.1:50000")}},
			[]string{"network login           = 198.51.100.9, 2001:db8:9::1\n", "allow way-in:           login -> machine : ssh  guard\n"},
			[]string{"What listens", "127.0.0.1"}, nil},
		"by another port": {adopt.Machine{Interfaces: eth, LogIns: []adopt.LogIn{in("192.0.2.7:2022", "198.51.100.9:50001")},
			Listeners: []listeners.Listener{tcp(2022, "0.0.0.0", "sshd", "ssh.service"), tcp(443, "", "nginx", "nginx.service"),
				tcp(5432, "127.0.0.1", "postgres", ""), tcp(5432, "::1", "postgres", ""), tcp(49417, "::", "meter", ""),
				{Protocol: "udp", Address: "0.0.0.0", Port: 68, Process: "dhcp"}, {Protocol: "udp", Address: "0.0.0.0", Port: 53}}},
			[]string{"allow way-in:           login -> machine : tcp 2022  guard\n",
				"# allow https: everywhere -> machine : https  # nginx, nginx.service\n",
				"# allow meter: everywhere -> machine : tcp 49417  # meter\n", "# allow udp-53: everywhere -> machine : udp 53\n"},
			[]string{"5432", "udp 68", "sshd"}, []string{"one-family"}},
		"nobody is, and something listens": {adopt.Machine{Interfaces: eth,
			Listeners: []listeners.Listener{tcp(22, "0.0.0.0", "sshd", ""), tcp(8095, "", "a\nb\"c", "")}},
			[]string{"allow way-in:           everywhere -> machine : ssh  guard\n", "in place of everywhere", "# a b'c\n"},
			[]string{"login"},
			[]string{"wide-open"}},
		"nobody can": {adopt.Machine{Interfaces: eth}, []string{"console of its own"}, []string{"guard\n"}, []string{"no-guard"}},
	} {
		c.m.Name, c.m.Dialect = "gate-01", "nft"
		text, fl := adopt.Begin("gate", c.m)
		for _, s := range c.has {
			require.Contains(t, text, s, name)
		}
		for _, s := range c.not {
			require.NotContains(t, text, s, name)
		}
		data, err := fleet.Write(fl, fleet.YAML)
		require.NoError(t, err)
		read, problems := fleet.Read("fleet.yaml", data)
		require.Empty(t, problems, name)
		require.Equal(t, name == "nobody can", read.Hosts[0].OwnConsole, name)
		_, problems = check.Policy([]check.Source{{Name: "p.fence", Text: text}}, read, 1795564800)
		var codes []string
		for _, p := range problems {
			codes = append(codes, p.Code)
		}
		require.Equal(t, c.warnings, codes, "%s\n%s", name, text)
	}
}
