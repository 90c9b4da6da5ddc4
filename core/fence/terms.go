package fence

import (
	"fmt"
	"net/netip"
	"slices"
	"strconv"
	"strings"

	"yellowfence.example/yfence/core/packet"
	"yellowfence.example/yfence/core/source"
)

// looksLikeAddress says that a word is meant as an address and not as a name.
func looksLikeAddress(word string) bool {
	return strings.ContainsAny(word, ":.") && !strings.HasSuffix(word, ":") || strings.HasSuffix(word, "::") ||
		word[0] >= '0' && word[0] <= '9'
}

// number reads a number as policies write it: digits, and nothing else.
func number(s string) (int, error) {
	if len(s) > 9 || strings.Trim(s, "0123456789") != "" {
		return 0, strconv.ErrSyntax
	}
	return strconv.Atoi(s)
}

// ParseAddress reads an address, a prefix or a range. pos is where it stands, for the problem
// that it may be; nil is none.
func ParseAddress(text string, pos source.Pos) (AddrItem, *source.Problem) {
	return parseAddr(Token{Kind: Word, Text: text, Pos: pos, Width: len(text)})
}

// parseAddr reads an address, a prefix or a range. The problem, if any, is
// about the token's own text; the item is then not valid.
func parseAddr(t Token) (AddrItem, *source.Problem) {
	item := AddrItem{Pos: t.Pos, Text: t.Text}
	bad := func(message, hint string, args ...any) (AddrItem, *source.Problem) {
		pr := source.Errorf(t.Pos, t.Width, "address", "%s", message).Hinted(hint, args...)
		return item, &pr
	}
	if from, to, isRange := strings.Cut(t.Text, "-"); isRange {
		a, errA := netip.ParseAddr(from)
		b, errB := netip.ParseAddr(to)
		switch {
		case errA != nil || errB != nil || a.Zone()+b.Zone() != "":
			return bad(fmt.Sprintf("%q is not a range of addresses", t.Text),
				"a range is two addresses with a hyphen between, such as 192.0.2.10-192.0.2.19")
		case a.Is4() != b.Is4():
			return bad("a range begins and ends in the same family", "write two ranges, one for IPv4 and one for IPv6")
		case b.Less(a):
			return bad(fmt.Sprintf("the range %s ends before it begins", t.Text), "write %s-%s", to, from)
		}
		item.From, item.To = a, b
		return item, nil
	}
	if strings.Contains(t.Text, "/") {
		prefix, err := netip.ParsePrefix(t.Text)
		if err != nil {
			return bad(fmt.Sprintf("%q is not a prefix", t.Text),
				"a prefix is an address and a length, at most /32 for IPv4 and /128 for IPv6")
		}
		if prefix != prefix.Masked() {
			return bad(fmt.Sprintf("%s has bits set behind its length", t.Text), "write %s for the network, or %s for the one address",
				prefix.Masked(), prefix.Addr())
		}
		item.From, item.To = prefix.Addr(), lastAddr(prefix)
		return item, nil
	}
	a, err := netip.ParseAddr(t.Text)
	if err != nil || a.Zone() != "" {
		return bad(fmt.Sprintf("%q is not an address", t.Text), "IPv4 addresses look like 192.0.2.7, IPv6 addresses like 2001:db8::7")
	}
	item.From, item.To = a, a
	return item, nil
}

// lastAddr is the highest address of a prefix.
func lastAddr(p netip.Prefix) netip.Addr {
	b := p.Addr().AsSlice()
	for bit := p.Bits(); bit < len(b)*8; bit++ {
		b[bit/8] |= 1 << (7 - bit%8)
	}
	a, _ := netip.AddrFromSlice(b)
	return a
}

// protocolWords are the protocols that have ports, as policies name them, with their numbers.
var protocolWords = map[string][]int{"tcp": {packet.TCP}, "udp": {packet.UDP}, "sctp": {packet.SCTP}, "tcp+udp": {packet.TCP, packet.UDP}}

// services reads a list of service terms. A bare port takes the protocols of
// the term before it.
func (p *parser) services(form string) []ServiceTerm {
	p.termsRead = p.termsRead[:0]
	var before []int
	for {
		term := p.serviceTerm(form, before)
		before = nil
		if term.Ports != nil {
			before = term.Protocols
		}
		p.termsRead = append(p.termsRead, term)
		if !p.punct(Comma) {
			return slices.Clone(p.termsRead)
		}
	}
}

// serviceTerm reads one service. before are the protocols of the term before, which a bare port
// takes; nil where a bare port has none to take.
func (p *parser) serviceTerm(form string, before []int) ServiceTerm {
	t := p.want(Word, "a service", form)
	term := ServiceTerm{Pos: t.Pos, Text: t.Text}
	small := func(what string, limit int) *int {
		n := p.want(Word, what, form)
		v, err := number(n.Text)
		if err != nil || v < 0 || v > limit {
			p.fail(n, "number", what, "it is a number from 0 to %d", limit)
		}
		term.Text += " " + n.Text
		return &v
	}
	switch protocols, isProtocol := protocolWords[t.Text]; {
	case isProtocol:
		ports := p.want(Word, "a port or a range of ports", t.Text+" PORTS")
		term.Protocols, term.Ports = protocols, p.portRange(ports)
		term.Text += " " + ports.Text
	case t.Text == "icmp" || t.Text == "icmpv6":
		term.Protocols, term.OneFamily, term.Family = []int{packet.ICMP}, true, packet.IPv4
		if t.Text == "icmpv6" {
			term.Protocols, term.Family = []int{packet.ICMPv6}, packet.IPv6
		}
		if n := p.tok(); p.more() && n.Kind == Word && n.Text[0] >= '0' && n.Text[0] <= '9' {
			p.icmpType(&term)
		}
	case t.Text == "protocol":
		term.Protocols = []int{*small("a protocol's number", 255)}
	case t.Text == "any":
		if p.taking {
			p.fail(t, "syntax", "a service that is not meant", "any is not taken away from any; name the services: any except ping, ssh")
		}
		if term.Any = true; p.word("except") {
			term.Except = p.without(form)
			term.Text += " except " + services(term.Except)
		}
	case t.Text[0] >= '0' && t.Text[0] <= '9':
		if before == nil {
			p.fail(t, "syntax", "a service", "a bare port takes the protocol of the port before it; here none stands before it: write "+
				"tcp %s or udp %s", t.Text, t.Text)
		}
		term.Protocols, term.Ports = before, p.portRange(t)
	case IsName(t.Text), qualified(t.Text):
		term.Name = t.Text
	default:
		p.fail(t, "syntax", "a service", "a service is a name, tcp|udp|sctp|tcp+udp PORTS, icmp [TYPE[/CODE]], icmpv6 [TYPE[/CODE]], "+
			"protocol N, ping or any")
	}
	return term
}

// without takes what `any` does not mean: the rest of the list.
func (p *parser) without(form string) []ServiceTerm {
	outer := p.termsRead
	p.termsRead, p.taking = nil, true
	defer func() { p.termsRead, p.taking = outer, false }()
	return p.services(form)
}

// icmpType reads a type of ICMP and its code, `8` or `3/4`.
func (p *parser) icmpType(term *ServiceTerm) {
	t := p.take()
	term.Text += " " + t.Text
	kind, code, hasCode := strings.Cut(t.Text, "/")
	k, err := number(kind)
	c, errC := 0, error(nil)
	if hasCode {
		c, errC = number(code)
		term.Code = &c
	}
	term.Type = &k
	if err != nil || errC != nil || k > 255 || c < 0 || c > 255 {
		p.fail(t, "number", "an ICMP type, or TYPE/CODE", "both are numbers from 0 to 255")
	}
}

// portRange is a port or `a-b`. `a:b` is told how it is written.
func (p *parser) portRange(t Token) *packet.PortRange {
	lo, hi, isRange := strings.Cut(t.Text, "-")
	if from, to, colon := strings.Cut(t.Text, ":"); colon {
		_, errA := number(from)
		if _, errB := number(to); errA == nil && errB == nil {
			p.fail(t, "port", "a port or a range of ports", "a range is written with a hyphen: %s-%s", from, to)
		}
	}
	if !isRange {
		hi = lo
	}
	a, errA := number(lo)
	b, errB := number(hi)
	switch {
	case errA != nil || errB != nil:
		p.fail(t, "port", "a port or a range of ports", "a port is a number from 0 to 65535, a range two of them with a hyphen between")
	case a > 65535 || b > 65535:
		p.fail(t, "port", "a port", "ports go from 0 to 65535")
	case b < a:
		p.fail(t, "port", "a range of ports", "this one ends before it begins: write %s-%s", hi, lo)
	}
	return &packet.PortRange{Lo: a, Hi: b}
}
