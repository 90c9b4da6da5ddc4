package kernel

import (
	"net/netip"

	"yellowfence.example/yfence/core/packet"
)

// A Presumption is what a rule is read by where its text leaves it open.
type Presumption struct {
	Of   packet.Set // the packets that it matters for
	That string     // as in "nothing was put into set banned since it was listed"
}

// Seldom are unknowns that usually are not so, such as whether a packet has an extension header, or
// has been put into a set since that was listed; with what is then presumed.
type Seldom map[string]string

// AsUsual takes what is seldom so out of rules where that hides no packet which gets in. A rule that
// refuses by such a thing is read as if it were not so; a rule that accepts by it stays
// uncertain, since whoever wants to get in can see to it.
func (rs *Ruleset) AsUsual(sp *packet.Space, seldom Seldom) {
	if len(seldom) == 0 {
		return
	}
	refusing := map[chainKey]bool{}
	for _, c := range rs.Chains {
		refusing[chainKey{c.Family, c.Table, c.Name}] = c.Hook == "" && refuses(c)
	}
	for _, c := range rs.Chains {
		for i := range c.Rules {
			r := &c.Rules[i]
			if !r.Presumes {
				continue
			}
			// A rule may be read as usual where all it does with its packets is one thing: refuse, or accept.
			refuse, accept := len(r.Branches) > 0, len(r.Branches) > 0
			for _, b := range r.Branches {
				refuse = refuse && (b.Action == Drop || b.Action == Reject || b.Action == Jump &&
					refusing[chainKey{c.Family, c.Table, b.Target}])
				accept = accept && b.Action == Accept
			}
			if !refuse && !accept {
				continue
			}
			for _, unknown := range sp.UnknownsOf(r.Match) {
				that, is := seldom[unknown]
				if !is {
					continue
				}
				before := r.Match
				usually := packet.Set(sp.Answered(packet.Decision(r.Match), unknown, false))
				// A refusal is taken to refuse less, an acceptance to accept more: what gets in is never hidden.
				if refuse {
					r.Match = sp.And(r.Match, usually)
				} else {
					r.Match = sp.Or(r.Match, usually)
				}
				if r.Match != before {
					of := sp.Exists(sp.Or(sp.Minus(before, r.Match), sp.Minus(r.Match, before)), sp.UnknownFields()...)
					rs.Presumed = append(rs.Presumed, Presumption{of, that})
				}
			}
		}
	}
}

// refuses says that whatever enters a chain is refused by it, perhaps after a line is written.
func refuses(c *Chain) bool {
	for _, r := range c.Rules {
		for _, b := range r.Branches {
			if b.Action != Drop && b.Action != Reject && b.Action != Pass {
				return false
			}
			if r.Match == packet.All && b.Match == packet.All && b.Action != Pass {
				return true
			}
		}
	}
	return false
}

// FramesTo is the packets that came in a frame to one, many or all: host or unicast, multicast,
// broadcast, or other. That goes by the address they have, unless somebody made the
// frame by hand: rarely names that, and unknown is what then holds.
func FramesTo(sp *packet.Space, routes *Routes, kinds []string, unknown packet.Set, rarely func(name, that string) packet.Set) packet.Set {
	all := limited
	if r, ok := routes.Kind("broadcast"); ok {
		all = r
	}
	sent := sp.Value(packet.Hook, packet.Out)
	many, every := sp.Minus(sp.Addrs(packet.Dst, Multicast), sent), sp.Minus(sp.Addrs(packet.Dst, all), sent)
	is := packet.Empty
	for _, kind := range kinds {
		switch kind {
		case "host", "unicast", "0":
			is = sp.Or(is, sp.Not(sp.Or(many, every)))
		case "multicast", "2":
			is = sp.Or(is, many)
		case "broadcast", "1":
			is = sp.Or(is, every)
		}
	}
	odd := sp.Minus(rarely("whether it came in a frame to others than its address says", "it came in a frame to whom its address says"),
		sent)
	return sp.Or(sp.Minus(is, odd), sp.And(odd, unknown))
}

// Spread is a change of the destination to one of a few addresses of one family, nobody knows
// which: a branch for each. ok is false where they are many.
func Spread(sp *packet.Space, said string, from, to netip.Addr, port int) (out []Branch, ok bool) {
	const most = 16
	family := sp.Value(packet.Family, map[bool]int{true: packet.IPv4, false: packet.IPv6}[from.Is4()])
	for a := from; a.Compare(to) <= 0; a = a.Next() {
		which := packet.All
		if a != to {
			which = sp.Unknown("whether " + said + " chooses " + a.String())
		}
		if out = append(out, Branch{Match: sp.And(family, which), Action: DestinationNAT, To: a, Port: port}); len(out) > most {
			return nil, false
		}
	}
	return out, len(out) > 0
}

// Protocols are the numbers of IP protocols by the names that tools list them with (IANA, "Protocol
// Numbers", as Debian's /etc/protocols spells them).
var Protocols = map[string]int{"ip": 0, "hopopt": 0, "icmp": 1, "igmp": 2, "ggp": 3, "ipencap": 4, "st": 5, "tcp": 6, "egp": 8, "igp": 9,
	"pup": 12, "udp": 17, "hmp": 20,
	"xns-idp": 22, "rdp": 27, "iso-tp4": 29, "dccp": 33, "xtp": 36, "ddp": 37, "idpr-cmtp": 38, "ipv6": 41, "ipv6-route": 43,
	"ipv6-frag": 44, "idrp": 45, "rsvp": 46,
	"gre": 47, "esp": 50, "ah": 51, "skip": 57, "ipv6-icmp": 58, "icmpv6": 58, "ipv6-nonxt": 59, "ipv6-opts": 60, "rspf": 73, "vmtp": 81,
	"eigrp": 88, "ospf": 89,
	"ax.25": 93, "ipip": 94, "etherip": 97, "encap": 98, "pim": 103, "ipcomp": 108, "comp": 108, "vrrp": 112, "l2tp": 115, "isis": 124,
	"sctp": 132, "fc": 133,
	"mobility-header": 135, "mh": 135, "udplite": 136, "mpls-in-ip": 137, "manet": 138, "hip": 139, "shim6": 140, "wesp": 141,
	"rohc": 142, "ethernet": 143}
