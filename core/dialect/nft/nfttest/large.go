// Package nfttest makes large rulesets for benchmarks, as `nft list ruleset`
// would print them.
package nfttest

import (
	"fmt"
	"math/rand/v2"
	"strings"
)

// A Shape is a kind of ruleset.
type Shape string

// The shapes: rules as people write them over years, long lists of prefixes, and
// rules made to be hard to hold.
const (
	People   Shape = "people"
	Prefixes Shape = "prefixes"
	Hostile  Shape = "hostile"
)

// Shapes are all of them.
var Shapes = []Shape{People, Prefixes, Hostile}

// Large is a ruleset of n rules. The same seed gives the same.
func Large(shape Shape, n int, seed uint64) string {
	rng := rand.New(rand.NewPCG(seed, uint64(n)))
	var b strings.Builder
	b.WriteString("table inet filter {\n")
	switch shape {
	case People:
		people(&b, rng, n)
	case Prefixes:
		b.WriteString("\tchain input {\n\t\ttype filter hook input priority filter; policy drop;\n\t\tct state established,related accept\n\t\tiif \"lo\" accept\n")
		for i := 2; i < n; i++ {
			fmt.Fprintf(&b, "\t\tip saddr %d.%d.%d.0/%d %s\n", 1+rng.IntN(220), rng.IntN(256), rng.IntN(256), 24, []string{"drop", "drop", "accept"}[rng.IntN(3)])
		}
		b.WriteString("\t}\n")
	case Hostile:
		b.WriteString("\tchain input {\n\t\ttype filter hook input priority filter; policy drop;\n")
		for range n {
			bits := rng.IntN(25)
			addr := rng.Uint32() >> (32 - bits) << (32 - bits)
			if bits == 0 {
				addr = 0
			}
			port := rng.IntN(60000)
			not := []string{"", "!= "}[rng.IntN(2)]
			fmt.Fprintf(&b, "\t\tip %s %s%d.%d.%d.%d/%d tcp %s %d-%d %s\n", []string{"saddr", "daddr"}[rng.IntN(2)], not, addr>>24, addr>>16&255, addr>>8&255, addr&255, bits,
				[]string{"sport", "dport"}[rng.IntN(2)], port, port+rng.IntN(5000), []string{"accept", "drop"}[rng.IntN(2)])
		}
		b.WriteString("\t}\n")
	}
	b.WriteString("}\n")
	return b.String()
}

// people writes chains of a hundred rules each, one for each service, that the
// base chain jumps to.
func people(b *strings.Builder, rng *rand.Rand, n int) {
	const perChain = 100
	chains := max(1, n/perChain)
	for c := range chains {
		fmt.Fprintf(b, "\tchain service%d {\n", c)
		for range perChain - 1 {
			src := fmt.Sprintf("10.%d.%d.%d", rng.IntN(64), rng.IntN(256), rng.IntN(254)+1)
			if rng.IntN(3) == 0 {
				src = fmt.Sprintf("10.%d.%d.0/24", rng.IntN(64), rng.IntN(256))
			}
			end := []string{"accept", "accept", "accept", "drop", "log prefix \"refused: \" drop"}[rng.IntN(5)]
			switch rng.IntN(4) {
			case 0:
				fmt.Fprintf(b, "\t\tip saddr %s tcp dport { %d, %d } %s\n", src, 1000+rng.IntN(200)*10, 8000+rng.IntN(100), end)
			case 1:
				fmt.Fprintf(b, "\t\tip saddr %s iifname \"eth%d\" %s\n", src, rng.IntN(3), end)
			default:
				fmt.Fprintf(b, "\t\tip saddr %s tcp dport %d counter packets 0 bytes 0 %s\n", src, 1000+rng.IntN(200)*10, end)
			}
		}
		b.WriteString("\t}\n\n")
	}
	b.WriteString("\tchain input {\n\t\ttype filter hook input priority filter; policy drop;\n\t\tct state established,related accept\n\t\tct state invalid drop\n\t\tiif \"lo\" accept\n")
	for c := range chains {
		fmt.Fprintf(b, "\t\ttcp dport %d-%d jump service%d\n", 1000+c*10, 1000+c*10+500, c)
	}
	b.WriteString("\t}\n")
}
