package policy_test

import (
	"fmt"

	"yellowfence.example/yfence/core/fleet"
	"yellowfence.example/yfence/core/policy"
)

const harbourFleet = `{"hosts": [
 {"name": "charts-01", "roles": ["charts"], "interfaces": [{"name": "eth0", "addresses": ["203.0.113.70/28"]}]},
 {"name": "jump-01", "roles": ["jump"], "interfaces": [{"name": "eth0", "addresses": ["203.0.113.65/28"]}]}]}`

// A policy is read, and its names are looked up in a fleet: then every rule knows its hosts.
func Example() {
	fl, _ := fleet.ReadJSON("fleet.json", []byte(harbourFleet))
	in, _ := policy.Read([]policy.Source{{Name: "charts.fence", Text: `policy charts language 1
role charts
role jump
allow way-in: jump -> charts : ssh  guard
`}}, fl)
	pol, problems := policy.Resolve(in)
	fmt.Println(len(problems), "problems")
	for _, r := range pol.Rules {
		fmt.Println(r.Title(), "from", r.From.Hosts[0].Name, "to", r.To.Hosts[0].Name)
	}
	// Output:
	// 0 problems
	// allow way-in from jump-01 to charts-01
}
