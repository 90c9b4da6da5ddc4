// Package wave is the machine that puts a pair of policy and fleet in force over hosts, step
// by step. It is pure: it reads no database, asks no host and looks at no clock.
//
// Its state is an [api.Wave]. Whoever runs a wave goes round this loop:
//
//	needs := wave.NeedsOf(w)                   // what must be known for the next step
//	seen := observe(needs)                     // from the database, the hosts' answers, the policy
//	next, todo := wave.Next(w, seen, now)      // decide
//	store(next, todo)                          // in one transaction; then hosts get their tasks
//
// Each host goes from due to asked, in force, probed, keeping and kept. Where it does not come
// to that, the wave stops, and what is in force but not kept is undone. When all hosts of a step
// are kept, real connections are tried that show what the step has put in force (see Trials).
//
// What a person does to a wave is here too: [GoOn] and [Stop].
//
// # What may be relied on
//
// A step of the machine depends on nothing but its arguments: the same wave, the same observations and
// the same instant give the same next state and the same commands. Its tests are therefore sessions in
// files, and TestWhateverHappens takes steps with every observation there can be, in any order, and holds
// the machine to this: a host is never kept without the proof that its way in is open; no host is
// touched before those of the steps before are kept; a wave that has ended leaves no host in the middle
// of a change, and asks nobody anything any more.
//
// A stored wave can be stepped by any service. If two step it at once, one of the two transactions is
// refused, and that service looks again; tasks are stored in the same transaction as the state that
// waits for them.
//
// # Where to look
//
//   - wave.go: the loop, and what has to be known; steps.go: which hosts when;
//   - host.go, instance.go: the way of one host, and of an instance's groups;
//   - trials.go: connections that show what a step has put in force;
//   - end.go: going on and stopping; outage.go: silence that is the service's own.
package wave
