package group

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// TestNamesCannotMeet: groups of other roles, of other hosts, parts or contents have other
// names, whatever roles and hosts are called; every name is one that a cloud takes.
func TestNamesCannotMeet(t *testing.T) {
	rng := rand.New(rand.NewPCG(1, 2))
	long := func(c string) string { return strings.Repeat(c, 63) }
	roles := []string{"web", "web-2", "web-of-b", "of", "b", "web-", "w", "web-2-2", "c0123456789abcdef", long("a"), long("a")[:62] + "b",
		long("w")}
	hosts := []string{"", "b", "2", "web", "web-2", "b.2", "b-2", "b.0123456789abcdef", "b.0123456789abcdef-2",
		strings.Repeat("long.", 50) + "x", strings.Repeat("long.", 50) + "y"}
	contents := []Group{{Inbound: []Rule{}}, {Inbound: []Rule{{Service: Service{Protocol: "any"}}}}}
	seen := map[string]string{}
	for range 15_000 {
		of := []string{}
		for range 1 + rng.IntN(3) {
			if r := roles[rng.IntN(len(roles))]; !slices.Contains(of, r) {
				of = append(of, r)
			}
		}
		host, part, n := hosts[rng.IntN(len(hosts))], 1+rng.IntN(12), 1+rng.IntN(3)
		g := contents[rng.IntN(len(contents))]
		g.Name = partOf(nameOf(of, host), part)
		whose := fmt.Sprint(of, host, part)
		for _, name := range []string{g.Name, g.Name + "." + g.sum(), again(g.Name+"."+g.sum(), 1+n)} {
			if name != g.Name {
				whose = fmt.Sprint(of, host, part, g.sum(), len(name) > len(g.Name)+1+sumLength,
					map[bool]int{true: n}[len(name) > len(g.Name)+1+sumLength])
				base, sum := calledAfter(name)
				require.Equal(t, []string{g.Name, g.sum()}, []string{base, sum})
			}
			if was, ok := seen[name]; ok {
				require.Equal(t, was, whose, name)
			}
			seen[name] = whose
			require.LessOrEqual(t, len(name), 100)
			require.Regexp(t, `^yf-[a-z0-9._-]+$`, name)
		}
	}
	require.Greater(t, len(seen), 8_000)
}
