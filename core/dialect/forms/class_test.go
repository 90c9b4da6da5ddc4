package forms_test

import (
	"math/rand/v2"
	"net/netip"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"yellowfence.example/yfence/core/compile"
	"yellowfence.example/yfence/core/dialect/forms"
	"yellowfence.example/yfence/core/fleet"
	"yellowfence.example/yfence/core/packet"
	"yellowfence.example/yfence/core/policy"
	"yellowfence.example/yfence/core/policy/policytest"
	"yellowfence.example/yfence/core/source"
)

// TestHostsOfAClassHaveTheSameRules but for their name, by any policy: what is written for one
// is given out for the others.
func TestHostsOfAClassHaveTheSameRules(t *testing.T) {
	const moved = "masquerade out: 10.40.0.0/16 -> everywhere through green\nredirect door: everywhere -> red : tcp 4430 to tcp " +
		"443\nleave others: blue : inbound via ctr*\n"
	shared := 0
	for seed := range policytest.Trials(26) {
		text := policytest.Random(rand.New(rand.NewPCG(seed, 5)))
		if seed%2 == 1 {
			text += moved
		}
		fl, problems := fleet.ReadJSON("fleet.json", []byte(policytest.Fleet))
		require.Empty(t, problems)
		for _, h := range slices.Clone(fl.Hosts) { // each has a twin with addresses of its own
			twin := *h
			twin.Name, twin.Interfaces = "twin-"+h.Name, slices.Clone(h.Interfaces)
			for i := range twin.Interfaces {
				twin.Interfaces[i].Addresses = slices.Clone(h.Interfaces[i].Addresses)
				for j, p := range twin.Interfaces[i].Addresses {
					a := p.Addr().AsSlice()
					a[len(a)-1] ^= 8
					next, _ := netip.AddrFromSlice(a)
					twin.Interfaces[i].Addresses[j] = netip.PrefixFrom(next, p.Bits())
				}
			}
			fl.Hosts = append(fl.Hosts, &twin)
		}
		in, found := policy.Read([]policy.Source{{Name: "p.fence", Text: text}}, fl)
		pol, more := policy.Resolve(in)
		if source.HasErrors(append(found, more...)) {
			continue
		}
		classes, written := compile.ClassesOf(pol), map[string]string{}
		for _, h := range fl.Hosts {
			for _, form := range forms.All {
				if !form.Alike() {
					continue
				}
				kind, sp := form.Name(), packet.NewSpace()
				files, err := form.Write(sp, compile.ForHost(sp, pol, h, 1795564800))
				if err != nil {
					continue
				}
				all := ""
				for _, f := range files {
					all += string(f.Kind) + "\n" + strings.Replace(f.Text, "# "+h.Name+":", "# NAME:", 1)
				}
				class := kind + " " + classes.Of(h)
				if before, known := written[class]; known {
					shared++
					require.Equal(t, before, all, "%s\n%s", h.Name, text)
				}
				written[class] = all
			}
		}
	}
	require.Greater(t, shared, 5, "there are classes of several hosts")
}
