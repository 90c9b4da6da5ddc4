// Package apply puts rules in force by the kernel's own tools, all of them or none (Load), and
// keeps what was in force before so that it can be put back (TakeCopy, Copy). It knows nothing
// of time, of undoing or of the service: package host does.
//
// # All of it, or none
//
// Rules of nft are one transaction of the kernel's. Those of iptables are one for each family, and sets
// are none: sets come first, under names that say what they hold, so that the rules in force keep those
// that they ask; a family that is refused puts the other one back. A copy is taken by the tools' own
// words for it, with counts, and restores tables that others made, too.
//
// Which of the two kinds of iptables tools a host goes by is found out here (toolKind), since a host may
// have both and rules in either.
package apply
