package iptables

import (
	"maps"
	"slices"
	"strings"

	"yellowfence.example/yfence/core/dialect"
	"yellowfence.example/yfence/core/kernel"
	"yellowfence.example/yfence/core/packet"
)

// The kinds of dumps that Dumps reads.
const (
	Listing4    dialect.Kind = "iptables-save"  // what that tool prints, legacy or nft-backed
	Listing6    dialect.Kind = "ip6tables-save" // the same of IPv6
	ListingSets dialect.Kind = "ipset-save"     // what ipset save prints
)

// Dumps reads them.
type Dumps struct{}

// Listings are the sets, and the rules of each family.
func (Dumps) Listings() []dialect.Listing {
	return []dialect.Listing{{Kind: ListingSets, Files: "ipset", Quiet: true},
		{Kind: Listing6, Families: []int{packet.IPv6}, Files: "ip6tables", Quiet: true},
		{Kind: Listing4, Families: []int{packet.IPv4}, Files: "iptables", Quiet: true}}
}

// Sniff tells them by their first lines.
func (Dumps) Sniff(text []byte) (kind dialect.Kind, ok bool) {
	if IsSets(string(text)) {
		return ListingSets, true
	}
	family, ok := IsSave(string(text))
	return []dialect.Kind{packet.IPv4: Listing4, packet.IPv6: Listing6}[family], ok
}

// Read reads one of them.
func (Dumps) Read(r *dialect.Reading, d dialect.Dump) (*kernel.Ruleset, error) {
	known, _ := r.Sets.(Sets)
	if d.Kind == ListingSets {
		sets, err := ReadSets(d.Text)
		if known == nil {
			known = Sets{}
		}
		maps.Copy(known, sets)
		r.Sets = known
		return &kernel.Ruleset{}, err
	}
	users, groups := r.Names.ByNumber()
	family := packet.IPv4
	if d.Kind == Listing6 {
		family = packet.IPv6
	}
	rs, err := Read(r.Space, family, d.Name(), d.Text, Host{Users: users, Groups: groups, Sets: known, Routes: r.Names.Routes})
	if err == nil && Backed(d.Text) {
		for _, c := range rs.Chains {
			r.Read[c.Family+" "+c.Table] = true
		}
	}
	return rs, err
}

// NamedSets is of a dialect.SetReader.
func (Dumps) NamedSets(d dialect.Dump) (out []dialect.NamedSet, err error) {
	if d.Kind != ListingSets {
		return nil, nil
	}
	sets, err := ReadSets(d.Text)
	for _, name := range slices.Sorted(maps.Keys(sets)) {
		one := dialect.NamedSet{Name: name, Changes: sets.changing(name)}
		for _, m := range sets[name].members {
			text := strings.Join(m.parts, ",")
			if m.excepted {
				text += " nomatch"
			}
			one.Elements = append(one.Elements, text)
		}
		out = append(out, one)
	}
	return out, err
}
