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
package reach
