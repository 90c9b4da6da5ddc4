package live

import (
	"bytes"
	"cmp"
	"encoding/binary"
	"encoding/json"
	"fmt"
	"path/filepath"
	"slices"
	"strings"
	"unicode/utf16"

	"yellowfence.example/yfence/core/dialect"
	"yellowfence.example/yfence/core/dialect/forms"
	"yellowfence.example/yfence/core/dialect/nft"
	"yellowfence.example/yfence/core/fleet"
	"yellowfence.example/yfence/core/kernel"
	"yellowfence.example/yfence/core/packet"
	"yellowfence.example/yfence/internal/api"
	"yellowfence.example/yfence/internal/limits"
)

// Read gives all of a host's dumps as the one ruleset they are to its kernel. The
// error is about their text. What the nft-backed tools of iptables made stands in
// nft's listing too, where most of it cannot be read: their own dump counts.
func Read(sp *packet.Space, f api.InForce) (*kernel.Ruleset, error) {
	return ReadOf(sp, nil, &fleet.Fleet{}, f)
}

// ReadOf is Read of dumps of a host of a fleet, whose groups may name others'.
func ReadOf(sp *packet.Space, h *fleet.Host, fl *fleet.Fleet, f api.InForce) (*kernel.Ruleset, error) {
	all, r := &kernel.Ruleset{}, &dialect.Reading{Space: sp, Host: h, Fleet: fl, Names: &kernel.Names{Unsaid: true},
		Read: map[string]bool{}}
	if f.Names != nil {
		*r.Names = *f.Names
	}
	known := forms.Listings()
	place := func(d api.Dump) int {
		return slices.IndexFunc(known, func(l dialect.Listing) bool { return l.Kind == d.Kind })
	}
	dumps := nft.Relevant(f.Dumps)
	slices.SortStableFunc(dumps, func(a, b api.Dump) int { return place(a) - place(b) })
	var listings []dialect.Listing
	reported := false
	for _, d := range dumps {
		rs, err := read(r, d)
		if err != nil {
			return nil, fmt.Errorf("%s: %w", cmp.Or(d.File, string(d.Kind)+" dump"), err)
		}
		all.Add(rs)
		listings, reported = append(listings, known[place(d)]), reported || d.File == ""
	}
	if r.Names.Routes != nil {
		all.Routes = r.Names.Routes
	}
	if !f.Complete && !reported { // a host's report has all
		all.Add(dialect.Missing(sp, listings, known))
	}
	return all, nil
}

// read reads one dump by the reader of its kind. A listing that prints nothing where there is
// nothing counts as that only under a file's name that says which it is.
func read(r *dialect.Reading, d api.Dump) (*kernel.Ruleset, error) {
	reader := forms.Reading(d.Kind)
	if reader == nil {
		return nil, fmt.Errorf("nobody reads dumps of the kind %q", d.Kind)
	}
	for _, l := range reader.Listings() {
		if l.Kind == d.Kind && l.Quiet && strings.TrimSpace(d.Text) == "" && (d.File == "" || kindNamed(d.File) == d.Kind) {
			return &kernel.Ruleset{}, nil // such a tool prints nothing where nobody made rules
		}
	}
	return reader.Read(r, d)
}

// Sniff tells what a file holds by its content: a report as `yfence report
// --print` gives it, or a listing of rules in either form.
//
// A file without anything in it is the listing that its name says, as charts-01.ip6tables
// does: tools print nothing where nobody made rules.
func Sniff(name string, data []byte) api.InForce {
	data = plain(data)
	kind := forms.Sniff(data)
	if named := kindNamed(name); named != "" && len(bytes.TrimSpace(data)) == 0 {
		kind = named
	}
	var r api.Report
	if kind == nft.ListingJSON && json.Unmarshal(data, &r) == nil && r.Host != "" {
		return r.InForce
	}
	return api.InForce{Dumps: []api.Dump{{Kind: kind, Text: string(data), File: name}}}
}

// kindNamed is the kind of listing that a file is, by its name; "" if that does not say it.
func kindNamed(file string) dialect.Kind {
	for _, l := range forms.Listings() {
		if l.Files != "" && strings.Contains(strings.ToLower(filepath.Base(file)), l.Files) {
			return l.Kind
		}
	}
	return ""
}

// plain is a text in UTF-8 without a mark: some editors and shells write UTF-16.
func plain(data []byte) []byte {
	var order binary.ByteOrder
	switch {
	case bytes.HasPrefix(data, []byte("\xff\xfe")):
		order = binary.LittleEndian
	case bytes.HasPrefix(data, []byte("\xfe\xff")):
		order = binary.BigEndian
	default:
		return bytes.TrimPrefix(data, []byte("\xef\xbb\xbf"))
	}
	var units []uint16
	for i := 2; i+1 < len(data); i += 2 {
		units = append(units, order.Uint16(data[i:]))
	}
	return []byte(string(utf16.Decode(units)))
}

// Bound is how many distinctions a dump may take before it is called too
// complex: about 300 MB. What people write by hand takes a hundredth.
const Bound = limits.JudgeCases
