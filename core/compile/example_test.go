package compile_test

import (
	"fmt"

	"yellowfence.example/yfence/core/compile"
	"yellowfence.example/yfence/core/fleet"
	"yellowfence.example/yfence/core/packet"
	"yellowfence.example/yfence/core/policy"
)

// exampleHarbour is a policy for two hosts.
func exampleHarbour() *policy.Policy {
	fl, _ := fleet.ReadJSON("fleet.json", []byte(`{"hosts": [
 {"name": "charts-01", "roles": ["charts"], "interfaces": [{"name": "eth0", "addresses": ["203.0.113.70/28"]}]},
 {"name": "jump-01", "roles": ["jump"], "interfaces": [{"name": "eth0", "addresses": ["203.0.113.65/28"]}]}]}`))
	in, _ := policy.Read([]policy.Source{{Name: "charts.fence", Text: `policy charts language 1
role charts
role jump
allow way-in: jump -> charts : ssh  guard
allow web:    everywhere -> charts : https
`}}, fl)
	pol, _ := policy.Resolve(in)
	return pol
}

// A plan is a host's decision over all packets, and the rules that make a filter come to it.
func Example() {
	sp, pol := packet.NewSpace(), exampleHarbour()
	plan := compile.ForHost(sp, pol, pol.Fleet.Host("charts-01"), 0)

	d := plan.Decision(sp)
	ssh := sp.AndAll(sp.Crossing(packet.Inbound), sp.Value(packet.State, packet.New), sp.Typical(),
		sp.Value(packet.Protocol, packet.TCP), sp.Value(packet.DstPort, 22), sp.Interfaces(packet.InIface, "eth0"))
	who := sp.And(ssh, sp.Where(d, func(o packet.Outcome) bool { return o.Verdict == packet.Admit }))
	boxes, _ := sp.Boxes(sp.ProjectOnto(who, packet.Family, packet.Src), 4)
	fmt.Println("ssh is admitted from", boxes[0].AddrSet(packet.Src).Prefixes())

	for _, r := range plan.Chains[0].Rules {
		if r.Kind == compile.ByAllow {
			fmt.Println(r.Decider, r.Verdict)
		}
	}
	// Output:
	// ssh is admitted from [203.0.113.65/32]
	// allow way-in admitted
	// allow web admitted
}

// Hosts of a class have the same plan, which a Planner makes once.
func ExamplePlanner() {
	sp, pol := packet.NewSpace(), exampleHarbour()
	planner := compile.NewPlanner(sp, pol, 0)
	charts := pol.Fleet.Host("charts-01")
	first, again := planner.Plan(charts), planner.Plan(charts)
	fmt.Println(planner.Class(charts), first == again)
	// Output: charts true
}
