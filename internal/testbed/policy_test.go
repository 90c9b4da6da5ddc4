package testbed

import (
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"yellowfence.example/yfence/core/compile"
	"yellowfence.example/yfence/core/dialect/nft"
	"yellowfence.example/yfence/core/packet"
	"yellowfence.example/yfence/core/policy"
	"yellowfence.example/yfence/core/policy/policytest"
)

// TestWhatIsWrittenReadsBack loads our rules into a kernel, twice, and reads its
// listing: it must be the policy's very decision, with nothing cosmetic.
func TestWhatIsWrittenReadsBack(t *testing.T) {
	need(t)
	ns, err := NewNamespace(own("yf-roundtrip"))
	require.NoError(t, err)
	defer func() { require.NoError(t, ns.Close()) }()
	policies := []*policy.Policy{policytest.Saltmarsh(t, "../..")}
	for seed := range uint64(20) {
		policies = append(policies, policytest.Resolve(t, policytest.Fleet, policytest.Random(rand.New(rand.NewPCG(11, seed)))))
	}
	policies = append(policies, policytest.Resolve(t, policytest.Fleet, "policy p language 1\nrole red\nrole blue\nrole green\nground {\n  replies off\n  invalid off\n}\nallow a: everywhere -> fleet : ssh  guard\n"))
	fillings := map[string]nft.Filling{
		"from.user.root": {Element: "0"}, "from.user.backup": {Element: "34"}, "from.user.www": {Element: "33"},
		"from.unit.mirror.service": unit(t, "mirror.service"), "from.unit.web.service": unit(t, "web.service"),
	}
	_, err = ns.Run(nil, "nft", "add", "table", "ip", "others") // which we must not touch
	require.NoError(t, err)
	for i, pol := range policies {
		for _, h := range pol.Fleet.Hosts {
			sp := packet.NewSpace()
			plan := compile.Host(sp, pol, h, 0)
			rules, err := nft.Write(sp, plan)
			require.NoError(t, err)
			text := nft.Fill(rules, fillings)
			require.NoError(t, ns.Load(text), "policy %d host %s\n%s", i, h.Name, text)
			once, err := ns.Run(nil, "nft", "-s", "list", "ruleset")
			require.NoError(t, err)
			require.NoError(t, ns.Load(text))
			twice, err := ns.Run(nil, "nft", "-s", "list", "ruleset")
			require.NoError(t, err)
			require.Equal(t, string(once), string(twice), "loading it twice changes something")
			require.Contains(t, string(twice), "table ip others")

			listing, err := ns.ListJSON()
			require.NoError(t, err)
			live, err := nft.ReadJSON(sp, listing, &nft.Names{Users: map[string]int{"root": 0, "backup": 34, "www": 33}, Absent: []string{"unit backup.service"}})
			require.NoError(t, err)
			require.Equal(t, plan.Decision(sp), live.Decision(sp), "policy %d host %s\n%s", i, h.Name, text)
			listed, err := ns.Run(nil, "nft", "list", "ruleset")
			require.NoError(t, err)
			fromText, err := nft.ReadText(sp, "listing", listed, nil)
			require.NoError(t, err)
			if len(nft.SendersOf(text)) == 0 { // whose numbers only a report explains
				require.Equal(t, plan.Decision(sp), fromText.Decision(sp), "policy %d host %s\n%s", i, h.Name, listed)
			}
			ours := nft.Rules(sp, plan)
			require.Equal(t, ours.Signature(sp, nft.Family, nft.Table), live.Signature(sp, nft.Family, nft.Table), "policy %d host %s", i, h.Name)
		}
	}
}

// unit makes a control group like that of a system service.
func unit(t *testing.T, name string) nft.Filling {
	t.Helper()
	root := "/sys/fs/cgroup"
	if _, err := os.Stat(root + "/cgroup.controllers"); err != nil {
		root += "/unified" // the older layout, where version 2 lies beside version 1
	}
	slice := fmt.Sprintf("%s/yftest%d.slice", root, os.Getpid())
	require.NoError(t, os.MkdirAll(slice+"/"+name, 0o755))
	t.Cleanup(func() {
		require.NoError(t, os.Remove(slice+"/"+name))
		_ = os.Remove(slice)
	})
	path, err := filepath.Rel("/sys/fs/cgroup", slice+"/"+name)
	require.NoError(t, err)
	return nft.Filling{Element: fmt.Sprintf("%q", path), Level: 2}
}

// TestPoliciesHoldInTheKernel sends packets through the rules of random policies
// and holds the kernel's verdicts against what the policies mean.
func TestPoliciesHoldInTheKernel(t *testing.T) {
	need(t)
	j, err := NewJudge(own("yf-policy"))
	require.NoError(t, err)
	defer func() { require.NoError(t, j.Close()) }()
	j.Tracks = [2]bool{true, true} // as our rules always make it
	count := map[string]int{}
	for n := range max(25, *verdicts/400) { // a tenth of all verdicts
		rng := rand.New(rand.NewPCG(12+*seed, uint64(n)))
		text := policytest.Random(rng)
		pol := policytest.Resolve(t, policytest.Fleet, text)
		sp := packet.NewSpace()
		plan := compile.Host(sp, pol, pol.Fleet.Host("h1"), 0) // whose interfaces are the judge's
		rules, err := nft.Write(sp, plan)
		require.NoError(t, err)
		require.NoError(t, j.Host.Load("flush ruleset\n"+nft.Fill(rules, map[string]nft.Filling{"from.user.root": {Element: "0"}})))
		require.NoError(t, j.forget())
		decision := plan.Decision(sp)
		var packets []packet.Packet
		for i := range 40 {
			p := randomPacket(rng, int(j.tag)+i)
			if len(packet.Buckets(sp, sp.Only(decision, sp.Exactly(p)))) == 0 { // which have a test of their own
				packets = append(packets, p)
			}
		}
		wrong := hold(t, j, sp, decision, packets, count)
		require.Nil(t, wrong, "seed %d policy %d\n%s\n%s", *seed, n, text, rules)
	}
	t.Logf("verdicts of the kernel, by direction: %v", count)
	for _, seen := range []string{"in admitted", "in dropped", "in rejected", "out admitted", "out dropped"} {
		require.Positive(t, count[seen], seen)
	}
}
