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
// Unused, Refusals and Seen answer from the records of a fleet.
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
package traffic
