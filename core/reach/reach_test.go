package reach_test

import (
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/require"

	"yellowfence.example/yfence/core/packet"
	"yellowfence.example/yfence/core/policy"
	"yellowfence.example/yfence/core/policy/policytest"
	"yellowfence.example/yfence/core/reach"
)

// TestAboutSome: what is asked about some packets alone is answered as if all were asked about, and
// hosts that are taken together fare as each of them does, owed to the same.
func TestAboutSome(t *testing.T) {
	together := 0
	for seed := range policytest.Trials(32) {
		rng := rand.New(rand.NewPCG(51, seed))
		pol := policytest.Resolve(t, policytest.Fleet, policytest.Random(rng))
		sp := packet.NewSpace()
		all := reach.New(sp, pol, 0)
		some := sp.AndAll(sp.Value(packet.Protocol, packet.TCP), sp.Values(packet.DstPort, 22, 80, 1500),
			sp.Value(packet.State, packet.New))
		about := all.About(some)
		// who decides is counted for each by itself: said by name it can be compared
		names := map[string]int32{}
		said := func(r *reach.Reach, d packet.Decision) packet.Decision {
			return sp.Map(sp.Only(d, some), func(o packet.Outcome) packet.Outcome {
				if by, ok := r.Decider(o.By); ok {
					name := by.String() + by.Direction.String()
					if names[name] == 0 {
						names[name] = int32(len(names) + 1)
					}
					o.By = names[name]
				}
				return o
			})
		}
		side := policy.SideOf(pol.Fleet.Hosts)
		parties := all.Parties(side)
		for _, a := range parties {
			for _, b := range parties {
				require.Equal(t, said(all, all.Between(a, b)), said(about, about.Between(a, b)), "seed %d", seed)
			}
		}
		for _, dir := range []packet.Direction{packet.Inbound, packet.Outbound} {
			alike := about.Alike(parties, nil, dir, some)
			hosts := 0
			for _, p := range alike {
				hosts += len(p.Hosts)
				for _, q := range parties {
					if q.Hosts[0] == p.Hosts[len(p.Hosts)-1] {
						together++
						require.Equal(t, said(all, all.End(q, dir)), said(about, about.End(p, dir)), "seed %d", seed)
					}
				}
			}
			require.Equal(t, len(pol.Fleet.Hosts), hosts)
		}
	}
	require.Greater(t, together, 100)
}
