package nft_test

import (
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"testing"
	"time"

	"yellowfence.example/yfence/core/dialect/nft"
	"yellowfence.example/yfence/core/dialect/nft/nfttest"
	"yellowfence.example/yfence/core/packet"
)

// BenchmarkRead reads listings of 10,000 rules into a decision, and gives the
// ratio to what `nft -c -f` takes for the same text, as "of-nft"; both at their quickest.
func BenchmarkRead(b *testing.B) {
	for _, shape := range []nfttest.Shape{nfttest.People, nfttest.Prefixes} {
		text := nfttest.Large(shape, 10_000, 1)
		b.Run(string(shape), func(b *testing.B) {
			b.SetBytes(int64(len(text)))
			var ours nfttest.Quickest
			for b.Loop() {
				ours.Of(time.Now, func() {
					sp := packet.NewSpace()
					rs, err := nft.ReadText(sp, "f", []byte(text), nil)
					if err != nil {
						b.Fatal(err)
					}
					rs.Decision(sp)
				})
			}
			if theirs, ok := nftChecks(b, text); ok {
				b.ReportMetric(float64(ours)/float64(theirs), "of-nft")
			}
		})
	}
}

// BenchmarkReadJSON reads the same listings in the JSON form, and gives the ratio
// to what encoding/json takes to decode them into any, as "of-decoding".
func BenchmarkReadJSON(b *testing.B) {
	for _, shape := range []nfttest.Shape{nfttest.People, nfttest.Prefixes} {
		data := []byte(nfttest.LargeJSON(shape, 10_000, 1))
		b.Run(string(shape), func(b *testing.B) {
			b.SetBytes(int64(len(data)))
			var ours, theirs nfttest.Quickest
			for b.Loop() {
				ours.Of(time.Now, func() {
					sp := packet.NewSpace()
					rs, err := nft.ReadJSON(sp, data, nil)
					if err != nil {
						b.Fatal(err)
					}
					rs.Decision(sp)
				})
			}
			for range 8 {
				theirs.Of(time.Now, func() {
					var v any
					if err := json.Unmarshal(data, &v); err != nil {
						b.Fatal(err)
					}
				})
			}
			b.ReportMetric(float64(ours)/float64(theirs), "of-decoding")
		})
	}
}

// nftChecks times the kernel's own tool on a ruleset, where it may be run.
func nftChecks(b *testing.B, text string) (q nfttest.Quickest, ok bool) {
	file := filepath.Join(b.TempDir(), "rules.nft")
	if err := os.WriteFile(file, []byte(text), 0o600); err != nil {
		b.Fatal(err)
	}
	ok = true
	for range 5 {
		q.Of(time.Now, func() {
			if out, err := exec.Command("nft", "-c", "-f", file).CombinedOutput(); err != nil {
				b.Logf("nft -c -f cannot be timed here: %s %v", out, err)
				ok = false
			}
		})
	}
	return q, ok
}

// BenchmarkHostile reads 10,000 rules that are made to be hard to hold: to the
// end, or until they are too tangled. It gives how much the space then holds.
func BenchmarkHostile(b *testing.B) {
	text := nfttest.Large(nfttest.Hostile, 10_000, 1)
	for b.Loop() {
		sp := packet.NewSpace()
		sp.Bound(12_000_000)
		tangled := packet.Try(func() {
			rs, err := nft.ReadText(sp, "f", []byte(text), nil)
			if err != nil {
				b.Fatal(err)
			}
			rs.Decision(sp)
		})
		b.ReportMetric(float64(sp.Size())/1e6, "million-edges")
		b.ReportMetric(map[bool]float64{true: 1}[tangled != nil], "too-tangled")
	}
}

// BenchmarkCompare compares two rulesets of 10,000 rules that differ in one, and
// gives the ratio to reading one, as "of-reading".
func BenchmarkCompare(b *testing.B) {
	text := nfttest.Large(nfttest.People, 10_000, 1)
	sp := packet.NewSpace()
	began := time.Now()
	one, err := nft.ReadText(sp, "f", []byte(text), nil)
	if err != nil {
		b.Fatal(err)
	}
	last := len(one.Chains[len(one.Chains)-1].Rules) - 1
	d := one.Decision(sp)
	read := time.Since(began)
	one.Chains[len(one.Chains)-1].Rules = one.Chains[len(one.Chains)-1].Rules[:last]
	e := one.Decision(sp)
	for b.Loop() {
		if sp.Differ(d, e) == packet.Empty {
			b.Fatal("they differ in a rule")
		}
	}
	b.ReportMetric(b.Elapsed().Seconds()/float64(b.N)/read.Seconds(), "of-reading")
}
