package layout

import (
	"slices"
	"strings"

	"go4.org/netipx"

	"yellowfence.example/yfence/core/compile"
	"yellowfence.example/yfence/core/fence"
	"yellowfence.example/yfence/core/packet"
	"yellowfence.example/yfence/core/policy"
)

// anything is the box of all packets of a family.
func anything(family int) Box {
	return Box{Family: family, Protocol: policy.AnyProtocol, Code: policy.AnyType}
}

// boxes takes a match apart into what lines ask, in one family if it is not policy.AnyFamily.
func (w *liner) boxes(r compile.Rule, m compile.Match, only int) (out []Box) {
	for _, g := range groups(m.Terms) {
		families := []int{packet.IPv4, packet.IPv6}
		switch {
		case only != policy.AnyFamily:
			families = []int{only}
		case m.From == nil && m.To == nil:
			families = []int{g.Family}
		}
		for _, family := range families {
			if g.Family != policy.AnyFamily && family != g.Family {
				continue
			}
			b := g
			b.Family, b.Ifaces, b.NotIfaces, b.States, b.Since, b.Until, b.IPsec, b.Leaving = family, m.Ifaces, m.NotIfaces, m.States,
				m.Since, m.Until, m.IPsec, w.dir == packet.Outbound || m.Leaving
			b.OriginalDst = w.came && m.To != nil
			b.Src, b.Dst, b.SrcName, b.DstName = ofFamily(m.From, family), ofFamily(m.To, family), sideName(r, m.From, true),
				sideName(r, m.To, false)
			if m.From != nil && b.Src == nil || m.To != nil && b.Dst == nil {
				continue
			}
			for _, b := range b.sent(m.Senders) {
				out = append(out, b.narrow(w.Options)...)
			}
		}
	}
	return out
}

// narrow gives boxes that a layout has a line for.
func (b Box) narrow(l Options) (out []Box) {
	// A form that cannot ask for several of a thing in one line gets a box for each.
	switch {
	case l.OneIface && len(b.Ifaces) > 1:
		for _, name := range b.Ifaces {
			one := b
			one.Ifaces = []string{name}
			out = append(out, one.narrow(l)...)
		}
		return out
	case l.OneType && len(b.Types) > 1:
		for _, n := range b.Types {
			one := b
			one.Types = []int{n}
			out = append(out, one.narrow(l)...)
		}
		return out
	}
	if l.OneOriginalDst && b.OriginalDst {
		if prefixes := b.Dst.Prefixes(); len(prefixes) > 1 {
			for _, p := range prefixes {
				var only netipx.IPSetBuilder
				only.AddPrefix(p)
				one := b
				one.Dst, _ = only.IPSet()
				out = append(out, one.narrow(l)...)
			}
			return out
		}
	}
	// A range of ports takes two places of those that a form has for ports.
	used := 0
	for i, p := range b.Ports {
		takes := 1
		if p.Hi != p.Lo {
			takes = 2
		}
		if used += takes; l.Ports > 0 && used > l.Ports {
			first, rest := b, b
			first.Ports, rest.Ports = b.Ports[:i], b.Ports[i:]
			return append([]Box{first}, rest.narrow(l)...)
		}
	}
	return []Box{b}
}

// ofFamily is the addresses of one family; nil where there are none.
func ofFamily(s *netipx.IPSet, family int) *netipx.IPSet {
	if s == nil {
		return nil
	}
	if s = packet.OfFamily(s, family); len(s.Ranges()) == 0 {
		return nil
	}
	return s
}

// sent gives a box for each way in which the senders can be met.
func (b Box) sent(senders []policy.Sender) (out []Box) {
	if len(senders) == 0 {
		return []Box{b}
	}
	for _, name := range senders[0].Names {
		with := b
		with.Senders = append(slices.Clone(b.Senders), packet.Sender{Kind: senders[0].Kind, Name: name})
		out = append(out, with.sent(senders[1:])...)
	}
	return out
}

// A SetName is what a set of the addresses of one side of a rule is called.
type SetName struct {
	Name string
	Own  bool // the policy calls just these so: a role, a network, a segment
}

// sideName is what a set for one side of a rule is called: after what the rule names there, so
// that sets with the same addresses are one, or after the rule itself.
func sideName(r compile.Rule, addrs *netipx.IPSet, from bool) SetName {
	if r.Rule == nil {
		return SetName{string(r.Kind) + "-" + r.Name, false}
	}
	end := map[bool]string{true: "-from", false: "-to"}[from]
	for _, s := range r.Rule.Spans {
		side, on := s.To, s.OnTo
		if from {
			side, on = s.From, s.OnFrom
		}
		name, all := setText(side.Text), side.Addrs
		if name == "" {
			break
		}
		if s.On != nil {
			name, all = name+"-on-"+s.On.Name, on
		}
		own := addrs != nil && (addrs == all || addrs.Equal(all))
		if own || len(r.Rule.Spans) == 1 {
			return SetName{name, own}
		}
	}
	return SetName{r.Name + end, false}
}

// setText is a side as it can be part of a set's name, "" where it cannot: one name, or one at another.
func setText(side string) string {
	words := strings.Split(side, " at ")
	for _, w := range words {
		if !fence.IsName(w) && w != "fleet" {
			return ""
		}
	}
	return strings.Join(words, "-at-")
}

// groups puts terms together that one line can ask for.
func groups(terms []policy.Term) (out []Box) {
	if terms == nil {
		return []Box{anything(policy.AnyFamily)}
	}
	for _, t := range terms {
		b := Box{Family: t.Family, Protocol: t.Protocol, Code: t.Code}
		allPorts := t.HasPorts() && t.Ports == packet.PortRange{Lo: 0, Hi: 65535}
		i := slices.IndexFunc(out, func(o Box) bool {
			sameKind := o.Ports != nil && t.HasPorts() && !allPorts || o.Types != nil && t.Type != policy.AnyType &&
				t.Code == policy.AnyType
			return sameKind && o.Family == b.Family && o.Protocol == b.Protocol && o.Code == b.Code
		})
		if i < 0 {
			out = append(out, b)
			i = len(out) - 1
		}
		if t.HasPorts() && !allPorts {
			out[i].Ports = append(out[i].Ports, t.Ports)
		}
		if t.Type != policy.AnyType {
			out[i].Types = append(out[i].Types, t.Type)
		}
	}
	return out
}
