// Package group writes what a policy means for a cloud instance as security groups,
// and reads groups back into what they decide.
//
//	s := group.Of(sp, plan)                     // who may begin what, exactly
//	groups, err := s.Write(sp, group.Abilities{RulesPerGroup: 60})
//	rules, err := group.Read(sp, h, document)   // as a ruleset like any other
//
// A group is stateful: what belongs to a connection passes. It sees neither loopback nor
// who sends, cannot count, and knows no interfaces; what a policy says of those is left to
// the host's own filter, and is told.
package group

import (
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"strconv"
	"strings"

	"yellowfence.example/yfence/core/dialect"
	"yellowfence.example/yfence/core/packet"
)

// A Document is security groups and who is in them: what we write, and the form of a dump.
type Document struct {
	Version int      `json:"version" enum:"1"`
	Kind    string   `json:"kind" enum:"security-groups"`
	Cloud   string   `json:"cloud,omitempty" doc:"the cloud's name, as the fleet file says it"`
	Groups  []Group  `json:"groups" nullable:"false"`
	Members []Member `json:"members,omitempty" nullable:"false" doc:"which instances are in which groups; of several groups, what one admits is admitted"`
}

// A Group is a security group: what none of its rules admits is dropped.
type Group struct {
	Name     string `json:"name"`
	Says     string `json:"says,omitempty" doc:"what it is for, for people"`
	Inbound  []Rule `json:"inbound" nullable:"false" doc:"who may begin what with a member"`
	Outbound []Rule `json:"outbound" nullable:"false" doc:"what a member may begin with whom"`
}

// directions are those that groups speak of.
var directions = []packet.Direction{packet.Inbound, packet.Outbound}

// Rules are the group's rules of one direction.
func (g Group) Rules(d packet.Direction) []Rule {
	if d == packet.Outbound {
		return g.Outbound
	}
	return g.Inbound
}

// A Rule admits connections; or refuses them, where a cloud tries rules in order: the first
// rule of a group that is about a connection decides what the group says of it.
type Rule struct {
	Refuses  bool     `json:"refuses,omitempty" doc:"it does not admit what it is about, whatever rules of the group follow"`
	Protocol string   `json:"protocol" doc:"any, tcp, udp, sctp, icmp, icmpv6, a number, or a range of numbers as 7-16"`
	Ports    string   `json:"ports,omitempty" doc:"of tcp, udp and sctp: one, or a range as 8443-8446; all if not said"`
	Types    string   `json:"types,omitempty" doc:"of icmp and icmpv6: one, or a range as 9-12; all if not said"`
	Codes    string   `json:"codes,omitempty" doc:"of one type: one, or a range; all if not said"`
	Peers    []string `json:"peers" nullable:"false" doc:"prefixes of either family, or group:NAME for whatever is in that group"`
	Comment  string   `json:"comment,omitempty" doc:"what it comes from"`
}

// A Member is an instance and the groups it is in.
type Member struct {
	Instance  string       `json:"instance"`
	Groups    []string     `json:"groups" nullable:"false"`
	Addresses []netip.Addr `json:"addresses,omitempty" nullable:"false" doc:"as the cloud has them; else as the fleet file says"`
}

// Kind is what a Document says of itself.
const Kind = "security-groups"

// Is says that a text is meant as a Document.
func Is(text []byte) bool { return dialect.IsDocument(text, Kind) }

// String is a rule on one line: "tcp 22 from 10.40.0.0/16".
func (r Rule) String() string {
	s := r.Protocol
	if r.Refuses {
		s = "none of " + s
	}
	if r.Ports != "" {
		s += " " + r.Ports
	}
	if r.Types != "" {
		s += " type " + r.Types
	}
	if r.Codes != "" {
		s += "/" + r.Codes
	}
	return s + " with " + strings.Join(r.Peers, ", ")
}

// The protocols that have names in a rule.
var protocols = map[string]int{"tcp": packet.TCP, "udp": packet.UDP, "sctp": packet.SCTP, "icmp": packet.ICMP, "icmpv6": packet.ICMPv6}

func protocolName(n int) string {
	for name, number := range protocols {
		if number == n {
			return name
		}
	}
	return strconv.Itoa(n)
}

// The protocols whose ports rules can tell, and those whose types.
var (
	hasPorts = []int{packet.TCP, packet.UDP, packet.SCTP}
	hasTypes = []int{packet.ICMP, packet.ICMPv6}
)

// span reads "22" or "8443-8446".
func span(text string, limit int) (lo, hi int, err error) {
	first, last, ranged := strings.Cut(text, "-")
	if lo, err = strconv.Atoi(first); err == nil {
		if hi = lo; ranged {
			hi, err = strconv.Atoi(last)
		}
	}
	if err != nil || lo < 0 || hi < lo || hi > limit {
		return 0, 0, fmt.Errorf("%q is neither a number from 0 to %d nor a range of them", text, limit)
	}
	return lo, hi, nil
}

// set is the packets that a rule speaks of; peer is the field of whoever is at the other end.
func (r Rule) set(sp *packet.Space, peer packet.Field, peers func(name string) (packet.Set, error)) (packet.Set, error) {
	what := packet.All
	number, named := protocols[r.Protocol]
	switch {
	case r.Protocol == "any":
	case named:
		what = sp.Value(packet.Protocol, number)
	default:
		lo, hi, err := span(r.Protocol, 255)
		if err != nil {
			return packet.Empty, fmt.Errorf("the protocol %w, nor one of any, tcp, udp, sctp, icmp, icmpv6", err)
		}
		what = sp.Range(packet.Protocol, lo, hi)
	}
	for _, f := range []struct {
		text  string
		field packet.Field
		of    []int
	}{{r.Ports, packet.DstPort, hasPorts}, {r.Types, packet.ICMPType, hasTypes}, {r.Codes, packet.ICMPCode, hasTypes}} {
		if f.text == "" {
			continue
		}
		if !named || !slices.Contains(f.of, number) {
			return packet.Empty, fmt.Errorf("the protocol %q has no %s", r.Protocol, f.field)
		}
		lo, hi, err := span(f.text, f.field.Limit().Int())
		if err != nil {
			return packet.Empty, fmt.Errorf("the %s %w", f.field, err)
		}
		if f.field == packet.ICMPCode && r.Types == "" {
			return packet.Empty, errors.New("codes are of one type, which is not said")
		}
		what = sp.And(what, sp.Range(f.field, lo, hi))
	}
	who := packet.Empty
	for _, p := range r.Peers {
		if name, ok := strings.CutPrefix(p, "group:"); ok {
			of, err := peers(name)
			if err != nil {
				return packet.Empty, err
			}
			who = sp.Or(who, of)
			continue
		}
		prefix, err := netip.ParsePrefix(p)
		if err != nil {
			return packet.Empty, fmt.Errorf("the peer %q is neither a prefix nor group:NAME", p)
		}
		family := packet.IPv4
		if prefix.Addr().Is6() {
			family = packet.IPv6
		}
		who = sp.Or(who, sp.And(sp.Value(packet.Family, family), sp.Ranges(peer, []packet.Range{packet.PrefixRange(prefix)})))
	}
	return sp.And(what, who), nil
}
