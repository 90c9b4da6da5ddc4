// Package nft writes and reads the rules of the kernel's nf_tables filter.
package nft

import (
	"fmt"
	"slices"
	"strings"

	"go4.org/netipx"

	"yellowfence.example/yfence/core/compile"
	"yellowfence.example/yfence/core/dialect"
	"yellowfence.example/yfence/core/fence"
	"yellowfence.example/yfence/core/packet"
	"yellowfence.example/yfence/core/policy"
)

// Table is the one table we write and own.
const (
	Family = "inet"
	Table  = "yellowfence"
)

// chainNames and hookNames are what we call our base chains, and where they hang.
var (
	chainNames = policy.DirectionNames
	hookNames  = []string{policy.Inbound: "input", policy.Outbound: "output", policy.Forward: "forward"}
)

// Rules is a plan as the rules we would load: what Write writes, and what a
// dump of them reads back as.
func Rules(sp *packet.Space, plan *compile.Plan) *dialect.Ruleset {
	rs, _ := rules(sp, plan)
	return rs
}

// Write gives a plan as text for `nft -f`: one transaction that replaces our
// table and touches no other. Loading it twice changes nothing. What cannot be
// written yet is refused by name, with a *dialect.Refusal, and never left out.
func Write(sp *packet.Space, plan *compile.Plan) (string, error) {
	if plan.Later != nil {
		return "", &dialect.Refusal{Host: plan.Host.Name, Dialect: "nft", What: plan.Later}
	}
	rs, sets := rules(sp, plan)
	var b strings.Builder
	fmt.Fprintf(&b, "# %s: written by Yellow Fence; load with nft -f\n", plan.Host.Name)
	fmt.Fprintf(&b, "table %s %s\ndelete table %s %s\n\ntable %s %s {\n", Family, Table, Family, Table, Family, Table)
	for _, s := range sets {
		fmt.Fprintf(&b, "\tset %s {\n\t\ttype %s\n", s.name, s.kind)
		if s.intervals {
			b.WriteString("\t\tflags interval\n")
		}
		fmt.Fprintf(&b, "\t\telements = { %s }\n\t}\n\n", strings.Join(s.elements, ",\n\t\t\t     "))
	}
	for i, c := range rs.Chains {
		if i > 0 {
			b.WriteByte('\n')
		}
		fmt.Fprintf(&b, "\tchain %s {\n", c.Name)
		if c.Hook != "" {
			verdict := "accept"
			if c.Policy == packet.Drop {
				verdict = "drop"
			}
			fmt.Fprintf(&b, "\t\ttype filter hook %s priority filter; policy %s;\n", c.Hook, verdict)
		}
		for _, r := range c.Rules {
			fmt.Fprintf(&b, "\t\t%s comment %q\n", r.Text, r.Comment)
		}
		b.WriteString("\t}\n")
	}
	b.WriteString("}\n")
	return b.String(), nil
}

// set is a named set of addresses.
type set struct {
	name, kind string
	intervals  bool
	elements   []string
}

type writer struct {
	sp   *packet.Space
	dir  policy.Direction
	sets []set
	out  *dialect.Ruleset
}

func rules(sp *packet.Space, plan *compile.Plan) (*dialect.Ruleset, []set) {
	w := &writer{sp: sp, out: &dialect.Ruleset{}}
	for _, c := range plan.Chains {
		w.dir = c.Direction
		chain := &dialect.Chain{Family: Family, Table: Table, Name: chainNames[c.Direction], Hook: hookNames[c.Direction], Type: "filter", Policy: packet.Admit}
		if c.Stance.Closed {
			chain.Policy = packet.Drop
		}
		var helpers []*dialect.Chain
		for _, r := range c.Rules {
			if len(r.Unless) == 0 {
				chain.Rules = append(chain.Rules, w.rule(chain, r)...)
				continue
			}
			helper := w.helper(r)
			helpers = append(helpers, helper)
			chain.Rules = append(chain.Rules, w.lines(chain, r, r.Match, step{text: "jump " + helper.Name, branch: dialect.Branch{Match: packet.All, Action: dialect.Jump, Target: helper.Name}})...)
		}
		w.out.Chains = append(w.out.Chains, helpers...)
		w.out.Chains = append(w.out.Chains, chain)
	}
	return w.out, w.sets
}

// helper is the chain of an allow that some blocks still refuse: what they
// match goes back, the rest is admitted.
func (w *writer) helper(r compile.Rule) *dialect.Chain {
	c := &dialect.Chain{Family: Family, Table: Table, Name: chainNames[w.dir] + "-" + r.Name}
	for _, m := range r.Unless {
		c.Rules = append(c.Rules, w.lines(c, r, m, step{text: "return", branch: dialect.Branch{Match: packet.All, Action: dialect.Return}})...)
	}
	r.Match, r.Unless = compile.Match{}, nil
	c.Rules = append(c.Rules, w.rule(c, r)...)
	return c
}

// step is the end of a line: what becomes of what matches.
type step struct {
	tcpOnly bool // only TCP can be answered with a reset
	text    string
	branch  dialect.Branch
}

func (w *writer) rule(c *dialect.Chain, r compile.Rule) []dialect.Rule {
	var steps []step
	all := func(a dialect.Action) dialect.Branch { return dialect.Branch{Match: packet.All, Action: a} }
	switch r.Verdict {
	case packet.Admit:
		steps = []step{{text: "accept", branch: all(dialect.Accept)}}
	case packet.Drop:
		steps = []step{{text: "drop", branch: all(dialect.Drop)}}
	case packet.Reject:
		reset, unreachable := all(dialect.Reject), all(dialect.Reject)
		reset.With, unreachable.With = "tcp-reset", "port-unreachable"
		steps = []step{{text: "reject with tcp reset", branch: reset, tcpOnly: true}, {text: "reject with icmpx port-unreachable", branch: unreachable}}
	}
	return w.lines(c, r, r.Match, steps...)
}

// lines writes a match as one line per family and protocol it needs.
func (w *writer) lines(c *dialect.Chain, r compile.Rule, m compile.Match, steps ...step) (out []dialect.Rule) {
	for _, b := range w.boxes(r, m) {
		for _, s := range steps {
			line := b
			if s.tcpOnly {
				if b.protocol != packet.TCP && b.protocol != policy.AnyProtocol {
					continue
				}
				line.protocol = packet.TCP
			} else if len(steps) > 1 && b.protocol == packet.TCP {
				continue
			}
			text := line.text()
			logs := r.Log && s.branch.Action != dialect.Jump && s.branch.Action != dialect.Return
			if logs {
				text = join(text, fmt.Sprintf("log prefix %q", "yf "+r.Decider.String()+": "))
			}
			out = append(out, dialect.Rule{
				Match: line.set(w.sp, w.dir), Log: logs, Branches: []dialect.Branch{s.branch},
				Comment: r.Decider.String(), Text: join(text, s.text), At: c.Place(),
			})
		}
	}
	return out
}

func join(parts ...string) string {
	return strings.Join(slices.DeleteFunc(parts, func(s string) bool { return s == "" }), " ")
}

// box is what one line asks: a product, in one family if addresses are asked for.
type box struct {
	family   int // or policy.AnyFamily
	iface    string
	ifaces   []string
	not      bool
	src, dst addrs
	protocol int // or policy.AnyProtocol
	ports    []fence.PortRange
	types    []int
	code     int
	states   []int
}

type addrs struct {
	set  *netipx.IPSet // nil if not asked for
	text string
}

// boxes takes a match apart into lines.
func (w *writer) boxes(r compile.Rule, m compile.Match) (out []box) {
	for _, g := range groups(m.Terms) {
		families := []int{packet.IPv4, packet.IPv6}
		if m.From == nil && m.To == nil {
			families = []int{g.family}
		}
		for _, family := range families {
			if g.family != policy.AnyFamily && family != g.family {
				continue
			}
			b := g
			b.family, b.ifaces, b.not, b.states = family, m.Ifaces, m.NotIfaces, m.States
			if w.dir == policy.Outbound {
				b.iface = "oifname"
			} else {
				b.iface = "iifname"
			}
			var some bool
			if b.src, some = w.addrs(m.From, family, sideName(r, true)); !some {
				continue
			}
			if b.dst, some = w.addrs(m.To, family, sideName(r, false)); !some {
				continue
			}
			out = append(out, b)
		}
	}
	return out
}

// sideName is what a set of the addresses of one side of a rule is called.
func sideName(r compile.Rule, from bool) string {
	if r.Rule != nil {
		side, end := r.Rule.To, "-to"
		if from {
			side, end = r.Rule.From, "-from"
		}
		if fence.IsName(side.Text) || side.Text == "fleet" {
			if r.Rule.On != nil {
				return side.Text + "-on-" + r.Rule.On.Name
			}
			return side.Text
		}
		return r.Name + end
	}
	return r.Kind + "-" + r.Name
}

// groups puts terms together that one line can ask for.
func groups(terms []policy.Term) (out []box) {
	if terms == nil {
		return []box{{family: policy.AnyFamily, protocol: policy.AnyProtocol, code: policy.AnyType}}
	}
	for _, t := range terms {
		b := box{family: t.Family, protocol: t.Protocol, code: t.Code}
		allPorts := t.HasPorts() && t.Ports == fence.PortRange{Lo: 0, Hi: 65535}
		i := slices.IndexFunc(out, func(o box) bool {
			sameKind := o.ports != nil && t.HasPorts() && !allPorts || o.types != nil && t.Type != policy.AnyType && t.Code == policy.AnyType
			return sameKind && o.family == b.family && o.protocol == b.protocol && o.code == b.code
		})
		if i < 0 {
			out = append(out, b)
			i = len(out) - 1
		}
		if t.HasPorts() && !allPorts {
			out[i].ports = append(out[i].ports, t.Ports)
		}
		if t.Type != policy.AnyType {
			out[i].types = append(out[i].types, t.Type)
		}
	}
	return out
}

// inline is how many runs of addresses stand in a rule rather than in a set of their own.
const inline = 3

// addrs writes addresses of one family; some is false where there are none.
func (w *writer) addrs(s *netipx.IPSet, family int, name string) (a addrs, some bool) {
	if s == nil {
		return addrs{}, true
	}
	var b netipx.IPSetBuilder
	var elements []string
	intervals := false
	for _, r := range s.Ranges() {
		if r.From().Is4() != (family == packet.IPv4) {
			continue
		}
		b.AddRange(r)
		if p, ok := r.Prefix(); ok && p.IsSingleIP() {
			elements = append(elements, p.Addr().String())
		} else if ok {
			elements, intervals = append(elements, p.String()), true
		} else {
			elements, intervals = append(elements, r.String()), true
		}
	}
	if len(elements) == 0 {
		return addrs{}, false
	}
	a.set, _ = b.IPSet()
	switch {
	case len(elements) == 1:
		a.text = elements[0]
	case len(elements) <= inline:
		a.text = "{ " + strings.Join(elements, ", ") + " }"
	default:
		a.text = "@" + w.named(name, family, elements, intervals)
	}
	return a, true
}

// named gives the name of the set with these elements, a new one if there is none yet.
func (w *writer) named(name string, family int, elements []string, intervals bool) string {
	kind, ending := "ipv4_addr", ".4"
	if family == packet.IPv6 {
		kind, ending = "ipv6_addr", ".6"
	}
	taken := func(n string) bool { return slices.ContainsFunc(w.sets, func(s set) bool { return s.name == n }) }
	for _, s := range w.sets {
		if s.kind == kind && slices.Equal(s.elements, elements) {
			return s.name
		}
	}
	unique := name
	for i := 2; taken(unique + ending); i++ {
		unique = fmt.Sprintf("%s-%d", name, i)
	}
	w.sets = append(w.sets, set{unique + ending, kind, intervals, elements})
	return unique + ending
}

// text writes a box as the front of a rule.
func (b box) text() string {
	var parts []string
	add := func(format string, args ...any) { parts = append(parts, fmt.Sprintf(format, args...)) }
	if b.ifaces != nil {
		quoted := make([]string, len(b.ifaces))
		for i, name := range b.ifaces {
			quoted[i] = fmt.Sprintf("%q", name)
		}
		not := ""
		if b.not {
			not = "!= "
		}
		add("%s %s%s", b.iface, not, list(quoted))
	}
	word := "ip"
	if b.family == packet.IPv6 {
		word = "ip6"
	}
	if b.src.set != nil {
		add("%s saddr %s", word, b.src.text)
	}
	if b.dst.set != nil {
		add("%s daddr %s", word, b.dst.text)
	}
	inFamily := b.family == policy.AnyFamily || b.src.set != nil || b.dst.set != nil
	name := packet.ProtocolName(b.protocol)
	switch {
	case b.ports != nil:
		ports := make([]string, len(b.ports))
		for i, p := range b.ports {
			ports[i] = fmt.Sprint(p.Lo)
			if p.Hi != p.Lo {
				ports[i] = fmt.Sprintf("%d-%d", p.Lo, p.Hi)
			}
		}
		if !inFamily {
			add("meta nfproto %s", []string{"ipv4", "ipv6"}[b.family])
		}
		add("%s dport %s", name, list(ports))
	case b.types != nil:
		types := make([]string, len(b.types))
		for i, t := range b.types {
			types[i] = fmt.Sprint(t)
		}
		add("%s type %s", name, list(types))
		if b.code != policy.AnyType {
			add("%s code %d", name, b.code)
		}
	case b.protocol == packet.ICMP && b.family == packet.IPv4 || b.protocol == packet.ICMPv6 && b.family == packet.IPv6:
		// All types: `meta nfproto ipv4 meta l4proto icmp` would say the same, but
		// nft 1.0.6 leaves the family out when it lists that.
		add("%s type 0-255", name)
	default:
		if !inFamily {
			add("meta nfproto %s", []string{"ipv4", "ipv6"}[b.family])
		}
		if b.protocol != policy.AnyProtocol {
			add("meta l4proto %d", b.protocol)
		}
	}
	if b.states != nil {
		names := make([]string, len(b.states))
		for i, s := range b.states {
			names[i] = packet.StateNames[s]
		}
		add("ct state %s", list(names))
	}
	return strings.Join(parts, " ")
}

func list(items []string) string {
	if len(items) == 1 {
		return items[0]
	}
	return "{ " + strings.Join(items, ", ") + " }"
}

// set is the packets a box asks for.
func (b box) set(sp *packet.Space, dir policy.Direction) packet.Set {
	m := compile.Match{Ifaces: b.ifaces, NotIfaces: b.not, From: b.src.set, To: b.dst.set, States: b.states}
	base := policy.Term{Family: b.family, Protocol: b.protocol, Ports: fence.PortRange{Hi: 65535}, Type: policy.AnyType, Code: b.code}
	for _, p := range b.ports {
		t := base
		t.Ports = p
		m.Terms = append(m.Terms, t)
	}
	for _, n := range b.types {
		t := base
		t.Type = n
		m.Terms = append(m.Terms, t)
	}
	if m.Terms == nil {
		m.Terms = []policy.Term{base}
	}
	return m.Set(sp, dir)
}
