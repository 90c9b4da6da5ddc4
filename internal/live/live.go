// Package live reads what hosts say they have in force: reports as they are
// sent, and files that people made of listings by hand.
package live

import (
	"bytes"
	"cmp"
	"encoding/json"
	"fmt"
	"maps"

	"yellowfence.example/yfence/core/dialect"
	"yellowfence.example/yfence/core/dialect/iptables"
	"yellowfence.example/yfence/core/dialect/nft"
	"yellowfence.example/yfence/core/packet"
	"yellowfence.example/yfence/internal/api"
)

// Read gives all of a host's dumps as the one ruleset they are to its kernel.
// The error is about their text.
func Read(sp *packet.Space, f api.InForce) (*dialect.Ruleset, error) {
	all, sets := &dialect.Ruleset{}, iptables.Sets{}
	for _, d := range f.Dumps {
		if d.Kind == IPSet {
			read, err := iptables.ReadSets(d.Text)
			if err != nil {
				return nil, fmt.Errorf("%s: %w", cmp.Or(d.File, d.Kind+" dump"), err)
			}
			maps.Copy(sets, read)
		}
	}
	for _, d := range f.Dumps {
		if d.Kind == IPSet {
			continue
		}
		read := nft.ReadJSON
		switch d.Kind {
		case NFTText:
			read = func(sp *packet.Space, data []byte, names *nft.Names) (*dialect.Ruleset, error) {
				return nft.ReadText(sp, cmp.Or(d.File, d.Kind), data, names)
			}
		case IPTables, IP6Tables:
			family := map[string]int{IPTables: packet.IPv4, IP6Tables: packet.IPv6}[d.Kind]
			read = func(sp *packet.Space, data []byte, names *nft.Names) (*dialect.Ruleset, error) {
				users, groups := names.ByNumber()
				return iptables.Read(sp, family, cmp.Or(d.File, d.Kind), string(data), iptables.Host{Users: users, Groups: groups, Sets: sets})
			}
		}
		rs, err := read(sp, []byte(d.Text), f.Names)
		if err != nil && d.File == "" {
			err = fmt.Errorf("%s dump: %w", d.Kind, err)
		}
		if err != nil {
			return nil, err
		}
		all.Add(rs)
	}
	return all, nil
}

// The kinds of dumps.
const (
	NFTJSON = "nft-json" // what nft -j list ruleset prints
	NFTText = "nft-text" // what nft list ruleset prints

	IPTables  = "iptables-save"  // what that tool prints, legacy or nft-backed
	IP6Tables = "ip6tables-save" // the same
	IPSet     = "ipset-save"     // what ipset save prints
)

// OfFile tells what a file holds by its content: a report as `yfence report
// --print` gives it, or a listing of rules in either form.
func OfFile(name string, data []byte) api.InForce {
	if iptables.IsSets(string(data)) {
		return api.InForce{Dumps: []api.Dump{{Kind: IPSet, Text: string(data), File: name}}}
	}
	if family, ok := iptables.IsSave(string(data)); ok {
		kind := []string{packet.IPv4: IPTables, packet.IPv6: IP6Tables}[family]
		return api.InForce{Dumps: []api.Dump{{Kind: kind, Text: string(data), File: name}}}
	}
	text := bytes.TrimSpace(data)
	if !bytes.HasPrefix(text, []byte("{")) && len(text) > 0 {
		return api.InForce{Dumps: []api.Dump{{Kind: NFTText, Text: string(data), File: name}}}
	}
	var r api.Report
	if json.Unmarshal(data, &r) == nil && r.Host != "" {
		return r.InForce
	}
	return api.InForce{Dumps: []api.Dump{{Kind: NFTJSON, Text: string(data), File: name}}}
}

// Bound is how many distinctions a dump may take before it is called too
// tangled: about half a gigabyte. What people write by hand takes a hundredth.
const Bound = 12_000_000
