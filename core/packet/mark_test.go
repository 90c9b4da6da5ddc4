package packet

import (
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/require"
)

// TestMarks holds what is asked of marks, and what is written on them, against
// the same worked out with numbers.
func TestMarks(t *testing.T) {
	rng := rand.New(rand.NewPCG(1, 2))
	number := func() uint32 { // a few bits, at either end of the word
		n := uint32(rng.IntN(16)) | uint32(rng.IntN(16))<<28
		if rng.IntN(4) == 0 {
			n = ^n
		}
		return n
	}
	type asked struct {
		m            Mark
		lo, hi, mask uint32
	}
	of := func(p Packet, m Mark) uint32 { return [2]uint32{p.Mark, p.ConnMark}[m] }
	for range 300 {
		sp := NewSpace()
		var questions []asked
		d, leaves := sp.Leaf(Outcome{Verdict: Drop}), []Outcome{{Verdict: Admit}, {Verdict: Reject}, {Verdict: Admit, Logged: true}}
		for _, o := range leaves {
			q := asked{m: Mark(rng.IntN(2)), lo: number(), hi: number(), mask: number()}
			if rng.IntN(2) == 0 {
				q.hi = q.lo
			} else if q.lo > q.hi {
				q.lo, q.hi = q.hi, q.lo
			}
			questions = append(questions, q)
			d = sp.Choose(sp.MarkedBetween(q.m, q.lo, q.hi, q.mask), sp.Leaf(o), d)
		}
		m := Marking{To: Mark(rng.IntN(2)), From: Mark(rng.IntN(2)), And: number(), Xor: number()}
		before := sp.Marking(d, m)
		for range 30 {
			p := somePacket(rng)
			p.Mark, p.ConnMark = number(), number()
			want := func(p Packet) (o Outcome) {
				o = Outcome{Verdict: Drop}
				for i, q := range questions {
					if n := of(p, q.m) & q.mask; q.lo <= n && n <= q.hi {
						o = leaves[i]
					}
				}
				return o
			}
			require.Equal(t, want(p), sp.Outcome(d, p))
			written := p
			if n := of(p, m.From)&m.And ^ m.Xor; m.To == OfPacket {
				written.Mark = n
			} else {
				written.ConnMark = n
			}
			require.Equal(t, want(written), sp.Outcome(before, p))
		}
		if s := sp.Marked(OfPacket, 5, 7); s != Empty {
			p, ok := sp.Example(s, nil)
			require.True(t, ok)
			require.Equal(t, uint32(5), p.Mark, "no bit is set that need not be")
			require.True(t, sp.Has(s, p))
			require.Equal(t, s, sp.Or(s, sp.Exactly(p)))
		}
		require.Equal(t, Empty, sp.Marked(OfPacket, 8, 7))
		unknown := sp.Marking(d, Marking{To: OfPacket, Unknown: "x"})
		require.Equal(t, unknown, sp.Marking(unknown, Marking{To: OfPacket, Unknown: "y"}), "what was there before is overwritten")
	}
}
