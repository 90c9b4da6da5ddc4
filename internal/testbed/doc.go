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
//
// # How a verdict is found out
//
// A packet is sent as a frame with a tag in it, through interfaces that the rules know by name. It
// passes where the tag comes out at the other side, is rejected where an answer comes back that quotes
// it, and is dropped where neither does. For a state other than new the Judge first makes a connection
// of which the packet is a part, from frames of its own. Many packets are in flight at once: frames pass
// from end to end on the processor that sent them, in order, so that what has not come out a few
// milliseconds after the last was sent does not come.
//
// Where the kernel and our reading differ, the kernel is right: the case is kept as a test by the
// rules and the packet alone.
//
// # Where to look
//
//   - namespace.go, enforcer.go: networks; judge.go, frame.go, connection.go: packets and verdicts;
//   - database.go, mariadb.go: a database for tests.
package testbed
