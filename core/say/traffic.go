package say

import (
	"fmt"
	"slices"
	"strings"

	"go4.org/netipx"

	"yellowfence.example/yfence/core/fence"
	"yellowfence.example/yfence/core/packet"
)

// Traffic is packets of one direction as people would name them. The host's own end is left
// out of it, but of what is forwarded.
type Traffic struct {
	Direction packet.Direction
	Phrases   []Phrase
}

// A Phrase is one part of a Traffic: these services with those peers.
type Phrase struct {
	Services []Service
	Unnamed  int       // services that are not listed, for there are too many
	Peers    Addresses // who sends it, or of what goes out, who gets it
	Beyond   Addresses // who gets it, of what is forwarded
	Besides  string    // interfaces, states and the like, where they are not the usual: " in by eth1"
}

// A Service is a protocol with its ports, or with its types of ICMP.
type Service struct {
	Protocol int            // or AnyProtocol, OtherProtocols, MuchElse
	Ranges   []packet.Range // of ports or types; nil is all
}

// What a Service says instead of a protocol.
const (
	AnyProtocol    = -1 - iota // everything
	OtherProtocols             // more protocols than anybody lists
	MuchElse                   // a set was too tangled to be said whole
)

// ofICMP says that a protocol has types and no ports.
func ofICMP(protocol int) bool { return protocol == packet.ICMP || protocol == packet.ICMPv6 }

// String is the service as a sentence says it: "tcp 80, 8000-8010".
func (s Service) String() string {
	switch s.Protocol {
	case AnyProtocol:
		return "everything"
	case OtherProtocols:
		return "most other protocols"
	case MuchElse:
		return "and much else"
	}
	text := packet.ProtocolName(s.Protocol)
	if s.Ranges == nil {
		return text
	}
	if ofICMP(s.Protocol) {
		text += " type"
	}
	return text + " " + numbers(s.Ranges)
}

// same says that two services are one.
func (s Service) same(o Service) bool {
	return s.Protocol == o.Protocol && slices.Equal(s.Ranges, o.Ranges)
}

// numbers says runs of ports or types.
func numbers(ranges []packet.Range) string {
	parts := make([]string, 0, len(ranges))
	for _, r := range ranges {
		if r.Lo == r.Hi {
			parts = append(parts, fmt.Sprint(r.Lo.Int()))
		} else {
			parts = append(parts, fmt.Sprintf("%d-%d", r.Lo.Int(), r.Hi.Int()))
		}
	}
	if len(parts) > mostNames {
		parts = append(parts[:mostNames], fmt.Sprintf("and %d more", len(ranges)-mostNames))
	}
	return strings.Join(parts, ", ")
}

// String is the traffic as a sentence says it, such as "tcp 5432 from hill-lan (IPv4)".
func (t Traffic) String() string {
	var texts []string
	for _, p := range t.Phrases {
		texts = append(texts, p.text(t.Direction))
	}
	if len(texts) > mostNames {
		texts = append(texts[:mostNames], fmt.Sprintf("and %d more", len(t.Phrases)-mostNames))
	}
	return strings.Join(texts, "; ")
}

// text is a phrase as a sentence says it.
func (p Phrase) text(direction packet.Direction) string {
	services := make([]string, len(p.Services))
	for i, s := range p.Services {
		services[i] = s.String()
	}
	if p.Unnamed > 0 {
		services = append(services, fmt.Sprintf("and %d more services", p.Unnamed))
	}
	text := strings.Join(services, ", ")
	switch direction {
	case packet.In:
		text += " from " + p.Peers.String()
	case packet.Out:
		text += " to " + p.Peers.String()
	default:
		text += " from " + p.Peers.String() + " to " + p.Beyond.String()
	}
	return text + p.Besides
}

// Allow is the rule of a policy that admits the traffic between its peers and a role, or a host
// written as one, where one rule can say it. What a sentence says of addresses more narrowly
// than a policy can (one family of a name, exceptions) it admits whole.
func (n *Names) Allow(t Traffic, role string) (rule *fence.Rule, ok bool) {
	if len(t.Phrases) != 1 || t.Phrases[0].Besides != "" || t.Phrases[0].Unnamed > 0 || t.Direction == packet.Forward {
		return nil, false
	}
	p := t.Phrases[0]
	rule = &fence.Rule{Ident: fence.Ident{Name: "NAME"}}
	for _, s := range p.Services {
		terms, ok := n.terms(s)
		if !ok {
			return nil, false
		}
		rule.Services = append(rule.Services, terms...)
	}
	peers, ok := p.Peers.peers()
	mine := fence.Peers{Items: []fence.Peer{{Kind: fence.NamedPeer, Name: role, Text: role}}}
	if !ok || p.Peers.Names[0].Text == everywhere.name && rule.Services[0].Any {
		return nil, false // everything from everybody nobody means
	}
	if rule.From, rule.To = peers, mine; t.Direction == packet.Outbound {
		rule.From, rule.To = mine, peers
	}
	return rule, true
}

// terms are a service as a policy writes it, by its registered name if it has one.
func (n *Names) terms(s Service) (out []fence.ServiceTerm, ok bool) {
	name := packet.ProtocolName(s.Protocol)
	switch {
	case s.Protocol == AnyProtocol:
		return []fence.ServiceTerm{{Any: true, Text: "any"}}, true
	case s.Protocol < 0 || len(s.Ranges) > mostNames:
		return nil, false
	case s.Ranges == nil && ofICMP(s.Protocol):
		return []fence.ServiceTerm{{Text: name}}, true
	case s.Ranges == nil && slices.Contains(packet.PortProtocols, s.Protocol):
		return []fence.ServiceTerm{{Text: name + " 0-65535"}}, true
	case s.Ranges == nil:
		return []fence.ServiceTerm{{Text: fmt.Sprint("protocol ", s.Protocol)}}, true
	}
	for _, r := range s.Ranges {
		lo, hi := r.Lo.Int(), r.Hi.Int()
		registered := n.Policy.ServiceFor(s.Protocol, lo)
		switch {
		case ofICMP(s.Protocol) && hi > lo+mostNames:
			return nil, false
		case ofICMP(s.Protocol):
			for kind := lo; kind <= hi; kind++ {
				out = append(out, fence.ServiceTerm{Text: fmt.Sprint(name, " ", kind)})
			}
		case lo < hi:
			out = append(out, fence.ServiceTerm{Text: fmt.Sprintf("%s %d-%d", name, lo, hi)})
		case registered != "":
			out = append(out, fence.ServiceTerm{Name: registered, Text: registered})
		default:
			out = append(out, fence.PortTerm(s.Protocol, lo))
		}
	}
	return out, true
}

// mostBoxes bounds how finely a traffic is taken apart to be said.
const mostBoxes = 256

// part is a Phrase whose addresses have no names yet.
type part struct {
	services      []Service
	peers, beyond *netipx.IPSet
	besides       string
}

// servicesOf says that two parts are about the same services.
func (p part) servicesOf(o part) bool { return slices.EqualFunc(p.services, o.services, Service.same) }

// Traffic names a set of packets of one direction. Unknowns must have been decided before
// (Possible, Certain). A set that takes more than 256 products is said in part, and much else.
func (n *Names) Traffic(sp *packet.Space, s packet.Set, direction packet.Direction) Traffic {
	t := Traffic{Direction: direction}
	for _, p := range parts(sp, s, direction) {
		said := Phrase{Services: p.services, Peers: n.Addresses(p.peers), Besides: p.besides}
		if direction == packet.Forward {
			said.Beyond = n.Addresses(p.beyond)
		}
		if len(p.services) > mostNames+2 {
			said.Services, said.Unnamed = p.services[:mostNames], len(p.services)-mostNames
		}
		t.Phrases = append(t.Phrases, said)
	}
	return t
}

// parts takes a set apart into products of services and peers, as few as one would say.
func parts(sp *packet.Space, s packet.Set, direction packet.Direction) (joined []part) {
	// The host's own end is not said: a sentence says on which hosts it is so.
	own := packet.Dst
	peer := packet.Src
	if direction == packet.Outbound {
		own, peer = peer, own
	}
	if direction != packet.Forward {
		s = sp.Exists(s, own)
	}
	marks := marksText(sp, s)
	s = sp.Exists(s, packet.MarkFields...)
	// A phrase for each box of the set; boxes that differ in their peers alone are one phrase.
	boxes, whole := sp.Boxes(s, mostBoxes)
	var out []part
	for _, b := range boxes {
		p := part{services: servicesOf(b), peers: b.AddrSet(peer), beyond: b.AddrSet(own), besides: extra(sp, b) + marks}
		same := func(q part) bool {
			return q.servicesOf(p) && q.besides == p.besides && (direction != packet.Forward || q.beyond.Equal(p.beyond))
		}
		if i := slices.IndexFunc(out, same); i >= 0 {
			out[i].peers = packet.Union(out[i].peers, p.peers)
			continue
		}
		out = append(out, p)
	}
	// What takes too many boxes to be said in full is said to be much else.
	if !whole {
		out = append(out, part{services: []Service{{Protocol: MuchElse}}, peers: packet.Everything(), beyond: packet.Everything()})
	}
	if direction == packet.Forward {
		out = bothFamilies(out)
	}
	// Services that have the same peers are one phrase.
	for _, p := range out {
		i := slices.IndexFunc(joined, func(q part) bool {
			return q.besides == p.besides && q.peers.Equal(p.peers) && q.beyond.Equal(p.beyond)
		})
		if i < 0 {
			joined = append(joined, p)
			continue
		}
		for _, service := range p.services {
			if !slices.ContainsFunc(joined[i].services, service.same) {
				joined[i].services = append(joined[i].services, service)
			}
		}
	}
	return joined
}

// bothFamilies joins what is said of each family alone: no packet is from an
// address of one to an address of the other.
func bothFamilies(parts []part) (out []part) {
	families := func(set *netipx.IPSet) (four, six bool) {
		return len(packet.OfFamily(set, packet.IPv4).Ranges()) > 0, len(packet.OfFamily(set, packet.IPv6).Ranges()) > 0
	}
	for _, p := range parts {
		four, six := families(p.peers)
		i := slices.IndexFunc(out, func(q part) bool {
			otherFour, otherSix := families(q.peers)
			return q.servicesOf(p) && q.besides == p.besides && !(four && otherFour) && !(six && otherSix)
		})
		if i < 0 {
			out = append(out, p)
			continue
		}
		out[i].peers, out[i].beyond = packet.Union(out[i].peers, p.peers), packet.Union(out[i].beyond, p.beyond)
	}
	return out
}

// servicesOf is the services that a box allows.
func servicesOf(b packet.Box) (out []Service) {
	ranges, spoken := b[packet.Protocol]
	if !spoken {
		return []Service{{Protocol: AnyProtocol}}
	}
	count := 0
	for _, r := range ranges {
		count += r.Hi.Int() - r.Lo.Int() + 1
	}
	if count > 8 {
		return []Service{{Protocol: OtherProtocols}}
	}
	for _, r := range ranges {
		for protocol := r.Lo.Int(); protocol <= r.Hi.Int(); protocol++ {
			field := packet.DstPort
			if ofICMP(protocol) {
				field = packet.ICMPType
			}
			out = append(out, Service{protocol, b[field]})
		}
	}
	return out
}
