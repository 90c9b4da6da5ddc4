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
//
// # Layout
//
// There is one layout, and Print is the only thing that makes it. Where a part of a statement stands
// does not depend on other lines, so that a change of one statement is a change of one line in
// review. Comments stay with the statement above or behind which they stand.
//
// Parse and Print are held to one another by tests and a fuzzer: what was printed is read as the same
// tree, and what was read and printed twice is the same text.
//
// # Mistakes
//
// The parser gives a statement up where it cannot be read any further, tells what was expected there
// and what was found, with a hint where there is a likely one, and goes on at the first word of the
// next statement (parser.rest).
//
// # Where to look
//
//   - scanner.go, token.go: words, and the tables of statements and modifiers;
//   - tree.go: what a policy can say; parser.go: how a file is read;
//   - declarations.go, statements.go, sides.go, terms.go, with.go, part.go, join.go: its statements;
//   - printer.go, printed.go: the standard layout; upgrade.go: policies of an earlier language;
//   - references.go: every place of every name; question.go: questions.
package fence
