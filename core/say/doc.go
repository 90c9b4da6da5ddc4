// Package say puts packets into people's words: addresses by the names that a policy and
// its fleet have for them, services by protocol and port, and whatever else tells packets
// apart. Names knows a policy's names; Traffic is a set of packets as data, whose String is
// what a sentence says of it, and which Allow turns into a statement of the policy.
//
//	names := say.NamesOf(pol)
//	names.Traffic(sp, set, packet.In).String() // "tcp 5432 from hill-lan (IPv4)"
//
// # Exact, or said not to be
//
// What a Traffic says is exact for packets that people mean: it names all of the set and nothing
// besides. Where that would take more names than anybody reads, the last of a list says how many more
// there are (Addresses.Unnamed), and whoever makes a sentence of it says "among others". A name is
// chosen by how much of the set it calls: a wide one first, with what it is to be without, as in
// "hill-lan except depot"; what no name calls is an address, a prefix or a range.
//
// Allow turns the same data into a rule of the language, printed by fence.Line. A hint that a finding
// gives is such a rule, so that it can be pasted into a policy and be read.
//
// # Where to look
//
//   - names.go, addresses.go: names for addresses; traffic.go: services and peers, and rules of them;
//   - besides.go: marks, states, interfaces and flags, where they are not the usual;
//   - manner.go: what is done with the packets, and how much at most.
package say
