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
//
// # From a difference to findings
//
//  1. Decisions. The kernel's (kernel.Ruleset.Attributed) and the plan's are put over one another.
//     Where they are the same handle there is nothing to find, whatever the texts look like.
//  2. Regions. Packets that fare otherwise are split by how: opened, shut, altered; and by who decides
//     on either side (cause.go).
//  3. Blame. For an example of each region, one thing after another is put right in a copy of the
//     rules in force, and the exact decision asked again: a rule taken away, one put back, an order
//     restored. The first single thing that puts the packet right is to blame (blame.go). Causes
//     with the same blame are one finding.
//  4. Words. The packets of a finding are said by package say: all that it is about, and nothing
//     that fares as it should (finding.go, sentence.go). What cannot be said in few words is said to
//     be "among others".
//  5. Order. Openings come before what is shut, wide ones before narrow ones, and what hardly
//     anybody sends stands last, in one line.
//
// # Between published, asked and in force
//
// A host that was asked for an earlier pair than the newest has differences of two kinds: what
// somebody changed there, and what is not settled yet. Stages (stages.go) are the published pairs
// from the one that was asked for to the newest; a packet's difference belongs to the first stage
// with which it is explained.
//
// # Many hosts
//
// Most hosts of a fleet are in step, and their dumps are alike but for a counter or a handle. A
// Watch (fleet.go) reads each distinct table once, knows its decision, and compares handles; only a
// host for which that is not enough is taken through the steps above. A Lag does the same for hosts
// that have what they were last asked for.
//
// # Where to look
//
//   - compare.go: results, findings and their kinds; cause.go, blame.go: why something differs;
//   - finding.go, manner.go, sentence.go, example.go: how it is said, and the packet that shows it;
//   - stages.go: changed, or not settled yet; cosmetic.go: other texts of one meaning;
//   - fleet.go: many hosts; groups.go: the security groups of an instance;
//   - changes.go, statements.go, written.go: two policies, on all hosts.
package compare
