package say

import (
	"fmt"
	"math/bits"
	"slices"
	"strings"
	"time"

	"yellowfence.example/yfence/core/packet"
)

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

// extra says interfaces, states and circumstances where they are not the usual.
func extra(sp *packet.Space, b packet.Box) (text string) {
	// Interfaces: those that it is, or shorter, those that it is not.
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
	// A new connection is what everybody means; other states are said.
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
		text += " from port " + numbers(ranges)
	}
	// Who sends, by name, or everybody but some.
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
		text += " (" + timesText(ranges) + ")"
	}
	return text
}

// timesText says from when on and until when, where a policy turns by itself: all times that are meant, and no other.
func timesText(ranges []packet.Range) string {
	at := func(v packet.Value) string { return time.Unix(int64(v.Int()), 0).UTC().Format("2006-01-02T15:04Z") }
	var all []string
	for _, r := range ranges {
		begins, ends := r.Lo.Int() > 0, r.Hi != packet.Time.Limit()
		switch {
		case begins && ends:
			all = append(all, "from "+at(r.Lo)+" until "+at(r.Hi.Next()))
		case begins:
			all = append(all, "from "+at(r.Lo)+" on")
		case ends:
			all = append(all, "until "+at(r.Hi.Next()))
		}
	}
	if len(all) > mostNames {
		all = append(all[:mostNames], fmt.Sprintf("at %d more times", len(ranges)-mostNames))
	}
	return strings.Join(all, " and ")
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
