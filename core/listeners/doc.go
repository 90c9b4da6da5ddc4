// Package listeners holds what listens on a host against what its policy admits:
// who listens where nobody may come, and what is admitted where nobody listens.
//
//	notes := listeners.Compare(sp, plan, policy.Services, seen)
//
// A note is about one port of one protocol, and names the statements that admit it. Listeners
// that only the host itself can reach are left out.
//
// # What counts as reachable
//
// A listener is reachable where the plan admits new connections to its port and address from anywhere,
// over any interface but the loopback. That the sender's own filter may refuse the connection does not
// count: it may be opened tomorrow by somebody else. A listener is told with its program and its unit
// where the host says them, and each address that it listens on counts by itself: one that is meant and
// one that is not make it "too wide".
package listeners
