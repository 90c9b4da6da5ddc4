package check

import (
	"go4.org/netipx"

	"yellowfence.example/yfence/core/fence"
	"yellowfence.example/yfence/core/packet"
	"yellowfence.example/yfence/core/policy"
	"yellowfence.example/yfence/core/source"
)

// partOfNetwork looks for a declared network that holds what is written out; one that the side
// names anyway, or writes out whole, is left alone.
var partOfNetwork = Check{
	Code:     "part-of-network",
	Severity: source.Warning,
	Doc: `A rule writes addresses out that are part of a declared network.

Often the whole network was meant, and what was left out is the other family or a range
that was added later. Name the network; or, if it is a part that is meant, declare the
part under a name of its own:

    network office   = 203.0.113.0/26, 2001:db8:77::/48
    network printers = 203.0.113.32/28
`,
	run: func(p *pass) {
		for _, r := range p.rules() {
			for _, side := range []fence.Peers{r.Decl.From, r.Decl.To} {
				if peer, n := p.partNamed(side); n != nil {
					p.warn(r, "write `"+n.Name+"`, or declare the part as a network of its own",
						"the rule %q names %s, which is a part of the %s %q", r.Name, peer.Text, kindOf(n), n.Name)
					break
				}
			}
		}
	},
}

// kindOf is what a network is called.
func kindOf(n *policy.Network) string {
	if n.Segment {
		return "segment"
	}
	return "network"
}

// partNamed finds addresses of a side that are part of a declared network which
// the side does not write out whole.
func (p *pass) partNamed(side fence.Peers) (part fence.Peer, of *policy.Network) {
	all := &netipx.IPSet{}
	each := map[int]*netipx.IPSet{}
	for i, peer := range side.Items {
		if peer.Kind == fence.AddressPeer && peer.Addr.From != peer.Addr.To {
			var b netipx.IPSetBuilder
			b.AddRange(netipx.IPRangeFrom(peer.Addr.From, peer.Addr.To))
			each[i], _ = b.IPSet() // the parser refuses ranges that are none
			all = packet.Union(all, each[i])
		}
	}
	for i, peer := range side.Items {
		if each[i] == nil {
			continue
		}
		if n := p.networkAround(each[i]); n != nil && len(packet.Without(n.Addrs, all).Ranges()) > 0 {
			return peer, n
		}
	}
	return part, nil
}

// networkAround finds the smallest declared network that holds all of some
// addresses, nil if none does. Part of a segment is no part of a network: what
// is attached to it has no other name. But all that it has of one family is.
func (p *pass) networkAround(written *netipx.IPSet) (around *policy.Network) {
	for _, n := range p.pol.Networks {
		if len(packet.Without(written, n.Addrs).Ranges()) > 0 {
			continue
		}
		if n.Segment && !written.Equal(packet.OfFamily(n.Addrs, packet.IPv4)) && !written.Equal(packet.OfFamily(n.Addrs, packet.IPv6)) {
			continue
		}
		if around == nil || len(packet.Without(n.Addrs, around.Addrs).Ranges()) == 0 {
			around = n
		}
	}
	return around
}
