package compile_test

import (
	"fmt"
	"testing"

	"yellowfence.example/yfence/core/compile"
	"yellowfence.example/yfence/core/packet"
	"yellowfence.example/yfence/core/policy/policytest"
)

// BenchmarkDecisions compiles the decisions of all hosts of a fleet by a policy
// of 2,000 statements in 200 roles; hosts that are alike share theirs.
func BenchmarkDecisions(b *testing.B) {
	for _, hosts := range []int{10_000, 100_000} {
		pol := policytest.LargeFleet(b, hosts)
		b.Run(fmt.Sprintf("hosts=%d", hosts), func(b *testing.B) {
			for b.Loop() {
				sp, classes := packet.NewSpace(), compile.ClassesOf(pol)
				decisions := map[string]packet.Decision{}
				for _, h := range pol.Fleet.Hosts {
					class := classes.Of(h)
					if _, known := decisions[class]; !known {
						decisions[class] = compile.ForHost(sp, pol, h, now).Decision(sp)
					}
				}
			}
			b.ReportMetric(b.Elapsed().Seconds()*1e6/float64(b.N)/float64(hosts), "µs/host")
		})
	}
}
