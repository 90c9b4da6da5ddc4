// Package reach works out what passes between the two ends of a policy: a
// connection passes when the sender's outbound and the receiver's inbound admit
// it. An end that is not ours admits everything.
//
//	r := reach.New(sp, pol, now)
//	for _, from := range r.Parties(rule.From) {
//		for _, to := range r.Parties(rule.To) {
//			d := r.Between(from, to) // what becomes of every packet between them
//		}
//	}
//
// A Party is hosts that are alike, or addresses that are nobody's of ours. Packets here have no
// hook: what either end sees is put together over addresses, services and senders. Redirects and
// masquerades of routers on the way are followed (redirects.go), and so are the routers that a
// rule goes through (routes.go).
//
// What a decision owes to whom is numbered the same for all ends: see Decider.
//
// # How two ends are put together
//
// An end's decision (compile.Plan) speaks of one host's packets with its interfaces. For a connection
// between two, each is asked over the interfaces by which the packet can come or go. Then both are
// put in a row: a packet that the sender
// refuses never arrives; of one that arrives the receiver decides. Routers on the way that are ours
// forward it, and have a say of their own (through.go).
//
// # What it costs
//
// Parties are classes of hosts, so that 10,000 hosts of 30 roles are about 30 parties at each end, and
// what passes between two of them is worked out once (between). About narrows it all to the packets
// that a question speaks of, which makes a question over a large fleet take as long as one over a small.
package reach
