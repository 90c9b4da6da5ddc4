// Package listeners holds what listens on a host against what its policy admits:
// who listens where nobody may come, and what is admitted where nobody listens.
//
//	notes := listeners.Compare(sp, plan, policy.Services, seen)
//
// A note is about one port of one protocol, and names the statements that admit it. Listeners
// that only the host itself can reach are left out.
package listeners
