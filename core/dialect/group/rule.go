package group

import (
	"encoding/json"
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"yellowfence.example/yfence/core/packet"
)

// A Rule admits connections; or refuses them, where a cloud tries rules in order: the first
// rule of a group that is about a connection decides what the group says of it.
type Rule struct {
	Refuses bool    `json:"refuses,omitempty" doc:"it does not admit what it is about, whatever rules of the group follow"`
	Service Service `json:"service" doc:"any; tcp, udp or sctp, with a port or a range of ports if not all are meant; icmp or icmpv6, with a type or a range of types, and behind / a code; the number of a protocol, or a range of numbers"`
	Peers   []Peer  `json:"peers" nullable:"false" doc:"prefixes of either family, or groups, which stand for whatever is in them"`
	Comment string  `json:"comment,omitempty" doc:"what it comes from"`
}

// String is a rule on one line: "tcp 22 with 10.40.0.0/16".
func (r Rule) String() string {
	s := r.Service.String()
	if r.Refuses {
		s = "none of " + s
	}
	peers := make([]string, len(r.Peers))
	for i, p := range r.Peers {
		peers[i] = p.String()
	}
	return s + " with " + strings.Join(peers, ", ")
}

// A Peer is who is at the other end: the addresses of a prefix, or whatever is in a group.
type Peer struct {
	Prefix netip.Prefix
	Group  string // instead of a prefix
	unread string // what is said instead of either
}

// PeersOf are prefixes as peers.
func PeersOf(prefixes ...netip.Prefix) (out []Peer) {
	for _, p := range prefixes {
		out = append(out, Peer{Prefix: p})
	}
	return out
}

// String is the prefix, or "the group NAME".
func (p Peer) String() string {
	if p.Group != "" {
		return "the group " + p.Group
	}
	return p.Prefix.String()
}

// groupPeer is a peer that is a group, as a document has it.
type groupPeer struct {
	Group string `json:"group"`
}

// MarshalJSON gives a string, or an object with the name of a group.
func (p Peer) MarshalJSON() ([]byte, error) {
	if p.Group != "" {
		return json.Marshal(groupPeer{p.Group})
	}
	return json.Marshal(p.Prefix)
}

// UnmarshalJSON reads either.
func (p *Peer) UnmarshalJSON(text []byte) error {
	var g groupPeer
	if json.Unmarshal(text, &g) == nil && g.Group != "" {
		*p = Peer{Group: g.Group}
		return nil
	}
	var said string
	if json.Unmarshal(text, &said) == nil {
		if prefix, err := netip.ParsePrefix(said); err == nil {
			*p = Peer{Prefix: prefix}
			return nil
		}
	}
	*p = Peer{unread: string(text)} // whoever uses the rule knows where it stands
	return nil
}

// Check says what is wrong with a peer that was read.
func (p Peer) Check() error {
	if p.unread != "" {
		return fmt.Errorf(`the peer %s is neither a prefix nor {"group": NAME}`, p.unread)
	}
	return nil
}

// A Service is what a rule is about, but for the peers.
type Service struct {
	Protocol string // any, a name, a number, or a range of numbers as 7-16
	Ports    string // of tcp, udp and sctp: one, or a range as 8443-8446; "" is all
	Types    string // of icmp and icmpv6: one, or a range; "" is all
	Codes    string // of one type: one, or a range; "" is all
}

// String is as the document says it: "tcp 8443-8446", "icmp 3/4".
func (s Service) String() string {
	text := s.Protocol
	if s.Ports+s.Types != "" {
		text += " " + s.Ports + s.Types
	}
	if s.Codes != "" {
		text += "/" + s.Codes
	}
	return text
}

// MarshalText is String.
func (s Service) MarshalText() ([]byte, error) { return []byte(s.String()), nil }

// UnmarshalText reads what String gives.
func (s *Service) UnmarshalText(text []byte) error {
	protocol, rest, some := strings.Cut(string(text), " ")
	*s = Service{Protocol: protocol}
	number, named := protocols[protocol]
	switch {
	case !some:
	case named && slices.Contains(hasPorts, number):
		s.Ports = rest
	case named:
		s.Types, s.Codes, _ = strings.Cut(rest, "/")
	default: // which is refused where the rule is used, as its place is known there
		s.Ports = rest
	}
	return nil
}

// set is the packets of a service.
func (s Service) set(sp *packet.Space) (packet.Set, error) {
	what := packet.All
	number, named := protocols[s.Protocol]
	switch {
	case s.Protocol == "any":
	case named:
		what = sp.Value(packet.Protocol, number)
	default:
		lo, hi, err := span(s.Protocol, 255)
		if err != nil {
			return packet.Empty, fmt.Errorf("the protocol %w, nor one of any, tcp, udp, sctp, icmp, icmpv6", err)
		}
		what = sp.Range(packet.Protocol, lo, hi)
	}
	for _, f := range []struct {
		text  string
		field packet.Field
		of    []int
	}{{s.Ports, packet.DstPort, hasPorts}, {s.Types, packet.ICMPType, hasTypes}, {s.Codes, packet.ICMPCode, hasTypes}} {
		if f.text == "" {
			continue
		}
		if !named || !slices.Contains(f.of, number) {
			return packet.Empty, fmt.Errorf("the protocol %q has no %s", s.Protocol, f.field)
		}
		lo, hi, err := span(f.text, f.field.Limit().Int())
		if err != nil {
			return packet.Empty, fmt.Errorf("the %s %w", f.field, err)
		}
		if f.field == packet.ICMPCode && s.Types == "" {
			return packet.Empty, errors.New("codes are of one type, which is not said")
		}
		what = sp.And(what, sp.Range(f.field, lo, hi))
	}
	return what, nil
}

// set is the packets that a rule speaks of; peer is the field of whoever is at the other end.
func (r Rule) set(sp *packet.Space, peer packet.Field, peers func(name string) (packet.Set, error)) (packet.Set, error) {
	what, err := r.Service.set(sp)
	if err != nil {
		return packet.Empty, err
	}
	who := packet.Empty
	for _, p := range r.Peers {
		if p.Group != "" {
			of, err := peers(p.Group)
			if err != nil {
				return packet.Empty, err
			}
			who = sp.Or(who, of)
			continue
		}
		if err := p.Check(); err != nil {
			return packet.Empty, err
		}
		family := packet.IPv4
		if p.Prefix.Addr().Is6() {
			family = packet.IPv6
		}
		who = sp.Or(who, sp.And(sp.Value(packet.Family, family), sp.Ranges(peer, []packet.Range{packet.PrefixRange(p.Prefix)})))
	}
	return sp.And(what, who), nil
}
