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
//
// # Where to look
//
//   - write.go: the table that is written; senders.go: users and units that a host fills in;
//   - dump.go, listing.go: which dumps there are, and what they hold in common;
//   - json.go, jsonexpr.go, text.go, textrule.go, textmatch.go: the two forms of a listing;
//   - expr.go: the expressions that both become; read.go: a ruleset of them;
//   - match.go, fields.go: what is asked of a packet, by the fields of the headers;
//   - mark.go, limit.go, fib.go, fragment.go, circumstance.go: marks, rates, routes, pieces, senders;
//   - seldom.go: extension headers, options, and sets that change by themselves;
//   - statements.go: what a rule does; reader.go: many hosts with like tables; prove.go: the proof.
//
// # What the kernel does otherwise than the text says
//
// Some versions of the tool join two matches of neighbouring fields into one comparison and lose a
// condition on the way; those are read as what is loaded, and not as what is written (runTogether). A
// match on a transport header is false for later fragments. A chain at ingress sees frames before the
// kernel has put fragments together. Each of these was found with the judge of package testbed, which
// sends the packets, and each has a test there.
package nft
