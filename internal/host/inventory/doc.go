// Package inventory finds out what a host has and does, and changes nothing: which rules are in
// force (InForce), what listens and runs, which addresses there are and what loads rules at the
// start (Facts), who its users and units are (Find), and which connections are open (OpenSockets,
// Unadmitted). All tools of the kernel are run through Run, which bounds their time.
//
// # What is bounded, and what a failure means
//
// Each tool has a time (ToolTime), and one that is missing, fails or hangs is an error and never an
// empty answer: "no rules" and "not known" must not look alike. What tools print is in part what
// programs of the host call themselves, line feeds included, so that a line counts only if it has all of
// the form that its tool gives it.
//
// What a listing says anew each time though nobody changed anything (counts, when an element of a set
// goes, when a dump was made) is taken out of it, so that two reports of the same rules are the same
// text; counts are reported beside it.
//
// # Where to look
//
//   - inventory.go, iptables.go: all that is in force; links.go: interfaces that carry others';
//   - facts.go, about.go, units.go: listeners, addresses, versions and units;
//   - senders.go: users and units that rules ask for; events.go: when the kernel says that something changed;
//   - connections.go, conntrack.go: which connections are open, and which a change would cut.
package inventory
