package compare_test

import (
	"fmt"

	"yellowfence.example/yfence/core/compare"
	"yellowfence.example/yfence/core/compile"
	"yellowfence.example/yfence/core/dialect/nft"
	"yellowfence.example/yfence/core/fleet"
	"yellowfence.example/yfence/core/kernel"
	"yellowfence.example/yfence/core/packet"
	"yellowfence.example/yfence/core/policy"
	"yellowfence.example/yfence/core/say"
)

// What a host has in force is compared with what its policy means: here somebody has put a rule of
// his own in front of ours.
func Example() {
	fl, _ := fleet.ReadJSON("fleet.json", []byte(`{"hosts": [
 {"name": "charts-01", "roles": ["charts"], "interfaces": [{"name": "eth0", "addresses": ["203.0.113.70/28"]}]}]}`))
	in, _ := policy.Read([]policy.Source{{Name: "charts.fence", Text: `policy charts language 1
network office = 192.0.2.0/24
role charts
allow way-in: office -> charts : ssh  guard
`}}, fl)
	pol, _ := policy.Resolve(in)
	sp := packet.NewSpace()
	plan := compile.ForHost(sp, pol, fl.Host("charts-01"), 0)
	live := nft.Form{}.Rules(sp, plan)
	for _, c := range live.Chains {
		if c.Name == "inbound" {
			c.Rules = append([]kernel.Rule{{Match: sp.And(sp.Value(packet.Protocol, packet.TCP), sp.Value(packet.DstPort, 5432)),
				Branches: []kernel.Branch{{Match: packet.All, Action: kernel.Accept}}, Text: kernel.Words("tcp dport 5432 accept")}},
				c.Rules...)
		}
	}
	res := compare.Drift(sp, say.NamesOf(pol), plan, live)
	fmt.Println(res.State())
	for _, f := range res.Findings {
		fmt.Printf("%s: %s\n%s\n", f.Kind, f.Sentence, f.Hint)
	}
	// Output:
	// drifted
	// opened: tcp 5432 from everywhere gets in; nothing in the policy admits it.
	// to keep it, add `allow NAME: everywhere -> charts : postgresql` to the policy; else settling charts-01 removes it
}
