// Package compare tells two decisions apart: what a host's kernel does and
// what the policy means it to do. Where they differ, it says so in findings:
// one for each cause, with a packet that shows it and who decides at each side.
//
//	res := compare.Drift(sp, say.NamesOf(pol), plan, live)  // one host
//	res := compare.DriftSince(sp, names, stages, live)      // and what is only not settled yet
//	changes := compare.Policies(sp, before, after, now)     // two policies, on all hosts
//
// The difference of two decisions is three sets: what is opened, what is shut, and what is
// done otherwise (regions). These are split by who decides at either side, and each part is
// put down to a cause: to one thing where one does it all alone (blame.go), which is tried
// by putting it right, else to the rules that decide.
//
// A finding speaks of the packets that people mean (care), and is exact for those: it names
// all of them, and none that fares as it should. What it gives as a hint takes the finding
// away, which the tests hold against random changes of random policies.
//
// Large fleets are compared by what their hosts have in common: see Watch for hosts that
// are in step, and Lag for those that have what they were last asked for.
package compare
