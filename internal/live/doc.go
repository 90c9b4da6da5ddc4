// Package live reads what hosts say they have in force: reports as they are
// sent, and files that people made of listings by hand; and judges them.
//
//	f := live.Sniff(name, data)                 // a file, by its ending and its text
//	rules, err := live.Read(sp, f)              // as one ruleset
//	res, err := live.Drift(stages, names, now, f, over)
//
// All of it comes from outside: nodes (Bound) and time (over) are bounded, and of what is too
// tangled to be held as a whole a part is told (compare.TooComplex).
//
// # Where to look
//
//   - live.go: what a file or a report holds, and reading it;
//   - drift.go: a host's rules held against what it is to have, within bounds;
//   - chains.go: rules in the order in which a packet meets them, and the sets that they name.
package live
