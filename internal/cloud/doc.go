// Package cloud is how we reach clouds: one narrow interface, which each kind of cloud
// implements, and what is done with it: reading what is in force, and putting security
// groups in force without a gap.
//
//	have, err := cloud.Read(ctx, account)           // whole and of the right account, or an error
//	done, err := cloud.Advance(ctx, account, have, want) // the next phase; read again, and go on until done
//
// # How groups change without a gap
//
// What an account is to have is a document (core/dialect/group); what it has is read whole, or it is an
// error: half an answer would look like instances that nobody filters for. Advance asks for one phase of
// group.Steps and stops. Whoever calls it reads again and goes on, so that a service which is killed
// between two phases, or a cloud that lost half of a request, is met where it stands.
//
// An Account's methods may all be tried again: asked a second time, they change nothing more. A cloud
// that is busy, fails, or wants us to wait is an error that says for how long; a Refusal is what
// waiting does not help against.
package cloud
