package forms

import (
	"cmp"
	"fmt"
	"path/filepath"
	"slices"
	"strings"

	"yellowfence.example/yfence/core/dialect"
	"yellowfence.example/yfence/core/dialect/nft"
	"yellowfence.example/yfence/core/kernel"
)

// Read gives all dumps of a host as the one ruleset they are to its kernel, in the order in which
// their kinds build on one another. The error is about their text, with the dump's name. complete
// says that there is nothing but what they tell; of families that they do not tell nothing is
// known else. r needs its Space, and Names if the host said any.
//
// What the nft-backed tools of iptables made stands in nft's listing too, where most of it cannot
// be read: their own dump counts.
func Read(r *dialect.Reading, dumps []dialect.Dump, complete bool) (*kernel.Ruleset, error) {
	names := kernel.Names{Unsaid: true}
	if r.Names != nil {
		names = *r.Names
	}
	r.Names, r.Read = &names, map[string]bool{}
	known := Listings()
	place := func(d dialect.Dump) int {
		return slices.IndexFunc(known, func(l dialect.Listing) bool { return l.Kind == d.Kind })
	}
	dumps = nft.Relevant(dumps)
	slices.SortStableFunc(dumps, func(a, b dialect.Dump) int { return place(a) - place(b) })
	all := &kernel.Ruleset{}
	var listings []dialect.Listing
	for _, d := range dumps {
		rs, err := readOne(r, d)
		if err != nil {
			return nil, fmt.Errorf("%s: %w", cmp.Or(d.File, string(d.Kind)+" dump"), err)
		}
		all.Add(rs)
		listings, complete = append(listings, known[place(d)]), complete || d.File == "" // a host's report has all
	}
	if r.Names.Routes != nil {
		all.Routes = r.Names.Routes
	}
	if !complete {
		all.Add(dialect.Missing(r.Space, listings, known))
	}
	return all, nil
}

// readOne reads one dump by the reader of its kind. A listing that prints nothing where there is
// nothing counts as that only under a file's name that says which it is.
func readOne(r *dialect.Reading, d dialect.Dump) (*kernel.Ruleset, error) {
	reader := Reading(d.Kind)
	if reader == nil {
		return nil, fmt.Errorf("nobody reads dumps of the kind %q", d.Kind)
	}
	for _, l := range reader.Listings() {
		if l.Kind == d.Kind && l.Quiet && strings.TrimSpace(d.Text) == "" && (d.File == "" || Named(d.File) == d.Kind) {
			return &kernel.Ruleset{}, nil // such a tool prints nothing where nobody made rules
		}
	}
	return reader.Read(r, d)
}

// NamedSets are the sets that rules of a host's dumps ask by name. A dump that cannot be read has
// none: reading its rules says why.
func NamedSets(dumps []dialect.Dump) (out []dialect.NamedSet) {
	for _, d := range nft.Relevant(dumps) {
		if reader, ok := Reading(d.Kind).(dialect.SetReader); ok {
			sets, err := reader.NamedSets(d)
			if err == nil {
				out = append(out, sets...)
			}
		}
	}
	return out
}

// Named is the kind of listing that a file is, by its name; "" if that does not say it.
func Named(file string) dialect.Kind {
	for _, l := range Listings() {
		if l.Files != "" && strings.Contains(strings.ToLower(filepath.Base(file)), l.Files) {
			return l.Kind
		}
	}
	return ""
}
