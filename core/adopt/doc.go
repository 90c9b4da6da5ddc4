// Package adopt makes a first policy of rules that hosts have in force, whoever
// wrote them: hosts with like rules become roles, addresses become roles and
// segments, ports services, and what no policy can say is told.
//
//	r, err := adopt.Policy(fl, "harbour", hosts, now)
//	r.Text  // the policy, with what is left at its end
//	r.Fleet // the fleet with the roles
//
// It goes by what the rules do and not by how they are written, in four steps:
//
//   - A sketch is made of each host (take): of its decision, what each rule decides of
//     new connections, as simply as it can be said without changing anything.
//   - Hosts with the same sketch get a role, named after them (writer.roles).
//   - Statements are written once for all roles that have them (writer.write, unite),
//     with addresses by the names of roles, segments and networks.
//   - The whole of the policy is held against the whole of the rules (compared). What
//     differs is told in the policy's text, with the rule that does it: an adopted policy
//     never claims to mean what it does not.
//
// A host's rules may be too tangled to be held as a whole; Bound says when that is so.
//
// # What is given up, and what never
//
// The policy may be longer than it need be, and its names worse than a person's. It may also refuse to
// say something, and then does so at its end. It never admits or refuses otherwise than the rules did
// without saying which packets, by which rule, and where that stands: the last step compares two
// decisions for every packet, as drift does.
//
// # Where to look
//
//   - adopt.go: the steps; sketch.go, pieces.go: what a host does, taken apart;
//   - write.go, statement.go: roles and statements; names.go, segments.go: what things are called;
//   - text.go: the text, made as a tree of the language and printed;
//   - machine.go: a first policy for one machine on which nothing filters yet.
package adopt
