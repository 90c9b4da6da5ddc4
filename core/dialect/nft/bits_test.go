package nft_test

import (
	"slices"
	"testing"
	"time"

	"yellowfence.example/yfence/core/dialect/nft"
	"yellowfence.example/yfence/core/dialect/nft/nfttest"
	"yellowfence.example/yfence/core/kernel"
	"yellowfence.example/yfence/core/packet"
)

// bits is a space of binary decision diagrams, one variable for each bit of a
// field in the order of the fields, the highest bit first: the other way to hold
// a decision, for BenchmarkBits (K. S. Brace, R. L. Rudell and R. E. Bryant,
// "Efficient Implementation of a BDD Package", DAC 1990).
type bits struct {
	nodes  []bitNode
	unique []int32
	cache  []iteResult
}

type bitNode struct {
	variable int32
	lo, hi   int32
	next     int32
}

type iteResult struct{ f, g, h, result int32 }

const noVariable = 1 << 30

func newBits() *bits {
	b := &bits{unique: make([]int32, 1<<16), cache: make([]iteResult, 1<<20)}
	for i := range b.unique {
		b.unique[i] = -1
	}
	b.nodes = []bitNode{{noVariable, 0, 0, -1}, {noVariable, 1, 1, -1}} // no and yes
	return b
}

func (b *bits) node(variable, lo, hi int32) int32 {
	if lo == hi {
		return lo
	}
	slot := func() uint64 {
		return (uint64(variable)<<42 ^ uint64(lo)<<21 ^ uint64(hi)) * 0x9e3779b97f4a7c15 >> 32 & uint64(len(b.unique)-1)
	}
	s := slot()
	for n := b.unique[s]; n >= 0; n = b.nodes[n].next {
		if m := b.nodes[n]; m.variable == variable && m.lo == lo && m.hi == hi {
			return n
		}
	}
	if len(b.nodes) > len(b.unique) {
		b.unique = make([]int32, 2*len(b.unique))
		for i := range b.unique {
			b.unique[i] = -1
		}
		for n := 2; n < len(b.nodes); n++ {
			m := &b.nodes[n]
			at := (uint64(m.variable)<<42 ^ uint64(m.lo)<<21 ^ uint64(m.hi)) * 0x9e3779b97f4a7c15 >> 32 & uint64(len(b.unique)-1)
			m.next, b.unique[at] = b.unique[at], int32(n)
		}
		s = slot()
	}
	b.nodes = append(b.nodes, bitNode{variable, lo, hi, b.unique[s]})
	b.unique[s] = int32(len(b.nodes) - 1)
	return b.unique[s]
}

// ite is g where f holds, and else h.
func (b *bits) ite(f, g, h int32) int32 {
	switch {
	case f == 1 || g == h:
		return g
	case f == 0:
		return h
	}
	at := (uint64(f)<<42 ^ uint64(g)<<21 ^ uint64(h)) * 0x9e3779b97f4a7c15 >> 32 & uint64(len(b.cache)-1)
	if c := b.cache[at]; c.f == f && c.g == g && c.h == h {
		return c.result
	}
	top := min(b.nodes[f].variable, b.nodes[g].variable, b.nodes[h].variable)
	half := func(n int32, hi bool) int32 {
		switch m := b.nodes[n]; {
		case m.variable != top:
			return n
		case hi:
			return m.hi
		default:
			return m.lo
		}
	}
	lo := b.ite(half(f, false), half(g, false), half(h, false))
	r := b.node(top, lo, b.ite(half(f, true), half(g, true), half(h, true)))
	b.cache[at] = iteResult{f, g, h, r}
	return r
}

// upTo is the packets whose field is at most v.
func (b *bits) upTo(field packet.Field, v packet.Value) int32 {
	r := int32(1)
	for bit := range width(field) {
		variable := int32(field)*longest + int32(longest-1-bit)
		if v.Bit(bit) {
			r = b.node(variable, 1, r)
		} else {
			r = b.node(variable, r, 0)
		}
	}
	return r
}

const longest = 128 // bits, of an IPv6 address or an interface's name

// width is how many bits a field takes. All addresses here are IPv4: to give them
// 32 is the best that bits can be given.
func width(field packet.Field) int {
	if field == packet.Src || field == packet.Dst {
		return 32
	}
	limit, n := field.Limit(), longest
	for !limit.Bit(n - 1) {
		n--
	}
	return n
}

func (b *bits) box(box packet.Box) int32 {
	all := int32(1)
	for _, field := range slices.Backward(slices.Sorted(mapsKeys(box))) {
		any := int32(0)
		for _, r := range box[field] {
			in := b.upTo(field, r.Hi)
			if r.Lo != (packet.Value{}) {
				in = b.ite(b.upTo(field, r.Lo.Prev()), 0, in)
			}
			any = b.ite(in, 1, any)
		}
		all = b.ite(any, all, 0)
	}
	return all
}

func mapsKeys(b packet.Box) func(func(packet.Field) bool) {
	return func(yield func(packet.Field) bool) {
		for f := range b {
			if !yield(f) {
				return
			}
		}
	}
}

// BenchmarkBits decides the rules of each chain of a large ruleset with bits, one
// over the other, and with runs of values, as a ruleset is decided. It gives how
// many times as long bits take, as "of-runs", and how much both hold in the end.
func BenchmarkBits(b *testing.B) {
	for _, shape := range nfttest.Shapes {
		b.Run(string(shape), func(b *testing.B) {
			n := 10_000
			if shape == nfttest.Hostile {
				n = 1_000
			}
			sp := packet.NewSpace()
			rs, err := nft.ReadText(sp, "", []byte(nfttest.Large(shape, n, 1)), nil)
			if err != nil {
				b.Fatal(err)
			}
			type rule struct {
				boxes   []packet.Box
				set     packet.Set
				accepts bool
			}
			var chains [][]rule
			for _, c := range rs.Chains {
				var chain []rule
				for _, r := range slices.Backward(c.Rules) {
					if len(r.Branches) == 1 && (r.Branches[0].Action == kernel.Accept || r.Branches[0].Action == kernel.Drop) {
						boxes, whole := sp.Boxes(r.Match, 1000)
						if !whole {
							b.Fatal("a rule of more than 1000 boxes")
						}
						chain = append(chain, rule{boxes, r.Match, r.Branches[0].Action == kernel.Accept})
					}
				}
				chains = append(chains, chain)
			}
			verdict := map[bool]int32{true: 1, false: 0}
			admit, drop := sp.Leaf(packet.Outcome{Verdict: packet.Admit}), sp.Leaf(packet.Outcome{Verdict: packet.Drop})
			var runs, held, nodes float64
			for b.Loop() {
				b.StopTimer()
				before, began := sp.Size(), time.Now()
				for _, chain := range chains {
					choices := []packet.Choice{{Match: packet.All, Then: drop}}
					for _, r := range chain {
						then := drop
						if r.accepts {
							then = admit
						}
						choices = append(choices, packet.Choice{Match: r.set, Then: then})
					}
					slices.Reverse(choices)
					sp.FirstMatch(choices)
				}
				if took := time.Since(began).Seconds(); runs == 0 {
					runs, held = took, float64(sp.Size()-before)*24
				}
				space := newBits()
				matches := make([][]int32, len(chains))
				for i, chain := range chains {
					for _, r := range chain {
						match := int32(0)
						for _, box := range r.boxes {
							match = space.ite(space.box(box), 1, match)
						}
						matches[i] = append(matches[i], match)
					}
				}
				ready := len(space.nodes)
				b.StartTimer()
				for i, chain := range chains {
					d := int32(0)
					for k, r := range chain {
						d = space.ite(matches[i][k], verdict[r.accepts], d)
					}
				}
				nodes = float64(len(space.nodes)-ready) * 16
			}
			b.ReportMetric(b.Elapsed().Seconds()/float64(b.N)/runs, "of-runs")
			b.ReportMetric(held/1e6, "MB-of-runs")
			b.ReportMetric(nodes/1e6, "MB-of-bits")
		})
	}
}
