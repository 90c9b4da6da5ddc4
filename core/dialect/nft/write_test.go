package nft_test

import (
	"flag"
	"math/rand/v2"
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"yellowfence.example/yfence/core/compile"
	"yellowfence.example/yfence/core/dialect/nft"
	"yellowfence.example/yfence/core/fleet"
	"yellowfence.example/yfence/core/packet"
	"yellowfence.example/yfence/core/policy/policytest"
)

var update = flag.Bool("update", false, "write golden files anew")

func written(t *testing.T, sp *packet.Space, plan *compile.Plan) string {
	t.Helper()
	text, err := nft.Write(sp, plan)
	require.NoError(t, err)
	return text
}

// TestRulesMeanWhatThePolicyMeans holds the rules we would load, tried in
// order, against the policy's meaning, where order never decides: for random
// policies with every overlap of blocks, exceptions and logs.
func TestRulesMeanWhatThePolicyMeans(t *testing.T) {
	for seed := range uint64(400) {
		text := policytest.Random(rand.New(rand.NewPCG(7, seed)))
		pol := policytest.Resolve(t, policytest.Fleet, text)
		for _, h := range pol.Fleet.Hosts {
			sp := packet.NewSpace()
			plan := compile.Host(sp, pol, h, 0)
			want, got := plan.Decision(sp), nft.Rules(sp, plan).Decision(sp)
			if want != got {
				p, _ := sp.Example(sp.Differ(want, got), packet.Taste{})
				require.Equal(t, sp.Outcome(want, p), sp.Outcome(got, p), "seed %d host %s: %s\n%s\n%s", seed, h.Name, p, text, written(t, sp, plan))
				t.Fatalf("seed %d host %s: the decisions differ", seed, h.Name)
			}
		}
	}
}

// TestWrite keeps the text of two of Saltmarsh's hosts as people read it.
func TestWrite(t *testing.T) {
	pol := policytest.Saltmarsh(t, "../../..")
	for _, name := range []string{"broker-01", "watch-01"} {
		sp := packet.NewSpace()
		got := written(t, sp, compile.Host(sp, pol, pol.Fleet.Host(name), 0))
		golden := "testdata/" + name + ".nft"
		if *update {
			require.NoError(t, os.WriteFile(golden, []byte(got), 0o644))
		}
		want, err := os.ReadFile(golden)
		require.NoError(t, err)
		require.Equal(t, string(want), got)
	}
}

// TestUnlessChain shows the chain of an allow that one block still refuses.
func TestUnlessChain(t *testing.T) {
	pol := policytest.Resolve(t, policytest.Fleet, `policy p language 1
role red
role blue
role green
network bad = 198.51.100.0/24
network worse = 198.51.100.0/28
block b1: bad -> green : any
block b2: worse -> green : any by reject log
allow a: bad -> green : ssh over b1 log
`)
	sp := packet.NewSpace()
	plan := compile.Host(sp, pol, pol.Fleet.Host("h4"), 0)
	text := written(t, sp, plan)
	require.Contains(t, text, `	chain inbound-a {
		ip saddr 198.51.100.0/28 return comment "allow a"
		log prefix "yf allow a: " accept comment "allow a"
	}
`)
	require.Contains(t, text, `		ip saddr 198.51.100.0/24 tcp dport 22 jump inbound-a comment "allow a"
		ip saddr 198.51.100.0/28 log prefix "yf block b1: " drop comment "block b1"
`, "what one block drops and another rejects with a log is dropped with the log")
}

// TestProve: what is written reads back as what is meant, for random policies, and
// a line that is left out or changed is found.
func TestProve(t *testing.T) {
	broken := 0
	for seed := range uint64(60) {
		pol := policytest.Resolve(t, policytest.Fleet, policytest.Random(rand.New(rand.NewPCG(17, seed))))
		for _, h := range pol.Fleet.Hosts {
			sp := packet.NewSpace()
			plan := compile.Host(sp, pol, h, 0)
			text := written(t, sp, plan)
			require.NoError(t, nft.Prove(sp, plan, text), "seed %d host %s\n%s", seed, h.Name, text)
			if i := strings.Index(text, "comment \"allow a0\"\n"); i >= 0 && !strings.Contains(text, "inbound-a0") {
				line := strings.LastIndex(text[:i], "\n") + 1
				if err := nft.Prove(sp, plan, text[:line]+text[i+len("comment \"allow a0\"\n"):]); err != nil {
					require.ErrorContains(t, err, "the rules written for "+h.Name+" are wrong, which is a mistake of ours: ")
					broken++
				}
			}
		}
	}
	require.Greater(t, broken, 10)
	require.EqualError(t, nft.Prove(packet.NewSpace(), &compile.Plan{Host: &fleet.Host{Name: "h"}}, ""), "the rules written for h have no table")
}

// TestFragmentsArePutTogether: the rules make the kernel track connections even
// where the policy has turned off all that asks for their state.
func TestFragmentsArePutTogether(t *testing.T) {
	pol := policytest.Resolve(t, policytest.Fleet, "policy p language 1\nrole red\nrole blue\nrole green\nground {\n  replies off\n  invalid off\n}\nallow a: everywhere -> fleet : ssh  guard\n")
	sp := packet.NewSpace()
	plan := compile.Host(sp, pol, pol.Fleet.Host("h1"), 0)
	text, err := nft.Write(sp, plan)
	require.NoError(t, err)
	require.Contains(t, text, "ct state")
	_, table, _ := strings.Cut(text, "\n\n")
	rs, err := nft.ReadText(sp, "", []byte(table), nil)
	require.NoError(t, err)
	require.Equal(t, [2]bool{true, true}, rs.Tracks)
	require.Equal(t, plan.Decision(sp), rs.Decision(sp))
	require.Equal(t, nft.Rules(sp, plan).Signature(sp, nft.Family, nft.Table), rs.Signature(sp, nft.Family, nft.Table))
}
