// Package live reads what hosts say they have in force: reports as they are
// sent, and files that people made of listings by hand.
package live

import (
	"bytes"
	"cmp"
	"encoding/binary"
	"encoding/json"
	"fmt"
	"maps"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"unicode/utf16"

	"yellowfence.example/yfence/core/dialect/group"
	"yellowfence.example/yfence/core/dialect/iptables"
	"yellowfence.example/yfence/core/dialect/nft"
	"yellowfence.example/yfence/core/dialect/portable"
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
	all, r := &kernel.Ruleset{}, &reader{host: h, fleet: fl, sp: sp, names: &nft.Names{Unsaid: true}, sets: iptables.Sets{}, told: map[string]bool{}}
	if f.Names != nil {
		*r.names = *f.Names
	}
	dumps := Relevant(f.Dumps)
	slices.SortStableFunc(dumps, func(a, b api.Dump) int { return cmp.Compare(order[a.Kind], order[b.Kind]) })
	for _, d := range dumps {
		rs, err := r.read(d)
		if err != nil {
			return nil, fmt.Errorf("%s: %w", cmp.Or(d.File, d.Kind+" dump"), err)
		}
		all.Add(rs)
	}
	if r.names.Routes != nil {
		all.Routes = r.names.Routes
	}
	if !f.Complete {
		all.Add(missing(sp, dumps))
	}
	return all, nil
}

// missing are chains that stand for the rules of a family that no dump tells of, where people
// made the dumps by hand: they may refuse anything. nft's listing is of both families; the
// tools of iptables each print one.
func missing(sp *packet.Space, dumps []api.Dump) *kernel.Ruleset {
	told := map[string]bool{}
	for _, d := range dumps {
		if d.File == "" {
			return &kernel.Ruleset{} // a host's report has all
		}
		switch d.Kind {
		case IPTables:
			told["ip"] = true
		case IP6Tables:
			told["ip6"] = true
		case Routes, IPSet:
		default:
			return &kernel.Ruleset{}
		}
	}
	out := &kernel.Ruleset{}
	for family, tool := range map[string]string{"ip": IPTables, "ip6": IP6Tables} {
		if told[family] || len(dumps) == 0 {
			continue
		}
		name := fmt.Sprintf("the rules of %s: no dump of %s is given (--complete says that there are none)", map[string]string{"ip": "IPv4", "ip6": "IPv6"}[family], tool)
		for _, hook := range []string{"input", "forward", "output"} {
			out.Chains = append(out.Chains, &kernel.Chain{Family: family, Table: "not dumped", Name: hook, Hook: hook, Type: "filter", Policy: packet.Admit,
				Rules: []kernel.Rule{{Match: sp.Unknown(name), Branches: []kernel.Branch{{Match: packet.All, Action: kernel.Drop}}}}})
		}
	}
	return out
}

// Relevant are the dumps that count. A report has nft's listing in both forms: JSON is
// quicker to read, and leaves out how deep control groups lie that others ask for, and of some
// versions the devices of chains at ingress.
func Relevant(dumps []api.Dump) []api.Dump {
	has := func(kind string) bool {
		return slices.ContainsFunc(dumps, func(d api.Dump) bool { return d.Kind == kind && d.File == "" })
	}
	if !has(NFTJSON) || !has(NFTText) {
		return slices.Clone(dumps)
	}
	left := NFTText
	for _, d := range dumps {
		if d.Kind == NFTText && d.File == "" && (deepGroup.MatchString(d.Text) || strings.Contains(d.Text, " hook ingress ")) {
			left = NFTJSON
		}
	}
	return slices.DeleteFunc(slices.Clone(dumps), func(d api.Dump) bool { return d.Kind == left && d.File == "" })
}

// deepGroup is a match on a control group itself; rules of ours ask for sets.
var deepGroup = regexp.MustCompile(`socket cgroupv2 level \d+ ["\d]`)

// order is what has to be known before what: sets before rules that ask for them,
// and what iptables tells of its tables before what nft does.
var order = map[string]int{Routes: -3, IPSet: -2, IPTables: -1, IP6Tables: -1}

type reader struct {
	host  *fleet.Host // nil if nobody said
	fleet *fleet.Fleet
	sp    *packet.Space
	names *nft.Names
	sets  iptables.Sets
	told  map[string]bool // tables of nft, as in "ip filter", that iptables has told

	routes string // of all dumps of routes so far
}

func (r *reader) read(d api.Dump) (*kernel.Ruleset, error) {
	if strings.TrimSpace(d.Text) == "" && slices.Contains([]string{NFTText, IPTables, IP6Tables, IPSet}, d.Kind) && (d.File == "" || kindNamed(d.File) == d.Kind) {
		return &kernel.Ruleset{}, nil // these print nothing where nobody made rules
	}
	switch d.Kind {
	case Routes:
		routes, err := kernel.ReadRoutes(d.Text)
		if err == nil && r.routes != "" { // each family may have been printed by itself: together they are the host's
			routes, err = kernel.ReadRoutes(r.routes + d.Text)
		}
		r.names.Routes = routes
		r.routes += d.Text + "\n"
		return &kernel.Ruleset{}, err
	case IPSet:
		sets, err := iptables.ReadSets(d.Text)
		maps.Copy(r.sets, sets)
		return &kernel.Ruleset{}, err
	case IPTables, IP6Tables:
		users, groups := r.names.ByNumber()
		family := map[string]int{IPTables: packet.IPv4, IP6Tables: packet.IPv6}[d.Kind]
		rs, err := iptables.Read(r.sp, family, cmp.Or(d.File, d.Kind), d.Text, iptables.Host{Users: users, Groups: groups, Sets: r.sets, Routes: r.names.Routes})
		if err == nil && iptables.Backed(d.Text) {
			for _, c := range rs.Chains {
				r.told[c.Family+" "+c.Table] = true
			}
		}
		return rs, err
	}
	if d.Kind == Portable {
		doc, err := portable.Parse([]byte(d.Text))
		if err != nil {
			return nil, err
		}
		return portable.Read(r.sp, doc)
	}
	if d.Kind == Groups {
		doc, err := group.Parse([]byte(d.Text))
		if err != nil {
			return nil, err
		}
		return group.Read(r.sp, r.host, r.fleet, doc)
	}
	var rs *kernel.Ruleset
	var err error
	if d.Kind == NFTText {
		rs, err = nft.ReadText(r.sp, cmp.Or(d.File, d.Kind), []byte(d.Text), r.names)
	} else {
		rs, err = nft.ReadJSON(r.sp, []byte(d.Text), r.names)
	}
	if err == nil {
		rs.Chains = slices.DeleteFunc(rs.Chains, func(c *kernel.Chain) bool { return r.told[c.Family+" "+c.Table] })
	}
	return rs, err
}

// The kinds of dumps.
const (
	NFTJSON = "nft-json" // what nft -j list ruleset prints
	NFTText = "nft-text" // what nft list ruleset prints

	IPTables  = "iptables-save"  // what that tool prints, legacy or nft-backed
	IP6Tables = "ip6tables-save" // the same
	IPSet     = "ipset-save"     // what ipset save prints

	Groups   = "groups"   // security groups, in the form of core/dialect/group
	Portable = "portable" // a list of rules, in the form of core/dialect/portable

	Routes = "routes" // what ip route show table all prints, of both families
)

// Sniff tells what a file holds by its content: a report as `yfence report
// --print` gives it, or a listing of rules in either form.
//
// A file without anything in it is the listing that its name says, as charts-01.ip6tables
// does: tools print nothing where nobody made rules.
func Sniff(name string, data []byte) api.InForce {
	data = plain(data)
	if kind := kindNamed(name); kind != "" && len(bytes.TrimSpace(data)) == 0 {
		return api.InForce{Dumps: []api.Dump{{Kind: kind, Text: string(data), File: name}}}
	}
	if iptables.IsSets(string(data)) {
		return api.InForce{Dumps: []api.Dump{{Kind: IPSet, Text: string(data), File: name}}}
	}
	if family, ok := iptables.IsSave(string(data)); ok {
		kind := []string{packet.IPv4: IPTables, packet.IPv6: IP6Tables}[family]
		return api.InForce{Dumps: []api.Dump{{Kind: kind, Text: string(data), File: name}}}
	}
	if kernel.IsRoutes(string(data)) {
		return api.InForce{Dumps: []api.Dump{{Kind: Routes, Text: string(data), File: name}}}
	}
	if portable.Is(data) {
		return api.InForce{Dumps: []api.Dump{{Kind: Portable, Text: string(data), File: name}}}
	}
	if group.Is(data) {
		return api.InForce{Dumps: []api.Dump{{Kind: Groups, Text: string(data), File: name}}}
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

// kindNamed is the tool whose listing a file is, by its name; "" if that does not say it.
func kindNamed(file string) string {
	for _, kind := range []struct{ part, kind string }{{"ip6tables", IP6Tables}, {"iptables", IPTables}, {"ipset", IPSet}, {"nft", NFTText}} {
		if strings.Contains(strings.ToLower(filepath.Base(file)), kind.part) {
			return kind.kind
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
