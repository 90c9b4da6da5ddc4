package packet

import (
	"net/netip"

	"go4.org/netipx"
)

// Everything is all addresses of both families. It is one value that all share: IPSets never
// change.
func Everything() *netipx.IPSet {
	var b netipx.IPSetBuilder
	b.AddPrefix(netip.MustParsePrefix("0.0.0.0/0"))
	b.AddPrefix(netip.MustParsePrefix("::/0"))
	return build(&b)
}

// Union is the addresses in either set. Its cost is linear in the ranges of both.
func Union(a, b *netipx.IPSet) *netipx.IPSet {
	var builder netipx.IPSetBuilder
	builder.AddSet(a)
	builder.AddSet(b)
	return build(&builder)
}

// Intersection is the addresses in both sets. Its cost is linear in the ranges of both.
func Intersection(a, b *netipx.IPSet) *netipx.IPSet {
	var builder netipx.IPSetBuilder
	builder.AddSet(a)
	builder.Intersect(b)
	return build(&builder)
}

// Without is the addresses of a that are not in b. Its cost is linear in the ranges of both, so
// that many single addresses are best taken away as one set.
func Without(a, b *netipx.IPSet) *netipx.IPSet {
	var builder netipx.IPSetBuilder
	builder.AddSet(a)
	builder.RemoveSet(b)
	return build(&builder)
}

// Prefixes is the addresses in some prefixes, which may overlap and need not be masked.
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

// OfFamily is the addresses of one family, IPv4 or IPv6. An IPv4 address written as IPv6 is an
// address of IPv6, as it is to a filter.
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
