package packet

import (
	"slices"
	"testing"

	"github.com/stretchr/testify/require"
)

// TestSums: two Spaces give a decision one sum, however they came to it, and other decisions others.
func TestSums(t *testing.T) {
	made := func(port int, reply Reply, first bool) Sum {
		sp := NewSpace()
		if first { // what else a Space holds does not matter
			sp.Values(SrcPort, 7, 9)
		}
		parts := []Set{sp.Value(DstPort, port), sp.Unknown("the moon is full"), sp.Named(User, "ship")}
		if first {
			slices.Reverse(parts)
		}
		set := All
		for _, p := range parts {
			set = sp.And(set, p)
		}
		d := sp.FirstMatch([]Choice{{Match: set, Then: sp.Leaf(Outcome{Verdict: Admit})},
			{Match: All, Then: sp.Leaf(Outcome{Verdict: Reject, Reply: reply})}})
		return NewSums(sp).Of(d)
	}
	one := made(22, TCPReset, false)
	require.Equal(t, one, made(22, TCPReset, true))
	require.NotEqual(t, one, made(23, TCPReset, false))
	require.NotEqual(t, one, made(22, PortUnreachable, false))
}
