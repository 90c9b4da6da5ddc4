// Package nft writes and reads the rules of the kernel's nf_tables filter.
//
//	files, err := nft.Form{}.Write(sp, plan)       // one file, which nft -f loads at once
//	rules, err := nft.ReadText(sp, name, listing, names)  // of nft list ruleset
//	rules, err := nft.ReadJSON(sp, listing, names)        // of nft -j list ruleset
//
// Our rules are one table of the family inet (Family, Table), which replaces the one before
// in one transaction; tables of others are left alone. Sets hold what rules name, and a rule's
// comment says which statement it carries out.
//
// Both forms of listing are read into the same expressions (expr.go), and these into matches
// (match.go) and ends (statements.go). What is not known is an unknown in the decision, by the
// words that it is listed with. A QuickReader reads tables that are the same as ones that it has
// read before at once, which is what keeps a fleet of like hosts cheap.
package nft
