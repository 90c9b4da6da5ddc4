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

// items are the items of a list; none for what is no list.
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

// syntaxError says where JSON breaks off, by its line.
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

// object reads one object of a listing. What it is of no matter for is passed over.
func (r *jsonReader) object(kind string, f *fastjson.Value) {
	at := place{text(f.Get("family")), text(f.Get("table")), text(f.Get("name"))}
	whole := func(name string) int { n, _ := strconv.Atoi(r.expr(f.Get(name)).text); return n }
	switch kind {
	case "set", "map":
		s := &namedSet{place: at, holds: text(f.Get("type")), comment: text(f.Get("comment")), size: whole("size"),
			timeout: whole("timeout")}
		s.elements = r.exprs(f.Get("elem"))
		s.changing = f.Exists("timeout") || slices.ContainsFunc(items(f.Get("flags")),
			func(v *fastjson.Value) bool { return changingFlag(text(v)) })
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
		r.rules = append(r.rules, listedRule{at, r.unnamed(at, where, r.exprs(f.Get("expr"))), text(f.Get("comment")), where,
			translated(f.Get("expr"))})
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

// String is the place as nft writes it.
func (p place) String() string { return p.family + " " + p.table + "/" + p.name }

// changingFlag says that what is in a set comes and goes while nobody writes rules.
func changingFlag(flag string) bool { return flag == "dynamic" || flag == "timeout" }
