// Package iptables writes and reads the rules of the kernel's older filter: what
// iptables-restore takes and iptables-save prints, in both families, and sets.
//
//	files, err := iptables.Form{}.Write(sp, plan)
//	rules, err := iptables.Read(sp, packet.IPv4, name, dump, host)
//
// Our rules stand in chains of our own (Prefix), to which the kernel's chains jump first; what
// others have there stays behind (Over). A rule's comment says which statement it carries out.
// A set's name ends in a sum of what it holds, so that a set that rules name never changes.
//
// Reading is exact for the matches that forms.Matches lists as such. A match it does not know
// makes the rule's effect an unknown, never a guess.
//
// # Two kinds of tools
//
// The same commands exist over the older filter of the kernel (legacy) and over nf_tables. What either
// prints has one form, but not one meaning everywhere: an nft-backed table stands in nft's listing
// too, where most of it cannot be read, so that the tools' own dump counts (Dumps.Read). What our
// rules say both take alike.
//
// # Where to look
//
//   - write.go, words.go: chains and lines; settle.go: putting them beside what others have;
//   - dump.go, read.go: dumps, tables and chains; target.go: what a rule does;
//   - match.go, modules.go, addresses.go: what it asks, option by option;
//   - sets.go: what ipset prints.
//
// # What the tools print otherwise than they take
//
// Counters stand in front of lines or behind them, addresses with masks or lengths, protocols by name
// or number, all by the version of the tool. Reading takes all of these; writing keeps to the order in
// which the tools print, so that a dump of our rules can be held beside them line by line.
package iptables
