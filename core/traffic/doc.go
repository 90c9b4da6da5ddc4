// Package traffic sums what hosts count and see, so that "who uses this?" has an answer: how often
// each statement of the policy decided (Hit), what was refused and to whom (Sums of flows, by who
// refused), and which connections there were (Sums of flows).
//
// # How it works
//
// A host's kernel has a counter at every line that carries out a statement. Its agent reads them
// now and then, and Moved tells what came to them since: counters begin again where rules are
// loaded anew. What was refused and which connections began it hears from the kernel one by one,
// and adds them up in Sums of a bounded size. All three go to the service in a Batch, which has a
// number: a batch that is sent twice counts once (Record.Take). The service keeps one Record for
// each host, with sums by day.
//
// Usages, Refusals, Connections, Cuts and Against answer from the records of a fleet. Flows are told
// in groups, by whose their ends are (ends); what becomes of one by a policy is the exact decision of
// the host's class (judge). What a flow leaves open, as its interface, may be anything.
//
// # What may be relied on
//
//   - A Sums never holds more flows than it may; what did not fit is counted in Over.
//   - Nothing here knows what time it is: whoever calls says it, in seconds since 1970.
//   - A Record that has taken a batch is not changed by taking it again.
//
// # Files
//
//   - flow.go: a flow, sums of flows by day, and how a search for open ports is folded
//   - counters.go: what came to counters between two looks
//   - record.go: batches, and what the service keeps of a host
//   - packet.go: whose packet the beginning of one is
//   - probes.go: what the service itself had hosts try, which is left out
//   - ends.go, group.go: whose an address is, and flows that are told as one
//   - fares.go: what becomes of a flow by a policy
//   - usage.go, refusals.go, seen.go, against.go: the answers
package traffic
