// Package host changes the rules of the host it runs on, with a way back: Machine.Make puts rules
// in force and begins two watchdogs, which put back what was there before unless Machine.Keep is
// called in time over a new connection. What it all knows lies on disk too, so that a start of
// the machine, a killed process or a full disk cannot lock anybody out (Resume).
//
// Below it, package inventory finds out what there is and package apply puts rules in force;
// above it, package agent does what the service asks.
//
// # Why nobody is locked out
//
// A change is written down before it is made: what is in force now, by when it is to go back, and how
// (waiting.go). Then two watchdogs are begun, processes of their own that hold the same in memory, and
// only when both say that they watch are the rules loaded. The first undoes the change when its time is
// over; the second takes over where the first is gone or hangs. Where both were killed, whoever comes
// next does it: the agent, any command of ours, or the start of the machine (Resume). Time is the boot
// clock, which nobody sets and which runs on in sleep.
//
// A change is kept over a new connection: one that was opened since the change, by somebody who came in
// from outside. A connection that was open before proves nothing, for it passes as an established one
// whatever the new rules say. The service can prove it too: by a signed word that a connection of
// another host came in.
//
// Changes are one after the other: a lock in the host's folder is held while one is begun or ended,
// and whoever holds it and hangs is killed after a while.
//
// # Where to look
//
//   - machine.go: changes, copies and what loads at the start; waiting.go: changes that wait for a keep;
//   - watchdog.go: what undoes them; rehearse.go: trying rules in a network of their own first;
//   - interfaces.go, refill.go: what rules ask for that the host may not have, or gets later;
//   - identity.go: who the host is to its service; report.go: what it says of itself.
package host
