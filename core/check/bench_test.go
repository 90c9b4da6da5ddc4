package check_test

import (
	"fmt"
	"testing"

	"yellowfence.example/yfence/core/check"
	"yellowfence.example/yfence/core/policy"
	"yellowfence.example/yfence/core/policy/policytest"
	"yellowfence.example/yfence/core/source"
)

// BenchmarkResolve parses and resolves policies of growing size over 10,000 hosts.
func BenchmarkResolve(b *testing.B) {
	for _, statements := range []int{100, 500, 2000} {
		sources, fl := policytest.Large(statements, 200, 10_000, 1)
		b.Run(fmt.Sprintf("statements=%d", statements), func(b *testing.B) {
			for b.Loop() {
				in, _ := policy.Read(sources, fl)
				if _, problems := policy.Resolve(in); source.HasErrors(problems) {
					b.Fatal(problems[0])
				}
			}
		})
	}
}

// BenchmarkCheck runs all checks, the exact ones included.
func BenchmarkCheck(b *testing.B) {
	for _, statements := range []int{100, 500, 2000} {
		sources, fl := policytest.Large(statements, 200, 10_000, 1)
		b.Run(fmt.Sprintf("statements=%d", statements), func(b *testing.B) {
			for b.Loop() {
				if _, problems := check.Policy(sources, fl, now); source.HasErrors(problems) {
					b.Fatal(problems[0])
				}
			}
		})
	}
}
