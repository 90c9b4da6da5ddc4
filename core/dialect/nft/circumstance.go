package nft

import (
	"fmt"
	"path"
	"slices"
	"strconv"
	"strings"
	"time"

	"yellowfence.example/yfence/core/kernel"
	"yellowfence.example/yfence/core/packet"
)

// circumstance is a match on the time or on IPsec.
//
// nft lists a time in the zone of whoever asks for the listing; ours are made
// under UTC. The kernel compares nanoseconds: only "before" and "not before" a
// whole second are about whole seconds.
func (r *reader) circumstance(f aField, op string, right *expr, unknown func() packet.Set) packet.Set {
	if f.field == packet.IPsec {
		holds := right.text == "1"
		if right.kind != kindTruth || op != "==" && op != "!=" {
			return unknown()
		}
		set := r.sp.Value(packet.IPsec, map[bool]int{true: 1, false: 0}[holds == (op == "==")])
		// What arrives is asked how it came, what is sent how it will go.
		sent := r.sp.Value(packet.Hook, packet.Out)
		asked := r.sp.Not(sent)
		if f.header == "rt" {
			asked = sent
		}
		return r.sp.Or(r.sp.And(asked, set), r.sp.Minus(unknown(), asked))
	}
	// By a moment, what comes in the second that it begins is before it, at it or after.
	from := func(e *expr) (before, within packet.Set, ok bool) {
		at, err := time.Parse(time.DateTime, e.text)
		if n, isNumber := e.int(); isNumber { // as it may be written
			at, err = time.Unix(int64(n), 0), nil
		}
		if err != nil || at.Unix() < 0 {
			return before, within, false
		}
		before = r.sp.Before(at.Unix())
		return before, r.sp.Minus(r.sp.Before(at.Unix()+1), before), true
	}
	compare := func(op string, e *expr) (packet.Set, bool) {
		before, within, ok := from(e)
		switch {
		case !ok:
			return packet.Empty, false
		case op == "<":
			return before, true
		case op == ">=":
			return r.sp.Not(before), true
		}
		upTo := r.sp.Or(before, r.sp.And(within, unknown()))
		if op == ">" {
			upTo = r.sp.Minus(r.sp.Not(before), r.sp.And(within, unknown()))
		}
		return upTo, op == ">" || op == "<="
	}
	if right.kind == kindSpan && (op == "==" || op == "!=" || op == "in") {
		since, okSince := compare(">=", right.arg(0))
		until, okUntil := compare("<=", right.arg(1))
		during := r.sp.And(since, until)
		switch {
		case !okSince || !okUntil:
			return unknown()
		case op == "!=":
			return r.sp.Not(during)
		}
		return during
	}
	if s, ok := compare(op, right); ok {
		return s
	}
	return unknown()
}

// sentBy is a match on the user, the group or the control group whose program sends.
func (r *reader) sentBy(c *kernel.Chain, f aField, op string, right *expr, unknown func() packet.Set) packet.Set {
	elements := []expr{*right}
	if plural(right) {
		var changing bool
		if elements, changing = r.several(c, right); changing {
			return unknown()
		}
	}
	var names []string
	if spans := slices.DeleteFunc(slices.Clone(elements), func(e expr) bool { return e.value().kind != kindSpan }); len(spans) > mostSpans {
		return r.sp.And(r.sp.AnySender(f.field), unknown())
	}
	for i := range elements {
		e := elements[i].value()
		if some, ok := r.spannedNames(f.field, e); ok {
			names = append(names, some...)
			continue
		}
		if f.field == packet.Unit {
			if n, isNumber := e.int(); isNumber && r.names.IsGone(n) {
				continue // nothing sends from it any more
			} else if path, ok := r.names.ControlGroup(n); isNumber && ok {
				e = &expr{kind: kindWord, text: path}
			}
			if _, isNumber := e.int(); !isNumber && f.level != 0 && f.level != depth(e.text) {
				continue // what is on that level of a path is never this one
			}
		}
		name, ok := r.senderName(f.field, e)
		if !ok {
			return r.sp.And(r.sp.AnySender(f.field), unknown())
		}
		names = append(names, name)
	}
	switch op {
	case "==", "in":
		return r.sp.Named(f.field, names...)
	case "!=":
		return r.sp.Minus(r.sp.AnySender(f.field), r.sp.Named(f.field, names...))
	}
	return unknown()
}

// spannedNames is whom a range of numbers stands for, where the host has said that: all whom it
// has a name for, and the ends.
func (r *reader) spannedNames(field packet.Field, e *expr) (names []string, ok bool) {
	lo, hi, ok := spanned(e)
	known := r.users
	if field == packet.Group {
		known = r.groups
	}
	if !ok || field == packet.Unit || known == nil || hi-lo >= mostSpanned {
		return nil, false
	}
	for n := lo; n <= hi; n++ {
		if n != lo && n != hi && known[n] == "" {
			continue // nobody has it
		}
		name, _ := r.senderName(field, &expr{kind: kindNumber, text: strconv.Itoa(n)})
		names = append(names, name)
	}
	return names, true
}

// senderName is whom an element of a listing stands for. One that the host has
// no name for is somebody all the same, where the names are known.
func (r *reader) senderName(field packet.Field, e *expr) (name string, ok bool) {
	n, isNumber := e.int()
	if !isNumber && e.kind != kindWord {
		return "", false
	}
	if field == packet.Unit && !isNumber {
		// nft lists a control group by its path, while there is one. A slice holds
		// units, and nobody tells which.
		return kernel.UnitOf(e.text), e.text != "" && path.Ext(e.text) != ".slice"
	}
	if !isNumber {
		return e.text, e.text != ""
	}
	names, kind := r.users, "user"
	if field == packet.Group {
		names, kind = r.groups, "group"
	}
	switch {
	case field != packet.Unit && n == 0:
		return "root", true
	case field == packet.Unit || names == nil:
		return "", false
	}
	if name = names[n]; name == "" {
		name = fmt.Sprintf("%s number %d", kind, n)
	}
	return name, true
}

// depth is how deep a control group lies. Where both versions of control groups are
// mounted, those of version 2 lie in a folder of their own.
func depth(path string) int { return 1 + strings.Count(strings.TrimPrefix(path, "unified/"), "/") }

// flags is a match on the flags of a TCP header: "in" asks for any of them, "!"
// for none, and behind a mask, or in a set, they are compared as a whole.
func (r *reader) flags(tcp packet.Set, op string, mask, right *expr, unknown func() packet.Set) packet.Set {
	among := 255
	if mask != nil {
		var ok bool
		if among, ok = flagBits(mask); !ok {
			return r.sp.And(tcp, unknown())
		}
	}
	var wanted []int
	isSet := right.kind == kindSet
	elements := []expr{*right}
	if isSet {
		elements = right.args
	}
	for i := range elements {
		bits, ok := flagBits(elements[i].value())
		if !ok {
			return r.sp.And(tcp, unknown())
		}
		wanted = append(wanted, bits)
	}
	switch {
	case op == "in" && mask == nil && !isSet:
		return r.sp.Minus(tcp, r.sp.TCPFlagsMatch(0, wanted[0]))
	case op == "!" && mask == nil && !isSet:
		return r.sp.And(tcp, r.sp.TCPFlagsMatch(0, wanted[0]))
	}
	any := packet.Empty
	for _, bits := range wanted {
		any = r.sp.Or(any, r.sp.TCPFlagsMatch(bits, among))
	}
	switch op {
	case "==", "in":
		return r.sp.And(tcp, any)
	case "!=":
		return r.sp.Minus(tcp, any)
	}
	return r.sp.And(tcp, unknown())
}

// flagBits reads flags: a name, a list of names, or a number.
func flagBits(v *expr) (bits int, ok bool) {
	flags := []expr{*v}
	if v.kind == kindList || v.kind == kindEither {
		flags = v.args
	}
	for i := range flags {
		e := &flags[i]
		if n, isNumber := e.int(); isNumber && n >= 0 && n < 256 {
			bits |= n
			continue
		}
		flag := slices.Index(packet.TCPFlagNames, e.text)
		if flag < 0 {
			return 0, false
		}
		bits |= 1 << flag
	}
	return bits, true
}
