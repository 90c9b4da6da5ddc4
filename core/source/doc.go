// Package source is places in texts and what is wrong there: the one form in which every
// mistake in a policy, a fleet file or a question comes to whoever wrote it.
//
//	p := source.Errorf(pos, width, "name", "%q is not a name", word)
//	p = p.Hinted("did you mean %q?", source.Nearest(word, known))
//
// A Problem has a code, for documentation and for acceptances; a place; a message that says
// what is wrong; and a hint that says what to do. It is no error of Go's: problems are collected,
// sorted by place and shown together.
//
// # Places
//
// A place counts lines and letters from 1, as editors do, and not bytes. The width of a mistake is how
// many letters it takes, for the mark below it. A Problem that is about a file as a whole, such as one
// that is too large, stands nowhere in it.
//
// Nearest finds what was probably meant: the candidate that the fewest changes of letters make of the
// word (Damerau and Levenshtein's distance), if these are few enough for a person to see it.
package source
