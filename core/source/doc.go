// Package source is places in texts and what is wrong there: the one form in which every
// mistake in a policy, a fleet file or a question comes to whoever wrote it.
//
//	p := source.Errorf(pos, width, "name", "%q is not a name", word)
//	p = p.Hinted("did you mean %q?", source.Nearest(word, known))
//
// A Problem has a code, for documentation and for acceptances; a place; a message that says
// what is wrong; and a hint that says what to do. It is no error of Go's: problems are collected,
// sorted by place and shown together.
package source
