package nft

import (
	"slices"
	"strings"

	"yellowfence.example/yfence/core/kernel"
	"yellowfence.example/yfence/core/packet"
)

// rarely is an unknown that usually is not so: see dialect.AsUsual.
func (r *reader) rarely(name, that string) packet.Set {
	r.seldom[name], r.rare = that, true
	return r.sp.Unknown(name)
}

// growing is a named set that changes by itself; nil for what else stands on a right side.
func (r *reader) growing(c *kernel.Chain, right *expr) *namedSet {
	name, named := strings.CutPrefix(right.text, "@")
	if right.kind != kindWord || !named {
		return nil
	}
	if s := r.sets[place{c.Family, c.Table, name}]; s != nil && s.changing {
		return s
	}
	return nil
}

// among is a match on a set that changes by itself: what is in it as it was listed, and what may
// have come to it since.
func (r *reader) among(c *kernel.Chain, left *expr, op string, right *expr, s *namedSet, unknown func() packet.Set) packet.Set {
	if op != "==" && op != "!=" && op != "in" {
		return unknown()
	}
	asked := packet.All
	fields := []expr{*left}
	if left.kind == kindJoined {
		fields = left.args
	}
	for i := range fields {
		if f, ok := fieldOf(&fields[i]); ok {
			asked = r.sp.And(asked, r.scope(c, f))
		}
	}
	in, of := packet.Empty, "set "+s.name+" of table "+c.Table
	if len(s.elements) > 0 {
		in = r.compare(c, left, "==", &expr{kind: kindSet, args: s.elements})
	}
	in = r.sp.Or(in, r.sp.And(asked, r.rarely("whether it has been put into "+of+" since that was listed", "nothing was put into "+of+
		" since it was listed")))
	if op == "!=" {
		return r.sp.Minus(asked, in)
	}
	return in
}

// option is a match on an extension header of IPv6, or on an option of IP or TCP. Few packets have
// those that we do not model; an option of TCP many have.
func (r *reader) option(left *expr, op string, mask, right *expr) packet.Set {
	field := left
	if mask != nil {
		field = &expr{kind: kindBoth, args: []expr{*left, *mask}}
	}
	said := func(op string, right *expr) string {
		return (&expr{kind: kindMatch, text: op, args: []expr{*field, *right}}).String()
	}
	family := r.sp.Value(packet.Family, packet.IPv6)
	some := func(name string) packet.Set {
		return r.rarely(name, "it has nothing that "+name+" asks for")
	}
	switch {
	case strings.HasPrefix(left.text, "tcp option"):
		family, some = r.sp.Value(packet.Protocol, packet.TCP), r.sp.Unknown
	case strings.HasPrefix(left.text, "ip option"):
		family = r.sp.Value(packet.Family, packet.IPv4)
	}
	if left.part == "" && mask == nil && right.kind == kindTruth && (op == "==" || op == "!=") {
		has := r.sp.And(family, some(said("==", &expr{kind: kindTruth, text: "1"})))
		if (right.text == "1") == (op == "==") {
			return has
		}
		return r.sp.Minus(family, has)
	}
	return r.sp.And(family, some(said(op, right))) // a field that is not there is not unequal to anything
}

// frames is a match on what kind of frame a packet came in, or by what kind of interface. A frame
// is to one, many or all as the address is that the packet has; who sends it by hand may do
// otherwise. What the host itself sends is not told apart.
func (r *reader) frames(c *kernel.Chain, left *expr, op string, right *expr) (s packet.Set, ok bool) {
	kinds := []expr{*right}
	if plural(right) {
		var changing bool
		if kinds, changing = r.several(c, right); changing {
			return s, false
		}
	}
	if op != "==" && op != "!=" && op != "in" {
		return s, false
	}
	var names []string
	for i := range kinds {
		names = append(names, kinds[i].value().String())
	}
	slices.Sort(names)
	text := r.sp.Unknown("meta " + left.text + " " + strings.Join(names, " or "))
	sent := r.sp.Value(packet.Hook, packet.Out)
	if left.text == "iiftype" {
		lo := r.sp.Interfaces(packet.InIface, "lo")
		for _, name := range names {
			if name == "loopback" || name == "772" {
				s = r.sp.Or(s, lo)
			} else {
				s = r.sp.Or(s, r.sp.Minus(text, lo))
			}
		}
		if op == "!=" {
			s = r.sp.Not(s)
		}
		return r.sp.Minus(s, sent), true
	}
	s = kernel.FramesTo(r.sp, r.out.Routes, names, text, r.rarely)
	if op == "!=" {
		s = r.sp.Not(s)
	}
	return s, true
}

// factsOf are what can be asked of a connection and read off its first packet, by direction.
var factsOf = map[string]aField{
	"original ip saddr":  {header: "ip", field: packet.Src, family: packet.IPv4},
	"original ip6 saddr": {header: "ip6", field: packet.Src, family: packet.IPv6},
	"original proto-src": {header: "th", field: packet.SrcPort},
	"reply ip saddr":     {header: "ip", field: packet.Dst, family: packet.IPv4},
	"reply ip6 saddr":    {header: "ip6", field: packet.Dst, family: packet.IPv6},
	"reply proto-src":    {header: "th", field: packet.DstPort},
	" protocol":          {field: packet.Protocol}, "original protocol": {field: packet.Protocol},
	"reply protocol": {field: packet.Protocol},
	" l3proto":       {field: packet.Family}, "original l3proto": {field: packet.Family}, "reply l3proto": {field: packet.Family},
}

// connection is a match on what the tracker holds of a packet's connection: of one that begins,
// it is what the packet has; of others nobody knows which of the two ends began.
func (r *reader) connection(c *kernel.Chain, left *expr, op string, right *expr, unknown func() packet.Set) (s packet.Set, ok bool) {
	if op != "==" && op != "!=" && op != "in" {
		return s, false
	}
	connected := r.connected(c)
	begins := r.sp.Value(packet.State, packet.New)
	switch {
	case left.text == "direction" && left.part == "" && right.kind != kindList && right.kind != kindSet:
		s = packet.Empty
		if right.text == "original" || right.text == "0" {
			s = packet.All
		}
	case left.text == "status" && op == "in" && right.text == "expected":
		s = packet.Empty
	default:
		f, known := factsOf[left.part+" "+left.text]
		if !known || strings.HasPrefix(left.part+" "+left.text, "reply") && !r.behindTranslation(c) {
			return s, false
		}
		switch f.field {
		case packet.Protocol:
			f.names = protocols
		case packet.Family:
			f.names = families
		}
		values, exact := r.values(c, f, right)
		if !exact {
			return s, false
		}
		s = r.sp.And(r.scope(c, f), values)
		connected = r.sp.And(connected, r.scope(c, f))
	}
	if op == "!=" {
		s = r.sp.Not(s)
	}
	return r.sp.And(connected, r.sp.Or(r.sp.And(begins, s), r.sp.Minus(unknown(), begins))), true
}

// behindTranslation says that packets get to a chain only when it is settled where they go.
func (r *reader) behindTranslation(c *kernel.Chain) bool {
	settled := []string{"input", "forward", "postrouting"}
	if c.Hook != "" {
		return slices.Contains(settled, c.Hook)
	}
	for _, other := range r.chains {
		if other.Family == c.Family && other.Table == c.Table && other.Hook != "" && !slices.Contains(settled, other.Hook) {
			return false
		}
	}
	return true
}
