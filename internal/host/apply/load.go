package apply

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"

	"yellowfence.example/yfence/api"
	"yellowfence.example/yfence/core/dialect/iptables"
	"yellowfence.example/yfence/core/dialect/nft"
	"yellowfence.example/yfence/core/packet"
	"yellowfence.example/yfence/internal/host/inventory"
)

// Load puts rules in force, after the kernel's own tools have checked them: all
// of it holds, or nothing changed. Users and units that the rules ask for and this
// host does not have are told: they admit nothing. What host.Machine adds is a way back.
func Load(ctx context.Context, files []api.File) (absent []string, err error) {
	if len(files) == 1 && files[0].Kind == "nft" {
		return settleNFT(ctx, files[0].Text)
	}
	return settleIPTables(ctx, files)
}

// settleNFT is one transaction.
func settleNFT(ctx context.Context, rules string) (absent []string, err error) {
	rules, absent = filled(rules)
	for _, args := range [][]string{{"-c", "-f", "-"}, {"-f", "-"}} {
		if _, err := inventory.Run(ctx, []byte(rules), "nft", args...); err != nil {
			return nil, err
		}
	}
	return absent, nil
}

// filled is rules of ours with what this host knows users and units by, and those it has not.
func filled(rules string) (text string, absent []string) {
	found := map[string]nft.Filling{}
	for _, s := range nft.SendersOf(rules) {
		if f, ok := inventory.Find(s.Sender); ok {
			found[s.Set] = f.Filling()
		} else {
			absent = append(absent, s.String())
		}
	}
	return nft.Fill(rules, found), absent
}

// settleIPTables puts sets in force, then each family's rules in one transaction.
// If a later one fails, those before go back. Sets are called after what they
// hold, so that those of the rules before stay as they are until the end.
func settleIPTables(ctx context.Context, files []api.File) (absent []string, err error) {
	kind := toolKind()
	program := func(family, verb string) string { return family + kind + "-" + verb }
	// Senders that the host does not have are told once, however many rules ask for them.
	said := map[packet.Sender]bool{}
	known := func(s packet.Sender) string {
		f, ok := inventory.Find(s)
		if !ok && !said[s] {
			said[s] = true
			absent = append(absent, s.String())
		}
		return f.Element
	}
	// What each family has now is read first: the new rules go into it, and it is what goes back.
	sets := ""
	type change struct{ family, rules, before string }
	var changes []change
	for _, f := range files {
		if f.Kind == "ipset" {
			sets = f.Text
			continue
		}
		before, err := inventory.Run(ctx, nil, program(string(f.Kind), "save"), "-c")
		if err != nil {
			return nil, err
		}
		changes = append(changes, change{string(f.Kind), iptables.Over(iptables.Fill(f.Text, known), string(before)),
			iptables.Before(string(before))})
	}
	drop := func(keep string) { dropSets(ctx, keep) }
	// Sets first, under names that nothing asks yet.
	if sets != "" {
		if _, err := inventory.Run(ctx, []byte(sets), "ipset", "restore", "-exist"); err != nil {
			drop("")
			return nil, err
		}
	}
	// Both families are tried before either is changed.
	for _, c := range changes {
		if _, err := inventory.Run(ctx, []byte(c.rules), program(c.family, "restore"), "--noflush", "--test"); err != nil {
			drop("")
			return nil, err
		}
	}
	// Then each is one transaction. Where a later one fails all the same, those before go back.
	for i, c := range changes {
		_, err := inventory.Run(ctx, []byte(c.rules), program(c.family, "restore"), "--noflush")
		for ; err != nil && i > 0; i-- {
			done := changes[i-1]
			if _, back := inventory.Run(ctx, []byte(done.before), program(done.family, "restore"), "-c"); back != nil {
				err = errors.Join(err, fmt.Errorf("and what was before could not be put back: %w", back))
			}
		}
		if err != nil {
			drop("")
			return nil, err
		}
	}
	drop(sets)
	return absent, nil
}

// toolKind is which of the two kinds of tools a host's rules are made with, as it
// stands in their names: that of the tables there are, else what the host calls
// iptables.
func toolKind() string {
	for _, file := range []string{"ip_tables_names", "ip6_tables_names"} {
		if names, _ := os.ReadFile(filepath.Join("/proc/thread-self/net", file)); len(bytes.TrimSpace(names)) > 0 {
			return "-legacy"
		}
	}
	return ""
}
