package kernel_test

import (
	"fmt"

	"yellowfence.example/yfence/core/kernel"
	"yellowfence.example/yfence/core/packet"
)

// A ruleset is what a kernel has in force, and what it does with every packet: here a chain that
// drops what its one rule does not accept, and another table's that drops some of that.
func Example() {
	sp := packet.NewSpace()
	port := func(n int) packet.Set {
		return sp.And(sp.Value(packet.Protocol, packet.TCP), sp.Value(packet.DstPort, n))
	}
	does := func(a kernel.Action) []kernel.Branch { return []kernel.Branch{{Match: packet.All, Action: a}} }
	rs := &kernel.Ruleset{Chains: []*kernel.Chain{
		{Family: "inet", Table: "ours", Name: "in", Hook: "input", Type: "filter", Policy: packet.Drop,
			Rules: []kernel.Rule{{Match: sp.Or(port(22), port(443)), Branches: does(kernel.Accept),
				Text: kernel.Words("tcp dport { 22, 443 } accept")}}},
		{Family: "inet", Table: "theirs", Name: "in", Hook: "input", Type: "filter", Priority: 10, Policy: packet.Admit,
			Rules: []kernel.Rule{{Match: port(443), Branches: does(kernel.Drop), Text: kernel.Words("tcp dport 443 drop")}}},
	}}
	d, deciders := rs.Attributed(sp)
	for _, n := range []int{22, 443, 80} {
		p, _ := sp.Example(sp.AndAll(port(n), sp.Crossing(packet.Inbound), sp.WellFormed(), sp.Typical()), nil)
		o := sp.Outcome(d, p)
		fmt.Printf("%d %s by %s\n", n, o.Verdict, deciders[o.By-1].Text())
	}
	// Output:
	// 22 admitted by tcp dport { 22, 443 } accept
	// 443 dropped by tcp dport 443 drop
	// 80 dropped by policy drop of the chain
}
