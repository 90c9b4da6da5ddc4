// Package packet says what a packet is to a filter, and computes with sets of
// packets and with decisions over them, exactly and for all packets at once.
//
// A Set is a yes/no function of a packet, a Decision a function from packets to
// an Outcome. Both are handles into a Space, which stores each distinct function
// once, as a reduced ordered decision diagram: a node tests one field and has
// one edge for each run of values that lead to the same place. Two functions
// that agree on every packet are the same handle, so equality is ==.
//
//	sp := packet.NewSpace()
//	ssh := sp.And(sp.Value(packet.Protocol, 6), sp.Value(packet.DstPort, 22))
//	d := sp.Choose(ssh, sp.Leaf(packet.Outcome{Verdict: packet.Admit}), sp.Leaf(packet.Outcome{Verdict: packet.Drop}))
//
// What we cannot model is an unknown: a free yes/no field of its own, named
// after the thing not understood. A question whose answer still depends on an
// unknown has no certain answer; see Possible and Certain. Buckets, which admit so many
// packets in a time, are fields of the same kind: whether there is a token left
// (HasToken, WithinLimits, AnyRoom).
//
// A Space is for one goroutine. It grows with what it is asked and forgets nothing; bound it
// (Space.Bound, Budget) for anything that comes from outside, and Try turns what goes beyond
// the bound into an error. Where to look:
//
//   - space.go, algebra.go: nodes, and the operations on sets and decisions;
//   - outcomes.go, firstmatch.go: decisions, and many rules put over one another at once;
//   - fields.go: taking fields away, fixing them, asking which are used;
//   - box.go, simplify.go, packet.go: sets as people read them, and single packets as examples;
//   - circumstances.go, mark.go, rate.go: senders, times, marks and buckets.
//
// The diagrams are the multi-valued, interval-edged kin of those in R. E.
// Bryant, "Graph-Based Algorithms for Boolean Function Manipulation", IEEE
// Transactions on Computers C-35(8), 1986; interval edges as in M. Gouda and
// A. Liu, "Structured firewall design", Computer Networks 51(4), 2007.
//
// # Fields and their order
//
// A diagram tests fields in one order on every path, that of the Field constants: first the hook, the
// family and the protocol, which split packets coarsely; then the source, the port and the destination;
// then interfaces and states; marks, buckets and unknowns, which few rules ask, stand last. The order decides
// how large a diagram gets, and never what it means. Values of a field are numbers from 0 to its limit,
// up to 128 bits, and an edge is a run of them: a prefix or a range of ports costs an edge or two.
//
// # What operations cost
//
// A binary operation takes at most the product of the two diagrams' nodes; answers are kept in a cache in
// which a newer one may replace an older (algebra.go), so that what a Space remembers stays bounded. Putting
// a list of rules over one another one by one would copy all that is known so far for each rule;
// FirstMatch goes over all of them at once, value by value, which for rules that differ in their
// addresses takes time in proportion to what they say (firstmatch.go).
//
// Taking a field away (Exists) may make a diagram larger, and is done late and only where a question
// needs it. Simplify goes the other way: it gives the simplest function that agrees on the packets that
// matter, which is how rules are narrowed to a question.
//
// # Bounds
//
// A bound is on the edges of a Space, which is what takes its memory, and an operation that would go
// beyond it panics with a *TooComplexError; Try makes an error of that at the place where an answer is
// asked for. A Budget has a Halt as well, which is asked every so many nodes, so that work that nobody
// waits for any more ends soon. No other panic is caught.
package packet
