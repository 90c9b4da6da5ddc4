package packet

import (
	"net/netip"

	"go4.org/netipx"
)

// Everything is all addresses of both families.
func Everything() *netipx.IPSet {
	var b netipx.IPSetBuilder
	b.AddPrefix(netip.MustParsePrefix("0.0.0.0/0"))
	b.AddPrefix(netip.MustParsePrefix("::/0"))
	return build(&b)
}

// Union is the addresses in either set.
func Union(a, b *netipx.IPSet) *netipx.IPSet {
	var builder netipx.IPSetBuilder
	builder.AddSet(a)
	builder.AddSet(b)
	return build(&builder)
}

// Intersection is the addresses in both sets.
func Intersection(a, b *netipx.IPSet) *netipx.IPSet {
	var builder netipx.IPSetBuilder
	builder.AddSet(a)
	builder.Intersect(b)
	return build(&builder)
}

// Without is the addresses of a that are not in b.
func Without(a, b *netipx.IPSet) *netipx.IPSet {
	var builder netipx.IPSetBuilder
	builder.AddSet(a)
	builder.RemoveSet(b)
	return build(&builder)
}

// Prefixes is the addresses in some prefixes.
func Prefixes(prefixes ...netip.Prefix) *netipx.IPSet {
	var b netipx.IPSetBuilder
	for _, p := range prefixes {
		b.AddPrefix(p)
	}
	return build(&b)
}

// PrefixText is a prefix as people write it: a single address without its length.
func PrefixText(p netip.Prefix) string {
	if p.IsSingleIP() {
		return p.Addr().String()
	}
	return p.String()
}

// OfFamily is the addresses of one family.
func OfFamily(set *netipx.IPSet, family int) *netipx.IPSet {
	var b netipx.IPSetBuilder
	for _, r := range set.Ranges() {
		if r.From().Is4() == (family == IPv4) {
			b.AddRange(r)
		}
	}
	return build(&b)
}

// build makes a set of what is known to be sound: the builder's only errors are
// about ranges that are not.
func build(b *netipx.IPSetBuilder) *netipx.IPSet {
	set, _ := b.IPSet()
	return set
}

// Loopback is the addresses by which a host speaks to itself (RFC 6890).
var Loopback = func() *netipx.IPSet {
	var b netipx.IPSetBuilder
	b.AddPrefix(netip.MustParsePrefix("127.0.0.0/8"))
	b.Add(netip.IPv6Loopback())
	s, _ := b.IPSet()
	return s
}()
