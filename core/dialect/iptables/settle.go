package iptables

import (
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strings"

	"yellowfence.example/yfence/core/packet"
)

// The kernel knows users and units by what differs from host to host, and refuses
// a whole table that names one it does not have. So Write names them, and who
// loads the rules says what the host knows them by.

// Nobody is the number of a user that no host has: a line that asks for somebody
// whom the host does not have asks for that one, and admits nothing.
const Nobody = 1<<32 - 2

// How rules of ours say who sends: by name in the comment, and to the kernel by what a host
// fills in.
var (
	sendersSaid = regexp.MustCompile(`; from (user|unit) ([^";]+)`)
	senderAsked = regexp.MustCompile(`(-m owner --uid-owner|-m cgroup --path) ("(?:[^"\\]|\\.)*"|\S+)`)
)

// SendersOf lists the users and units that rules of ours ask for, in what Write
// gave or in a dump, in their order.
func SendersOf(text string) (out []packet.Sender) {
	seen := map[packet.Sender]bool{}
	for line := range strings.Lines(text) {
		if !strings.HasPrefix(line, "-A "+Prefix) {
			continue
		}
		for _, m := range sendersSaid.FindAllStringSubmatch(line, -1) {
			if s := (packet.Sender{Kind: packet.SenderKind(m[1]), Name: m[2]}); !seen[s] {
				seen[s] = true
				out = append(out, s)
			}
		}
	}
	return out
}

// Fill gives the rules of a file of Write with what a host knows senders by: a
// user's number, or the path of a unit's control group; "" where it has none.
func Fill(rules string, known func(packet.Sender) string) string {
	return senderAsked.ReplaceAllStringFunc(rules, func(said string) string {
		m := senderAsked.FindStringSubmatch(said)
		kind := map[string]packet.SenderKind{senderOptions[packet.ByUser]: packet.ByUser, senderOptions[packet.ByUnit]: packet.ByUnit}[m[1]]
		name, _ := split(nil, m[2])
		if as := known(packet.Sender{Kind: kind, Name: name[0]}); as != "" {
			return m[1] + " " + quoted(as)
		}
		return fmt.Sprintf("%s %d", senderOptions[packet.ByUser], Nobody)
	})
}

// Refill gives rules of ours as they are in force (OursIn) with what a host knows their
// senders by now; known is as for Fill.
func Refill(ours string, known func(packet.Sender) string) string {
	var b strings.Builder
	for line := range strings.Lines(ours) {
		said := sendersSaid.FindAllStringSubmatch(line, -1)
		n := 0
		if strings.HasPrefix(line, "-A ") && len(said) == len(senderAsked.FindAllString(line, -1)) {
			line = senderAsked.ReplaceAllStringFunc(line, func(string) string {
				who := packet.Sender{Kind: packet.SenderKind(said[n][1]), Name: said[n][2]}
				n++
				if as := known(who); as != "" {
					return senderOptions[who.Kind] + " " + quoted(as)
				}
				return fmt.Sprintf("%s %d", senderOptions[packet.ByUser], Nobody)
			})
		}
		b.WriteString(line)
	}
	return b.String()
}

// Over gives the rules of a file of Write as one change of what is in force, of
// which saved is the dump: the built-in chains ask ours first, and chains of ours
// that are no longer written go. Nobody else's rule is touched. The text is for the
// -restore tool with --noflush.
func Over(rules, saved string) string {
	var b strings.Builder
	for _, table := range ourTables {
		written, before := Section(rules, table), Section(saved, table)
		if change := over(written, before); written != "" || change[0] != "" || change[1] != "" {
			fmt.Fprintf(&b, "*%s\n%s%s%sCOMMIT\n", table, change[0], written, change[1])
		}
	}
	return b.String()
}

// Before gives what a dump says of the tables that rules of ours are in, as the -restore
// tool takes it to put them back.
func Before(saved string) string {
	var b strings.Builder
	for _, table := range ourTables {
		if before := Section(saved, table); before != "" {
			fmt.Fprintf(&b, "*%s\n%sCOMMIT\n", table, before)
		}
	}
	return b.String()
}

// ourTables are those that chains of ours are in.
var ourTables = []string{"nat", "filter"}

// Section is what a dump or a file says of one table.
func Section(text, table string) string {
	_, rest, found := strings.Cut("\n"+text, "\n*"+table+"\n")
	inside, _, whole := strings.Cut(rest, "COMMIT")
	if !found || !whole {
		return ""
	}
	return inside
}

// over is what stands before and behind the rules of one table.
func over(rules, saved string) (change [2]string) {
	written := chainsOf(rules)
	var stale []string
	for _, name := range chainsOf(saved) {
		if strings.HasPrefix(name, Prefix) && !slices.Contains(written, name) {
			stale = append(stale, name)
		}
	}
	first := map[string]string{} // rule of each built-in chain
	jumps := map[string][]string{}
	for line := range strings.Lines(saved) {
		line = strings.TrimSpace(line)
		if strings.HasPrefix(line, "[") { // counts
			_, line, _ = strings.Cut(line, "] ")
		}
		if line, ok := strings.CutPrefix(line, "-A "); ok {
			chain, rule, _ := strings.Cut(line, " ")
			if first[chain] == "" {
				first[chain] = rule
			}
			if strings.HasPrefix(rule, "-j "+Prefix) && !strings.HasPrefix(chain, Prefix) {
				jumps[chain] = append(jumps[chain], rule)
			}
		}
	}
	for _, name := range stale {
		change[0] += fmt.Sprintf(":%s - [0:0]\n", name)
	}
	for _, chain := range slices.Sorted(maps.Keys(asks)) {
		ours := asks[chain]
		wanted := slices.Contains(written, ours)
		if wanted && first[chain] == "-j "+ours && len(jumps[chain]) == 1 {
			continue
		}
		for _, jump := range jumps[chain] {
			change[1] += fmt.Sprintf("-D %s %s\n", chain, jump)
		}
		if wanted {
			change[1] += fmt.Sprintf("-I %s 1 -j %s\n", chain, ours)
		}
	}
	for _, name := range stale {
		change[1] += fmt.Sprintf("-X %s\n", name)
	}
	return change
}

// asks are the chains of ours that built-in chains ask first.
var asks = map[string]string{"INPUT": Prefix + packet.Inbound.String(), "OUTPUT": Prefix + packet.Outbound.String(),
	"FORWARD": Prefix + packet.Forward.String(), "PREROUTING": Prefix + "redirects", "POSTROUTING": Prefix + "masquerades"}

// chainsOf are the chains that a table's rules declare.
func chainsOf(rules string) (names []string) {
	for line := range strings.Lines(rules) {
		if name, ok := strings.CutPrefix(line, ":"); ok {
			names = append(names, firstWord(name))
		}
	}
	return names
}

// StaleSets are those of our sets, of all that a kernel has, that a file of Write does not hold.
func StaleSets(written string, there []string) []string {
	return slices.DeleteFunc(slices.Clone(there), func(name string) bool {
		return !setOfOurs.MatchString(name) || strings.Contains(written, "create "+name+" ")
	})
}

// setOfOurs are the names that we give to sets. The sum at the end is of what they hold, so
// that a set never changes while rules name it.
var setOfOurs = regexp.MustCompile(`^yf[46]\..*\.[0-9a-f]{8}$`)

// OursIn gives the chains of ours that a dump holds, as a file of Write: what Over
// puts in force again.
func OursIn(saved string) string { return kept(saved, true) }

// OthersIn gives all that a dump holds and that is not ours, without counts: what
// settling leaves as it is.
func OthersIn(saved string) string { return kept(saved, false) }

// kept gives the lines of a dump that are ours, or those that are not. A jump to a
// chain of ours is neither: Over makes it.
func kept(saved string, ours bool) string {
	var b strings.Builder
	for line := range strings.Lines(saved) {
		if strings.HasPrefix(line, "[") { // counts
			_, line, _ = strings.Cut(line, "] ")
		}
		if strings.HasPrefix(line, "#") {
			continue
		}
		name, isChain := strings.CutPrefix(line, ":")
		rule, isRule := strings.CutPrefix(line, "-A ")
		switch {
		case isChain:
			if strings.HasPrefix(name, Prefix) == ours {
				b.WriteString(passed.ReplaceAllString(line, "[0:0]"))
			}
		case isRule:
			if mine := strings.HasPrefix(rule, Prefix); mine == ours && (mine || !strings.Contains(rule, " -j "+Prefix)) {
				b.WriteString(line)
			}
		default:
			b.WriteString(line)
		}
	}
	return b.String()
}

// passed is what has passed a chain, in packets and bytes, as a dump prints it.
var passed = regexp.MustCompile(`\[\d+:\d+\]`)

// OfOurSets gives the lines of an ipset dump that make sets of ours.
func OfOurSets(saved string) string {
	var b strings.Builder
	for line := range strings.Lines(saved) {
		if f := strings.Fields(line); len(f) > 1 && setOfOurs.MatchString(f[1]) {
			b.WriteString(line)
		}
	}
	return b.String()
}
