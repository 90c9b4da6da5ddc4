package nft

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"

	"yellowfence.example/yfence/core/dialect"
	"yellowfence.example/yfence/core/packet"
)

// A SyntaxError is a dump that could not be read at all.
type SyntaxError struct {
	Line    int // from 1
	Message string
}

func (e *SyntaxError) Error() string { return fmt.Sprintf("line %d: %s", e.Line, e.Message) }

// ReadJSON reads what `nft -j list ruleset` prints, ours and everybody else's.
// What it does not model becomes an unknown of the Space, named after it, so
// that an answer which depends on it is never certain. The error, a
// *SyntaxError, is for text that is no such listing, or half of one.
//
// A listing tells users by numbers of the host's own. What they stand for is
// said by names, which may be nil: then a match on one is not understood.
// Whom the host does not have is taken out of what is well formed in sp.
func ReadJSON(sp *packet.Space, data []byte, names *Names) (*dialect.Ruleset, error) {
	objects, err := listed(data)
	if err != nil {
		return nil, err
	}
	return read(sp, objects, names), nil
}

// read makes a ruleset of what a listing holds, in whatever form it was.
func read(sp *packet.Space, objects []listedObject, names *Names) *dialect.Ruleset {
	names.narrow(sp)
	r := &reader{sp: sp, out: &dialect.Ruleset{}, sets: map[setKey]*namedSet{}, chains: map[chainKey]*dialect.Chain{}, early: map[setKey]bool{},
		limits: map[setKey]packet.Bucket{}, users: names.byNumber(), names: names}
	// Sets and chains first: rules refer to them, wherever they stand.
	for _, pass := range []func(string, map[string]any){r.declaration, r.rule} {
		for _, o := range objects {
			pass(o.kind, o.fields)
		}
	}
	return r.out
}

// listedObject is one thing of a listing: a table, a chain, a set, a rule.
type listedObject struct {
	kind   string
	fields map[string]any
}

// listed takes a listing apart.
func listed(data []byte) (objects []listedObject, err error) {
	dec := json.NewDecoder(bytes.NewReader(data))
	dec.UseNumber()
	var doc struct {
		Nftables []map[string]json.RawMessage `json:"nftables"`
	}
	if err := dec.Decode(&doc); err != nil {
		return nil, syntaxError(data, dec, err)
	}
	if doc.Nftables == nil {
		return nil, &SyntaxError{1, `no "nftables" list: this is not what nft -j list ruleset prints`}
	}
	for i, object := range doc.Nftables {
		for kind, raw := range object {
			o := listedObject{kind: kind}
			d := json.NewDecoder(bytes.NewReader(raw))
			d.UseNumber()
			if err := d.Decode(&o.fields); err != nil {
				return nil, &SyntaxError{1, fmt.Sprintf("object %d of the listing (%s) is no object of fields", i+1, kind)}
			}
			objects = append(objects, o)
		}
	}
	return objects, nil
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

type setKey struct{ family, table, name string }
type chainKey = setKey

// namedSet is a set or a map of the dump.
type namedSet struct {
	elements []any
	changing bool // the kernel or its rules add and remove elements by themselves
	size     int  // 0 is any
	timeout  int  // in seconds; 0 is none
}

type reader struct {
	sp     *packet.Space
	out    *dialect.Ruleset
	sets   map[setKey]*namedSet
	chains map[chainKey]*dialect.Chain
	limits map[setKey]packet.Bucket
	names  *Names
	users  map[int]string  // nil: nobody says what they are called
	early  map[setKey]bool // tables (no name) with chains that run before connections are tracked
}

func text(v any) string { s, _ := v.(string); return s }

func key(fields map[string]any, name string) setKey {
	return setKey{text(fields["family"]), text(fields["table"]), text(fields[name])}
}

// outside are the families whose hooks we do not model.
var outside = []string{"netdev", "bridge", "arp"}

func (r *reader) declaration(kind string, f map[string]any) {
	switch kind {
	case "set", "map":
		elements, _ := f["elem"].([]any)
		flags, _ := f["flags"].([]any)
		s := &namedSet{elements: elements, changing: f["timeout"] != nil}
		s.size, _ = number(f["size"])
		s.timeout, _ = number(f["timeout"])
		for _, flag := range flags {
			s.changing = s.changing || text(flag) == "dynamic" || text(flag) == "timeout"
		}
		r.sets[key(f, "name")] = s
	case "limit":
		k := key(f, "name")
		if b, over, ok := bucket(objectName(k), f); ok && !over {
			r.limits[k] = b
		}
	case "chain":
		c := &dialect.Chain{Family: text(f["family"]), Table: text(f["table"]), Name: text(f["name"]), Hook: text(f["hook"]), Type: text(f["type"]), Policy: packet.Admit}
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
		if n, ok := number(f["prio"]); ok {
			c.Priority = n
		}
		r.chains[key(f, "name")] = c
		r.out.Chains = append(r.out.Chains, c)
		if runsEarly(c) {
			r.early[setKey{family: c.Family, table: c.Table}] = true
		}
	}
}

// trackingPriority is where the kernel's connection tracker hangs (NF_IP_PRI_CONNTRACK).
const trackingPriority = -200

// runsEarly says that a base chain sees packets before their connection is looked up.
func runsEarly(c *dialect.Chain) bool {
	return (c.Hook == "prerouting" || c.Hook == "output") && c.Priority <= trackingPriority
}

func (r *reader) rule(kind string, f map[string]any) {
	switch kind {
	case "rule":
	case "chain":
		// An empty chain that accepts does nothing even outside.
		if c := r.chains[key(f, "name")]; c.Hook != "" && c.Policy == packet.Drop {
			r.setOutside(c)
		}
		return
	default:
		return
	}
	c := r.chains[key(f, "chain")]
	if c == nil { // the listing of a rule whose chain is missing
		c = &dialect.Chain{Family: text(f["family"]), Table: text(f["table"]), Name: text(f["chain"])}
		r.chains[key(f, "chain")] = c
		r.out.Chains = append(r.out.Chains, c)
	}
	r.setOutside(c)
	at := c.Place()
	if n, ok := number(f["handle"]); ok {
		at = fmt.Sprintf("%s handle %d", at, n)
	}
	if place := text(f["at"]); place != "" {
		at = place
	}
	exprs, _ := f["expr"].([]any)
	lines := r.statements(c, exprs, at)
	for i := range lines {
		lines[i].At, lines[i].Comment, lines[i].Text = at, text(f["comment"]), ruleText(exprs)
	}
	c.Rules = append(c.Rules, lines...)
}

// setOutside marks a base chain that stands on a hook we do not model.
func (r *reader) setOutside(c *dialect.Chain) {
	if c.Hook != "" && (slices.Contains(outside, c.Family) || c.Hook == "ingress" || c.Hook == "egress") {
		c.Outside = "chain " + c.Place() + ", which stands before or behind what we read"
	}
}

// statements reads a rule's expressions. It gives more than one rule where a
// log stands before further matches: the line is written for all it matched.
func (r *reader) statements(c *dialect.Chain, exprs []any, at string) (out []dialect.Rule) {
	cur := dialect.Rule{Match: packet.All}
	before := packet.All // cur.Match without the latest match
	flush := func() {
		out = append(out, cur)
		cur = dialect.Rule{Match: cur.Match}
	}
	end := func(b ...dialect.Branch) { cur.Branches = b }
	all := func(a dialect.Action) dialect.Branch { return dialect.Branch{Match: packet.All, Action: a} }
	for i, e := range exprs {
		object, _ := e.(map[string]any)
		if len(object) != 1 {
			if s := text(e); s != "" { // some verdicts may stand as bare words
				object = map[string]any{s: nil}
			}
		}
		for kind, arg := range object {
			if cur.Log && (kind == "match" || kind == "limit" || kind == "set" || kind == "vmap") {
				flush()
			}
			switch kind {
			case "match":
				after := r.sp.And(cur.Match, r.match(c, arg))
				if i > 0 && runTogether(exprs[i-1], e) {
					after = r.sp.Or(after, r.sp.And(before, r.loaded(c, exprs[i-1], e)))
				}
				before, cur.Match = cur.Match, after
			case "accept":
				end(all(dialect.Accept))
			case "drop":
				end(all(dialect.Drop))
			case "return":
				end(all(dialect.Return))
			case "continue", "counter", "comment":
			case "log":
				cur.Log = true
				if m, ok := arg.(map[string]any); ok && m["group"] == nil && text(m["level"]) == "audit" {
					cur.Log = false
				}
			case "jump", "goto":
				target, _ := arg.(map[string]any)
				b := dialect.Branch{Match: packet.All, Action: dialect.Jump, Target: text(target["target"])}
				if kind == "goto" {
					b.Action = dialect.Goto
				}
				end(b)
			case "reject":
				match, with := r.reject(c, arg)
				cur.Match = r.sp.And(cur.Match, match)
				end(dialect.Branch{Match: packet.All, Action: dialect.Reject, With: with})
			case "vmap":
				end(r.vmap(c, arg, at)...)
			case "mangle":
				if !harmless(arg) {
					end(unmodelled(e))
					flush()
				}
			case "limit", "set", "quota", "ct count":
				cur.Match = r.sp.And(cur.Match, r.slowed(c, kind, arg, e, at))
			case "ct helper", "ct timeout", "secmark":
			default:
				// It may decide the packet's fate, or be a match, or both.
				end(unmodelled(e))
				flush()
				cur.Match = r.sp.And(cur.Match, r.sp.Unknown(fmt.Sprintf("%s (%s)", exprText(e), at)))
			}
		}
	}
	return append(out, cur)
}

// runTogether says that nft (1.0.6 at least) loads two matches as one: it joins
// neighbouring fields of a header into one comparison, with != too, and then
// `tcp sport != 22 tcp dport != 80` refuses only packets with both ports. It
// lists them as they were written, so which of the two a kernel holds is
// not to be seen.
func runTogether(a, b any) bool {
	first, second := anyMap(anyMap(a)["match"]), anyMap(anyMap(b)["match"])
	if text(first["op"]) != "!=" || text(second["op"]) != "!=" {
		return false
	}
	_, plainA := number(first["right"])
	_, plainB := number(second["right"])
	f, okF := fieldOf(first["left"])
	g, okG := fieldOf(second["left"])
	neighbours := f.field == packet.SrcPort && g.field == packet.DstPort || f.field == packet.ICMPType && g.field == packet.ICMPCode
	return okF && okG && f.header == g.header && neighbours && plainA && (plainB || f.names != nil)
}

// loaded is the packets that two matches run together let by, if they were.
func (r *reader) loaded(c *dialect.Chain, a, b any) packet.Set {
	equal := func(e any) packet.Set {
		m := anyMap(anyMap(e)["match"])
		return r.compare(c, m["left"], "==", m["right"])
	}
	f, _ := fieldOf(anyMap(anyMap(a)["match"])["left"])
	why := r.sp.Unknown(exprText(a) + " " + exprText(b) + ", which nft may have loaded as one comparison")
	return r.sp.AndAll(f.scope(r.sp), why, r.sp.Not(r.sp.And(equal(a), equal(b))))
}

func unmodelled(e any) dialect.Branch {
	return dialect.Branch{Match: packet.All, Action: dialect.Unmodelled, Why: exprText(e)}
}

// harmless says that a mangle statement sets what no match that we model asks for.
func harmless(arg any) bool {
	m, _ := arg.(map[string]any)
	target, _ := m["key"].(map[string]any)
	if meta, ok := target["meta"].(map[string]any); ok {
		return slices.Contains([]string{"mark", "priority", "nftrace"}, text(meta["key"]))
	}
	if ct, ok := target["ct"].(map[string]any); ok {
		return slices.Contains([]string{"mark", "label", "event"}, text(ct["key"]))
	}
	return false
}

// reject gives what a reject statement asks of a packet by itself, and its answer.
func (r *reader) reject(c *dialect.Chain, arg any) (packet.Set, string) {
	m, _ := arg.(map[string]any)
	expr := text(m["expr"])
	switch text(m["type"]) {
	case "tcp reset":
		return r.sp.Value(packet.Protocol, packet.TCP), "tcp-reset"
	case "icmp":
		return r.sp.Value(packet.Family, packet.IPv4), answer(expr)
	case "icmpv6":
		return r.sp.Value(packet.Family, packet.IPv6), answer(expr)
	}
	return packet.All, answer(expr)
}

// answer gives ICMP errors the one name that both families use.
func answer(expr string) string {
	switch expr {
	case "":
		return "port-unreachable"
	case "net-unreachable":
		return "no-route"
	case "addr-unreachable":
		return "host-unreachable"
	}
	return expr
}

// vmap reads a verdict map: the branches of its elements.
func (r *reader) vmap(c *dialect.Chain, arg any, at string) (out []dialect.Branch) {
	m, _ := arg.(map[string]any)
	elements, unknown := r.elements(c, m["data"])
	for _, e := range elements {
		pair, _ := e.([]any)
		if len(pair) != 2 {
			unknown = true
			continue
		}
		verdict := r.statements(c, []any{pair[1]}, at)
		match := r.compare(c, m["key"], "==", elementValue(pair[0]))
		for _, b := range verdict[0].Branches {
			b.Match = match
			out = append(out, b)
		}
	}
	if unknown {
		out = append(out, dialect.Branch{Match: packet.All, Action: dialect.Unmodelled, Why: "vmap " + exprText(m["data"])})
	}
	return out
}

// elements gives the elements of an anonymous or named set or map; unknown says there may be others, or fewer.
func (r *reader) elements(c *dialect.Chain, v any) (elements []any, unknown bool) {
	if name, ok := strings.CutPrefix(text(v), "@"); ok {
		s := r.sets[setKey{c.Family, c.Table, name}]
		if s == nil {
			return nil, true
		}
		return s.elements, s.changing
	}
	m, _ := v.(map[string]any)
	elements, ok := m["set"].([]any)
	return elements, !ok
}

func elementValue(e any) any {
	if m, ok := e.(map[string]any); ok {
		if elem, ok := m["elem"].(map[string]any); ok {
			return elem["val"]
		}
	}
	return e
}
