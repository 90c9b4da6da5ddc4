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

	"yellowfence.example/yfence/core/packet"
)

// A jsonReader makes a listing of nft's JSON form.
type jsonReader struct {
	slab
	listing
}

func text(v any) string { s, _ := v.(string); return s }

func fieldsOf(v any) map[string]any { m, _ := v.(map[string]any); return m }

// listed takes a listing apart.
func listed(data []byte) (*listing, error) {
	dec := json.NewDecoder(bytes.NewReader(data))
	dec.UseNumber()
	var doc struct {
		Nftables []map[string]any `json:"nftables"`
	}
	if err := dec.Decode(&doc); err != nil {
		return nil, syntaxError(data, dec, err)
	}
	if doc.Nftables == nil {
		return nil, &SyntaxError{1, `no "nftables" list: this is not what nft -j list ruleset prints`}
	}
	r := &jsonReader{}
	for i, o := range doc.Nftables {
		for kind, v := range o {
			fields, ok := v.(map[string]any)
			if !ok {
				return nil, &SyntaxError{1, fmt.Sprintf("object %d of the listing (%s) is no object of fields", i+1, kind)}
			}
			r.object(kind, fields)
		}
	}
	return &r.listing, nil
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

func (r *jsonReader) object(kind string, f map[string]any) {
	at := place{text(f["family"]), text(f["table"]), text(f["name"])}
	whole := func(v any) int { n, _ := strconv.Atoi(r.expr(v).text); return n }
	switch kind {
	case "set", "map":
		s := &namedSet{place: at, holds: text(f["type"]), comment: text(f["comment"]), size: whole(f["size"]), timeout: whole(f["timeout"])}
		elements, _ := f["elem"].([]any)
		s.elements = r.exprs(elements)
		flags, _ := f["flags"].([]any)
		s.changing = f["timeout"] != nil || slices.ContainsFunc(flags, func(v any) bool { return changingFlag(text(v)) })
		r.sets = append(r.sets, s)
	case "limit":
		r.limits = append(r.limits, namedLimit{at, r.limit(f)})
	case "chain":
		c := newChain(at)
		c.Hook, c.Type, c.Priority = text(f["hook"]), text(f["type"]), whole(f["prio"])
		if text(f["policy"]) == "drop" {
			c.Policy = packet.Drop
		}
		switch dev := f["dev"].(type) {
		case string:
			c.Devices = []string{dev}
		case []any:
			for _, d := range dev {
				c.Devices = append(c.Devices, text(d))
			}
		}
		r.chains = append(r.chains, c)
	case "rule":
		at.name = text(f["chain"])
		where := at.String()
		if handle := r.expr(f["handle"]); handle.kind == kindNumber {
			where += " handle " + handle.text
		}
		exprs, _ := f["expr"].([]any)
		r.rules = append(r.rules, listedRule{at, r.exprs(exprs), text(f["comment"]), where})
	}
}

func (p place) String() string { return p.family + " " + p.table + "/" + p.name }

func changingFlag(flag string) bool { return flag == "dynamic" || flag == "timeout" }

func (r *jsonReader) exprs(vs []any) []expr {
	if len(vs) == 0 {
		return nil
	}
	es := make([]expr, len(vs))
	for i, v := range vs {
		es[i] = r.expr(v)
	}
	return es
}

// expr reads one value, field or statement.
func (r *jsonReader) expr(v any) expr {
	switch x := v.(type) {
	case string:
		return expr{kind: kindWord, text: x}
	case json.Number:
		return expr{kind: kindNumber, text: string(x)}
	case bool:
		return expr{kind: kindTruth, text: map[bool]string{true: "1"}[x]}
	case []any:
		return expr{kind: kindList, args: r.exprs(x)}
	case map[string]any:
		if len(x) == 1 {
			for kind, arg := range x {
				if e := r.named(kind, arg); e.kind != kindNone {
					return e
				}
			}
		}
		return expr{kind: kindOther, text: wording(v)}
	}
	return expr{}
}

// verdictWords are the statements of one word, which may stand as bare words too.
var verdictWords = map[string]kind{"accept": kindAccept, "drop": kindDrop, "return": kindReturn, "continue": kindPassing}

// joiners are the kinds that are a list of parts.
var joiners = map[string]kind{"range": kindSpan, "set": kindSet, "concat": kindJoined, "&": kindBoth, "|": kindEither}

// named reads an object of one field; nothing is one that is not known.
func (r *jsonReader) named(name string, arg any) expr {
	f := fieldsOf(arg)
	two := func(k kind, text string, a, b string) expr {
		return expr{kind: k, text: text, args: r.of(r.expr(f[a]), r.expr(f[b]))}
	}
	if parts, ok := arg.([]any); ok && joiners[name] != kindNone {
		return expr{kind: joiners[name], args: r.exprs(parts)}
	}
	if k, ok := verdictWords[name]; ok {
		return expr{kind: k, text: name}
	}
	switch name {
	case "prefix":
		return expr{kind: kindPrefix, text: text(f["addr"]), part: wording(f["len"])}
	case "elem":
		e := expr{kind: kindElement, args: []expr{r.expr(f["val"])}}
		for _, k := range []string{"limit", "quota", "ct count"} {
			if f[k] != nil {
				e.args = append(e.args, r.named(k, f[k]))
			}
		}
		return e
	case "payload":
		if f["base"] != nil {
			return expr{kind: kindOther, text: fmt.Sprintf("@%s,%v,%v", text(f["base"]), f["offset"], f["len"])}
		}
		return expr{kind: kindPayload, text: text(f["protocol"]), part: text(f["field"])}
	case "meta":
		return expr{kind: kindMeta, text: text(f["key"])}
	case "ct":
		return expr{kind: kindCT, text: text(f["key"]), part: text(f["dir"])}
	case "rt":
		return expr{kind: kindRT, text: text(f["key"])}
	case "socket":
		return expr{kind: kindSocket, text: text(f["key"])}
	case "fib":
		flags := r.expr(f["flags"])
		if flags.kind != kindList {
			flags = expr{args: r.of(flags)}
		}
		return expr{kind: kindFib, text: text(f["result"]), args: flags.args}
	case "match":
		return two(kindMatch, text(f["op"]), "left", "right")
	case "jump":
		return expr{kind: kindJump, text: text(f["target"])}
	case "goto":
		return expr{kind: kindGoto, text: text(f["target"])}
	case "reject":
		return expr{kind: kindReject, text: text(f["type"]), part: text(f["expr"])}
	case "vmap":
		return two(kindVmap, "", "key", "data")
	case "mangle":
		return two(kindMangle, "", "key", "value")
	case "log":
		e := expr{kind: kindLog, text: text(f["prefix"])}
		if f["group"] == nil && text(f["level"]) == "audit" {
			e.part = "audit"
		}
		return e
	case "limit":
		if named := text(arg); named != "" {
			return expr{kind: kindLimitNamed, text: named}
		}
		return r.limit(f)
	case "set": // the statement that changes one
		statements, _ := f["stmt"].([]any)
		return expr{kind: kindSetWrite, text: text(f["op"]), part: text(f["set"]), args: append([]expr{r.expr(f["elem"])}, r.exprs(statements)...)}
	case "counter":
		return expr{kind: kindCounter}
	case "comment", "ct helper", "ct timeout", "secmark":
		return expr{kind: kindPassing, text: name + " " + wording(arg)}
	case "quota", "ct count":
		return expr{kind: kindCounted, text: name + " " + wording(arg)}
	case "redirect":
		if f["port"] == nil {
			return expr{kind: kindOther, text: "redirect"}
		}
		return expr{kind: kindOther, text: "redirect to :" + wording(f["port"])}
	}
	return expr{}
}

func (r *jsonReader) limit(f map[string]any) expr {
	e := expr{kind: kindLimit, text: text(f["per"]), part: wording(f["rate"]), args: r.of(expr{}, expr{}, expr{})}
	if f["burst"] != nil {
		e.args[0] = expr{kind: kindNumber, text: wording(f["burst"])}
	}
	if over, _ := f["inv"].(bool); over {
		e.args[1] = expr{kind: kindWord, text: "over"}
	}
	if unit := text(f["rate_unit"]); unit != "" && unit != "packets" {
		e.args[2] = expr{kind: kindWord, text: unit}
	}
	return e
}

// wording is what a value that is not read comes out as: its words in order, which
// is mostly how nft says it.
func wording(v any) string {
	switch x := v.(type) {
	case nil:
		return ""
	case []any:
		parts := make([]string, len(x))
		for i, e := range x {
			parts[i] = wording(e)
		}
		return strings.Join(parts, ",")
	case map[string]any:
		var parts []string
		for _, k := range sortedKeys(x) {
			if e := (&jsonReader{}).named(k, x[k]); len(x) == 1 && e.kind != kindNone {
				return e.String()
			}
			parts = append(parts, strings.TrimSpace(k+" "+wording(x[k])))
		}
		return strings.Join(parts, " ")
	}
	return fmt.Sprint(v)
}

func sortedKeys(m map[string]any) []string {
	keys := make([]string, 0, len(m))
	for k := range m {
		keys = append(keys, k)
	}
	slices.Sort(keys)
	return keys
}
