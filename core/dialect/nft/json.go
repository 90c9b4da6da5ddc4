package nft

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"

	"github.com/valyala/fastjson"

	"yellowfence.example/yfence/core/packet"
)

// A jsonReader makes a listing of nft's JSON form.
type jsonReader struct {
	slab
	listing
}

// text is a value as a string; "" for one that is none.
func text(v *fastjson.Value) string {
	if v == nil {
		return ""
	}
	b, _ := v.StringBytes()
	return string(b)
}

func items(v *fastjson.Value) []*fastjson.Value {
	if v == nil {
		return nil
	}
	list, _ := v.Array()
	return list
}

// listed takes a listing apart.
func listed(data []byte) (*listing, error) {
	objects, ok := split(data)
	if !ok {
		var doc struct {
			Nftables []json.RawMessage `json:"nftables"`
		}
		dec := json.NewDecoder(bytes.NewReader(data))
		if err := dec.Decode(&doc); err != nil {
			return nil, syntaxError(data, dec, err)
		}
		if doc.Nftables == nil {
			return nil, &SyntaxError{1, `no "nftables" list: this is not what nft -j list ruleset prints`}
		}
		for _, raw := range doc.Nftables {
			objects = append(objects, raw)
		}
	}
	r := &jsonReader{}
	r.rules = make([]listedRule, 0, len(objects))
	var parser fastjson.Parser // of one object after the other: what it holds of one is let go with the next
	for i, raw := range objects {
		o, err := parser.ParseBytes(raw)
		if err != nil {
			return nil, &SyntaxError{1 + bytes.Count(data[:bytes.Index(data, raw)], []byte("\n")), err.Error()}
		}
		kind, fields := only(o)
		if fields == nil || fields.Type() != fastjson.TypeObject {
			return nil, &SyntaxError{1, fmt.Sprintf("object %d of the listing (%s) is no object of fields", i+1, kind)}
		}
		r.object(kind, fields)
	}
	return &r.listing, nil
}

// split finds the objects of a listing in the form that nft prints. ok is false for
// all other text, JSON or not.
func split(data []byte) (objects [][]byte, ok bool) {
	rest, found := bytes.CutPrefix(bytes.TrimSpace(data), []byte(`{"nftables":`))
	if rest = bytes.TrimSpace(rest); !found || len(rest) == 0 || rest[0] != '[' {
		return nil, false
	}
	for separator := byte('['); len(rest) > 0 && rest[0] == separator; separator = ',' {
		rest = bytes.TrimLeft(rest[1:], " \t\r\n")
		n := objectEnd(rest)
		if n == 0 {
			break
		}
		objects = append(objects, rest[:n])
		rest = bytes.TrimLeft(rest[n:], " \t\r\n")
	}
	return objects, bytes.Equal(bytes.Join(bytes.Fields(rest), nil), []byte("]}"))
}

// objectEnd is how long the object is that data begins with; 0 if none does.
func objectEnd(data []byte) int {
	if len(data) == 0 || data[0] != '{' {
		return 0
	}
	depth := 0
	for i := 0; i < len(data); i++ {
		switch data[i] {
		case '{':
			depth++
		case '}':
			if depth--; depth == 0 {
				return i + 1
			}
		case '"':
			for i++; i < len(data) && data[i] != '"'; i++ {
				if data[i] == '\\' {
					i++
				}
			}
		}
	}
	return 0
}

// only is the field of an object that has one; nil for all else.
func only(v *fastjson.Value) (name string, value *fastjson.Value) {
	o, err := v.Object()
	if err != nil || o.Len() != 1 {
		return "", nil
	}
	o.Visit(func(key []byte, v *fastjson.Value) { name, value = string(key), v })
	return name, value
}

func syntaxError(data []byte, dec *json.Decoder, err error) error {
	offset := dec.InputOffset()
	var syntax *json.SyntaxError
	if errors.As(err, &syntax) {
		offset = syntax.Offset
	}
	message := err.Error()
	if errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) {
		offset, message = int64(len(data)), "the dump ends in the middle"
		if len(bytes.TrimSpace(data)) == 0 {
			message = "the dump is empty: not even a kernel without rules prints nothing"
		}
	}
	return &SyntaxError{1 + bytes.Count(data[:min(int(offset), len(data))], []byte("\n")), message}
}

func (r *jsonReader) object(kind string, f *fastjson.Value) {
	at := place{text(f.Get("family")), text(f.Get("table")), text(f.Get("name"))}
	whole := func(name string) int { n, _ := strconv.Atoi(r.expr(f.Get(name)).text); return n }
	switch kind {
	case "set", "map":
		s := &namedSet{place: at, holds: text(f.Get("type")), comment: text(f.Get("comment")), size: whole("size"), timeout: whole("timeout")}
		s.elements = r.exprs(f.Get("elem"))
		s.changing = f.Exists("timeout") || slices.ContainsFunc(items(f.Get("flags")), func(v *fastjson.Value) bool { return changingFlag(text(v)) })
		r.sets = append(r.sets, s)
	case "limit":
		r.limits = append(r.limits, namedLimit{at, r.limit(f)})
	case "chain":
		c := newChain(at)
		c.Hook, c.Type, c.Priority = text(f.Get("hook")), text(f.Get("type")), whole("prio")
		if text(f.Get("policy")) == "drop" {
			c.Policy = packet.Drop
		}
		dev := f.Get("dev")
		if one := text(dev); one != "" {
			c.Devices = []string{one}
		}
		for _, d := range items(dev) {
			c.Devices = append(c.Devices, text(d))
		}
		r.chains = append(r.chains, c)
	case "rule":
		at.name = text(f.Get("chain"))
		where := at.String()
		if handle := r.expr(f.Get("handle")); handle.kind == kindNumber {
			where += " handle " + handle.text
		}
		r.rules = append(r.rules, listedRule{at, r.unnamed(at, where, r.exprs(f.Get("expr"))), text(f.Get("comment")), where, translated(f.Get("expr"))})
	}
}

// translated are the families that a rule's translations say, "" where one says none.
func translated(list *fastjson.Value) (families []string) {
	for _, v := range items(list) {
		if kind, arg := only(v); slices.Contains([]string{"dnat", "snat", "masquerade", "redirect"}, kind) {
			family := ""
			if arg != nil && arg.Type() == fastjson.TypeObject {
				family = text(arg.Get("family"))
			}
			families = append(families, family)
		}
	}
	return families
}

// unnamed reads the chains that have no name among what a rule does: nft gives those as text.
func (r *jsonReader) unnamed(at place, where string, es []expr) []expr {
	for i, e := range es {
		if e.kind != kindWord || !strings.HasPrefix(e.text, "jump {") && !strings.HasPrefix(e.text, "goto {") {
			continue
		}
		t := &textReader{lexer: lexer{text: e.text + "\n", line: 1}, file: where, family: at.family, table: at.table}
		t.chains = r.chains // by which their names differ
		line, err := t.lineOf(t.next())
		if err != nil {
			continue // it stays what is not understood
		}
		if read, rest := t.statementOf(t.unnamed(line)); len(rest) == 0 && (read.kind == kindJump || read.kind == kindGoto) {
			for k := range t.rules { // all are of the rule that is placed
				t.rules[k].at = where
			}
			es[i], r.chains, r.rules = read, t.chains, append(r.rules, t.rules...)
		}
	}
	return es
}

func (p place) String() string { return p.family + " " + p.table + "/" + p.name }

func changingFlag(flag string) bool { return flag == "dynamic" || flag == "timeout" }

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
		return e
	case "limit":
		if named := text(f); named != "" {
			return expr{kind: kindLimitNamed, text: named}
		}
		return r.limit(f)
	case "set": // the statement that changes one
		return expr{kind: kindSetWrite, text: text(f.Get("op")), part: text(f.Get("set")), args: append([]expr{r.expr(f.Get("elem"))}, r.exprs(f.Get("stmt"))...)}
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
