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
package packet
