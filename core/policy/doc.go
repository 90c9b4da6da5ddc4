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
package policy
