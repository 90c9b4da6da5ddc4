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
package dialect
