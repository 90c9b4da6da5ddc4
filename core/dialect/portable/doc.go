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
package portable
