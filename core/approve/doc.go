// Package approve says which approvals a change needs. They follow from what the change means, not from
// its text: what it admits, which guards it touches, whom it cuts.
//
//	m := approve.MeaningOf(changes, accepted, cut, theirs)
//	need := rules.Need(m)          // how many people besides its author, and what of them one holds
//	left := need.Left("pat", given) // what is missing yet
//
// What is asked for which meaning is a company's own to say; without a rule a change needs nothing.
package approve
