package packet

import (
	"math/big"
	"slices"
)

type operation uint8

const (
	opNone operation = iota // the zero cache entry answers nothing
	opAnd
	opOr
	opMinus
	opChoose
	opPossible
	opOver
)

// And is the packets in both.
func (sp *Space) And(a, b Set) Set { return Set(sp.binary(opAnd, ref(a), ref(b))) }

// Or is the packets in either.
func (sp *Space) Or(a, b Set) Set { return Set(sp.binary(opOr, ref(a), ref(b))) }

// Minus is the packets in a and not in b.
func (sp *Space) Minus(a, b Set) Set { return Set(sp.binary(opMinus, ref(a), ref(b))) }

// Not is the packets not in a.
func (sp *Space) Not(a Set) Set { return sp.Minus(All, a) }

// AndAll is the packets in every one of sets; All if there are none. Those that
// test later fields are joined first, so that what is there is built upon.
func (sp *Space) AndAll(sets ...Set) Set {
	r := All
	var room [8]Set
	left := append(room[:0], sets...)
	for len(left) > 0 {
		deepest := 0
		for i, s := range left {
			if sp.nodes[s].field > sp.nodes[left[deepest]].field {
				deepest = i
			}
		}
		r = sp.onto(left[deepest], r)
		left = slices.Delete(left, deepest, deepest+1)
	}
	return r
}

// onto is s and r: where s asks for one field alone, and r for later ones, its node is
// put before that of r at once.
func (sp *Space) onto(s, r Set) Set {
	n := &sp.nodes[s]
	if n.field >= sp.nodes[r].field || n.field == leafField {
		return sp.And(s, r)
	}
	var room [8]edge
	edges := room[:0]
	for _, e := range sp.edgesOf(ref(s)) {
		switch e.to {
		case ref(All):
			e.to = ref(r)
		case ref(Empty):
		default:
			return sp.And(s, r)
		}
		edges = append(edges, e)
	}
	return Set(sp.make(n.field, edges))
}

// OrAll is the packets in any of sets. It joins them in pairs of pairs, which
// keeps the intermediate diagrams small.
func (sp *Space) OrAll(sets ...Set) Set {
	switch len(sets) {
	case 0:
		return Empty
	case 1:
		return sets[0]
	}
	half := len(sets) / 2
	return sp.Or(sp.OrAll(sets[:half]...), sp.OrAll(sets[half:]...))
}

// Within says that every packet of a is in b.
func (sp *Space) Within(a, b Set) bool { return sp.Minus(a, b) == Empty }

// Choose is the decision that fares as then for packets in s and as otherwise for the rest.
func (sp *Space) Choose(s Set, then, otherwise Decision) Decision {
	return Decision(sp.choose(ref(s), ref(then), ref(otherwise)))
}

// Over is a where a has an outcome, and b for the rest.
func (sp *Space) Over(a, b Decision) Decision { return Decision(sp.over(ref(a), ref(b))) }

func (sp *Space) over(a, b ref) ref {
	switch {
	case a == ref(Void) || a == b:
		return b
	case b == ref(Void) || sp.nodes[a].field == leafField:
		return a
	}
	if e, ok := sp.lookup(opOver, a, b, 0); ok {
		return e.result
	}
	field := min(sp.nodes[a].field, sp.nodes[b].field)
	return sp.remember(opOver, a, b, 0, sp.zip(field, a, b, ref(Empty), func(a, b, _ ref) ref { return sp.over(a, b) }))
}

// Only is d for packets in s, and nothing for the rest.
func (sp *Space) Only(d Decision, s Set) Decision { return sp.Choose(s, d, Void) }

func (sp *Space) lookup(op operation, a, b, c ref) (*cached, bool) {
	h := (uint64(op)<<58 ^ uint64(a)<<40 ^ uint64(b)<<20 ^ uint64(c)) * 0x9e3779b97f4a7c15
	e := &sp.cache[h>>32&uint64(len(sp.cache)-1)]
	return e, e.op == op && e.a == a && e.b == b && e.c == c
}

func (sp *Space) remember(op operation, a, b, c, result ref) ref {
	e, _ := sp.lookup(op, a, b, c) // again: the cache may have grown meanwhile
	*e = cached{op, a, b, c, result}
	return result
}

func (sp *Space) binary(op operation, a, b ref) ref {
	const no, yes = ref(Empty), ref(All)
	switch op {
	case opAnd:
		switch {
		case a == no || b == no:
			return no
		case a == yes || a == b:
			return b
		case b == yes:
			return a
		}
	case opOr:
		switch {
		case a == yes || b == yes:
			return yes
		case a == no || a == b:
			return b
		case b == no:
			return a
		}
	case opMinus:
		switch {
		case a == no || b == yes || a == b:
			return no
		case b == no:
			return a
		}
	}
	if op != opMinus && a > b {
		a, b = b, a
	}
	if e, ok := sp.lookup(op, a, b, 0); ok {
		return e.result
	}
	field := min(sp.nodes[a].field, sp.nodes[b].field)
	return sp.remember(op, a, b, 0, sp.zip(field, a, b, ref(Empty), func(a, b, _ ref) ref { return sp.binary(op, a, b) }))
}

// zip makes the node for field over the common runs of three diagrams, each
// leading where f says for the three places they lead to; finish may
// put the edges right before they are made a node.
func (sp *Space) zip(field Field, a, b, c ref, f func(a, b, c ref) ref, finish ...func([]edge)) ref {
	var all [3][1]edge
	x, y, z := sp.branches(a, field, &all[0]), sp.branches(b, field, &all[1]), sp.branches(c, field, &all[2])
	base := len(sp.scratch) // what is made below ends before it goes on here
	for i, j, k := 0, 0, 0; i < len(x); {
		hi := x[i].hi
		if y[j].hi.Compare(hi) < 0 {
			hi = y[j].hi
		}
		if z[k].hi.Compare(hi) < 0 {
			hi = z[k].hi
		}
		to := f(x[i].to, y[j].to, z[k].to)
		sp.scratch = append(sp.scratch, edge{hi, to})
		if x[i].hi == hi {
			i++
		}
		if y[j].hi == hi {
			j++
		}
		if z[k].hi == hi {
			k++
		}
	}
	for _, mend := range finish {
		mend(sp.scratch[base:])
	}
	made := sp.make(field, sp.scratch[base:])
	sp.scratch = sp.scratch[:base]
	return made
}

// branches gives r's edges for field: its own, or one that covers everything, for which it needs a place.
func (sp *Space) branches(r ref, field Field, all *[1]edge) []edge {
	if sp.nodes[r].field == field {
		return sp.edgesOf(r)
	}
	all[0] = edge{field.Limit(), r}
	return all[:]
}

func (sp *Space) choose(s, then, otherwise ref) ref {
	switch {
	case s == ref(All) || then == otherwise:
		return then
	case s == ref(Empty):
		return otherwise
	}
	if e, ok := sp.lookup(opChoose, s, then, otherwise); ok {
		return e.result
	}
	field := min(sp.nodes[s].field, sp.nodes[then].field, sp.nodes[otherwise].field)
	return sp.remember(opChoose, s, then, otherwise, sp.zip(field, s, then, otherwise, sp.choose))
}

// rebuild gives the diagram of r with its leaves replaced; each node once.
func (sp *Space) rebuild(r ref, done map[ref]ref, leaf func(ref) ref) ref {
	if to, ok := done[r]; ok {
		return to
	}
	var to ref
	if n := sp.nodes[r]; n.field == leafField {
		to = leaf(r)
	} else {
		edges := append([]edge(nil), sp.edgesOf(r)...)
		for i := range edges {
			edges[i].to = sp.rebuild(edges[i].to, done, leaf)
		}
		to = sp.make(n.field, edges)
	}
	done[r] = to
	return to
}

// Map is d with every outcome replaced by f of it. Packets without an outcome stay without.
func (sp *Space) Map(d Decision, f func(Outcome) Outcome) Decision {
	return Decision(sp.rebuild(ref(d), map[ref]ref{}, func(r ref) ref {
		if r == ref(Void) {
			return r
		}
		return ref(sp.Leaf(f(sp.outcome(r))))
	}))
}

// Where is the packets whose outcome in d fulfils f. Packets without an outcome never do.
func (sp *Space) Where(d Decision, f func(Outcome) bool) Set {
	return Set(sp.rebuild(ref(d), map[ref]ref{}, func(r ref) ref {
		if r != ref(Void) && f(sp.outcome(r)) {
			return ref(All)
		}
		return ref(Empty)
	}))
}

// Parts are the packets that a decision owes to each By, by that number: as Where gives
// them, for all at once.
func (sp *Space) Parts(d Decision) map[int32]Set {
	done := map[ref]map[int32]ref{}
	var parts func(r ref) map[int32]ref
	parts = func(r ref) map[int32]ref {
		if all, ok := done[r]; ok {
			return all
		}
		out := map[int32]ref{}
		if sp.nodes[r].field == leafField {
			out[sp.outcome(r).By] = ref(All)
		} else {
			field, edges := sp.nodes[r].field, append([]edge(nil), sp.edgesOf(r)...)
			of := map[int32][]edge{}
			for i, e := range edges {
				for by, to := range parts(e.to) {
					mine := of[by]
					if mine == nil {
						mine = append([]edge(nil), edges...)
						for k := range mine {
							mine[k].to = ref(Empty)
						}
						of[by] = mine
					}
					mine[i].to = to
				}
			}
			for by, mine := range of {
				out[by] = sp.make(field, mine)
			}
		}
		done[r] = out
		return out
	}
	out := map[int32]Set{}
	for by, to := range parts(ref(d)) {
		out[by] = Set(to)
	}
	return out
}

// Outcomes lists the outcomes that d gives to some packet, in the order in which the Space first saw them.
func (sp *Space) Outcomes(d Decision) (out []Outcome) {
	reached := sp.reached(ref(d))
	for i := range sp.outcomes {
		if o := sp.outcomes[i]; i > 0 && reached[sp.leaves[o]] {
			out = append(out, o)
		}
	}
	return out
}

// Differ is the packets that fare differently in a and b.
func (sp *Space) Differ(a, b Decision) Set {
	memo := map[[2]ref]ref{}
	var differ func(a, b ref) ref
	differ = func(a, b ref) ref {
		if a == b {
			return ref(Empty)
		}
		field := min(sp.nodes[a].field, sp.nodes[b].field)
		if field == leafField {
			return ref(All)
		}
		if r, ok := memo[[2]ref{a, b}]; ok {
			return r
		}
		r := sp.zip(field, a, b, ref(Empty), func(a, b, _ ref) ref { return differ(a, b) })
		memo[[2]ref{a, b}] = r
		return r
	}
	return Set(differ(ref(a), ref(b)))
}

// Possible is the packets that are in s for some answer to the unknowns.
func (sp *Space) Possible(s Set) Set { return Set(sp.possible(ref(s))) }

func (sp *Space) possible(r ref) ref {
	field := sp.nodes[r].field
	switch {
	case field == leafField:
		return r
	case field >= firstUnknown:
		return ref(All) // reduced: a node here leads to All for some answer
	}
	if e, ok := sp.lookup(opPossible, r, 0, 0); ok {
		return e.result
	}
	edges := append([]edge(nil), sp.edgesOf(r)...)
	for i := range edges {
		edges[i].to = sp.possible(edges[i].to)
	}
	return sp.remember(opPossible, r, 0, 0, sp.make(field, edges))
}

// Answered is a decision once an unknown is answered.
func (sp *Space) Answered(d Decision, unknown string, yes bool) Decision {
	answer := map[bool]int{true: 1, false: 0}[yes]
	sp.Unknown(unknown) // it may be a new one
	return sp.Restrict(d, sp.unknownOf[unknown], Num(answer))
}

// Certain is the packets that are in s whatever the answers to the unknowns.
func (sp *Space) Certain(s Set) Set { return sp.Not(sp.Possible(sp.Not(s))) }

// UnknownsOf names the unknowns that s depends on.
func (sp *Space) UnknownsOf(s Set) []string {
	used := sp.fieldsOf(ref(s))
	var names []string
	for i, name := range sp.unknowns {
		if used[firstUnknown+Field(i)] {
			names = append(names, name)
		}
	}
	return names
}

// UnknownFields are the fields of all unknowns so far, as Exists takes them.
func (sp *Space) UnknownFields() (fields []Field) {
	for i := range sp.unknowns {
		fields = append(fields, firstUnknown+Field(i))
	}
	return fields
}

func (sp *Space) fieldsOf(r ref) map[Field]bool {
	used := map[Field]bool{}
	for n := range sp.reached(r) {
		used[sp.nodes[n].field] = true
	}
	return used
}

// DependsOn says that what becomes of some packet depends on a field of it.
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

// ProjectOnto is s without what it says of any fields but these.
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
