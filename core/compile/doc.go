// Package compile turns a policy and a fleet into what each host's filter must
// do: its decision over all packets, and the ordered rules that make a
// first-match filter come to that decision.
//
//	plan := compile.ForHost(sp, pol, host, now)
//	plan.Decision(sp)         // what the policy means, held exactly
//	plan.Chains[0].Rules      // how a filter is told so
//
// The two are made separately: the decision from the policy's own meaning,
// where order never decides, the rules by an ordering of it (order.go). That they agree
// is tested, and is what a dialect's proof rests on.
//
// A plan has up to three chains, one for each direction in which a role of the host has a
// stance. In each the ground comes first, then allows that are exceptions to blocks, then the
// blocks, then all other allows, and at the end the stance (end.order). A rule that is not
// in force at the instant the plan is for is not in it; one that will begin or end carries
// its times into the kernel.
//
// Hosts that are alike have the same plan but for their addresses: Classes tells which are,
// and a Planner makes each plan once. A plan never changes once it is made.
package compile
