package compile_test

import (
	"math/rand/v2"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"yellowfence.example/yfence/core/compile"
	"yellowfence.example/yfence/core/fence"
	"yellowfence.example/yfence/core/packet"
	"yellowfence.example/yfence/core/policy"
	"yellowfence.example/yfence/core/policy/opiniontest"
	"yellowfence.example/yfence/core/policy/policytest"
)

// TestSecondOpinion: for random policies and packets the decision is what the language page
// says, done word for word.
func TestSecondOpinion(t *testing.T) {
	asked, seen := 0, map[string]int{}
	for seed := uint64(0); asked < int(policytest.Trials(1200)); seed++ {
		rng := rand.New(rand.NewPCG(31, seed))
		text := policytest.Random(rng)
		switch seed % 3 { // what is seldom asked about by chance
		case 0:
			text += "masquerade m2: quay, hill -> everywhere through red\nallow behind: lab, 10.60.9.0/24 -> blue, red : web, ssh on hill\n"
		case 1:
			text += "redirect r9: everywhere -> red, green : tcp 8443 to tcp 443\n" +
				"redirect r8: everywhere -> host h1 : tcp 1500 to host h2 at quay : tcp 8080\nallow in-front: lab, office -> red, green " +
				": tcp 443\n"
		}
		pol := policytest.Resolve(t, policytest.Fleet, text)
		file, _ := fence.Parse("0.fence", text)
		o := opiniontest.New(pol.Fleet, now, policy.Registered, file)
		for _, h := range pol.Fleet.Hosts {
			sp := packet.NewSpace()
			sp.Since(now)
			d, deciders := compile.ForHost(sp, pol, h, now).Attributed(sp)
			for range 12 {
				p, room := o.Packet(rng, h), rng.IntN(3) > 0
				here := sp.Minus(sp.Exactly(p), sp.Before(now))
				for _, b := range packet.Buckets(sp, d) {
					if room {
						here = sp.And(here, sp.HasToken(b))
					} else {
						here = sp.Minus(here, sp.HasToken(b))
					}
				}
				for _, out := range sp.Outcomes(sp.Only(d, here)) {
					asked++
					seen[string(deciders[out.By-1].Kind)]++
					got := out.Verdict.String()
					if out.Verdict == packet.Reject {
						got += " with " + string(out.Reply)
					}
					if out.Verdict == packet.Admit && p.Hook != packet.Out {
						require.Equal(t, o.Becomes(h, p), out.Translated.String(), "seed %d host %s: %s\n%s", seed, h.Name, p, text)
						if out.Translated.Changes() {
							seen[strings.Fields(out.Translated.String())[0]]++
						}
					}
					require.Equal(t, o.Of(h, p, room).Does, got, "seed %d host %s room %v: %s (user %q unit %q encrypted %v), by %s\n%s",
						seed, h.Name, room, p, p.User, p.Unit, p.IPsec, deciders[out.By-1], text)
				}
			}
		}
	}
	for _, kind := range []string{"allow", "block", "ground", "local", "leave", "stance", "redirected", "sent", "masqueraded"} {
		require.Positive(t, seen[kind], kind)
	}
	t.Log(asked, seen)
}
