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
package iptables
