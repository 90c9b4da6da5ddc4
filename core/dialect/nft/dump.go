package nft

import (
	"bytes"
	"regexp"
	"slices"
	"strings"

	"yellowfence.example/yfence/core/dialect"
	"yellowfence.example/yfence/core/kernel"
	"yellowfence.example/yfence/core/packet"
)

// The kinds of dumps that Dumps reads.
const (
	ListingJSON dialect.Kind = "nft-json" // what nft -j list ruleset prints
	ListingText dialect.Kind = "nft-text" // what nft list ruleset prints
)

// Dumps reads both. What the nft-backed tools of iptables made stands in nft's listing too, where most
// of it cannot be read: their own dump counts.
type Dumps struct{}

// Listings are the two forms.
func (Dumps) Listings() []dialect.Listing {
	both := []int{packet.IPv4, packet.IPv6}
	return []dialect.Listing{{Kind: ListingText, Families: both, Files: "nft", Quiet: true}, {Kind: ListingJSON, Families: both}}
}

// Sniff takes any text for one or the other: what is no listing is refused when it is read. An
// empty one is text, of which the error says what to do.
func (Dumps) Sniff(text []byte) (dialect.Kind, bool) {
	if bytes.HasPrefix(bytes.TrimSpace(text), []byte("{")) {
		return ListingJSON, true
	}
	return ListingText, true
}

// Read reads one of them.
func (Dumps) Read(r *dialect.Reading, d dialect.Dump) (rs *kernel.Ruleset, err error) {
	if d.Kind == ListingText {
		rs, err = ReadText(r.Space, d.Name(), []byte(d.Text), r.Names)
	} else {
		rs, err = ReadJSON(r.Space, []byte(d.Text), r.Names)
	}
	if err == nil {
		rs.Chains = slices.DeleteFunc(rs.Chains, func(c *kernel.Chain) bool { return r.Read[c.Family+" "+c.Table] })
	}
	return rs, err
}

// Relevant are the dumps that count. A report has the listing in both forms: JSON is quicker to
// read, and leaves out how deep control groups lie that others ask for, and of some versions
// the devices of chains at ingress.
func Relevant(dumps []dialect.Dump) []dialect.Dump {
	reported := func(d dialect.Dump, kind dialect.Kind) bool { return d.Kind == kind && d.File == "" }
	has := func(kind dialect.Kind) bool {
		return slices.ContainsFunc(dumps, func(d dialect.Dump) bool { return reported(d, kind) })
	}
	if !has(ListingJSON) || !has(ListingText) {
		return slices.Clone(dumps)
	}
	left := ListingText
	for _, d := range dumps {
		if reported(d, ListingText) && (deepGroup.MatchString(d.Text) || strings.Contains(d.Text, " hook ingress ")) {
			left = ListingJSON
		}
	}
	return slices.DeleteFunc(slices.Clone(dumps), func(d dialect.Dump) bool { return reported(d, left) })
}

// deepGroup is a match on a control group itself; rules of ours ask for sets.
var deepGroup = regexp.MustCompile(`socket cgroupv2 level \d+ ["\d]`)

// NamedSets is of a dialect.SetReader.
func (Dumps) NamedSets(d dialect.Dump) (out []dialect.NamedSet, err error) {
	l := &listing{}
	if d.Kind == ListingJSON {
		l, err = listed([]byte(d.Text))
	} else {
		l, err = listedText(d.File, []byte(d.Text))
	}
	if err != nil {
		return nil, err
	}
	for _, s := range l.sets {
		one := dialect.NamedSet{Table: s.family + " " + s.table, Name: s.name, Changes: s.changing}
		for i := range s.elements {
			one.Elements = append(one.Elements, s.elements[i].element())
		}
		out = append(out, one)
	}
	return out, nil
}
