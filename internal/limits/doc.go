// Package limits is the bounds of what the service takes from outside and of what that may
// cost, in one table (All). docs/limits.md is made from it, and a test of the service reaches
// each.
//
// # What a bound is for
//
// Each is several times what the largest fleet we know needs, and small enough that all of them reached
// at once do not starve the machine: number, size and time are bounded together. Whoever meets one is
// told which it was, and what would take less. A bound that only one package needs stands there.
package limits
