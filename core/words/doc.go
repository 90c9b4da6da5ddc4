// Package words is the glossary: what our own words mean, in one table. The page
// docs/glossary.md and `yfence help words` are made from it.
//
//	w, ok := words.Find("stance")
//	w.Means // "what a role does in one direction with traffic that no rule decides: …"
//
// A word of the trade is not in it; one that we gave a meaning is. The tests hold the table
// against the words that our texts use.
//
// # What belongs into it
//
// Our words for our own things: stance, guard, ground, settle, keep, drift. An entry says in one or two
// sentences what the word means here, and which page says more. States and findings stand here as well:
// they are the words that an operator meets first, at three in the morning.
package words
