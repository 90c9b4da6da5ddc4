// Package fence is the policy language: its words, the scanner, the syntax tree,
// the parser and the printer. It knows what a policy says and nothing of what it
// means; names are resolved by package policy.
//
//	file, problems := fence.Parse("charts.fence", text)
//	fence.Print(file)      // in the one standard layout
//	fence.Line(stmt)       // one statement, as messages quote it
//
// Parse reads a whole file whatever is wrong with it and reports every mistake
// as a source.Problem with its place. The tree then holds what could be understood.
//
// Statements and modifiers are tables (token.go): the parser, the printer, help, completion,
// the console's colours and docs/language.md are made from them, so that a word is added in one
// place. A statement's function of the parser has its name, and the comment of its row says how
// it is written.
//
// Questions are a small language beside it, with the same peers and services: see ParseQuestion.
package fence
