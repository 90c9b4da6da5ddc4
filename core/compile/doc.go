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
//
// # Why two computations
//
// The decision (decision.go) is a fold over the policy's statements in which no order appears: a
// packet is refused where a block speaks of it that no allow overrides, admitted where an allow
// speaks of it, and else fares as the stance says. The rules (order.go) are one way among many to tell
// a filter that. If one were made from the other, a mistake in it would be a mistake in both, and no
// proof could find it. As it is, a dialect writes the rules, reads back what it wrote as any listing,
// and that reading's decision must be the very handle of the plan's.
//
// # What a rule asks, and how often
//
// A rule's match is a product: interfaces, addresses, services, senders, times, in terms that every
// dialect has. How many lines a filter takes for one is up to package layout. A limit is a bucket
// that a host has once for each rule, whichever of its lines a packet takes: "at most 4 a minute" is
// meant of the rule.
//
// # What is on trial
//
// A stance or a block on trial refuses nothing, and writes down what it would refuse (trial.go). The
// plan then has a second meaning at the same end, the one when the trial is over; the two are
// worked out together, so that what is noted is exactly what would be refused.
//
// # Where to look
//
//   - compile.go: plans, chains, rules, and who decides;
//   - decision.go: what the policy means; order.go: the same as a list of rules;
//   - ground.go: what every host gets before any rule; match.go: what a rule asks of a packet;
//   - limit.go, trial.go, pause.go: rates and logs, trials, a filter that is paused;
//   - translate.go: redirects and masquerades;
//   - planner.go: hosts that are alike, and a plan for each kind.
package compile
