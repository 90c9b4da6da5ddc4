package nft

import (
	"slices"
	"strconv"
	"strings"

	"github.com/valyala/fastjson"
	"yellowfence.example/yfence/core/dialect"
)

// exprs reads a list of expressions.
func (r *jsonReader) exprs(list *fastjson.Value) []expr {
	vs := items(list)
	if len(vs) == 0 {
		return nil
	}
	es := r.of(make([]expr, len(vs))...)
	for i, v := range vs {
		es[i] = r.expr(v)
	}
	return es
}

// expr reads one value, field or statement.
func (r *jsonReader) expr(v *fastjson.Value) expr {
	if v == nil {
		return expr{}
	}
	switch v.Type() {
	case fastjson.TypeString:
		return expr{kind: kindWord, text: text(v)}
	case fastjson.TypeNumber:
		return expr{kind: kindNumber, text: wording(v)}
	case fastjson.TypeTrue:
		return expr{kind: kindTruth, text: "1"}
	case fastjson.TypeFalse:
		return expr{kind: kindTruth}
	case fastjson.TypeArray:
		return expr{kind: kindList, args: r.exprs(v)}
	case fastjson.TypeObject:
		if kind, arg := only(v); arg != nil {
			if e := r.named(kind, arg); e.kind != kindNone {
				return e
			}
		}
		return expr{kind: kindOther, text: wording(v)}
	}
	return expr{}
}

// verdictWords are the statements of one word, which may stand as bare words too.
var verdictWords = map[string]kind{"accept": kindAccept, "drop": kindDrop, "return": kindReturn, "continue": kindPassing}

// joiners are the kinds that are a list of parts.
var joiners = map[string]kind{"range": kindSpan, "set": kindSet, "concat": kindJoined, "&": kindBoth, "|": kindEither, "^": kindTurned}

// named reads an object of one field; nothing is one that is not known.
func (r *jsonReader) named(name string, f *fastjson.Value) expr {
	two := func(k kind, text string, a, b string) expr {
		return expr{kind: k, text: text, args: r.of(r.expr(f.Get(a)), r.expr(f.Get(b)))}
	}
	// Most of what a listing holds is one of these two, which need no case of their own.
	if k := joiners[name]; k != kindNone && f.Type() == fastjson.TypeArray {
		return expr{kind: k, args: r.exprs(f)}
	}
	if k, ok := verdictWords[name]; ok {
		return expr{kind: k, text: name}
	}
	switch name {
	case "prefix":
		return expr{kind: kindPrefix, text: text(f.Get("addr")), part: wording(f.Get("len"))}
	case "elem":
		e := expr{kind: kindElement, args: []expr{r.expr(f.Get("val"))}}
		for _, k := range []string{"limit", "quota", "ct count"} {
			if f.Exists(k) {
				e.args = append(e.args, r.named(k, f.Get(k)))
			}
		}
		return e
	case "payload":
		if f.Exists("base") {
			return expr{kind: kindOther, text: "@" + text(f.Get("base")) + "," + wording(f.Get("offset")) + "," + wording(f.Get("len"))}
		}
		return expr{kind: kindPayload, text: text(f.Get("protocol")), part: text(f.Get("field"))}
	case "meta":
		return expr{kind: kindMeta, text: text(f.Get("key"))}
	case "ct":
		return expr{kind: kindCT, text: text(f.Get("key")), part: text(f.Get("dir"))}
	case "exthdr":
		return expr{kind: kindExthdr, text: text(f.Get("name")), part: text(f.Get("field"))}
	case "tcp option", "ip option":
		return expr{kind: kindExthdr, text: name + " " + text(f.Get("name")), part: text(f.Get("field"))}
	case "map":
		return two(kindMapped, "", "key", "data")
	case "rt":
		return expr{kind: kindRT, text: text(f.Get("key"))}
	case "socket":
		return expr{kind: kindSocket, text: text(f.Get("key"))}
	case "fib":
		flags := r.expr(f.Get("flags"))
		if flags.kind != kindList {
			flags = expr{args: r.of(flags)}
		}
		return expr{kind: kindFib, text: text(f.Get("result")), args: flags.args}
	case "match":
		return two(kindMatch, text(f.Get("op")), "left", "right")
	case "jump":
		return expr{kind: kindJump, text: text(f.Get("target"))}
	case "goto":
		return expr{kind: kindGoto, text: text(f.Get("target"))}
	case "reject":
		return expr{kind: kindReject, text: text(f.Get("type")), part: text(f.Get("expr"))}
	case "vmap":
		return two(kindVmap, "", "key", "data")
	case "mangle":
		return two(kindMangle, "", "key", "value")
	case "log":
		e := expr{kind: kindLog, text: text(f.Get("prefix"))}
		if !f.Exists("group") && text(f.Get("level")) == "audit" {
			e.part = "audit"
		}
		if f.GetInt("group") == dialect.NoteGroup {
			e.part = noted
		}
		return e
	case "limit":
		if named := text(f); named != "" {
			return expr{kind: kindLimitNamed, text: named}
		}
		return r.limit(f)
	case "set": // the statement that changes one
		return expr{kind: kindSetWrite, text: text(f.Get("op")), part: text(f.Get("set")),
			args: append([]expr{r.expr(f.Get("elem"))}, r.exprs(f.Get("stmt"))...)}
	case "counter":
		return expr{kind: kindCounter}
	case "comment", "ct helper", "ct timeout", "secmark", "dup":
		return expr{kind: kindPassing, text: name + " " + wording(f)}
	case "quota", "ct count":
		over := ""
		if f.GetBool("inv") {
			over = "over "
		}
		switch {
		case text(f) != "":
			return expr{kind: kindCounted, text: name + " name " + strconv.Quote(text(f))}
		case name == "quota":
			return expr{kind: kindCounted, text: "quota " + over + wording(f.Get("val")) + " " + text(f.Get("val_unit"))}
		}
		return expr{kind: kindCounted, text: "ct count " + over + wording(f.Get("val"))}
	case "meter":
		limit := r.exprs(f.Get("stmt"))
		if f.Get("stmt").Type() == fastjson.TypeObject {
			limit = []expr{r.expr(f.Get("stmt"))}
		}
		said := []string{"meter", text(f.Get("name")), "size", wording(f.Get("size")), "{", wording(f.Get("key"))}
		for i := range limit {
			said = append(said, limit[i].String())
		}
		return expr{kind: kindCounted, text: strings.Join(append(said, "}"), " ")}
	case "notrack":
		return expr{kind: kindUntrack}
	case "flow":
		return expr{kind: kindFlow, text: text(f.Get("flowtable"))}
	case "numgen":
		return expr{kind: kindChance, text: strings.Join([]string{"numgen", text(f.Get("mode")), "mod", wording(f.Get("mod"))}, " ")}
	case "dnat":
		address, port := f.Get("addr"), f.Get("port")
		if m := address.Get("map"); m != nil && port == nil {
			return expr{kind: kindTargetNAT, args: r.of(r.expr(m.Get("key")), r.expr(m.Get("data")))}
		}
		if address == nil && port != nil && port.Type() == fastjson.TypeNumber {
			return expr{kind: kindTargetNAT, part: wording(port)}
		}
		if text(address) != "" && (port == nil || port.Type() == fastjson.TypeNumber) {
			return expr{kind: kindTargetNAT, text: text(address), part: wording(port)}
		}
		if span := r.expr(address); span.kind == kindSpan && (port == nil || port.Type() == fastjson.TypeNumber) {
			return expr{kind: kindTargetNAT, part: wording(port), args: r.of(span)}
		}
		return expr{kind: kindOther, text: "dnat " + wording(f)}
	case "redirect":
		switch port := f.Get("port"); {
		case port == nil:
			return expr{kind: kindRedirect}
		case port.Type() == fastjson.TypeNumber:
			return expr{kind: kindRedirect, text: wording(port)}
		default:
			if m := port.Get("map"); m != nil {
				return expr{kind: kindRedirect, args: r.of(r.expr(m.Get("key")), r.expr(m.Get("data")))}
			}
			return expr{kind: kindOther, text: "redirect to :" + wording(port)}
		}
	case "masquerade":
		return expr{kind: kindSourceNAT, text: name}
	case "snat":
		return expr{kind: kindSourceNAT, text: strings.TrimSpace("snat to " + wording(f.Get("addr")))}
	}
	return expr{}
}

// limit reads a limit: its rate, its burst, and whether what exceeds it is meant.
func (r *jsonReader) limit(f *fastjson.Value) expr {
	e := expr{kind: kindLimit, text: text(f.Get("per")), part: wording(f.Get("rate")), args: r.of(expr{}, expr{}, expr{})}
	if f.Exists("burst") {
		e.args[0] = expr{kind: kindNumber, text: wording(f.Get("burst"))}
	}
	if f.GetBool("inv") {
		e.args[1] = expr{kind: kindWord, text: "over"}
	}
	if unit := text(f.Get("rate_unit")); unit != "" && unit != "packets" {
		e.args[2] = expr{kind: kindWord, text: unit}
	}
	return e
}

// wording is what a value that is not read comes out as: its words in order, which
// is mostly how nft says it.
func wording(v *fastjson.Value) string {
	if v == nil {
		return ""
	}
	switch v.Type() {
	case fastjson.TypeNull:
		return ""
	case fastjson.TypeString:
		return text(v)
	case fastjson.TypeArray:
		parts := make([]string, len(items(v)))
		for i, e := range items(v) {
			parts[i] = wording(e)
		}
		return strings.Join(parts, ",")
	case fastjson.TypeObject:
		if kind, arg := only(v); arg != nil {
			if e := (&jsonReader{}).named(kind, arg); e.kind != kindNone {
				return e.String()
			}
		}
		var parts []string
		o, _ := v.Object()
		o.Visit(func(key []byte, v *fastjson.Value) {
			parts = append(parts, strings.TrimSpace(string(key)+" "+wording(v)))
		})
		slices.Sort(parts)
		return strings.Join(parts, " ")
	}
	return v.String()
}
