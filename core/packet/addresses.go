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
