// Package assist helps whoever writes a policy: what a name stands for, where
// it is declared and used, what could be written next. An editor asks it, in a
// terminal or in a browser.
//
//	a := assist.Analyse(sources, fl)
//	a.Hover(pos)           // what stands there, in Markdown
//	a.Definition(pos)      // where it is declared; Uses says where it is meant
//	a.Complete(pos)        // what could be written there
//	a.Rename(pos, "depot") // where a name stands that is changed everywhere
//
// Places count lines and letters from 1, as source.Pos does. An Analysis is for one
// state of the texts and never changes; make another for the next.
//
// # Texts that are not sound
//
// An editor asks while a person types, so that most texts it asks about have a mistake in them. The
// analysis goes by the tree that could be read and by the tokens around the place: what may stand there
// is known from the parser's tables (fence.ModifiersOf), names from what is declared anywhere in the
// folder. It computes no decisions, and always answers within the time it takes to read the texts.
package assist
