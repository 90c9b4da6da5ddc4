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
//
// # Lines, boxes and ports
//
// A match may ask for many addresses and many ports at once, where a line of a filter can ask for one
// product of them. boxes (box.go) takes a match apart into as few products as there are; a form that
// has sets by name takes any number of addresses in one line, one without takes a line for each.
//
// A chain of many rules is slow where a packet goes past all of them. byPort (byport.go) moves lines
// that admit by a port into chains of their own, which a single look-up by port finds: what a new
// connection costs then does not grow with the number of rules. It takes runs of lines that only
// accept, one after the other; among those the order does not matter. Where a form cannot look a port
// up, ranges of ports take the place of the look-up, about as many as there are lines behind each.
//
// What must be asked once for all lines of a rule (its bucket, or that of its log) is asked in a chain
// that all of them jump to (asksOnce).
package layout
