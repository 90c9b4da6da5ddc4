package packet

import (
	"math/big"
	"slices"
)

// fieldsOf are the fields that anything below a node asks for.
func (sp *Space) fieldsOf(r ref) map[Field]bool {
	used := map[Field]bool{}
	for n := range sp.reached(r) {
		used[sp.nodes[n].field] = true
	}
	return used
}

// DependsOn says that what becomes of some packet depends on a field of it. Diagrams are
// reduced: a field that makes no difference is in none.
func (sp *Space) DependsOn(d Decision, field Field) bool { return sp.fieldsOf(ref(d))[field] }

// reached is all nodes of r's diagram, leaves included.
func (sp *Space) reached(r ref) map[ref]bool {
	seen := map[ref]bool{}
	var walk func(ref)
	walk = func(r ref) {
		if seen[r] {
			return
		}
		seen[r] = true
		if sp.nodes[r].field == leafField {
			return
		}
		for _, e := range sp.edgesOf(r) {
			walk(e.to)
		}
	}
	walk(r)
	return seen
}

// Exists is the packets that would be in s with some values of fields: s
// without what it says of them.
func (sp *Space) Exists(s Set, fields ...Field) Set {
	last := slices.Max(fields)
	done := map[ref]ref{}
	var forget func(r ref) ref
	forget = func(r ref) ref {
		f := sp.nodes[r].field
		if f > last {
			return r
		}
		if to, ok := done[r]; ok {
			return to
		}
		to := ref(Empty)
		if slices.Contains(fields, f) {
			for _, e := range sp.edgesOf(r) {
				to = sp.binary(opOr, to, forget(e.to))
			}
		} else {
			edges := append([]edge(nil), sp.edgesOf(r)...)
			for i := range edges {
				edges[i].to = forget(edges[i].to)
			}
			to = sp.make(f, edges)
		}
		done[r] = to
		return to
	}
	return Set(forget(ref(s)))
}

// ProjectOnto is s without what it says of any fields but these: the packets that have these
// fields as some packet of s has.
func (sp *Space) ProjectOnto(s Set, fields ...Field) Set {
	var others []Field
	for f := range sp.fieldsOf(ref(s)) {
		if f != leafField && !slices.Contains(fields, f) {
			others = append(others, f)
		}
	}
	if others == nil {
		return s
	}
	return sp.Exists(s, others...)
}

// Count is how many combinations of values of some fields packets of s have.
// (Addresses of the two families are told apart by Family.)
func (sp *Space) Count(s Set, fields ...Field) *big.Int {
	fields = slices.Sorted(slices.Values(fields))
	s = sp.ProjectOnto(sp.And(s, sp.domain), fields...)
	type place struct {
		r ref
		i int
	}
	known := map[place]*big.Int{}
	var count func(r ref, i int) *big.Int // of the fields from i on
	count = func(r ref, i int) *big.Int {
		if r == ref(Empty) {
			return new(big.Int)
		}
		if i == len(fields) {
			return big.NewInt(1)
		}
		if n, ok := known[place{r, i}]; ok {
			return n
		}
		var room [1]edge
		n, below := new(big.Int), big.NewInt(-1)
		for _, e := range sp.branches(r, fields[i], &room) {
			hi := e.hi.big()
			n.Add(n, new(big.Int).Mul(count(e.to, i+1), new(big.Int).Sub(hi, below)))
			below = hi
		}
		known[place{r, i}] = n
		return n
	}
	return count(ref(s), 0)
}

// Restrict is what d is for packets with one value of a field, said of packets
// whatever they have there.
func (sp *Space) Restrict(d Decision, field Field, v Value) Decision {
	done := map[ref]ref{}
	var restrict func(r ref) ref
	restrict = func(r ref) ref {
		f := sp.nodes[r].field
		if f > field {
			return r
		}
		if to, ok := done[r]; ok {
			return to
		}
		edges := append([]edge(nil), sp.edgesOf(r)...)
		var to ref
		if f == field {
			for _, e := range edges {
				if v.Compare(e.hi) <= 0 {
					to = e.to
					break
				}
			}
		} else {
			for i := range edges {
				edges[i].to = restrict(edges[i].to)
			}
			to = sp.make(f, edges)
		}
		done[r] = to
		return to
	}
	return Decision(restrict(ref(d)))
}

// Simplify gives a set that is s on every packet of care and whatever is
// simplest on the rest (O. Coudert and J. C. Madre, "A Unified Framework for
// the Formal Verification of Sequential Circuits", ICCAD 1990: restrict).
func (sp *Space) Simplify(s, care Set) Set {
	const dontCare = ref(-1)
	done := map[[2]ref]ref{}
	var simplify func(r, care ref) ref
	simplify = func(r, care ref) ref {
		switch {
		case care == ref(Empty):
			return dontCare
		case care == ref(All) || sp.nodes[r].field == leafField:
			return r
		}
		key := [2]ref{r, care}
		if to, ok := done[key]; ok {
			return to
		}
		field := sp.nodes[r].field
		var to ref
		if asked := sp.nodes[care].field; asked < field {
			to = simplify(r, ref(sp.Exists(Set(care), asked)))
		} else {
			// A run nobody cares about goes with the one before it, the first
			// with the first that somebody cares about.
			to = sp.zip(field, r, care, ref(Empty), func(r, care, _ ref) ref { return simplify(r, care) }, func(edges []edge) {
				last := dontCare
				for _, e := range edges {
					if last = e.to; last != dontCare {
						break
					}
				}
				for i := range edges {
					if edges[i].to == dontCare {
						edges[i].to = last
					}
					last = edges[i].to
				}
			})
		}
		done[key] = to
		return to
	}
	if to := simplify(ref(s), ref(care)); to != dontCare {
		return Set(to)
	}
	return Empty
}
