package packet

import (
	"slices"
)

// operation names a cached operation. Answers of one operation never serve another, because the
// operation is part of the key.
type operation uint8

// The operations whose answers are cached.
const (
	opNone operation = iota // the zero cache entry answers nothing
	opAnd
	opOr
	opMinus
	opChoose
	opPossible
	opOver
)

// And is the packets in both. As with all operations on two sets the cost is at most the
// product of their nodes; answers are cached.
func (sp *Space) And(a, b Set) Set { return Set(sp.binary(opAnd, ref(a), ref(b))) }

// Or is the packets in either.
func (sp *Space) Or(a, b Set) Set { return Set(sp.binary(opOr, ref(a), ref(b))) }

// Minus is the packets in a and not in b.
func (sp *Space) Minus(a, b Set) Set { return Set(sp.binary(opMinus, ref(a), ref(b))) }

// Not is the packets not in a. Not all of them can be: see WellFormed.
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

// Within says that every packet of a is in b. It is how one asks whether a set is covered;
// whether two are the same is ==.
func (sp *Space) Within(a, b Set) bool { return sp.Minus(a, b) == Empty }

// Choose is the decision that fares as then for packets in s and as otherwise for the rest. A
// first-match list is Choose from its last rule up; FirstMatch does that for many rules at
// once, in less time.
func (sp *Space) Choose(s Set, then, otherwise Decision) Decision {
	return Decision(sp.choose(ref(s), ref(then), ref(otherwise)))
}

// Over is a where a has an outcome, and b for the rest. A decision has none where nothing was
// said of a packet (Void, Only).
func (sp *Space) Over(a, b Decision) Decision { return Decision(sp.over(ref(a), ref(b))) }

// over is the union of two partial decisions: where a says nothing (Void), b decides. It is
// what FirstMatch puts its choices together with.
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

// Only is d for packets in s, and nothing for the rest: two decisions do the same for s exactly
// if Only of both is the same handle.
func (sp *Space) Only(d Decision, s Set) Decision { return sp.Choose(s, d, Void) }

// lookup finds the cache entry for an operation on a, b and c, and says whether it holds that
// answer. Each key has one place, so that a newer answer replaces an older one: the cache never
// grows beyond its size, and what it has lost is worked out again.
func (sp *Space) lookup(op operation, a, b, c ref) (*cached, bool) {
	h := (uint64(op)<<58 ^ uint64(a)<<40 ^ uint64(b)<<20 ^ uint64(c)) * 0x9e3779b97f4a7c15
	e := &sp.cache[h>>32&uint64(len(sp.cache)-1)]
	return e, e.op == op && e.a == a && e.b == b && e.c == c
}

// remember puts an answer into the cache and returns it.
func (sp *Space) remember(op operation, a, b, c, result ref) ref {
	e, _ := sp.lookup(op, a, b, c) // again: the cache may have grown meanwhile
	*e = cached{op, a, b, c, result}
	return result
}

// binary is the intersection, union or difference of two sets, by Bryant's apply (1986): the
// answer for constants at once, for all else edge by edge of the topmost field, with each pair
// of nodes looked at once.
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

// choose is `then` where s holds and `otherwise` elsewhere. It is the if-then-else that all
// other operations on decisions can be said with.
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
