package compare

import (
	"fmt"
	"math/bits"
	"slices"
	"strings"
	"time"

	"go4.org/netipx"

	"yellowfence.example/yfence/core/packet"
)

// phrase is one product of a traffic: these services with those peers.
type phrase struct {
	services []string
	peers    *netipx.IPSet
	beyond   *netipx.IPSet // the far end of what is forwarded
	extra    string        // interfaces and states, where they are not the usual
}

// mostBoxes bounds how finely a traffic is taken apart to be said.
const mostBoxes = 256

// Traffic says a set of packets of one direction in the policy's words, such
// as "tcp 5432 from hill-lan (IPv4)". The host's own end is left out of it.
func (n *Names) Traffic(sp *packet.Space, s packet.Set, direction packet.Direction) string {
	phrases := n.phrases(sp, s, direction)
	var texts []string
	for _, p := range phrases {
		texts = append(texts, n.phrase(p, direction))
	}
	if len(texts) > mostNames {
		texts = append(texts[:mostNames], fmt.Sprintf("and %d more", len(phrases)-mostNames))
	}
	return strings.Join(texts, "; ")
}

func (n *Names) phrase(p phrase, direction packet.Direction) string {
	text := strings.Join(p.services, ", ")
	switch direction {
	case packet.In:
		text += " from " + n.Addresses(p.peers)
	case packet.Out:
		text += " to " + n.Addresses(p.peers)
	default:
		text += " from " + n.Addresses(p.peers) + " to " + n.Addresses(p.beyond)
	}
	return text + p.extra
}

func (n *Names) phrases(sp *packet.Space, s packet.Set, direction packet.Direction) (out []phrase) {
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
	boxes, whole := sp.Boxes(s, mostBoxes)
	for _, b := range boxes {
		services := serviceTexts(b)
		p := phrase{services: services, peers: b.AddrSet(peer), beyond: b.AddrSet(own), extra: extra(sp, b) + marks}
		same := func(q phrase) bool {
			return slices.Equal(q.services, p.services) && q.extra == p.extra && (direction != packet.Forward || q.beyond.Equal(p.beyond))
		}
		if i := slices.IndexFunc(out, same); i >= 0 {
			out[i].peers = packet.Union(out[i].peers, p.peers)
			continue
		}
		out = append(out, p)
	}
	if !whole {
		out = append(out, phrase{services: []string{"and much else"}, peers: packet.Everything(), beyond: packet.Everything()})
	}
	if direction == packet.Forward {
		out = bothFamilies(out)
	}
	// Services that have the same peers are one phrase.
	var joined []phrase
	for _, p := range out {
		i := slices.IndexFunc(joined, func(q phrase) bool {
			return q.extra == p.extra && q.peers.Equal(p.peers) &&
				q.beyond.Equal(p.beyond)
		})
		if i < 0 {
			joined = append(joined, p)
			continue
		}
		for _, service := range p.services {
			if !slices.Contains(joined[i].services, service) {
				joined[i].services = append(joined[i].services, service)
			}
		}
	}
	for i := range joined {
		if len(joined[i].services) > mostNames+2 {
			joined[i].services = append(joined[i].services[:mostNames],
				fmt.Sprintf("and %d more services", len(joined[i].services)-mostNames))
		}
	}
	return joined
}

// marksText says which marks packets of a set have, where they do not have any.
func marksText(sp *packet.Space, s packet.Set) (text string) {
	for m, whose := range []string{packet.OfPacket: " marked ", packet.OfConnection: " on connections marked "} {
		fields := packet.MarkFields[m*32 : m*32+32]
		marks := sp.ProjectOnto(s, fields...)
		if marks == packet.All {
			continue
		}
		said, isOne := oneMark(sp, marks, fields)
		if not, isOther := oneMark(sp, sp.Not(marks), fields); !isOne && isOther {
			said = "otherwise than " + not
		}
		text += whose + said
	}
	return text
}

// oneMark says a set of marks that have a value in some bits.
func oneMark(sp *packet.Space, marks packet.Set, fields []packet.Field) (text string, ok bool) {
	boxes, whole := sp.Boxes(marks, 1)
	if !whole || len(boxes) == 0 {
		return "in several ways", false
	}
	var value, mask uint32
	for i, f := range fields {
		if runs := boxes[0][f]; runs != nil {
			mask |= 1 << (31 - i)
			value |= uint32(runs[0].Lo.Int()) << (31 - i)
		}
	}
	if mask == 1<<32-1 {
		return fmt.Sprintf("%#x", value), true
	}
	return fmt.Sprintf("%#x in %#x", value, mask), true
}

// bothFamilies joins what is said of each family alone: no packet is from an
// address of one to an address of the other.
func bothFamilies(phrases []phrase) (out []phrase) {
	families := func(set *netipx.IPSet) (four, six bool) {
		return len(packet.OfFamily(set, packet.IPv4).Ranges()) > 0, len(packet.OfFamily(set, packet.IPv6).Ranges()) > 0
	}
	for _, p := range phrases {
		four, six := families(p.peers)
		i := slices.IndexFunc(out, func(q phrase) bool {
			otherFour, otherSix := families(q.peers)
			return slices.Equal(q.services, p.services) && q.extra == p.extra && !(four && otherFour) && !(six && otherSix)
		})
		if i < 0 {
			out = append(out, p)
			continue
		}
		out[i].peers, out[i].beyond = packet.Union(out[i].peers, p.peers), packet.Union(out[i].beyond, p.beyond)
	}
	return out
}

func serviceTexts(b packet.Box) []string {
	ranges, spoken := b[packet.Protocol]
	if !spoken {
		return []string{"everything"}
	}
	var out []string
	count := 0
	for _, r := range ranges {
		count += r.Hi.Int() - r.Lo.Int() + 1
	}
	if count > 8 {
		return []string{"most other protocols"}
	}
	for _, r := range ranges {
		for protocol := r.Lo.Int(); protocol <= r.Hi.Int(); protocol++ {
			field := packet.DstPort
			if protocol == packet.ICMP || protocol == packet.ICMPv6 {
				field = packet.ICMPType
			}
			out = append(out, serviceText(protocol, field, b[field]))
		}
	}
	return out
}

// extra says interfaces, states and circumstances where they are not the usual.
func extra(sp *packet.Space, b packet.Box) (text string) {
	for _, f := range []struct {
		field packet.Field
		word  string
	}{{packet.InIface, " in by "}, {packet.OutIface, " out by "}} {
		if b[f.field] == nil {
			continue
		}
		real := func(ranges []packet.Range) (names []string) {
			all, _ := packet.InterfaceNames(ranges) // none where they are no names
			return slices.DeleteFunc(all, func(name string) bool { return name == "" || name == "lo" })
		}
		if names, ok := packet.InterfaceNames(b[f.field]); ok && !slices.Contains(names, "") {
			text += f.word + strings.Join(names, ", ")
		} else if others := real(packet.Complement(f.field, b[f.field])); !ok && len(others) > 0 {
			text += " not" + f.word + strings.Join(others, ", ")
		}
	}
	if ranges := b[packet.State]; ranges != nil && !b.Allows(packet.State, packet.Num(packet.New)) {
		var names []string
		for i, name := range packet.StateNames {
			if b.Allows(packet.State, packet.Num(i)) {
				names = append(names, name)
			}
		}
		text += " (" + strings.Join(names, ", ") + ")"
	}
	if ranges := b[packet.Fragment]; ranges != nil {
		switch whole, first := b.Allows(packet.Fragment, packet.Num(packet.Whole)), b.Allows(packet.Fragment, packet.Num(packet.First)); {
		case whole && first:
			text += " (no later fragments)"
		case whole:
			text += " (no fragments)"
		case first && b.Allows(packet.Fragment, packet.Num(packet.Later)):
			text += " (fragments)"
		case first:
			text += " (first fragments)"
		default:
			text += " (later fragments)"
		}
	}
	if ranges := b[packet.TCPFlags]; ranges != nil {
		text += " with tcp flags " + flagsText(ranges)
	}
	if ranges := b[packet.SrcPort]; ranges != nil {
		text += " from port " + strings.TrimPrefix(serviceText(packet.TCP, packet.SrcPort, ranges), "tcp ")
	}
	for _, f := range []struct {
		field packet.Field
		word  string
	}{{packet.User, "user "}, {packet.Group, "group "}, {packet.Unit, "unit "}, {packet.Program, "program "}} {
		if names, but := sp.SenderNames(f.field, b[f.field]); len(names) > 0 {
			text += map[bool]string{false: " from ", true: " not from "}[but] + f.word + strings.Join(names, ", ")
		}
	}
	if b[packet.IPsec] != nil {
		text += map[bool]string{true: " encrypted", false: " not encrypted"}[b.Allows(packet.IPsec, packet.Num(1))]
	}
	if ranges := b[packet.Time]; ranges != nil {
		day := func(v packet.Value) string { return time.Unix(int64(v.Int()), 0).UTC().Format("2006-01-02T15:04Z") }
		first, last := ranges[0].Lo, ranges[len(ranges)-1].Hi
		switch ends := last != packet.Time.Limit(); {
		case !ends:
			text += " (from " + day(first) + " on)"
		case first.Int() > 0:
			text += " (from " + day(first) + " until " + day(last.Next()) + ")"
		default:
			text += " (until " + day(last.Next()) + ")"
		}
	}
	return text
}

// flagsText says the flags of TCP that a box allows, or how many ways there are.
func flagsText(ranges []packet.Range) string {
	var values []string
	for _, r := range ranges {
		for flags := r.Lo.Int(); flags <= r.Hi.Int(); flags++ {
			values = append(values, packet.FormatTCPFlags(flags))
		}
	}
	if len(values) <= mostNames {
		return strings.Join(values, " or ")
	}
	if text, ok := flagsOf(ranges); ok {
		return text
	}
	if text, ok := flagsOf(packet.Complement(packet.TCPFlags, ranges)); ok {
		return "other than " + text
	}
	return fmt.Sprintf("of %d kinds", len(values))
}

// flagsOf says flags that are those with some set and some not: fin of fin,syn.
func flagsOf(ranges []packet.Range) (text string, ok bool) {
	set, unset, count := 255, 255, 0
	for _, r := range ranges {
		for flags := r.Lo.Int(); flags <= r.Hi.Int(); flags++ {
			set, unset, count = set&flags, unset&^flags, count+1
		}
	}
	asked := set | unset
	if count == 0 || count != 1<<(8-bits.OnesCount(uint(asked))) {
		return "", false
	}
	return packet.FormatTCPFlags(set) + " of " + packet.FormatTCPFlags(asked), true
}

// suggestion is the allow that would make the policy say what was opened, "" where one line does not.
func (n *Names) suggestion(sp *packet.Space, s packet.Set, direction packet.Direction, role string) string {
	phrases := n.phrases(sp, s, direction)
	if len(phrases) != 1 || phrases[0].extra != "" || direction == packet.Forward {
		return ""
	}
	peers := n.Addresses(phrases[0].peers)
	peers, _, _ = strings.Cut(peers, " (IPv")
	peers, _, _ = strings.Cut(peers, " except ")
	services := make([]string, len(phrases[0].services))
	for i, text := range phrases[0].services {
		services[i] = n.serviceName(text)
	}
	if !nameable(peers) && !isAddresses(peers) ||
		slices.ContainsFunc(services, func(s string) bool { return strings.Contains(s, "more") || strings.Contains(s, "other") }) {
		return ""
	}
	if peers == "everywhere" && slices.Contains(services, "any") {
		return "" // nobody means that
	}
	from, to := peers, role
	if direction == packet.Outbound {
		from, to = role, peers
	}
	return fmt.Sprintf("allow NAME: %s -> %s : %s", from, to, strings.Join(services, ", "))
}

func isAddresses(text string) bool { return strings.Trim(text, "0123456789abcdef.:/-, ") == "" }

// serviceName is a service by its registered name if it has one.
func (n *Names) serviceName(text string) string {
	var port int
	for _, protocol := range []int{packet.TCP, packet.UDP} {
		if _, err := fmt.Sscanf(text, packet.ProtocolName(protocol)+" %d", &port); err == nil &&
			text == fmt.Sprintf("%s %d", packet.ProtocolName(protocol), port) {
			if name := n.pol.ServiceAt(protocol, port); name != "" {
				return name
			}
		}
	}
	if text == "everything" {
		return "any"
	}
	return text
}
