package policytest

import (
	"fmt"
	"math/rand/v2"
	"net/netip"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"yellowfence.example/yfence/core/fleet"
	"yellowfence.example/yfence/core/policy"
	"yellowfence.example/yfence/core/source"
)

// Large makes a policy of a size, as a large fleet has one: a few networks and
// two segments, services, most rules between two roles for a port or two, some
// from networks, a few blocks with exceptions. Its names come from seed.
func Large(statements, roles, hosts int, seed uint64) ([]policy.Source, *fleet.Fleet) {
	rng := rand.New(rand.NewPCG(seed, 1))
	fl := &fleet.Fleet{Service: fleet.Service{Addresses: []netip.Addr{netip.MustParseAddr("10.0.0.5")}, Port: 8480}}
	for i := range hosts {
		front := netip.AddrFrom4([4]byte{10, byte(i >> 16), byte(i >> 8), byte(i)})
		back := netip.AddrFrom4([4]byte{100, byte(64 + i>>16), byte(i >> 8), byte(i)})
		fl.Hosts = append(fl.Hosts, &fleet.Host{Name: fmt.Sprintf("h%06d", i), Roles: []string{fmt.Sprintf("r%03d", i%roles)},
			Dialect: "nft",
			Pos:     source.Pos{File: "fleet.json", Line: i + 1, Column: 1},
			RolePos: []source.Pos{{File: "fleet.json", Line: i + 1, Column: 1}},
			Interfaces: []fleet.Interface{{Name: "eth0", Addresses: []netip.Prefix{netip.PrefixFrom(front, 8)}},
				{Name: "eth1", Addresses: []netip.Prefix{netip.PrefixFrom(back, 10)}}}})
	}
	var b strings.Builder
	b.WriteString("policy large language 1\nsegment front = 10.0.0.0/8\nsegment back = 100.64.0.0/10\n")
	const networks = 40
	for i := range networks {
		fmt.Fprintf(&b, "network n%02d = 203.0.%d.0/24, 198.51.%d.0-198.51.%d.99\n", i, i, i, i)
	}
	for i := range roles {
		stance := []string{"", "", "", " { outbound closed }", " { refuse by reject }"}[rng.IntN(5)]
		fmt.Fprintf(&b, "role r%03d%s\n", i, stance)
	}
	b.WriteString("allow way-in: n00 -> r000 : ssh  guard\nallow hop: r000 -> fleet : ssh  guard\nallow names: fleet -> n01 : " +
		"domain, ntp\n")
	for i := strings.Count(b.String(), "\n"); i < statements; i++ {
		role := func() string { return fmt.Sprintf("r%03d", rng.IntN(roles)) }
		port := func() string { return fmt.Sprintf("tcp %d", 1024+rng.IntN(40000)) }
		switch k := rng.IntN(100); {
		case k < 70:
			on := []string{"", "  on back", "  on front"}[rng.IntN(3)]
			fmt.Fprintf(&b, "allow a%04d: %s -> %s : %s, %s%s\n", i, role(), role(), port(), port(), on)
		case k < 92:
			fmt.Fprintf(&b, "allow a%04d: n%02d -> %s : %s  log\n", i, rng.IntN(networks), role(), port())
		case k < 96:
			fmt.Fprintf(&b, "block b%04d: n%02d -> %s : tcp 30000-31000\n", i, 2+rng.IntN(networks-2), role())
		default:
			fmt.Fprintf(&b, "allow a%04d: %s -> n%02d : https\n", i, role(), rng.IntN(networks))
		}
	}
	return []policy.Source{{Name: "large.fence", Text: b.String()}}, fl
}

// LargeFleet is a policy of 2,000 statements and 200 roles, resolved for a number of hosts.
func LargeFleet(t testing.TB, hosts int) *policy.Policy {
	t.Helper()
	in, _ := policy.Read(Large(2000, 200, hosts, 1))
	pol, problems := policy.Resolve(in)
	require.False(t, source.HasErrors(problems))
	return pol
}

// TooComplex is statements that admit ranges of ports from ranges of addresses to a role, all at
// random: one and a half thousand take more cases than anybody may have.
func TooComplex(statements int, role string) string {
	rng := rand.New(rand.NewPCG(1, uint64(statements)))
	var b strings.Builder
	for i := range statements {
		fmt.Fprintf(&b, "allow a%d: %d.%d.0.1-%d.%d.0.1 -> %s : tcp %d-%d\n", i, 1+rng.IntN(100), rng.IntN(256), 101+rng.IntN(100),
			rng.IntN(256), role, 1+rng.IntN(30000), 30001+rng.IntN(30000))
	}
	return b.String()
}
