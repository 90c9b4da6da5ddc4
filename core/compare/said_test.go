package compare

import (
	"math/rand/v2"
	"slices"
	"testing"

	"github.com/stretchr/testify/require"

	"yellowfence.example/yfence/core/compile"
	"yellowfence.example/yfence/core/dialect/forms"
	"yellowfence.example/yfence/core/kernel"
	"yellowfence.example/yfence/core/packet"
	"yellowfence.example/yfence/core/policy/policytest"
	"yellowfence.example/yfence/core/say"
)

// TestSentencesAreSo: of the packets that people mean (see care), a sentence names all that its
// finding is about, and none that fares as it should. Rules of random policies are changed at
// random.
func TestSentencesAreSo(t *testing.T) {
	said := map[Kind]int{}
	for seed := range policytest.Trials(75) {
		rng := rand.New(rand.NewPCG(seed, 9))
		pol := policytest.Resolve(t, policytest.Fleet, policytest.Random(rng))
		names := say.NamesOf(pol)
		for _, h := range pol.Fleet.Hosts {
			sp := packet.NewSpace()
			plan := compile.ForHost(sp, pol, h, 0)
			if len(plan.Chains) == 0 {
				continue
			}
			live := forms.Of(h).Rules(sp, plan)
			for range 1 + rng.IntN(2) {
				c := live.Chains[rng.IntN(len(live.Chains))]
				if c.Rules = slices.Clone(c.Rules); len(c.Rules) > 0 && rng.IntN(2) == 0 {
					at := rng.IntN(len(c.Rules))
					c.Rules = slices.Delete(c.Rules, at, at+1)
					continue
				}
				match := sp.And(sp.Value(packet.Protocol, packet.TCP), sp.Range(packet.DstPort, rng.IntN(500), 500+rng.IntN(10000)))
				if rng.IntN(2) == 0 {
					match = sp.And(match, sp.Value(packet.Family, rng.IntN(2)))
				}
				action := []kernel.Action{kernel.Accept, kernel.Drop}[rng.IntN(2)]
				c.Rules = slices.Insert(c.Rules, 0, kernel.Rule{Match: match, Text: kernel.Words("somebody's"),
					Branches: []kernel.Branch{{Match: packet.All, Action: action}}})
			}
			c, _ := compared(sp, names, []Stage{{Plan: plan}}, live, packet.All)
			if c == nil {
				continue
			}
			for _, n := range c.alike() {
				if n.kind == Altered || n.others > 0 {
					continue
				}
				care := sp.And(c.care(n), sp.Crossing(n.direction))
				whole := sp.Simplify(c.said(n), sp.Crossing(n.direction))
				named := sp.And(whole, care)
				require.True(t, sp.Within(sp.And(n.set, care), named), "seed %d %s: something is not named", seed, h.Name)
				require.True(t, sp.Within(named, c.regions[n.kind]), "seed %d %s: what is so is named", seed, h.Name)
				exact := sp.And(n.set, care)
				for _, family := range []int{packet.IPv4, packet.IPv6} { // the other's addresses would be said as this one's
					of := sp.Value(packet.Family, family)
					if exact != packet.Empty && sp.And(exact, of) == packet.Empty && sp.Exists(whole, packet.Src, packet.Dst) != whole {
						require.Equal(t, packet.Empty, sp.And(whole, of), "seed %d %s: a family that nothing is of is named", seed, h.Name)
					}
				}
				said[n.kind]++
			}
		}
	}
	require.Greater(t, said[Opened], 50)
	require.Greater(t, said[Shut], 50)
}
