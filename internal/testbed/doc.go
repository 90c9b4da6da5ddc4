// Package testbed builds small networks out of the kernel's network namespaces
// and sends real packets through real rules. The demo's hosts live in it, and
// the tests hold what core says against what the kernel does.
//
//	ns, err := testbed.NewNamespace("yf-a")
//	err = ns.Load(rules)                     // by nft
//	verdicts, err := judge.Verdicts(packets) // what the kernel does with each
//
// A Judge sends packets of every kind that packet.Packet can say, with their state, marks and
// sender, and sees what comes out. The package starts MariaDB on loopback for tests, too
// (Database).
//
// It needs NET_ADMIN: Available says why not. Without it tests say loudly that they were
// skipped, and fail in CI.
package testbed
