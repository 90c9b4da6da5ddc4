package portable

import (
	"fmt"
	"net/netip"
	"slices"
	"strconv"
	"strings"

	"go4.org/netipx"

	"yellowfence.example/yfence/core/kernel"
	"yellowfence.example/yfence/core/packet"
)

// Table is how a list's chains are called, as in "portable/inbound".
const Table = "portable"

// Read gives what a list decides, as a ruleset. The error tells what in it cannot be read.
func Read(sp *packet.Space, d *Document) (*kernel.Ruleset, error) {
	rs := &kernel.Ruleset{Tracks: [2]bool{true, true}}
	for _, l := range d.lists() {
		if l.List == nil {
			continue
		}
		c := &kernel.Chain{Family: "inet", Table: Table, Name: l.name, Hook: l.chain, Type: "filter", Policy: packet.Drop}
		if l.Otherwise == "admit" {
			c.Policy = packet.Admit
		}
		// What a rule leaves to those below it is taken out of it here, so that order alone decides.
		for i, r := range l.Rules {
			at := fmt.Sprintf("%s rule %d", l.name, i+1)
			match, err := d.set(sp, r.Condition, l.hook)
			if err != nil {
				return nil, fmt.Errorf("%s: %w", at, err)
			}
			for _, u := range r.Unless {
				but, err := d.set(sp, u, l.hook)
				if err != nil {
					return nil, fmt.Errorf("%s, unless: %w", at, err)
				}
				match = sp.Minus(match, but)
			}
			rule := kernel.Rule{Match: match, Log: r.Log, Comment: r.Comment, Text: kernel.Words(r.String()), At: at}
			switch r.Does {
			case "admit":
				rule.Branches = []kernel.Branch{{Match: packet.All, Action: kernel.Accept}}
			case "drop":
				rule.Branches = []kernel.Branch{{Match: packet.All, Action: kernel.Drop}}
			case "reject":
				rule.Branches = []kernel.Branch{{Match: sp.Value(packet.Protocol, packet.TCP), Action: kernel.Reject,
					Reply: packet.TCPReset},
					{Match: packet.All, Action: kernel.Reject, Reply: packet.PortUnreachable}}
			default:
				return nil, fmt.Errorf("%s: it does %q, which is none of admit, drop and reject", at, r.Does)
			}
			c.Rules = append(c.Rules, rule)
		}
		rs.Chains = append(rs.Chains, c)
	}
	return rs, nil
}

// set is the packets of one direction that a condition holds for.
func (d *Document) set(sp *packet.Space, c Condition, hook int) (packet.Set, error) {
	s := packet.All
	iface := packet.InIface
	if hook == packet.Out {
		iface = packet.OutIface
	}
	if c.Networks != nil {
		s = sp.And(s, sp.Interfaces(iface, d.On(c.Networks)...))
	}
	if c.NotNetworks != nil {
		s = sp.Minus(s, sp.Interfaces(iface, d.On(c.NotNetworks)...))
	}
	for field, texts := range map[packet.Field][]string{packet.Src: c.From, packet.Dst: c.To} {
		if texts == nil {
			continue
		}
		var b netipx.IPSetBuilder
		for _, text := range texts {
			p, err := netip.ParsePrefix(text)
			if err != nil {
				return s, fmt.Errorf("%q is no prefix, as in 10.40.0.0/16", text)
			}
			b.AddPrefix(p)
		}
		addrs, err := b.IPSet()
		if err != nil {
			return s, err
		}
		s = sp.And(s, sp.Addrs(field, addrs))
	}
	if c.Services != nil {
		any := packet.Empty
		for _, v := range c.Services {
			one, err := v.set(sp)
			if err != nil {
				return s, err
			}
			any = sp.Or(any, one)
		}
		s = sp.And(s, any)
	}
	if c.States != nil {
		var states []int
		for _, name := range c.States {
			n := slices.Index(packet.StateNames, name)
			if n < 0 {
				return s, fmt.Errorf("%q is no state: they are %s", name, strings.Join(packet.StateNames, ", "))
			}
			states = append(states, n)
		}
		s = sp.And(s, sp.Values(packet.State, states...))
	}
	if c.Users != nil {
		s = sp.And(s, sp.Named(packet.User, c.Users...))
	}
	if c.Programs != nil {
		s = sp.And(s, sp.Named(packet.Program, c.Programs...))
	}
	if c.Since != nil {
		s = sp.Minus(s, sp.Before(c.Since.Unix()))
	}
	if c.Until != nil {
		s = sp.And(s, sp.Before(c.Until.Unix()))
	}
	return s, nil
}

// set is the packets of a service.
func (v Service) set(sp *packet.Space) (packet.Set, error) {
	s := packet.All
	switch v.Family {
	case "":
	case "ipv4":
		s = sp.Value(packet.Family, packet.IPv4)
	case "ipv6":
		s = sp.Value(packet.Family, packet.IPv6)
	default:
		return s, fmt.Errorf("the family is %q, neither ipv4 nor ipv6", v.Family)
	}
	number, named := protocols[v.Protocol]
	if !named && v.Protocol != "" {
		n, err := strconv.Atoi(v.Protocol)
		if err != nil || n < 0 || n > 255 {
			return s, fmt.Errorf("%q is no protocol: tcp, udp, sctp, icmp, icmpv6, or a number to 255", v.Protocol)
		}
		number = n
	}
	if v.Protocol != "" {
		s = sp.And(s, sp.Value(packet.Protocol, number))
	}
	if v.Ports != "" {
		first, last, ranged := strings.Cut(v.Ports, "-")
		if !ranged {
			last = first
		}
		lo, errLo := strconv.Atoi(first)
		hi, errHi := strconv.Atoi(last)
		if errLo != nil || errHi != nil || lo < 0 || hi < lo || hi > 65535 {
			return s, fmt.Errorf("the ports %q are neither a number to 65535 nor a range of them", v.Ports)
		}
		if number != packet.TCP && number != packet.UDP && number != packet.SCTP {
			return s, fmt.Errorf("the protocol %q has no ports", v.Protocol)
		}
		s = sp.And(s, sp.Range(packet.DstPort, lo, hi))
	}
	for field, n := range map[packet.Field]*int{packet.ICMPType: v.Type, packet.ICMPCode: v.Code} {
		switch {
		case n == nil:
		case *n < 0 || *n > 255:
			return s, fmt.Errorf("the %s %d is not from 0 to 255", field, *n)
		case number != packet.ICMP && number != packet.ICMPv6:
			return s, fmt.Errorf("the protocol %q has no %s", v.Protocol, field)
		default:
			s = sp.And(s, sp.Value(field, *n))
		}
	}
	return s, nil
}

// protocols are the names that a document may have for protocols; others are numbers.
var protocols = map[string]int{"tcp": packet.TCP, "udp": packet.UDP, "sctp": packet.SCTP, "icmp": packet.ICMP, "icmpv6": packet.ICMPv6}

// String is a rule on one line: "admit tcp 22 from 10.40.0.0/16".
func (r Rule) String() string {
	s := r.Does + r.Condition.String()
	for _, u := range r.Unless {
		s += " unless" + u.String()
	}
	if r.Log {
		s += ", logged"
	}
	return s
}

// String is a condition in words.
func (c Condition) String() (s string) {
	say := func(word string, all []string) {
		if all != nil {
			s += " " + word + " " + strings.Join(all, ", ")
		}
	}
	if c.Services != nil {
		texts := make([]string, len(c.Services))
		for i, v := range c.Services {
			texts[i] = v.String()
		}
		s += " " + strings.Join(texts, ", ")
	}
	say("from", c.From)
	say("to", c.To)
	say("by", c.Networks)
	say("not by", c.NotNetworks)
	say("of", c.States)
	say("sent by user", c.Users)
	say("sent by program", c.Programs)
	if c.Since != nil {
		s += " from " + c.Since.UTC().Format("2006-01-02T15:04:05Z")
	}
	if c.Until != nil {
		s += " until " + c.Until.UTC().Format("2006-01-02T15:04:05Z")
	}
	return s
}

// String is a service in words.
func (v Service) String() string {
	s := v.Protocol
	if s == "" {
		s = "any"
	}
	if v.Ports != "" {
		s += " " + v.Ports
	}
	if v.Type != nil {
		s += " type " + strconv.Itoa(*v.Type)
	}
	if v.Code != nil {
		s += "/" + strconv.Itoa(*v.Code)
	}
	if v.Family != "" {
		s += " (" + v.Family + ")"
	}
	return s
}
