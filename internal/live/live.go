package live

import (
	"bytes"
	"encoding/binary"
	"encoding/json"
	"unicode/utf16"

	"yellowfence.example/yfence/api"
	"yellowfence.example/yfence/core/dialect"
	"yellowfence.example/yfence/core/dialect/forms"
	"yellowfence.example/yfence/core/dialect/nft"
	"yellowfence.example/yfence/core/fleet"
	"yellowfence.example/yfence/core/kernel"
	"yellowfence.example/yfence/core/packet"
	"yellowfence.example/yfence/internal/limits"
)

// Read gives all of a host's dumps as the one ruleset they are to its kernel (forms.Read). The
// error is about their text.
func Read(sp *packet.Space, f api.InForce) (*kernel.Ruleset, error) {
	return ReadOf(sp, nil, &fleet.Fleet{}, f)
}

// ReadOf is Read of dumps of a host of a fleet, whose groups may name others'.
func ReadOf(sp *packet.Space, h *fleet.Host, fl *fleet.Fleet, f api.InForce) (*kernel.Ruleset, error) {
	return forms.Read(&dialect.Reading{Space: sp, Host: h, Fleet: fl, Names: f.Names}, f.Dumps, f.Complete)
}

// Sniff tells what a file holds by its content: a report as `yfence report
// --print` gives it, or a listing of rules in either form.
//
// A file without anything in it is the listing that its name says, as charts-01.ip6tables
// does: tools print nothing where nobody made rules.
func Sniff(name string, data []byte) api.InForce {
	data = plain(data)
	kind := forms.Sniff(data)
	if named := forms.Named(name); named != "" && len(bytes.TrimSpace(data)) == 0 {
		kind = named
	}
	var r api.Report
	if kind == nft.ListingJSON && json.Unmarshal(data, &r) == nil && r.Host != "" {
		return r.InForce
	}
	return api.InForce{Dumps: []api.Dump{{Kind: kind, Text: string(data), File: name}}}
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
