package nft

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"yellowfence.example/yfence/core/dialect"
)

// An expr is a piece of a rule, of whichever form of listing: a value, a field, a
// statement. The kinds say what text, part and args are.
type expr struct {
	kind kind
	text string
	part string
	args []expr
}

// kind is a kind of expression. What nft lists as JSON and as text is read into the same
// expressions, so that all that follows is written once.
type kind uint8

// The kinds, and what text, part and args hold for each.
const (
	kindNone kind = iota

	// values
	kindWord    // text
	kindNumber  // text, in decimal
	kindTruth   // text is "1" for true
	kindPrefix  // text is the address, part its length
	kindSpan    // args from and to
	kindList    // args; in a set, a pair of key and value
	kindSet     // args
	kindJoined  // args, with dots between
	kindBoth    // args, with & between
	kindEither  // args, with | between
	kindTurned  // args, with ^ between
	kindElement // args: the value, and statements of its own
	kindMapped  // args: a key and the map that gives the value

	// fields
	kindPayload // text is the header, part its field
	kindMeta    // text
	kindCT      // text, part is the direction
	kindRT      // text
	kindSocket  // text
	kindExthdr  // text is the header, part its field, if any
	kindFib     // text is the result, args the flags
	kindChance  // text

	// statements
	kindMatch  // text is the operator, args left and right
	kindAccept // this and the next two have no parts
	kindDrop
	kindReturn
	kindJump       // text is the chain
	kindGoto       // text is the chain
	kindReject     // text is the type, part the answer
	kindVmap       // args key and data
	kindMangle     // args key and value
	kindLog        // text is the prefix, part is "audit" for what goes to the audit system, or noted
	kindLimit      // text is the unit, part the rate, args burst, "over" or "", what is counted
	kindLimitNamed // text is the name of the limit
	kindSetWrite   // text is the operation, part the set, args the element and statements
	kindRedirect   // text is the port, "" for the same; or args a key and the map of ports
	kindSourceNAT  // a change of the source; text
	kindTargetNAT  // a change of the destination: text the address, part the port; or args a range, or a key and the map of both
	kindUntrack    // no parts
	kindFlow       // text is the flow table
	kindCounter    // a counter, which nothing depends on
	kindPassing    // text; something else that nothing depends on
	kindCounted    // text; something that depends on what passed before
	kindOther      // text; something that is not read
)

// arg is an operand, or an empty expression where there is none: what asks it finds that it
// knows none such.
func (e *expr) arg(i int) *expr {
	if i < len(e.args) {
		return &e.args[i]
	}
	return &expr{}
}

// mentions says that a kind stands anywhere in an expression.
func (e *expr) mentions(k kind) bool {
	return e.kind == k || slices.ContainsFunc(e.args, func(a expr) bool { return a.mentions(k) })
}

// int is a value as a number, as which listings write it plainly or as text.
func (e *expr) int() (int, bool) {
	if e.kind != kindNumber && e.kind != kindWord && e.kind != kindRedirect {
		return 0, false
	}
	n, err := strconv.Atoi(e.text)
	return n, err == nil
}

// value is an element of a set without what else is said of it.
func (e *expr) value() *expr {
	if e.kind == kindElement {
		return e.arg(0)
	}
	return e
}

// statements are a rule, which says itself the way nft lists it, counters left out.
type statements []expr

// String is a rule as nft writes one, without its counters: they differ from dump to dump.
func (s *statements) String() string {
	var b strings.Builder
	for i := range *s {
		e := &(*s)[i]
		if e.kind == kindCounter {
			continue
		}
		if b.Len() > 0 {
			b.WriteByte(' ')
		}
		e.write(&b)
	}
	return b.String()
}

// String is the expression as nft writes it, near enough for people to find it again.
func (e *expr) String() string {
	var b strings.Builder
	e.write(&b)
	return b.String()
}

// element is the expression as nft writes one of a set, or of a map.
func (e *expr) element() string {
	if e.kind == kindList && len(e.args) == 2 {
		return e.args[0].String() + " : " + e.args[1].String()
	}
	return e.String()
}

// separators are what stands between the args of kinds that only join them.
var separators = map[kind]string{kindSpan: "-", kindList: ",", kindJoined: " . ", kindBoth: " & ", kindEither: " | ", kindTurned: " ^ "}

// write says an expression the way nft lists it.
func (e *expr) write(b *strings.Builder) {
	put := func(parts ...string) {
		for _, p := range parts {
			b.WriteString(p)
		}
	}
	switch e.kind {
	case kindTruth:
		put(map[bool]string{true: "exists", false: "missing"}[e.text == "1"])
	case kindPrefix:
		put(e.text, "/", e.part)
	case kindSet:
		put("{ ")
		for i := range e.args {
			if i > 0 {
				put(", ")
			}
			put(e.args[i].element())
		}
		put(" }")
	case kindEither:
		put("(", e.joinedArgs(), ")")
	case kindSpan, kindList, kindJoined, kindBoth, kindTurned:
		put(e.joinedArgs())
	case kindElement:
		e.arg(0).write(b)
	case kindMapped:
		put(e.arg(0).String(), " map ", e.arg(1).String())
	case kindPayload:
		put(e.text, " ", e.part)
	case kindMeta:
		if !slices.Contains([]string{"iifname", "oifname", "iif", "oif"}, e.text) {
			put("meta ")
		}
		put(e.text)
	case kindCT:
		put("ct ")
		if e.part != "" {
			put(e.part, " ")
		}
		put(e.text)
	case kindRT:
		put("rt ", e.text)
	case kindSocket:
		put("socket ", e.text)
	case kindExthdr:
		if e.part == "" && strings.Contains(e.text, " ") { // an option
			put(e.text)
			return
		}
		if e.part == "" {
			put("exthdr ", e.text)
			return
		}
		put(e.text, " ", e.part)
	case kindFib:
		put("fib ", strings.ReplaceAll((&expr{kind: kindList, args: e.args}).String(), ",", " . "), " ", e.text)
	case kindMatch:
		e.writeMatch(b)
	case kindAccept:
		put("accept")
	case kindDrop:
		put("drop")
	case kindReturn:
		put("return")
	case kindJump:
		put("jump ", e.text)
	case kindGoto:
		put("goto ", e.text)
	case kindReject:
		put("reject")
		if e.text != "" {
			put(" with ", e.text)
		}
		if e.part != "" {
			put(" ", e.part)
		}
	case kindVmap:
		put(e.arg(0).String(), " vmap ", e.arg(1).String())
	case kindMangle:
		to, value := e.arg(0), e.arg(1)
		if _, ok := markOf(to); ok {
			value = value.hexed()
		}
		said := value.String()
		if value.kind == kindEither {
			said = value.joinedArgs()
		}
		put(to.String(), " set ", said)
	case kindLog:
		if put("log"); e.text != "" {
			put(" prefix ", strconv.Quote(e.text))
		}
		if e.part == noted {
			put(" group ", strconv.Itoa(dialect.NoteGroup))
		}
	case kindLimit:
		put("limit rate ")
		if over := e.arg(1).text; over != "" {
			put(over, " ")
		}
		if put(e.part); e.arg(2).text != "" {
			put(" ", e.arg(2).text)
		}
		put("/", e.text)
		if n, ok := e.arg(0).int(); ok && n != defaultBurst && e.arg(2).text == "" {
			fmt.Fprintf(b, " burst %d packets", n)
		}
	case kindRedirect:
		if put("redirect"); e.args != nil {
			put(" to :", e.arg(0).String(), " map ", e.arg(1).String())
		} else if e.text != "" {
			put(" to :", e.text)
		}
	case kindTargetNAT:
		switch {
		case len(e.args) == 1:
			put("dnat to ", e.arg(0).String())
		case e.args != nil:
			put("dnat to ", e.arg(0).String(), " map ", e.arg(1).String())
		case e.text == "":
			put("dnat to :", e.part)
		case e.part != "":
			put("dnat to ", hostPort(e.text, e.part))
		default:
			put("dnat to ", e.text)
		}
	case kindUntrack:
		put("notrack")
	case kindFlow:
		put("flow add ", e.text)
	case kindLimitNamed:
		put("limit name ", strconv.Quote(e.text))
	case kindSetWrite:
		put(e.text, " ", e.part, " { ")
		for i := range e.args {
			e.args[i].write(b)
			put(" ")
		}
		put("}")
	default:
		put(e.text)
	}
}

// hostPort is an address with a port, as nft lists it.
func hostPort(address, port string) string {
	if strings.Contains(address, ":") {
		address = "[" + address + "]"
	}
	return address + ":" + port
}

// hexed is a value with its numbers as nft lists those of marks.
func (e *expr) hexed() *expr {
	h := *e
	if n, ok := e.bits(); ok && e.kind == kindNumber {
		h = expr{kind: kindWord, text: fmt.Sprintf("0x%08x", n)}
	}
	h.args = slices.Clone(e.args)
	for i := range h.args {
		h.args[i] = *h.args[i].hexed()
	}
	return &h
}

// joinedArgs are the operands with what stands between them.
func (e *expr) joinedArgs() string {
	parts := make([]string, len(e.args))
	for i := range e.args {
		parts[i] = e.args[i].String()
	}
	return strings.Join(parts, separators[e.kind])
}

// writeMatch writes a comparison, in the short form that nft has for flags and marks.
func (e *expr) writeMatch(b *strings.Builder) {
	left, right := e.arg(0), e.arg(1)
	if field := left.arg(0); left.kind == kindBoth && field.part == "flags" && (e.text == "==" || e.text == "!=") {
		field.write(b)
		fmt.Fprintf(b, " %s%s / %s", map[string]string{"!=": "!= "}[e.text], right, left.arg(1))
		return
	}
	if _, ok := markOf(left); ok {
		right = right.hexed()
	} else if _, ok := markOf(left.arg(0)); ok && left.kind == kindBoth {
		left, right = left.hexed(), right.hexed()
	}
	left.write(b)
	if e.text == "in" || e.text == "==" && left.kind != kindBoth {
		b.WriteByte(' ')
	} else {
		b.WriteString(" " + e.text + " ")
	}
	if left.kind == kindMeta && right.kind == kindWord &&
		(strings.HasSuffix(left.text, "name") || left.text == "iif" || left.text == "oif") && !strings.HasPrefix(right.text, "@") {
		b.WriteString(strconv.Quote(right.text))
		return
	}
	right.write(b)
}
