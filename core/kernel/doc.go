// Package kernel is the rules that a kernel has in force, whoever wrote them and in
// whatever form they were listed, and what the kernel does with every packet when they are.
//
//	rules.Decision(sp)       // what becomes of every packet, exactly
//	rules.Attributed(sp)     // and which rule of the listing decides
//	rules.Signature(sp, ours) // equal for rules that mean the same, as written
//
// A Ruleset is chains at hooks, in the kernel's order, with rules that end, jump, mark or
// translate. Its Decision follows a packet over all hooks of its way: in (prerouting, input),
// out (output, postrouting) or through (prerouting, forward, postrouting), with what translation
// changes on the way, and with the host's routes where they matter (Routes).
//
// What a dump does not tell is an unknown of the packet.Space, by a sentence that says what is
// not known: which of two chains of one priority is first, or whether an address is the host's
// own. A decision that depends on one is uncertain, and those who show it say why.
//
// # How a decision is made
//
// The hooks of a way are worked out from the last to the first (evaluate.go). At the end of all ways
// stands "admitted"; each hook puts its chains in front of what the hooks behind it decide, so that a
// rule which accepts means: whatever comes after decides. What a packet is when it reaches a hook may
// be otherwise than when it came: marks are set, addresses translated, interfaces chosen by routes.
// A rule that changes a packet therefore asks the decision behind it for the changed packet, which is
// a substitution of fields in a diagram.
//
// What becomes of an entry into a chain depends on the chain, on what comes after it and on what an
// accepted packet meets next, and on nothing else: rules that agree in these share the work, however
// many of them jump there. Chains that call one another in a circle, which no kernel loads, are an
// unknown. Rules that end a packet's way whatever comes after them are put over the rest at once;
// one by one, each would copy all that is known so far.
//
// Where the kernel goes by something that no listing tells, there are two ways to go on, and the text
// of a finding always says which was taken:
//
//   - an unknown, where either answer is likely. Chains of one priority at one hook are tried in
//     every order, and only where that matters does the decision depend on it (hooks.go).
//   - a presumption, where one answer is rare and hides nothing that gets in: that a packet has no
//     extension header which a rule asks for (usual.go).
//
// # Where to look
//
//   - ruleset.go, chain.go: rulesets, chains and rules, and what a chain does with packets;
//   - evaluate.go, hooks.go: the way of a packet over hooks, and chains of one hook;
//   - redirected.go: connections whose address is translated, and what becomes of them;
//   - routes.go, links.go: what a host's routes and its bridges or VLANs say about interfaces;
//   - usual.go: what is presumed where a text leaves it open;
//   - names.go, unit.go: whom numbers of users and control groups stand for.
package kernel
