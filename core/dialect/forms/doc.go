// Package forms lists the dialects: the forms of rules that we write, the kinds of dumps
// that we read, and the matches and actions that we know, with how well we know them. A new
// dialect is a folder beside the others and a line in each of the two lists.
//
//	forms.Of(host)          // the form of its filter
//	forms.Sniff(text)       // which kind of dump a text is
//	forms.Reading(kind)     // what reads it
//
// Its tests are what every dialect must pass (TestConformance). docs/dialects.md is made of
// Matches and Actions.
package forms
