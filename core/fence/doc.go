// Package fence is the policy language: its words, the scanner, the syntax
// tree and the parser. It knows what a policy says and nothing of what it
// means; names are resolved by package policy.
//
//	file, problems := fence.Parse("charts.fence", text)
//
// Parse reads a whole file whatever is wrong with it and reports every mistake
// as a Problem with its place. The tree then holds what could be understood.
package fence
