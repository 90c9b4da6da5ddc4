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
package assist
