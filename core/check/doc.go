// Package check finds what is wrong with a policy before it bites. Each check
// stands in a file of its own, with its documentation beside it.
//
//	pol, problems := check.Policy(sources, fl, now)
//
// A policy with mistakes (Mistakes: what cannot be read, or means nothing) is not looked
// at further. Else all checks run over it, and what a statement accepts by `knowingly CODE`
// is taken out of what they say. Checks lists them, in the order of their codes; a Check
// has a severity, and a page that `yfence check --explain CODE` prints.
//
// Most checks are exact: they ask the decision of every host, or of every two ends, with
// the same diagrams that rules are proven with, once for hosts that are alike
// (compile.Planner). The others look at what is written, and say so in their comments.
// What a check needs from others it takes from its pass.
//
// To add one: a file with a Check whose run reports problems; its name in the list of
// check.go; a case in check_test.go. docs/checks.md is made of all of them.
package check
