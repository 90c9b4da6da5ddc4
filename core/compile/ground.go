package compile

import (
	"net/netip"

	"go4.org/netipx"

	"yellowfence.example/yfence/core/fence"
	"yellowfence.example/yfence/core/fleet"
	"yellowfence.example/yfence/core/packet"
	"yellowfence.example/yfence/core/policy"
)

// A groundPart is one thing that every host gets before any rule.
type groundPart struct {
	name    string
	verdict packet.Verdict
	forward bool // holds for what is forwarded too, where forward is closed
	in, out []Match
}

// groundOf lists the ground of a host in the order in which it decides.
func groundOf(h *fleet.Host, service fleet.Service) []groundPart {
	states := func(s ...int) []Match { return []Match{{States: s}} }
	lo := []Match{{Ifaces: []string{"lo"}}}
	// RFC 792 and RFC 4443: unreachable, (too big,) time exceeded, parameter
	// problem. RFC 4890 section 4.3.1 wants them let through on every host.
	errors := icmp(packet.IPv4, 3, 11, 12)
	errors = append(errors, icmp(packet.IPv6, 1, 2, 3, 4)...)
	mld := []Match{{Terms: icmp(packet.IPv6, 130, 131, 132, 143), From: linkLocal},
		{Terms: []policy.Term{protocol(packet.IPv4, packet.IGMP)}}}
	mldOut := []Match{{Terms: icmp(packet.IPv6, 130, 131, 132, 143)}, {Terms: []policy.Term{protocol(packet.IPv4, packet.IGMP)}}}
	parts := []groundPart{
		{name: fence.PartLoopback, verdict: packet.Admit, in: lo, out: lo},
		{name: fence.PartReplies, verdict: packet.Admit, forward: true, in: states(packet.Established, packet.Related),
			out: states(packet.Established, packet.Related)},
		{name: fence.PartInvalid, verdict: packet.Drop, forward: true, in: states(packet.Invalid), out: states(packet.Invalid)},
		{name: fence.PartICMPErrors, verdict: packet.Admit, forward: true, in: []Match{{Terms: errors}}, out: []Match{{Terms: errors}}},
		// RFC 4861: a host hears router advertisements and speaks solicitations.
		{name: fence.PartNeighbours, verdict: packet.Admit, in: []Match{{Terms: icmp(packet.IPv6, 134, 135, 136)}},
			out: []Match{{Terms: icmp(packet.IPv6, 133, 135, 136)}}},
		{name: fence.PartDHCPClient, verdict: packet.Admit,
			in:  []Match{{Terms: []policy.Term{udp(packet.IPv4, 68)}}, {Terms: []policy.Term{udp(packet.IPv6, 546)}, From: linkLocal}},
			out: []Match{{Terms: []policy.Term{udp(packet.IPv4, 67)}}, {Terms: []policy.Term{udp(packet.IPv6, 547)}}}},
		{name: fence.PartMulticastListener, verdict: packet.Admit, in: mld, out: mldOut},
	}
	if len(service.Addresses) > 0 {
		var b netipx.IPSetBuilder
		for _, a := range service.Addresses {
			b.Add(a)
		}
		to, _ := b.IPSet()
		port := policy.Term{Family: policy.AnyFamily, Protocol: packet.TCP, Ports: packet.PortRange{Lo: service.Port, Hi: service.Port},
			Type: policy.AnyType, Code: policy.AnyType}
		parts = append(parts, groundPart{name: fence.PartService, verdict: packet.Admit,
			out: []Match{{Terms: []policy.Term{port}, To: to}}})
	}
	return parts
}

// linkLocal is fe80::/10, from which what is about a link alone comes (RFC 4291).
var linkLocal = func() *netipx.IPSet {
	var b netipx.IPSetBuilder
	b.AddPrefix(netip.MustParsePrefix("fe80::/10"))
	set, _ := b.IPSet()
	return set
}()

// protocol is a term for all of a protocol.
func protocol(family, number int) policy.Term {
	return policy.Term{Family: family, Protocol: number, Ports: packet.PortRange{Hi: 65535}, Type: policy.AnyType, Code: policy.AnyType}
}

// udp is a term for one port.
func udp(family, port int) policy.Term {
	t := protocol(family, packet.UDP)
	t.Ports = packet.PortRange{Lo: port, Hi: port}
	return t
}

// icmp are terms for types of ICMP, or of ICMPv6.
func icmp(family int, types ...int) (out []policy.Term) {
	number := packet.ICMP
	if family == packet.IPv6 {
		number = packet.ICMPv6
	}
	for _, n := range types {
		t := protocol(family, number)
		t.Type = n
		out = append(out, t)
	}
	return out
}

// changedGround is what is left of a part of the ground in a direction after
// the policy's own changes to it, and those of the host's roles.
func changedGround(pol *policy.Policy, h *fleet.Host, part string, dir packet.Direction, matches []Match) []Match {
	for _, c := range pol.Ground {
		if c.Part != part || c.Direction != dir || c.Role != nil && !h.HasRole(c.Role.Name) {
			continue
		}
		if c.Off {
			return nil
		}
		var narrowed []Match
		for _, m := range matches {
			peers := &m.From
			if dir == packet.Outbound {
				peers = &m.To
			}
			if *peers = intersect(*peers, c.From); len((*peers).Ranges()) > 0 { // else it is left to nobody
				narrowed = append(narrowed, m)
			}
		}
		matches = narrowed
	}
	return matches
}
