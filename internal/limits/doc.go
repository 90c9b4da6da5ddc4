// Package limits is the bounds of what the service takes from outside and of what that may
// cost, in one table (All). docs/limits.md is made from it, and a test of the service reaches
// each.
package limits
