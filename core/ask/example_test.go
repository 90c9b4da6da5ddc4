package ask_test

import (
	"fmt"

	"yellowfence.example/yfence/core/ask"
	"yellowfence.example/yfence/core/fence"
	"yellowfence.example/yfence/core/fleet"
	"yellowfence.example/yfence/core/policy"
)

// A question is answered for every packet that it speaks of, at both ends.
func Example() {
	fl, _ := fleet.ReadJSON("fleet.json", []byte(`{"hosts": [
 {"name": "charts-01", "roles": ["charts"], "interfaces": [{"name": "eth0", "addresses": ["203.0.113.70/28"]}]},
 {"name": "jump-01", "roles": ["jump"], "interfaces": [{"name": "eth0", "addresses": ["203.0.113.65/28"]}]}]}`))
	in, _ := policy.Read([]policy.Source{{Name: "charts.fence", Text: `policy charts language 1
role charts
role jump
allow way-in: jump -> charts : ssh  guard
`}}, fl)
	pol, _ := policy.Resolve(in)
	asker := ask.NewAsker(pol)
	for _, text := range []string{"jump -> charts : ssh", "everywhere -> charts : ssh", "charts -> jump : ssh"} {
		q, _ := fence.ParseQuestion(text)
		answer, _ := asker.Policy(q, 0)
		fmt.Printf("%s: %s\n", text, answer.Verdict)
		for _, s := range answer.Steps {
			fmt.Printf("  %s: %s by %s\n", s.Where, s.Verdict, s.By)
		}
	}
	// Output:
	// jump -> charts : ssh: admitted
	//   jump-01 outbound: admitted by allow way-in
	//   charts-01 inbound: admitted by allow way-in
	// everywhere -> charts : ssh: mixed
	//   jump-01 outbound: admitted by allow way-in
	//   charts-01 inbound: admitted by allow way-in
	//   charts-01 inbound: dropped by stance inbound closed
	// charts -> jump : ssh: dropped
	//   charts-01 outbound: admitted by stance outbound open
	//   jump-01 inbound: dropped by stance inbound closed
}
