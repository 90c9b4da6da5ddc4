package words

import (
	"fmt"
	"strings"
)

// A Word is one of our own, or one that we use in a narrower sense than others do.
type Word struct {
	Name  string `json:"name"`
	Means string `json:"means"`         // one or two short sentences
	See   string `json:"see,omitempty"` // the page of docs/ that says more, without its ending; "" if none does
}

// All are the words, in the order of the alphabet.
var All = []Word{
	{"agent", "the program that stays on a host: `yfence attend`. It reports what is in force, and does what the service asks.", "hosts"},
	{"altered", "a finding: a packet is admitted or refused as it should be, but otherwise than the policy says. It is not logged, for " +
		"example, or limited to another rate.", "hosts"},
	{"bare", "a state: the host has no filter in force at all.", "hosts"},
	{"behind", "a state: an earlier revision or an earlier fleet is in force on the host. Nobody changed anything there; the published " +
		"one is not settled yet.", "hosts"},
	{"block", "a statement that refuses traffic, whatever allows say. An allow that names the block (see over) is an exception to it.",
		"language"},
	{"copy", "the rules that were in force on a host before a change. The host keeps copies and can put one back.", "hosts"},
	{"dialect", "the form of rules that a host takes: nft, iptables or portable.", "dialects"},
	{"drift", "the difference between the rules in force on a host and the rules that its policy means. `yfence drift` shows it.", "hosts"},
	{"expectation", "a statement that says what must always pass, or never. `yfence check` proves it for every packet.", "language"},
	{"finding", "one difference, with what it is about, a packet that shows it, and what to do.", "hosts"},
	{"fleet", "all hosts and instances that a policy is about. The fleet file lists them with their roles and addresses.", "language"},
	{"generation", "a number: how often the fleet file was imported or changed.", "running"},
	{"ground", "what every host needs to work, whatever the policy says: replies, its own loopback, ICMP errors, neighbour discovery. " +
		"Parts of it can be turned off.", "language"},
	{"group", "a security group of a cloud: it filters for an instance, outside the instance itself.", "groups"},
	{"guard", "an allow that keeps a way in. No change may refuse it, and a host proves by it that somebody can still log in.", "language"},
	{"in step", "a state: the host does with every packet what the published policy says.", "hosts"},
	{"keep", "confirm a change, so that it stays in force. A change that nobody keeps in time is undone by the host itself.", "hosts"},
	{"knowingly", "a word behind a statement that accepts the warning of one check, with the reason.", "language"},
	{"leave", "a statement that leaves some traffic to rules of other programs: our rules let it pass, and drift does not look at it.",
		"language"},
	{"network", "a name for addresses.", "language"},
	{"on trial", "a stance or a block that does not refuse yet: it admits and logs what it would refuse, until a date.", "language"},
	{"opened", "a finding: a packet is admitted that the policy refuses.", "hosts"},
	{"over", "a word in an allow that names a block: the allow is an exception to that block.", "language"},
	{"pair", "a revision of the policy together with a generation of the fleet. Hosts are compared with the newest pair.", "running"},
	{"part", "a folder of policy files that one team writes, for roles of its own.", "language"},
	{"probe", "a real connection that one host opens to another to see what comes of it.", "hosts"},
	{"revision", "one published state of the policy, with a number, an author and a reason.", "running"},
	{"role", "a name for hosts that do the same. Rules are about roles.", "language"},
	{"segment", "a network that hosts are attached to by an interface.", "language"},
	{"settle", "put the published rules in force on a host. The host undoes them by itself unless the change is kept.", "hosts"},
	{"shut", "a finding: a packet is refused that the policy admits.", "hosts"},
	{"silent", "a state: the host has not reported for three intervals.", "hosts"},
	{"stance", "what a role does in one direction with traffic that no rule decides: open admits it, closed refuses it.", "language"},
	{"strangers", "everybody who is neither of the fleet nor in a network that the policy declares, and whoever is in a shared network.",
		"language"},
	{"task", "what the service asks one host to do. It is signed, has an end, and is done once.", "hosts"},
	{"unread", "a state: something that the host reported was not understood, and it could change the answer.", "hosts"},
	{"watchdog", "the process on a host that undoes a change which nobody keeps.", "hosts"},
	{"wave", "settling many hosts step by step. Each step proves by real connections that the way in is open, or the wave stops.", "hosts"},
}

// Find is a word by its name, and whether there is one.
func Find(name string) (Word, bool) {
	for _, w := range All {
		if w.Name == strings.ToLower(strings.TrimSpace(name)) {
			return w, true
		}
	}
	return Word{}, false
}

// Page is docs/glossary.md.
func Page() string {
	var b strings.Builder
	b.WriteString("# Words\n\nWhat our own words mean. `yfence help words` prints the same, `yfence help words settle` one of them.\n\n| " +
		"word | means |\n|---|---|\n")
	for _, w := range All {
		see := ""
		if w.See != "" {
			see = fmt.Sprintf(" [more](%s.md)", w.See)
		}
		fmt.Fprintf(&b, "| **%s** | %s%s |\n", w.Name, w.Means, see)
	}
	return b.String()
}
