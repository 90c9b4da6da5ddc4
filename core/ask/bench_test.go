package ask_test

import (
	"testing"

	"yellowfence.example/yfence/core/ask"
	"yellowfence.example/yfence/core/fence"
	"yellowfence.example/yfence/core/policy/policytest"
)

// BenchmarkAsk asks about one host of 10,000, by a policy of 2,000 statements.
func BenchmarkAsk(b *testing.B) {
	pol := policytest.LargeFleet(b, 10_000)
	q, _ := fence.ParseQuestion("r003 -> h000007 : tcp 2000")
	b.Run("cold", func(b *testing.B) {
		for b.Loop() {
			if _, problems := ask.NewAsker(pol).Policy(q, now); problems != nil {
				b.Fatal(problems[0])
			}
		}
	})
	b.Run("warm", func(b *testing.B) {
		asker := ask.NewAsker(pol)
		for b.Loop() {
			if _, problems := asker.Policy(q, now); problems != nil {
				b.Fatal(problems[0])
			}
		}
	})
}
