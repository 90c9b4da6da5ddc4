package inventory

import (
	"bytes"
	"context"
	"fmt"
	"os"
	"os/exec"
	"regexp"
	"slices"
	"strings"

	"yellowfence.example/yfence/core/dialect"
	"yellowfence.example/yfence/core/dialect/iptables"

	"yellowfence.example/yfence/api"
)

// passing is what a dump says anew each time, though no rule changed: when it was
// made, and how much each chain's policy has decided. A report that is the same as
// the one before has been judged already.
var passing = regexp.MustCompile(`(?m)^(# (?:Generated|Completed).*?|:\S+ \S+) (?:on .*|\[\d+:\d+\])$`)

// asksForRoutes is what stands in rules whose meaning depends on the host's routes.
var asksForRoutes = regexp.MustCompile(`"fib"|"dnat"|"pkttype"|-m addrtype|-m rpfilter|-m pkttype|-j DNAT`)

// expiry is how ipset says when an element goes, which differs from listing to listing.
var expiry = regexp.MustCompile(` expires -?\d+sec`)

// routes dumps the host's routes where rules ask for them.
func routes(ctx context.Context, dumps []api.Dump) ([]api.Dump, error) {
	if !slices.ContainsFunc(dumps, func(d api.Dump) bool { return asksForRoutes.MatchString(d.Text) }) {
		return nil, nil
	}
	if _, err := exec.LookPath("ip"); err != nil {
		return nil, nil // what depends on them stays uncertain
	}
	text := ""
	for _, family := range []string{"-4", "-6"} {
		out, err := Run(ctx, nil, "ip", family, "route", "show", "table", "all")
		if err != nil {
			return nil, err
		}
		text += expiry.ReplaceAllString(string(out), "")
	}
	return []api.Dump{{Kind: dialect.ListingRoutes, Text: text}}, nil
}

// otherTools dumps what nft does not list, or does not list whole: the tables of
// legacy iptables, those that the nft-backed tools made, and the sets they ask for.
func otherTools(ctx context.Context, listing []byte) (dumps []api.Dump, counts []api.Count, err error) {
	sets := false
	add := func(kind dialect.Kind, program string) error {
		out, err := Run(ctx, nil, program, "-c")
		if err != nil {
			return err
		}
		text, n := uncounted(kind, passing.ReplaceAllString(string(out), "$1"))
		if strings.Contains(text, "\n-A ") || strings.Contains(text, " DROP\n") {
			dumps, counts = append(dumps, api.Dump{Kind: kind, Text: text}), append(counts, n...)
			sets = sets || strings.Contains(text, "--match-set ")
		}
		return nil
	}
	for _, t := range []struct {
		kind            dialect.Kind
		tables, program string
	}{
		{iptables.Listing4, "/proc/thread-self/net/ip_tables_names", "iptables-legacy-save"},
		{iptables.Listing6, "/proc/thread-self/net/ip6_tables_names", "ip6tables-legacy-save"},
	} {
		names, _ := os.ReadFile(t.tables) // it is not there where nobody ever used a table
		if len(bytes.TrimSpace(names)) == 0 {
			continue
		}
		if _, err := exec.LookPath(t.program); err != nil {
			return nil, nil, fmt.Errorf("the kernel has tables of legacy iptables (%s), and %s, which would tell them, is not installed "+
				"(Debian's package iptables)",
				strings.Join(strings.Fields(string(names)), ", "), t.program)
		}
		if err := add(t.kind, t.program); err != nil {
			return nil, nil, err
		}
	}
	if bytes.Contains(listing, []byte(`"xt"`)) { // matches that only the tools which made them can tell
		for _, t := range []struct {
			kind    dialect.Kind
			program string
		}{{iptables.Listing4, "iptables-nft-save"}, {iptables.Listing6, "ip6tables-nft-save"}} {
			if _, err := exec.LookPath(t.program); err != nil {
				continue // they stay uncertain
			}
			if err := add(t.kind, t.program); err != nil {
				return nil, nil, err
			}
		}
	}
	if sets {
		out, err := Run(ctx, nil, "ipset", "save")
		if err != nil {
			return nil, nil, err
		}
		dumps = append(dumps, api.Dump{Kind: iptables.ListingSets, Text: string(out)})
	}
	return dumps, counts, nil
}

// statement finds which statement a rule of ours carries out, and deciding whether it decides.
var (
	statement = regexp.MustCompile(`^-A ` + iptables.Prefix + `(\S+) .*--comment "([^"]*)"`)
	deciding  = regexp.MustCompile(` -j (ACCEPT|DROP|REJECT|REDIRECT|DNAT|MASQUERADE)\b`)
)

// uncounted is what a tool of iptables saved without counts, and those of its rules, by line.
func uncounted(kind dialect.Kind, saved string) (text string, counts []api.Count) {
	var b strings.Builder
	n := 0
	for line := range strings.Lines(saved) {
		n++
		var packets, bytes int64
		if _, err := fmt.Sscanf(line, "[%d:%d] ", &packets, &bytes); err == nil {
			_, line, _ = strings.Cut(line, "] ")
			c := api.Count{At: fmt.Sprintf("%s:%d", kind, n), Packets: packets, Bytes: bytes}
			if by := statement.FindStringSubmatch(line); by != nil && deciding.MatchString(line) {
				c.Chain = by[1]
				c.By, _, _ = strings.Cut(by[2], iptables.FromWords)
			}
			counts = append(counts, c)
		}
		b.WriteString(line)
	}
	return b.String(), counts
}
