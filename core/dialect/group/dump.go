package group

import (
	"yellowfence.example/yfence/core/dialect"
	"yellowfence.example/yfence/core/kernel"
	"yellowfence.example/yfence/core/packet"
)

// Listing is the kind of dumps that Dumps reads: security groups, as a Document.
const Listing dialect.Kind = "groups"

// Dumps reads Documents.
type Dumps struct{}

// Listings is the one kind.
func (Dumps) Listings() []dialect.Listing {
	return []dialect.Listing{{Kind: Listing, Families: []int{packet.IPv4, packet.IPv6}}}
}

// Sniff tells a Document by the kind that it says.
func (Dumps) Sniff(text []byte) (dialect.Kind, bool) { return Listing, Is(text) }

// Read reads a Document.
func (Dumps) Read(r *dialect.Reading, d dialect.Dump) (*kernel.Ruleset, error) {
	doc, err := Parse([]byte(d.Text))
	if err != nil {
		return nil, err
	}
	return Read(r.Space, r.Host, r.Fleet, doc)
}
