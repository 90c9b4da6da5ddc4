package packet

import (
	"fmt"
	"slices"
)

// A Set is a set of packets: a handle into the Space it was made by. Sets of
// one Space are equal exactly when they hold the same packets.
type Set int32

// Empty and All are the same in every Space. Empty is the zero Set.
const (
	Empty Set = 0
	All   Set = 1
)

// A Decision maps every packet to an Outcome: a handle into the Space it was
// made by, equal to another exactly when all packets fare the same.
type Decision int32

// Void is the decision with no outcome for any packet. It is the zero Decision.
const Void Decision = 0

// ref is the place of a node in a Space. Sets and decisions are such places; two are equal
// exactly if they are the same one.
type ref = int32

// edge is where a node goes for a run of its field's values.
type edge struct {
	hi Value // the edge's highest value; it begins behind the edge before
	to ref
}

// node is one question of a diagram: a field, and for each of its values where to go. Nodes are
// hash-consed: there are never two with the same field and edges.
type node struct {
	field Field
	n     int32 // how many edges
	block int32 // where they are
	first int32 // index of the first edge in its block; for a leaf, of its outcome
	chain ref   // next node with the same hash bucket
}

// blockSize is how many edges are allocated at once: what is known is never copied.
const blockSize = 1 << 14

// A Space holds diagrams. It grows and is never pruned: use one for a piece of
// work and let it go. A Space must not be used by two goroutines at once.
type Space struct {
	// diagrams, append only
	nodes    []node
	blocks   [][]edge
	outcomes []Outcome
	unknowns []string
	limits   []Bucket
	names    [4][]string // of users, groups, units and programs

	// look-up, rebuilt as the above grow
	buckets   []ref
	leaves    map[Outcome]ref
	unknownOf map[string]Field
	roomOf    map[Bucket]Field
	numberOf  [4]map[string]int
	addrs     map[addrsKey]Set

	// results of earlier operations; may forget
	cache []cached

	// edges of nodes that are being made, those of the outermost first
	scratch []edge

	domain Set
	now    int64 // see Since

	bound int // how many edges there may be, 0 is any; see Bound
	used  int
	halt  func() error // see Halt
	ticks int

	idleSweep *sweep // that FirstMatch used last, nil while it runs
}

// cached is an entry of the cache of operations.
type cached struct {
	op      operation
	a, b, c ref
	result  ref
}

// NewSpace makes a Space with nothing in it and no bound: for what a program asks of itself.
// Work for others gets one from a Budget.
func NewSpace() *Space {
	sp := &Space{
		nodes:     make([]node, 0, 1024),
		buckets:   make([]ref, 1024),
		leaves:    map[Outcome]ref{},
		unknownOf: map[string]Field{},
		roomOf:    map[Bucket]Field{},
		numberOf:  [4]map[string]int{{}, {}, {}, {}},
		addrs:     map[addrsKey]Set{},
		cache:     make([]cached, 1<<12),
	}
	for i := range sp.buckets {
		sp.buckets[i] = -1
	}
	sp.Leaf(Outcome{})                  // Empty, Void
	sp.Leaf(Outcome{Verdict: inTheSet}) // All
	sp.domain = sp.wellFormed()
	return sp
}

// Leaf is the decision that gives every packet the same outcome. Outcomes that are == are one.
func (sp *Space) Leaf(o Outcome) Decision {
	if r, ok := sp.leaves[o]; ok {
		return Decision(r)
	}
	r := ref(len(sp.nodes))
	sp.nodes = append(sp.nodes, node{field: leafField, first: int32(len(sp.outcomes)), chain: -1})
	sp.outcomes = append(sp.outcomes, o)
	sp.leaves[o] = r
	return Decision(r)
}

// outcome gives a leaf's outcome.
func (sp *Space) outcome(r ref) Outcome { return sp.outcomes[sp.nodes[r].first] }

// edgesOf are the edges of a node, in the order of their values; the last reaches to the
// field's limit. They must not be changed.
func (sp *Space) edgesOf(r ref) []edge {
	n := &sp.nodes[r]
	return sp.blocks[n.block][n.first : n.first+n.n : n.first+n.n]
}

// make gives the node that tests field with these edges, which cover all of
// the field's values in order. Neighbours that lead to the same place are
// joined, a node with one edge is that edge's end, and equal nodes are one.
func (sp *Space) make(field Field, edges []edge) ref {
	// Here, because every operation comes by here: an answer nobody waits for any more ends soon.
	if sp.ticks++; sp.ticks&haltEvery == 0 && sp.halt != nil {
		if err := sp.halt(); err != nil {
			panic(&Halted{err})
		}
	}
	// Neighbouring runs that lead to the same place are one, and a node whose runs all do is none. With
	// that there is one node for each function, and equal functions are equal handles.
	out := edges[:1]
	for _, e := range edges[1:] {
		if last := &out[len(out)-1]; last.to == e.to {
			last.hi = e.hi
		} else {
			out = append(out, e)
		}
	}
	if len(out) == 1 {
		return out[0].to
	}
	// The same node may be there already.
	h := hash(field, out)
	slot := h & uint64(len(sp.buckets)-1)
	for r := sp.buckets[slot]; r >= 0; r = sp.nodes[r].chain {
		if n := &sp.nodes[r]; n.field == field && int(n.n) == len(out) && equalEdges(sp.edgesOf(r), out) {
			return r
		}
	}
	r := ref(len(sp.nodes))
	// The bound is on edges: nodes differ in size, and edges are what takes memory.
	if sp.used += len(out); sp.bound > 0 && sp.used > sp.bound {
		panic(&TooComplexError{sp.bound})
	}
	last := len(sp.blocks) - 1
	if last < 0 || cap(sp.blocks[last])-len(sp.blocks[last]) < len(out) {
		sp.blocks = append(sp.blocks, make([]edge, 0, max(blockSize, len(out))))
		last++
	}
	sp.nodes = append(sp.nodes, node{field, int32(len(out)), int32(last), int32(len(sp.blocks[last])), sp.buckets[slot]})
	sp.blocks[last] = append(sp.blocks[last], out...)
	sp.buckets[slot] = r
	if len(sp.nodes) > len(sp.buckets) {
		sp.grow()
	}
	return r
}

// TooComplexError is what becomes of a piece of work that would need more than Bound allows.
type TooComplexError struct{ Edges int }

// Error says what bound was met, in cases, as an operator may count them.
func (t *TooComplexError) Error() string {
	return fmt.Sprintf("too complex to decide exactly (more than %d million cases)", t.Edges/1_000_000)
}

// Bound limits what the Space may hold, in edges of its diagrams (an edge takes
// 24 bytes, and about as much again around it). Work that needs more panics with
// a *TooComplexError, which Try turns into an error.
func (sp *Space) Bound(edges int) { sp.bound = edges }

// haltEvery is how many nodes are looked up between two questions whether to go on; a power
// of two less one.
const haltEvery = 1<<12 - 1

// Halted is what becomes of a piece of work that Halt ended, with its reason.
type Halted struct{ Err error }

// Error is what the caller's Halt said.
func (h *Halted) Error() string { return h.Err.Error() }

// Unwrap is why the work ended.
func (h *Halted) Unwrap() error { return h.Err }

// Halt has work in the Space end when f gives an error: it is asked now and then. Work that
// ends panics with a *Halted, which Try turns into an error.
func (sp *Space) Halt(f func() error) { sp.halt = f }

// A Budget is what a piece of work may take. The zero Budget is as much as it needs.
type Budget struct {
	Edges int          // of diagrams, see Space.Bound
	Halt  func() error // why to end now, nil to go on; see Space.Halt
}

// Space makes a Space for a piece of work within the budget. What goes beyond it ends with a
// panic that Try takes for an error.
func (b Budget) Space() *Space {
	sp := NewSpace()
	sp.Bound(b.Edges)
	sp.Halt(b.Halt)
	return sp
}

// Check ends the work if it is to end now, where there is much to do and no Space at work. Call
// it in loops over hosts and rules.
func (b Budget) Check() {
	if b.Halt != nil {
		if err := b.Halt(); err != nil {
			panic(&Halted{err})
		}
	}
}

// Size is how many edges the Space holds: what a bound is given in. An edge takes about 24
// bytes.
func (sp *Space) Size() int { return sp.used }

// Try does a piece of work in Spaces with a Bound or a Halt. The error is a *TooComplexError
// or a *Halted.
func Try(work func()) (err error) {
	defer func() {
		switch r := recover().(type) {
		case nil:
		case *TooComplexError:
			err = r
		case *Halted:
			err = r
		default:
			panic(r)
		}
	}()
	work()
	return nil
}

// equalEdges says that two lists of edges of the same length are the same.
func equalEdges(a, b []edge) bool {
	for i := range a {
		if a[i] != b[i] {
			return false
		}
	}
	return true
}

// hash mixes a node's field and edges into the number that its bucket is found by (Fibonacci
// hashing; the constant is 2^64 divided by the golden ratio).
func hash(field Field, edges []edge) uint64 {
	const k = 0x9e3779b97f4a7c15
	h := uint64(field) * k
	for _, e := range edges {
		h = (h ^ e.hi.lo ^ e.hi.hi<<7 ^ e.hi.hi>>57 ^ uint64(e.to)<<40) * k
		h ^= h >> 29
	}
	return h
}

// Expect makes room for so many nodes at once, which is quicker than growing to it.
func (sp *Space) Expect(nodes int) {
	size := len(sp.buckets)
	for size < nodes && size < 1<<20 {
		size *= 2
	}
	if size > len(sp.buckets) {
		sp.nodes = slices.Grow(sp.nodes, size-len(sp.nodes))
		sp.growTo(size)
	}
}

// grow doubles the buckets, so that a bucket has two nodes at most on average.
func (sp *Space) grow() { sp.growTo(2 * len(sp.buckets)) }

// growTo lays the nodes out over so many buckets. The cache grows with them.
func (sp *Space) growTo(size int) {
	times := size / len(sp.buckets)
	sp.buckets = make([]ref, size)
	for i := range sp.buckets {
		sp.buckets[i] = -1
	}
	for r := range sp.nodes {
		n := &sp.nodes[r]
		if n.field == leafField {
			continue
		}
		slot := hash(n.field, sp.edgesOf(ref(r))) & uint64(len(sp.buckets)-1)
		n.chain, sp.buckets[slot] = sp.buckets[slot], ref(r)
	}
	if wider := min(times*len(sp.cache), 1<<20); wider > len(sp.cache) {
		sp.cache = make([]cached, wider)
	}
}

// Ranges is the set of packets whose field lies in one of the ranges. They may
// overlap and stand in any order.
func (sp *Space) Ranges(field Field, ranges []Range) Set {
	sorted := ranges
	if len(ranges) > 1 {
		sorted = slices.Clone(ranges)
		slices.SortFunc(sorted, func(a, b Range) int { return a.Lo.Compare(b.Lo) })
	}
	var room [8]edge
	edges := room[:0]
	next, limit := Value{}, field.Limit() // next is the first value not covered yet
	full := false
	for _, r := range sorted {
		if r.Hi.Compare(next) < 0 {
			continue
		}
		if r.Lo.Compare(next) > 0 {
			edges = append(edges, edge{r.Lo.Prev(), ref(Empty)})
		}
		edges = append(edges, edge{r.Hi, ref(All)})
		if r.Hi.Compare(limit) >= 0 {
			full = true
			break
		}
		next = r.Hi.Next()
	}
	if !full {
		edges = append(edges, edge{limit, ref(Empty)})
	}
	return Set(sp.make(field, edges))
}

// Range is the set of packets whose field lies between lo and hi, both included. It is for
// fields of small numbers; Ranges takes any values.
func (sp *Space) Range(field Field, lo, hi int) Set {
	return sp.Ranges(field, []Range{{Num(lo), Num(hi)}})
}

// Value is the set of packets whose field is n.
func (sp *Space) Value(field Field, n int) Set { return sp.Range(field, n, n) }

// Values is the set of packets whose field is one of ns. Neighbours become one run.
func (sp *Space) Values(field Field, ns ...int) Set {
	ranges := make([]Range, len(ns))
	for i, n := range ns {
		ranges[i] = Range{Num(n), Num(n)}
	}
	return sp.Ranges(field, ranges)
}

// Loopback is the packets that come or go by the interface lo: what a host says to itself.
func (sp *Space) Loopback() Set {
	return sp.Or(sp.Interfaces(InIface, "lo"), sp.Interfaces(OutIface, "lo"))
}

// Interfaces is the set of packets whose InIface or OutIface is one of names;
// a name that ends in * stands for all that begin with what is before it.
func (sp *Space) Interfaces(field Field, names ...string) Set {
	ranges := make([]Range, len(names))
	for i, name := range names {
		ranges[i] = InterfaceRange(name)
	}
	return sp.Ranges(field, ranges)
}

// Unknown is the set of packets for which a thing that we do not model holds.
// The same name is the same thing.
func (sp *Space) Unknown(name string) Set {
	f, ok := sp.unknownOf[name]
	if !ok {
		f = firstUnknown + Field(len(sp.unknowns))
		if f >= leafField {
			panic(fmt.Sprintf("packet: more than %d unknowns", leafField-firstUnknown))
		}
		sp.unknowns = append(sp.unknowns, name)
		sp.unknownOf[name] = f
	}
	return sp.Value(f, 1)
}

// WellFormed is the set of packets that can be: with addresses of their
// family, with those interfaces that their hook has, and within what Since and
// Without have said. What is sent is cut to pieces only after it was filtered.
func (sp *Space) WellFormed() Set { return sp.domain }

// wellFormed works out WellFormed, once for a Space.
func (sp *Space) wellFormed() Set {
	short := func(f Field) Set { return sp.Ranges(f, []Range{{Value{}, Num(1<<32 - 1)}}) }
	family := sp.Or(sp.Value(Family, IPv6), sp.AndAll(sp.Value(Family, IPv4), short(Src), short(Dst)))
	none := func(f Field) Set { return sp.Interfaces(f, "") }
	hook := sp.OrAll(
		sp.AndAll(sp.Value(Hook, In), sp.Not(none(InIface)), none(OutIface)),
		sp.AndAll(sp.Value(Hook, Out), none(InIface), sp.Not(none(OutIface)), sp.Value(Fragment, Whole)),
		sp.AndAll(sp.Value(Hook, Through), sp.Not(none(InIface)), sp.Not(none(OutIface))))
	return sp.And(family, hook)
}
