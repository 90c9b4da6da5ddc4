package apply

import (
	"bytes"
	"cmp"
	"context"
	"errors"
	"fmt"
	"maps"
	"os"
	"os/exec"
	"regexp"
	"slices"
	"strings"
	"time"

	"yellowfence.example/yfence/core/dialect/iptables"
	"yellowfence.example/yfence/core/dialect/nft"
	"yellowfence.example/yfence/internal/host/inventory"
)

// A Copy is all that a host's filters have in force at one time, in words that its
// own tools take to put it back, counts included.
type Copy struct {
	Number  int               `json:"number,omitempty"` // as it is kept; 0 before that
	TakenAt time.Time         `json:"taken_at"`
	Before  string            `json:"before"`          // what it was taken for
	NFT     string            `json:"nft"`             // tables, but for those that tools of iptables made
	Saved   map[string]string `json:"saved,omitempty"` // by the tool that prints it, without -save
	Sets    string            `json:"sets,omitempty"`  // what ipset save prints
}

// Tools are those of iptables, by what their names begin with.
var Tools = []string{"iptables-legacy", "ip6tables-legacy", "iptables-nft", "ip6tables-nft"}

// backedTable is a table that the nft-backed tools may have made.
var backedTable = regexp.MustCompile(`^table (ip6?) (filter|nat|mangle|raw|security)$`)

// TakeCopy reads all that is in force now.
func TakeCopy(ctx context.Context) (*Copy, error) {
	c := &Copy{TakenAt: time.Now().UTC(), Saved: map[string]string{}}
	if _, err := exec.LookPath("nft"); err == nil {
		listing, err := inventory.Run(ctx, nil, "nft", "list", "ruleset")
		if err != nil {
			return nil, err
		}
		c.NFT = string(listing)
		if at := slices.IndexFunc(tablesOf(c.NFT), func(t table) bool { return t.name == nft.Form{}.Label() }); at >= 0 {
			ours := tablesOf(c.NFT)[at].text
			c.NFT = strings.Replace(c.NFT, ours, counted.ReplaceAllString(ours, "counter packets 0 bytes 0"), 1)
		}
	}
	for _, name := range Tools {
		family, kind, _ := strings.Cut(name, "-")
		family = strings.TrimSuffix(family, "tables")
		there := slices.ContainsFunc(tablesOf(c.NFT),
			func(t table) bool { m := backedTable.FindStringSubmatch(t.name); return m != nil && m[1] == family })
		if kind == "legacy" {
			names, _ := os.ReadFile("/proc/thread-self/net/" + family + "_tables_names")
			there = len(bytes.TrimSpace(names)) > 0
		}
		if !there {
			continue
		}
		saved, err := inventory.Run(ctx, nil, name+"-save", "-c")
		if err != nil {
			return nil, err
		}
		if strings.Contains(string(saved), "\nCOMMIT\n") {
			c.Saved[name] = ourCounts.ReplaceAllString(comments.ReplaceAllString(string(saved), ""), "[0:0]$1")
		}
	}
	c.NFT = joined(slices.DeleteFunc(tablesOf(c.NFT), c.told))
	if _, err := exec.LookPath("ipset"); err == nil {
		sets, err := inventory.Run(ctx, nil, "ipset", "save")
		if err != nil {
			return nil, err
		}
		c.Sets = string(sets)
	}
	return c, nil
}

// What counters of our own rules stood at is not put back: it would count twice.
var (
	counted   = regexp.MustCompile(`counter packets \d+ bytes \d+`)
	ourCounts = regexp.MustCompile(`(?m)^\[\d+:\d+\]( -A ` + iptables.Prefix + `)`)
)

// comments are lines that say when a listing was made.
var comments = regexp.MustCompile(`(?m)^#.*\n`)

// told says that a table is one of those that the tools of iptables tell.
func (c *Copy) told(t table) bool {
	m := backedTable.FindStringSubmatch(t.name)
	return m != nil && strings.Contains("\n"+c.Saved[m[1]+"tables-nft"], "\n*"+m[2]+"\n")
}

// OwnTable is our table as nft names it.
var OwnTable = nft.Form{}.Label()

// table is one table of nft's listing.
type table struct{ name, text string } // "table inet yellowfence", and all of it

// tablesOf takes a listing apart into its tables.
func tablesOf(listing string) (out []table) {
	for line := range strings.Lines(listing) {
		if strings.HasPrefix(line, "table ") {
			out = append(out, table{name: strings.TrimSuffix(strings.TrimSpace(line), " {")})
		}
		if len(out) > 0 && !strings.HasPrefix(line, "#") {
			out[len(out)-1].text += line
		}
	}
	return out
}

// joined is the listing again.
func joined(tables []table) string {
	var b strings.Builder
	for _, t := range tables {
		b.WriteString(t.text)
	}
	return b.String()
}

// Ours is the text of our own table, "" where there is none.
func (c *Copy) Ours() string {
	for _, t := range tablesOf(c.NFT) {
		if t.name == OwnTable {
			return t.text
		}
	}
	return ""
}

// Bare says that nothing at all was in force.
func (c *Copy) Bare() bool { return c.NFT == "" && len(c.Saved) == 0 && c.Sets == "" }

// String is all of the copy, to be read.
func (c *Copy) String() string {
	var b strings.Builder
	if c.NFT != "" {
		fmt.Fprintf(&b, "# nft list ruleset\n%s", c.NFT)
	}
	for _, name := range Tools {
		if c.Saved[name] != "" {
			fmt.Fprintf(&b, "# %s-save\n%s", name, c.Saved[name])
		}
	}
	if c.Sets != "" {
		fmt.Fprintf(&b, "# ipset save\n%s", c.Sets)
	}
	return b.String()
}

// Rules counts the lines of Rules.
func (c *Copy) Rules() (n int) {
	inChain := false
	for line := range strings.Lines(c.NFT) {
		switch line = strings.TrimSpace(line); {
		case strings.HasPrefix(line, "chain "):
			inChain = true
		case line == "}":
			inChain = false
		case inChain && line != "" && !strings.HasPrefix(line, "type "):
			n++
		}
	}
	for _, saved := range c.Saved {
		n += strings.Count(saved, "-A ")
	}
	return n
}

// Normal is the copy without what passes, in one order: two copies that say the
// same have the same normal form.
func (c *Copy) Normal() string {
	tables := tablesOf(c.NFT)
	slices.SortFunc(tables, func(a, b table) int { return cmp.Compare(a.name, b.name) })
	text := joined(tables)
	for _, name := range Tools {
		for _, section := range []string{"raw", "mangle", "nat", "filter", "security"} {
			rules := iptables.Section(c.Saved[name], section)
			if untouched(rules) {
				continue // the tools make tables when they look for them
			}
			text += name + " *" + section + "\n" + rules
		}
	}
	sets := slices.Sorted(strings.Lines(c.Sets))
	text += strings.Join(sets, "")
	return Passes.ReplaceAllString(text, "")
}

// untouched says that a table does nothing: its chains are the built-in ones, and admit.
func untouched(section string) bool {
	for line := range strings.Lines(section) {
		if !strings.HasPrefix(line, ":") || !strings.Contains(line, " ACCEPT ") {
			return false
		}
	}
	return true
}

// Passes is what a listing says anew each time: counts, and how long elements have left.
var Passes = regexp.MustCompile(` packets \d+ bytes \d+|\[\d+:\d+\]\s?|expires [\w.]+ ?| timeout \d+$|# handle \d+`)

// PutBackOurs puts back what settling changes, and only that: our table, our chains
// in others' tables, and our sets. What another program changed meanwhile stays.
func (c *Copy) PutBackOurs(ctx context.Context) error {
	now, err := TakeCopy(ctx)
	if err != nil {
		return err
	}
	script := ""
	if now.Ours() != "" {
		script = "delete " + OwnTable + "\n"
	}
	err = c.load(ctx, script+c.Ours())
	sets := iptables.OfOurSets(c.Sets)
	err = errors.Join(err, fillSets(ctx, sets))
	for _, name := range Tools {
		if was, is := c.Saved[name], now.Saved[name]; was != "" || is != "" {
			err = errors.Join(err, putBackSaved(ctx, name, was, is))
		}
	}
	dropSets(ctx, sets)
	return err
}

// load has nft put text in force, in one transaction. What the state of elements was
// may not be taken back, and a unit may have ended since: then without the one, and
// with units as they are now.
func (c *Copy) load(ctx context.Context, script string) error {
	if script == "" {
		return nil
	}
	_, err := inventory.Run(ctx, []byte(script), "nft", "-f", "-")
	if err == nil {
		return nil
	}
	plain := elements.ReplaceAllStringFunc(script, func(s string) string { return state.ReplaceAllString(s, "") })
	plain = sendersKnown.ReplaceAllString(plain, "$1\n")
	filled, _ := filled(plain)
	if _, again := inventory.Run(ctx, []byte(filled), "nft", "-f", "-"); again != nil {
		return err
	}
	return nil
}

// What of a listing changes by itself.
var (
	elements = regexp.MustCompile(`elements = \{[^}]*\}`)
	// state is what an element of a set tells of what it has counted.
	state = regexp.MustCompile(` expires \w+| limit rate (?:over )?\d+/\w+ burst \d+ packets`)
	// sendersKnown is a set that says whom it stands for, and what the host knew him by.
	sendersKnown = regexp.MustCompile(`(comment "(?:user|unit) [^"]+")\n\s*elements = \{[^}]*\}\n`)
)

// putBackSaved puts back what one tool of iptables had of ours.
func putBackSaved(ctx context.Context, name, was, is string) error {
	exact := iptables.OthersIn(iptables.Before(was)) == iptables.OthersIn(iptables.Before(is))
	text, args := iptables.Before(was), []string{"-c"}
	if !exact {
		text, args = iptables.Over(iptables.OursIn(iptables.Before(was)), is), []string{"--noflush"}
	}
	if text == "" || text == is {
		return nil
	}
	_, err := inventory.Run(ctx, []byte(text), name+"-restore", args...)
	return err
}

// fillSets makes sets hold what they are said to hold.
func fillSets(ctx context.Context, sets string) error {
	if sets == "" {
		return nil
	}
	now, _ := inventory.Run(ctx, nil, "ipset", "save")
	is := bySet(string(now))
	script := ""
	was := bySet(sets)
	for _, name := range slices.Sorted(maps.Keys(was)) {
		if is[name] == was[name] {
			continue
		}
		script += strings.Replace(was[name], "\n", "\nflush "+name+"\n", 1)
	}
	if script == "" {
		return nil
	}
	_, err := inventory.Run(ctx, []byte(script), "ipset", "restore", "-exist")
	return err
}

// bySet is what a listing of sets says of each.
func bySet(saved string) map[string]string {
	out := map[string]string{}
	for line := range strings.Lines(saved) {
		if f := strings.Fields(line); len(f) > 1 {
			out[f[1]] += line
		}
	}
	return out
}

// dropSets removes sets of ours that keep does not hold.
func dropSets(ctx context.Context, keep string) {
	names, err := inventory.Run(ctx, nil, "ipset", "list", "-n")
	if err != nil {
		return // none were ever needed here
	}
	for _, name := range iptables.StaleSets(keep, strings.Fields(string(names))) {
		_, _ = inventory.Run(ctx, nil, "ipset", "destroy", name) // rules in force may ask for it
	}
}

// PutBack puts all of a copy back, everybody's rules included: what is in force now
// and not in it goes. If a part fails, what was before comes back.
func (c *Copy) PutBack(ctx context.Context) error {
	now, err := TakeCopy(ctx)
	if err != nil {
		return err
	}
	if err := c.PutBackOver(ctx, now); err != nil {
		if back := now.PutBackOver(ctx, c); back != nil {
			return errors.Join(err, fmt.Errorf("and what was before could not be put back: %w", back))
		}
		return err
	}
	return nil
}

// PutBackOver puts back what a copy holds over what is in force now.
func (c *Copy) PutBackOver(ctx context.Context, now *Copy) error {
	if err := fillSets(ctx, c.Sets); err != nil {
		return err
	}
	listing := "" // all tables that nft sees now, those of the tools too
	if _, err := exec.LookPath("nft"); err == nil {
		out, err := inventory.Run(ctx, nil, "nft", "list", "tables")
		if err != nil {
			return err
		}
		for line := range strings.Lines(string(out)) {
			name := strings.TrimSpace(line)
			if !c.told(table{name: name}) { // else the tool itself puts it back
				listing += "delete " + name + "\n"
			}
		}
	}
	if err := c.load(ctx, listing+c.NFT); err != nil {
		return err
	}
	for _, name := range Tools {
		text := c.Saved[name]
		if text == "" && strings.HasSuffix(name, "-legacy") {
			text = emptied(now.Saved[name])
		}
		if text == "" {
			continue
		}
		if _, err := inventory.Run(ctx, []byte(text), name+"-restore", "-c"); err != nil {
			return err
		}
	}
	keep := bySet(c.Sets)
	for _, name := range slices.Sorted(maps.Keys(bySet(now.Sets))) {
		if _, kept := keep[name]; !kept {
			_, _ = inventory.Run(ctx, nil, "ipset", "destroy", name) // a set may hold it
		}
	}
	return nil
}

// emptied is what a tool saved with no rule in it, and chains that admit: legacy
// tables do not go away.
func emptied(saved string) string {
	var b strings.Builder
	for line := range strings.Lines(saved) {
		f := strings.Fields(line)
		switch {
		case strings.HasPrefix(line, "*") || strings.HasPrefix(line, "COMMIT"):
			b.WriteString(line)
		case strings.HasPrefix(line, ":") && len(f) > 1 && f[1] != "-":
			b.WriteString(f[0] + " ACCEPT [0:0]\n")
		}
	}
	return b.String()
}
