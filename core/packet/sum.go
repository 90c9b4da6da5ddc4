package packet

import (
	"crypto/sha256"
	"encoding/binary"
	"fmt"
	"io"
)

// A Sum stands for a decision outside of its Space.
type Sum [sha256.Size]byte

// Sums works out the sums of decisions of one Space. What it knows already it does not work out again.
type Sums struct {
	sp    *Space
	known map[ref]Sum
}

// NewSums begins with the decisions of a Space.
func NewSums(sp *Space) *Sums { return &Sums{sp, map[ref]Sum{}} }

// Of is a decision's sum: SHA-256 over its diagram, from the leaves up. Two decisions with the same sum
// do the same with every packet from now on, by Since: what they do with those of the past is left out, so
// that a sum is another only when something ends. The reverse holds where token buckets and unknowns were met in the same
// order, as for two readings of the same text: one that changed in no more than that may have another sum.
func (s *Sums) Of(d Decision) Sum { return s.of(ref(d)) }

// OfSet is a set's sum, likewise.
func (s *Sums) OfSet(set Set) Sum { return s.of(ref(set)) }

// of is the sum of one node.
func (s *Sums) of(r ref) Sum {
	if sum, ok := s.known[r]; ok {
		return sum
	}
	edges := s.sp.edgesTo(r)
	if len(edges) == 1 {
		return s.of(edges[0].to)
	}
	h := sha256.New()
	if n := s.sp.nodes[r]; n.field == leafField {
		o := s.sp.outcomes[n.first]
		_, _ = fmt.Fprintf(h, "%d %s %v %t %d", o.Verdict, o.Reply, o.Translated, o.Logged, o.By)
	} else {
		_, _ = io.WriteString(h, s.sp.spelled(n.field))
		for _, e := range edges {
			var at [16]byte
			binary.BigEndian.PutUint64(at[:8], e.hi.hi)
			binary.BigEndian.PutUint64(at[8:], e.hi.lo)
			to := s.of(e.to)
			_, _ = h.Write(at[:])
			_, _ = h.Write(to[:])
		}
	}
	var sum Sum
	h.Sum(sum[:0])
	s.known[r] = sum
	return sum
}

// edgesTo are the edges of a node that lead to packets of now or later; none of a leaf.
func (sp *Space) edgesTo(r ref) []edge {
	n := sp.nodes[r]
	if n.field == leafField {
		return nil
	}
	edges := sp.edgesOf(r)
	for n.field == Time && len(edges) > 1 && edges[0].hi.Compare(Num(int(sp.now))) < 0 {
		edges = edges[1:]
	}
	return edges
}

// spelled names a field so that it is the same in every Space: buckets and unknowns by what they are,
// users, groups, units and programs with the names that their numbers stand for so far.
func (sp *Space) spelled(f Field) string {
	switch {
	case f >= firstUnknown:
		return "unknown " + sp.unknowns[f-firstUnknown]
	case f >= firstRoom:
		return fmt.Sprintf("bucket %+v", sp.limits[f-firstRoom])
	case f == User || f == Group || f == Unit || f == Program:
		return fmt.Sprintf("%s of %q", f, sp.names[f-User])
	}
	return f.String()
}
