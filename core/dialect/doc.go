// Package dialect is the seam between what is meant and how a filter is told so: what
// every form of rules can do (Form), and what every kind of dump is read by (Reader).
//
//	form := forms.Of(host)
//	files, err := form.Write(sp, plan)             // the texts, or a Refusal of what it cannot say
//	err = dialect.Prove(form, sp, plan, files)     // read back, they are the policy's very decision
//	rules := form.Rules(sp, plan)                  // the same as a kernel.Ruleset
//
//	reader := forms.Reading(dump.Kind)
//	rules, err := reader.Read(reading, dump)       // what a kernel has in force
//
// The packages below it each know one form: nft and iptables for the kernel's own filter,
// portable for those of other systems, group for security groups. They lay plans out with
// package layout. Nothing outside of package forms knows which there are; to add one is a
// folder beside these, and a line in each list of forms.
//
// # What a form owes
//
// Write gives texts, or a Refusal that names what this form cannot say, with the statement; it never
// leaves a condition out. Prove then reads the texts back with the form's own reader of dumps and
// compares two handles. A form whose texts hold places that only the host can fill in (users and
// units, by number) says so in the head of the file, and its proof is for what it is filled in with.
//
// # What a reader owes
//
// It never guesses: what it does not know is an unknown by the words of the listing, and whatever
// depends on it is said to be uncertain. It is exact, or it says how well it knows something (package
// forms has the table). It takes hostile text: a reader may fail with the line and what was expected
// there, and may not take more time or memory than the text's length warrants; fuzzers hold it to that.
package dialect
