package check

import (
	"slices"

	"go4.org/netipx"

	"yellowfence.example/yfence/core/packet"
	"yellowfence.example/yfence/core/policy"
	"yellowfence.example/yfence/core/source"
)

// oneFamily counts what the two sides have in common in each family, and is silent where the
// hosts or the service have one family alone.
var oneFamily = Check{
	Code:     "one-family",
	Severity: source.Warning,
	Doc: `A rule works in one family only, though its hosts have both.

The peers on one side have addresses in one family; over the other family the same
connection is refused where it is an allow, and passes where it is a block of machines on
a segment with both. Give the network its other prefix, name the segment, or accept it.
`,
	run: func(p *pass) {
		for _, r := range p.rules() {
			if !r.To.Named && !r.From.Named || r.Block && !p.sameMachines(r) {
				continue
			}
			four, six := families(r.From.Addrs)
			to4, to6 := families(r.To.Addrs)
			works4, works6 := four && to4, six && to6
			both4, both6 := hostFamilies(r)
			for4, for6 := serviceFamilies(r.Terms)
			if !for4 || !for6 { // the service itself is of one family
				continue
			}
			if both4 && both6 && works4 != works6 {
				family := "IPv6"
				if works6 {
					family = "IPv4"
				}
				if r.Block {
					p.warn(r, "name the segment, or the addresses in both families, or accept it: knowingly one-family \"why\"",
						"the block %q blocks nothing over %s, which the same machines have too", r.Name, family)
					continue
				}
				p.warn(r, "give both sides addresses in both families, or accept it: knowingly one-family \"why\"",
					"the allow %q admits nothing over %s, which its hosts have too", r.Name, family)
			}
		}
	},
}

// sameMachines says that the addresses of a block's side which names no hosts are all on a
// segment with both families: what speaks from them has addresses in the other one too.
func (p *pass) sameMachines(r *policy.Rule) bool {
	for _, side := range []policy.Side{r.From, r.To} {
		if side.Named || len(side.Addrs.Ranges()) == 0 {
			continue
		}
		if !slices.ContainsFunc(p.pol.Segments(), func(seg *policy.Network) bool {
			four, six := families(seg.Addrs)
			return four && six && len(packet.Without(side.Addrs, seg.Addrs).Ranges()) == 0
		}) {
			return false
		}
	}
	return true
}

// serviceFamilies are the families that services are of: ICMP is of one, ICMPv6 of the other.
func serviceFamilies(terms []policy.Term) (four, six bool) {
	for _, t := range terms {
		four = four || t.Family != packet.IPv6 && t.Protocol != packet.ICMPv6
		six = six || t.Family != packet.IPv4 && t.Protocol != packet.ICMP
	}
	return four, six
}

// families says of which families a set has addresses.
func families(set *netipx.IPSet) (four, six bool) {
	for _, r := range set.Ranges() {
		if r.From().Is4() {
			four = true
		} else {
			six = true
		}
	}
	return four, six
}

// hostFamilies are the families that the hosts of every side that names some have.
func hostFamilies(r *policy.Rule) (four, six bool) {
	four, six = true, true
	for _, side := range []policy.Side{r.From, r.To} {
		if !side.Named {
			continue
		}
		has4, has6 := families(side.HostAddrs())
		four, six = four && has4, six && has6
	}
	return four, six
}
