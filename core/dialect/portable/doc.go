// Package portable writes what a policy means for a host as a list of rules in
// an open form, for filters that are another system's, and reads such lists back.
//
//	files, err := portable.Form{}.Write(sp, plan)   // one file, JSON
//	rules, err := portable.Read(sp, document)       // as a ruleset like any other
//
// A list is tried in order, and the first rule that holds decides. It names no interfaces but
// categories of networks: which of them an interface is attached to the host finds out by its
// addresses, anew whenever they change. It can tell which program sends, by its path. It
// counts nothing: what a policy says of rates is refused.
//
// docs/portable.md describes the form for those who make a filter take it; internal/simhost is
// one that does.
//
// # Networks instead of interfaces
//
// The program that enforces a list runs on systems whose interfaces have names that nobody can know
// beforehand. The list therefore says networks by their prefixes, each a category; an attachment is
// of the category whose prefix holds its address, and the host's own loopback is one by itself. A rule
// on a segment asks for a category. A dump says which interfaces there were and which addresses they
// had, and Read finds their categories as the program does, so that its decision has the same fields as
// any other.
package portable
