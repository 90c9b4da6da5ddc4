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
package kernel
