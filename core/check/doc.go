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
//
// # What a check may ask
//
// A check gets a pass (check.go): the policy, the files it is of, where every statement stands, and a
// Planner and a Reach of one Space, which all checks share: a decision that one check asked for costs
// the next one nothing. A pass runs within a packet.Budget. What is too complex ends the whole of
// it with an error: a check that gave up silently would look like one that found nothing.
//
// A problem is put where whoever reads it can mend it: at the statement that has to change, not at
// the one that came second. What `knowingly CODE` accepts, it accepts for the statement it stands at
// and for what that statement declares, and a `knowingly` that accepts nothing is itself told
// (staleknowingly.go).
//
// # Which are exact
//
// Of guards, ways in, expectations, contradictions and of what is covered or never matches, the
// checks decide by diagrams over all packets. Of names, times and lists they decide by the text.
// What is sensitive stands in a table (policy.Sensitive).
package check
