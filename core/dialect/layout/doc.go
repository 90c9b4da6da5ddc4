// Package layout lays a plan out as lines, for filters that try rules in order: a line is one
// product of interfaces, addresses, protocol and ports, in one family, with one end. Two writers
// use it, nft's and iptables', and only put lines into words.
//
//	chains := layout.Options{Family: policy.AnyFamily, ByPort: 8}.Lines(sp, plan)
//	chains[0].Lines[0].Rule(sp, dir, ruleset, at, text)  // the line as a kernel's rule
//
// Options say what a form can say in one line; what it cannot takes several, or a chain of its
// own to jump to: exceptions of blocks, what is on trial, what is translated, and many lines that
// differ in their port alone (byport.go).
package layout
