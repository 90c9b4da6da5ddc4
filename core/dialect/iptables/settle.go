package iptables

import (
	"fmt"
	"regexp"
	"slices"
	"strings"

	"yellowfence.example/yfence/core/fence"
	"yellowfence.example/yfence/core/policy"
)

// The kernel knows users and units by what differs from host to host, and refuses
// a whole table that names one it does not have. So Write names them, and who
// loads the rules says what the host knows them by.

// Nobody is the number of a user that no host has: a line that asks for somebody
// whom the host does not have asks for that one, and admits nothing.
const Nobody = 1<<32 - 2

var (
	sendersSaid = regexp.MustCompile(`; from (user|unit) ([^";]+)`)
	senderAsked = regexp.MustCompile(`(-m owner --uid-owner|-m cgroup --path) ("(?:[^"\\]|\\.)*"|\S+)`)
)

// SendersOf lists the users and units that rules of ours ask for, in what Write
// gave or in a dump, each as a Sender of one name.
func SendersOf(text string) (out []fence.Sender) {
	seen := map[string]bool{}
	for line := range strings.Lines(text) {
		if !strings.HasPrefix(line, "-A "+Prefix) {
			continue
		}
		for _, m := range sendersSaid.FindAllStringSubmatch(line, -1) {
			if key := m[1] + " " + m[2]; !seen[key] {
				seen[key] = true
				out = append(out, fence.Sender{Kind: m[1], Names: []string{m[2]}})
			}
		}
	}
	return out
}

// Fill gives the rules of a file of Write with what a host knows senders by: a
// user's number, or the path of a unit's control group; "" where it has none.
func Fill(rules string, known func(kind, name string) string) string {
	return senderAsked.ReplaceAllStringFunc(rules, func(said string) string {
		m := senderAsked.FindStringSubmatch(said)
		kind := map[string]string{senderOptions["user"]: "user", senderOptions["unit"]: "unit"}[m[1]]
		name, _ := split(m[2])
		if as := known(kind, name[0]); as != "" {
			return m[1] + " " + quoted(as)
		}
		return fmt.Sprintf("%s %d", senderOptions["user"], Nobody)
	})
}

// Over gives the rules of a file of Write as one change of what is in force, of
// which saved is the dump: the built-in chains ask ours first, and chains of ours
// that are no longer written go. Nobody else's rule is touched. The text is for the
// -restore tool with --noflush.
func Over(rules, saved string) string {
	var written []string // chains
	for line := range strings.Lines(rules) {
		if name, ok := strings.CutPrefix(line, ":"); ok {
			written = append(written, firstWord(name))
		}
	}
	var stale []string
	first := map[string]string{} // of the built-in chains
	jumps := map[string][]string{}
	filter := false
	for line := range strings.Lines(saved) {
		line = strings.TrimSpace(line)
		if strings.HasPrefix(line, "*") {
			filter = line == "*filter"
		}
		if !filter {
			continue
		}
		if name, ok := strings.CutPrefix(line, ":"); ok {
			if name = firstWord(name); strings.HasPrefix(name, Prefix) && !slices.Contains(written, name) {
				stale = append(stale, name)
			}
		}
		if strings.HasPrefix(line, "[") { // counts
			_, line, _ = strings.Cut(line, "] ")
		}
		if line, ok := strings.CutPrefix(line, "-A "); ok {
			chain, rule, _ := strings.Cut(line, " ")
			if first[chain] == "" {
				first[chain] = rule
			}
			if strings.HasPrefix(rule, "-j "+Prefix) && slices.Contains(builtIn, chain) {
				jumps[chain] = append(jumps[chain], rule)
			}
		}
	}
	var before, after strings.Builder
	for _, name := range stale {
		fmt.Fprintf(&before, ":%s - [0:0]\n", name)
	}
	for direction, chain := range builtIn {
		ours := Prefix + policy.DirectionNames[direction]
		wanted := slices.Contains(written, ours)
		if wanted && first[chain] == "-j "+ours && len(jumps[chain]) == 1 {
			continue
		}
		for _, jump := range jumps[chain] {
			fmt.Fprintf(&after, "-D %s %s\n", chain, jump)
		}
		if wanted {
			fmt.Fprintf(&after, "-I %s 1 -j %s\n", chain, ours)
		}
	}
	for _, name := range stale {
		fmt.Fprintf(&after, "-X %s\n", name)
	}
	rules = strings.Replace(rules, "*filter\n", "*filter\n"+before.String(), 1)
	return strings.Replace(rules, "COMMIT\n", after.String()+"COMMIT\n", 1)
}

// StaleSets are those of our sets, of all that a kernel has, that a file of Write does not hold.
func StaleSets(written string, there []string) []string {
	return slices.DeleteFunc(slices.Clone(there), func(name string) bool {
		return !setOfOurs.MatchString(name) || strings.Contains(written, "create "+name+" ")
	})
}

var setOfOurs = regexp.MustCompile(`^yf[46]\..*\.[0-9a-f]{8}$`)
