package iptables_test

import (
	"fmt"
	"math/rand/v2"
	"os/exec"
	"strings"
	"testing"
	"time"

	"yellowfence.example/yfence/core/dialect/iptables"
	"yellowfence.example/yfence/core/dialect/nft/nfttest"
	"yellowfence.example/yfence/core/packet"
)

// large is a dump of n rules as people write them: a chain of a hundred rules for
// each service, to which INPUT jumps.
func large(n int) string {
	rng := rand.New(rand.NewPCG(1, uint64(n)))
	const perChain = 100
	var chains, rules, jumps strings.Builder
	for i := range n / perChain {
		fmt.Fprintf(&chains, ":service%d - [0:0]\n", i)
		fmt.Fprintf(&jumps, "-A INPUT -p tcp -m tcp --dport %d:%d -j service%d\n", 1000+i*10, 1500+i*10, i)
		for range perChain - 1 {
			source := fmt.Sprintf("10.%d.%d.%d/32", rng.IntN(64), rng.IntN(256), 1+rng.IntN(254))
			if rng.IntN(3) == 0 {
				source = fmt.Sprintf("10.%d.%d.0/24", rng.IntN(64), rng.IntN(256))
			}
			match := fmt.Sprintf("-p tcp -m tcp --dport %d", 1000+rng.IntN(200)*10)
			switch rng.IntN(4) {
			case 0:
				match = fmt.Sprintf("-p tcp -m multiport --dports %d,%d", 1000+rng.IntN(200)*10, 8000+rng.IntN(100))
			case 1:
				match = fmt.Sprintf("-i eth%d", rng.IntN(3))
			}
			fmt.Fprintf(&rules, "-A service%d -s %s %s -j %s\n", i, source, match,
				[]string{"ACCEPT", "ACCEPT", "ACCEPT", "DROP"}[rng.IntN(4)])
		}
	}
	return "*filter\n:INPUT DROP [0:0]\n:FORWARD ACCEPT [0:0]\n:OUTPUT ACCEPT [0:0]\n" + chains.String() +
		"-A INPUT -m conntrack --ctstate RELATED,ESTABLISHED -j ACCEPT\n-A INPUT -i lo -j ACCEPT\n" + jumps.String() + rules.String() +
		"COMMIT\n"
}

// BenchmarkRead reads a dump of 10,000 rules into a decision, and gives the ratio to
// what `iptables-legacy-restore --test` takes for it, as "of-restore"; both at their quickest.
func BenchmarkRead(b *testing.B) {
	text := large(10_000)
	b.SetBytes(int64(len(text)))
	read := func() {
		sp := packet.NewSpace()
		rs, err := iptables.Read(sp, packet.IPv4, "f", text, iptables.Host{})
		if err != nil {
			b.Fatal(err)
		}
		rs.Decision(sp)
	}
	for b.Loop() {
		read()
	}
	var ours, theirs nfttest.Quickest
	for range 20 { // in turns, so that both have the machine as it is
		ours.Of(time.Now, read)
		theirs.Of(time.Now, func() {
			cmd := exec.Command("iptables-legacy-restore", "--test")
			cmd.Stdin = strings.NewReader(text)
			if out, err := cmd.CombinedOutput(); err != nil {
				b.Skipf("iptables-legacy-restore --test cannot be timed here: %s %v", out, err)
			}
		})
	}
	b.ReportMetric(float64(ours)/float64(theirs), "of-restore")
}
