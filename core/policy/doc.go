// Package policy is the model every other room works on: what a policy's files
// say, with every name looked up and held against a fleet.
//
//	in, problems := policy.Read(sources, fl)
//	pol, problems := policy.Resolve(in)
//
// The model is complete only where no problem is an error.
//
// A Policy has its rules in the order of the files, which never decides anything. A rule's
// sides (Side) say which hosts they name and which addresses they mean; where a rule is within
// something, it is one pair of sides for each (Span). Values that the tree of the language says
// by words are values here: verdicts, rates, instants in seconds since 1970, services as terms.
//
// Parts are folders of other teams, taken in under their own names (part.go): what they declare
// is theirs, and MayChange says who may change what.
//
// # From files to a policy
//
// Read parses every file and the lists that networks name; Resolve looks names up. A name is looked up
// when it is first meant, so that declarations may stand in any order and in any file, and one that
// means itself is found on the way. A mistake is told, and all that can be resolved all the same is,
// so that a person gets all mistakes at once; such a policy is not used further.
//
// What a policy may cost is bounded before it is read (resolve.go): text, lines, names, addresses. The
// bounds are several times what the largest fleet we know needs.
//
// # Who is a stranger
//
// Strangers are all addresses but our hosts' and those that declarations without `shared` write out.
// Declarations alone decide that: no rule may change what another rule means.
//
// # Where to look
//
//   - resolve.go, declared.go: names, and what is declared by them;
//   - sides.go, rules.go, rule.go: who is meant at either end, and the rules;
//   - join.go, translate.go: ways between networks, redirects and masquerades;
//   - part.go, rights.go: folders of other teams, and who may change what;
//   - registry.go, registered.go: services by the registry of IANA; sensitive.go: those to care about;
//   - policy.go, values.go: the policy as a whole, and small values.
package policy
