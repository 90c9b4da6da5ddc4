package nft_test

import (
	"flag"
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"yellowfence.example/yfence/core/compile"
	"yellowfence.example/yfence/core/dialect/nft"
	"yellowfence.example/yfence/core/dialect/nft/nfttest"
	"yellowfence.example/yfence/core/packet"
	"yellowfence.example/yfence/core/policy/policytest"
)

var update = flag.Bool("update", false, "write golden files anew")

// TestWrite keeps the text of two of Saltmarsh's hosts as people read it.
func TestWrite(t *testing.T) {
	pol := policytest.Saltmarsh(t, "../../..")
	for _, name := range []string{"broker-01", "watch-01"} {
		sp := packet.NewSpace()
		got := nfttest.Written(t, sp, compile.ForHost(sp, pol, pol.Fleet.Host(name), 0))
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
	plan := compile.ForHost(sp, pol, pol.Fleet.Host("h4"), 0)
	text := nfttest.Written(t, sp, plan)
	require.Contains(t, text, `	chain inbound-a {
		ip saddr 198.51.100.0/28 return comment "allow a"
		counter log prefix "yf allow a: " accept comment "allow a"
	}
`)
	require.Contains(t, text, `		ip saddr @bad.4 tcp dport 22 jump inbound-a comment "allow a"
		ip saddr 198.51.100.0/28 limit rate 100/second burst 100 packets log prefix "yf block b1" group 8480 snaplen 96 comment "block b1"
		ip saddr 198.51.100.0/28 counter log prefix "yf block b1: " drop comment "block b1"
`, "what one block drops and another rejects with a log is dropped with the log")
}

// TestFragmentsArePutTogether: the rules make the kernel track connections even
// where the policy has turned off all that asks for their state.
func TestFragmentsArePutTogether(t *testing.T) {
	pol := policytest.Resolve(t, policytest.Fleet,
		"policy p language 1\nrole red\nrole blue\nrole green\nground {\n  replies off\n  invalid off\n}\nallow a: everywhere -> fleet : "+
			"ssh  guard\n")
	sp := packet.NewSpace()
	plan := compile.ForHost(sp, pol, pol.Fleet.Host("h1"), 0)
	text := nfttest.Written(t, sp, plan)
	require.Contains(t, text, "ct state")
	_, table, _ := strings.Cut(text, "\n\n")
	rs, err := nft.ReadText(sp, "", []byte(table), nil)
	require.NoError(t, err)
	require.Equal(t, [2]bool{true, true}, rs.Tracks)
	require.Equal(t, plan.Decision(sp), rs.Decision(sp))
	require.Equal(t, nft.Form{}.Rules(sp, plan).Signature(sp, nft.Form{}.Ours), rs.Signature(sp, nft.Form{}.Ours))
}
