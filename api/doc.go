// Package api holds what goes over the wire between the service and those who
// call it: hosts, the command line, the console. Both ends use these types, and
// the OpenAPI document is made from them.
//
// The field tags are the contract: `doc` says what a field is, `enum` which words it may
// have, and docs/openapi.json is generated from both (make generate). Times are RFC 3339 in
// UTC, lengths of time are as Go writes them ("90s"), and a field that is not said is left out.
//
// States and phases are tables with what they mean (state.go), from which the console's are
// made too. What is signed, such as a Task, is signed over its JSON without the signature: see
// Sign and Verify.
//
// # Compatibility
//
// A document says its version (Version). Fields are added, and never get another meaning; whoever reads
// an answer leaves what it does not know. What hosts say and what is said to hosts must be read by programs of the
// versions before and after, since a fleet is never brought up to date at once.
//
// # Where to look
//
//   - api.go: policies, fleets, questions, answers and rules; state.go: states and what they mean;
//   - change.go, task.go: changes of a host, and what it is asked to do, signed;
//   - wave.go: waves; subject.go: a host, or its instance in a cloud.
package api
