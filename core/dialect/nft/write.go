package nft

import (
	"fmt"
	"regexp"
	"slices"
	"strings"

	"go4.org/netipx"

	"yellowfence.example/yfence/core/compile"
	"yellowfence.example/yfence/core/dialect"
	"yellowfence.example/yfence/core/dialect/layout"
	"yellowfence.example/yfence/core/fleet"
	"yellowfence.example/yfence/core/kernel"
	"yellowfence.example/yfence/core/packet"
	"yellowfence.example/yfence/core/policy"
)

// Table is the one table we write and own.
const (
	Family = "inet"
	Table  = "yellowfence"
)

// Where the chains that translate hang, and what priorities are called.
var (
	natPriority    = map[string]int{"prerouting": -100, "postrouting": 100}
	prioritiesSaid = map[int]string{-100: "dstnat", 0: "filter", 100: "srcnat"}
)

// Form is rules for `nft -f`, in one table of ours.
type Form struct{}

// Name is the dialect's.
func (Form) Name() string { return "nft" }

// Files are the kinds of files that it writes.
func (Form) Files() []dialect.Kind { return []dialect.Kind{"nft"} }

// Alike is so: the text says nothing of a host but its name.
func (Form) Alike() bool { return true }

// Carries tells a chain's direction by its name.
func (Form) Carries(c *kernel.Chain) (d packet.Direction, helper, ok bool) {
	return dialect.Direction(c.Name)
}

// Label names our table.
func (Form) Label() string { return "table " + Family + " " + Table }

// Ours says that a chain is of our table.
func (Form) Ours(c *kernel.Chain) bool { return c.Family == Family && c.Table == Table }

// Overrides says that a chain is of our table: we touch no other.
func (f Form) Overrides(c *kernel.Chain) bool { return f.Ours(c) }

// Rules is what Write puts in force where there is nothing else.
func (Form) Rules(sp *packet.Space, plan *compile.Plan) *kernel.Ruleset {
	rs, _ := rules(sp, plan)
	return rs
}

// Unsayable is what nft has no way to say.
func (Form) Unsayable(plan *compile.Plan) []string { return dialect.Unsayable(plan) }

// Write gives a plan as text for `nft -f`: one transaction that replaces our
// table and touches no other. What cannot be written yet is refused by name, and
// never left out.
func (Form) Write(sp *packet.Space, plan *compile.Plan) ([]dialect.File, error) {
	if plan.Host.Dialect == fleet.NoFilter {
		return nil, &dialect.NoFilter{Host: plan.Host.Name}
	}
	if refused := (Form{}).Unsayable(plan); len(refused) > 0 {
		return nil, &dialect.Refusal{Host: plan.Host.Name, Dialect: "nft", What: refused}
	}
	rs, objects := rules(sp, plan)
	var b strings.Builder
	fmt.Fprintf(&b, "# %s: written by Yellow Fence; load with nft -f\n%s", plan.Host.Name, dialect.ToFillIn(plan))
	fmt.Fprintf(&b, "table %s %s\ndelete table %s %s\n\ntable %s %s {\n", Family, Table, Family, Table, Family, Table)
	for _, o := range objects {
		fmt.Fprintf(&b, "\t%s %s {\n\t\t%s\n\t}\n\n", o.kind, o.name, strings.Join(o.lines, "\n\t\t"))
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
			fmt.Fprintf(&b, "\t\ttype %s hook %s priority %s; policy %s;\n", c.Type, c.Hook, prioritiesSaid[c.Priority], verdict)
		}
		for _, r := range c.Rules {
			fmt.Fprintf(&b, "\t\t%s comment %q\n", r.Text, r.Comment)
		}
		b.WriteString("\t}\n")
	}
	b.WriteString("}\n")
	return []dialect.File{{Kind: "nft", Text: b.String()}}, nil
}

// An object is what rules of the table share by its name: a set or a limit.
type object struct {
	kind, name string
	lines      []string
}

// writer puts laid out lines into nft's words, and makes the ruleset that they are.
type writer struct {
	sp      *packet.Space
	objects []object
	out     *kernel.Ruleset
}

// rules is a plan as the chains of our table, and the sets and limits that they name.
func rules(sp *packet.Space, plan *compile.Plan) (*kernel.Ruleset, []object) {
	w := &writer{sp: sp, out: &kernel.Ruleset{Tracks: [2]bool{true, true}, Routes: kernel.RoutesOf(plan.Host)}}
	for _, laid := range (layout.Options{Family: policy.AnyFamily, ByPort: byPort}).Lines(sp, plan) {
		c := &kernel.Chain{Family: Family, Table: Table, Name: laid.Name}
		if laid.Of != nil {
			c.Hook, c.Type, c.Policy = kernel.HookOf(laid.Direction), "filter", packet.Admit
			if laid.Of.Stance.Closed {
				c.Policy = packet.Drop
			}
		}
		if laid.Hook != "" {
			c.Hook, c.Type, c.Policy, c.Priority = laid.Hook, "nat", packet.Admit, natPriority[laid.Hook]
		}
		for _, l := range laid.Lines {
			c.Rules = append(c.Rules, l.Rule(sp, laid.Direction, w.out, c.Place(), w.line(l)))
		}
		w.out.Chains = append(w.out.Chains, c)
	}
	slices.SortStableFunc(w.objects, func(a, b object) int { return strings.Compare(a.kind, b.kind) })
	return w.out, w.objects
}

// byPort is how many lines that accept by a port are as quickly tried one by one.
const byPort = 8

// line writes a line, and declares what it asks for by name.
func (w *writer) line(l layout.Line) string {
	if l.Cases != nil {
		var cases []string
		for _, c := range l.Runs() {
			cases = append(cases, portTexts(c.Ports)[0]+" : jump "+c.Target)
		}
		return fmt.Sprintf("%s dport vmap { %s }", packet.ProtocolName(l.Protocol), strings.Join(cases, ", "))
	}
	front, log := "", ""
	if l.Bucket != nil {
		front = w.bucket(l.Bucket, l.Family)
	}
	if l.Log != "" {
		log = fmt.Sprintf("log prefix %q", l.Log)
	}
	if l.Noted != "" {
		prefix := dialect.NoteOf + l.Noted
		log = fmt.Sprintf("limit rate %d/second burst %d packets log prefix %q group %d snaplen %d", dialect.NoteRate, dialect.NoteRate,
			prefix[:min(len(prefix), dialect.LongestNote)], dialect.NoteGroup, dialect.NoteBytes)
	}
	does := map[kernel.Action]string{kernel.Accept: "accept", kernel.Drop: "drop", kernel.Return: "return", kernel.Jump: "jump " +
		l.Target, kernel.Pass: ""}[l.Action]
	switch l.Action {
	case kernel.Redirect:
		does = fmt.Sprintf("redirect to :%d", l.Port)
	case kernel.DestinationNAT:
		does = fmt.Sprintf("dnat %s to %s", []string{"ip", "ip6"}[l.Family], hostPort(l.To.String(), fmt.Sprint(l.Port)))
	case kernel.SourceNAT:
		does = "masquerade"
	case kernel.Reject:
		does = "reject with icmpx port-unreachable"
		if l.Reply == packet.TCPReset {
			does = "reject with tcp reset"
		}
	}
	count := ""
	if l.Count {
		count = "counter"
	}
	return layout.Joined(w.box(l.Box), front, count, log, does)
}

// bucket declares a bucket of one family, and gives the words that ask it.
func (w *writer) bucket(b *layout.Bucket, family int) string {
	if !b.PerSource {
		w.declare("limit", b.Name, rate(b.Rate))
		return fmt.Sprintf("limit name %q", b.Name)
	}
	// A source that has been silent for as long as its bucket takes to fill may
	// be forgotten: it would find it full again.
	source := []string{"ip saddr", "ip6 saddr"}[family]
	w.declare("set", b.Name, "typeof "+source, fmt.Sprintf("size %d", b.Sources), "flags dynamic,timeout",
		fmt.Sprintf("timeout %ds", b.Rate.Seconds))
	if family == packet.IPv6 {
		source += " & ffff:ffff:ffff:ffff::"
	}
	return fmt.Sprintf("update @%s { %s limit %s }", b.Name, source, rate(b.Rate))
}

// rate writes a rate as the kernel counts it: N at once, and so many per unit.
func rate(r packet.Rate) string {
	n, unit, _ := r.Kernel()
	return fmt.Sprintf("rate %d/%s burst %d packets", n, unit, r.N)
}

// declare notes a set or a limit that rules name, once.
func (w *writer) declare(kind, name string, lines ...string) {
	if !slices.ContainsFunc(w.objects, func(o object) bool { return o.kind == kind && o.name == name }) {
		w.objects = append(w.objects, object{kind, name, lines})
	}
}

// setName is the form of names that nft takes without quotes.
var setName = regexp.MustCompile(`^[a-zA-Z][a-zA-Z0-9/\\_.-]{0,100}$`)

// senderWords ask who sends. A system service's unit is a cgroup of the second level.
var senderWords = map[packet.SenderKind]string{packet.ByUser: "meta skuid", packet.ByUnit: "socket cgroupv2 level 2"}

// sender writes who sends: the kernel refuses a whole load that names one it does
// not know, so that it is a set, which settling fills with what the host knows it by.
func (w *writer) sender(s packet.Sender) string {
	set := "from." + string(s.Kind) + "." + s.Name
	if !setName.MatchString(set) {
		set = fmt.Sprintf("from.%s..%x", s.Kind, s.Name)
	}
	w.declare("set", set, "typeof "+senderWords[s.Kind], fmt.Sprintf("comment %q", s.String()))
	return senderWords[s.Kind] + " @" + set
}

// inline is how many runs of addresses stand in a rule rather than in a set of their
// own. What the policy has a name for is a set of that name always: when a host comes
// into a role, one element is all that changes.
const inline = 3

// addrs writes addresses of one family.
func (w *writer) addrs(s *netipx.IPSet, family int, name layout.SetName) string {
	var elements []string
	intervals := false
	for _, r := range s.Ranges() {
		if p, ok := r.Prefix(); ok && p.IsSingleIP() {
			elements = append(elements, p.Addr().String())
		} else if ok {
			elements, intervals = append(elements, p.String()), true
		} else {
			elements, intervals = append(elements, r.String()), true
		}
	}
	if len(elements) <= inline && !name.Own {
		return list(elements)
	}
	return "@" + w.named(name.Name, family, elements, intervals)
}

// named gives the name of the set with these elements, a new one if there is none yet.
func (w *writer) named(name string, family int, elements []string, intervals bool) string {
	kind, ending := "ipv4_addr", ".4"
	if family == packet.IPv6 {
		kind, ending = "ipv6_addr", ".6"
	}
	lines := []string{"type " + kind}
	if intervals {
		lines = append(lines, "flags interval")
	}
	lines = append(lines, fmt.Sprintf("elements = { %s }", strings.Join(elements, ",\n\t\t\t     ")))
	taken := func(n string) bool { return slices.ContainsFunc(w.objects, func(o object) bool { return o.name == n }) }
	for _, o := range w.objects {
		if o.kind == "set" && slices.Equal(o.lines, lines) {
			return o.name
		}
	}
	unique := name
	for i := 2; taken(unique + ending); i++ {
		unique = fmt.Sprintf("%s-%d", name, i)
	}
	w.declare("set", unique+ending, lines...)
	return unique + ending
}

// box writes what a line asks.
func (w *writer) box(b layout.Box) string {
	var parts []string
	add := func(format string, args ...any) { parts = append(parts, fmt.Sprintf(format, args...)) }
	if b.Ifaces != nil {
		quoted := make([]string, len(b.Ifaces))
		for i, name := range b.Ifaces {
			quoted[i] = fmt.Sprintf("%q", name)
		}
		not := ""
		if b.NotIfaces {
			not = "!= "
		}
		iface := "iifname"
		if b.Leaving {
			iface = "oifname"
		}
		add("%s %s%s", iface, not, list(quoted))
	}
	word := "ip"
	if b.Family == packet.IPv6 {
		word = "ip6"
	}
	if b.Src != nil {
		add("%s saddr %s", word, w.addrs(b.Src, b.Family, b.SrcName))
	}
	if b.Dst != nil && !b.OriginalDst {
		add("%s daddr %s", word, w.addrs(b.Dst, b.Family, b.DstName))
	}
	inFamily := b.Family == policy.AnyFamily || b.Src != nil || b.Dst != nil && !b.OriginalDst
	name := packet.ProtocolName(b.Protocol)
	switch {
	case b.Ports != nil:
		if !inFamily {
			add("meta nfproto %s", []string{"ipv4", "ipv6"}[b.Family])
		}
		add("%s dport %s", name, list(portTexts(b.Ports)))
	case b.Types != nil:
		types := make([]string, len(b.Types))
		for i, t := range b.Types {
			types[i] = fmt.Sprint(t)
		}
		add("%s type %s", name, list(types))
		if b.Code != policy.AnyType {
			add("%s code %d", name, b.Code)
		}
	case b.Protocol == packet.ICMP && b.Family == packet.IPv4 || b.Protocol == packet.ICMPv6 && b.Family == packet.IPv6:
		// All types: `meta nfproto ipv4 meta l4proto icmp` would say the same, but
		// nft 1.0.6 leaves the family out when it lists that.
		add("%s type 0-255", name)
	default:
		if !inFamily {
			add("meta nfproto %s", []string{"ipv4", "ipv6"}[b.Family])
		}
		if b.Protocol != policy.AnyProtocol {
			add("meta l4proto %d", b.Protocol)
		}
	}
	if b.Translated {
		add("ct status dnat")
	}
	if b.OriginalPort != 0 {
		add("ct original proto-dst %d", b.OriginalPort)
	}
	if b.OriginalDst {
		add("ct original %s daddr %s", word, w.addrs(b.Dst, b.Family, b.DstName))
	}
	for _, from := range b.Senders {
		parts = append(parts, w.sender(from))
	}
	if b.IPsec && b.Leaving {
		add("rt ipsec exists")
	} else if b.IPsec {
		add("meta ipsec exists")
	}
	if b.Since != 0 {
		add("meta time >= %d", b.Since)
	}
	if b.Until != 0 {
		add("meta time < %d", b.Until)
	}
	if b.States != nil {
		names := make([]string, len(b.States))
		for i, s := range b.States {
			names[i] = packet.StateNames[s]
		}
		add("ct state %s", strings.Join(names, ",")) // bits are looked at more quickly than a set
	}
	return strings.Join(parts, " ")
}

// list is one item, or several in braces.
func list(items []string) string {
	if len(items) == 1 {
		return items[0]
	}
	return "{ " + strings.Join(items, ", ") + " }"
}

// portTexts are runs of ports as nft writes them.
func portTexts(ports []packet.PortRange) []string {
	texts := make([]string, len(ports))
	for i, p := range ports {
		texts[i] = fmt.Sprint(p.Lo)
		if p.Hi != p.Lo {
			texts[i] = fmt.Sprintf("%d-%d", p.Lo, p.Hi)
		}
	}
	return texts
}
