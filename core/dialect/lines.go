package dialect

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"go4.org/netipx"

	"yellowfence.example/yfence/core/compile"
	"yellowfence.example/yfence/core/fence"
	"yellowfence.example/yfence/core/packet"
	"yellowfence.example/yfence/core/policy"
)

// A LineChain is a chain before it is words: what every filter that tries rules
// in order can be told.
type LineChain struct {
	Name      string // the direction's, or with a rule's behind it: "inbound-front-door"
	Direction policy.Direction
	Of        *compile.Chain // nil for one that is jumped to, or that translates
	Hook      string         // of one that translates: prerouting or postrouting
	Lines     []Line
}

func (c *LineChain) place() string {
	if c.Of != nil {
		return ""
	}
	return "-" // behind, and as they came
}

// A Line is one rule of it: a product of what is asked, and one thing that is done.
type Line struct {
	Box
	Bucket  *Bucket // asks it besides
	Decider compile.Decider
	Note    string     // where the line carries out no rule
	Log     string     // what the line that it writes begins with; "" is none
	Do      Action     // Pass where the packet goes on
	With    string     // of Reject
	Target  string     // of Jump
	To      netip.Addr // of DestinationNAT
	Port    int        // of Redirect and DestinationNAT; 0 is the same
	Cases   []Case     // it jumps by the packet's port, and does nothing else
	Count   bool       // how often is counted, where the filter does not count anyway
}

// A Case is ports for which a line jumps to a chain.
type Case struct {
	Ports  []fence.PortRange
	Target string
}

// A Box is what a line asks: a product, in one family if addresses are asked for.
type Box struct {
	Family           int // or policy.AnyFamily
	Ifaces           []string
	NotIfaces        bool // any but these
	Leaving          bool // the interface that a packet leaves by is meant
	Src, Dst         *netipx.IPSet
	SrcName, DstName SetName
	Protocol         int // or policy.AnyProtocol
	Ports            []fence.PortRange
	Types            []int
	Code             int // or policy.AnyType
	States           []int
	Since, Until     int64
	IPsec            bool
	Senders          []fence.Sender // each with one name
	Came             bool           // Dst is where the packet was sent, before it was redirected
	CamePort         int            // and the port; 0 is any
	Translated       bool           // it was redirected
}

// A Bucket is what a line asks so that it holds so often and no more.
type Bucket struct {
	packet.Bucket
	Rate      fence.Rate
	PerSource bool
}

// A Layout is what a form of rules can say in one line.
type Layout struct {
	Family   int  // the only one it is about, or policy.AnyFamily
	LogApart bool // a line that logs does nothing else
	OneIface bool // a line names one interface at most, to be used or not
	Ends     bool // a line that begins must end: one that does not leaves what is before to others
	OneType  bool // a line asks for one type of ICMP
	OneCame  bool // a line asks for one prefix that a packet came to
	ByPort   int  // from so many lines on that accept by a port, they are found by it; 0 is never
	ByRange  bool // they are found by ranges of ports, for want of a line that knows every port
	Ports    int  // how many ports a line takes, a range counting for two; 0 is any number
}

// Lines lays a plan out.
func (l Layout) Lines(sp *packet.Space, plan *compile.Plan) []*LineChain {
	w := &liner{Layout: l, sp: sp}
	for i := range plan.Chains {
		c := &plan.Chains[i]
		w.dir = c.Direction
		chain := &LineChain{Name: policy.DirectionNames[c.Direction], Direction: c.Direction, Of: c}
		if c.Trial != nil {
			w.admit = w.trial(policy.DirectionNames[c.Direction], c.Trial, nil)
		}
		for _, r := range c.Rules {
			w.rule(chain, r, asksOnce(r))
		}
		w.admit = nil
		w.out = append(w.out, chain)
	}
	w.redirected(plan)
	w.translating(plan)
	w.track()
	if l.ByPort > 0 {
		for _, c := range slices.Clone(w.out) {
			w.byPort(c)
		}
	}
	slices.SortStableFunc(w.out, func(a, b *LineChain) int { // the reader's own order: the whole, then its parts
		return strings.Compare(a.place(), b.place())
	})
	return w.out
}

// trial lays out the chain that notes what would be refused if nothing were on trial, of what is
// admitted otherwise, and admits it; speaks leaves rules out, or says less of them, if it is said.
func (w *liner) trial(of string, rules []compile.Rule, speaks func(*compile.Match) bool) *LineChain {
	admit := w.admit
	defer func() { w.admit = admit }()
	w.admit = nil
	c := w.helper(of + ".trial")
	for _, r := range rules {
		several := asksOnce(r)
		if said(&r, speaks) {
			w.rule(c, r, several)
		}
	}
	w.lines(c, compile.Rule{Decider: compile.Decider{Kind: "stance", Name: policy.DirectionNames[w.dir] + " on trial"}}, compile.Match{}, w.Family, step{do: Accept})
	return c
}

// said says that a rule speaks of what is asked about, and leaves out of it what does not.
func said(r *compile.Rule, speaks func(*compile.Match) bool) bool {
	if speaks == nil {
		return true
	}
	if !speaks(&r.Match) {
		return false
	}
	var unless []compile.Match
	for _, m := range r.Unless {
		if speaks(&m) {
			unless = append(unless, m)
		}
	}
	r.Unless = unless
	return true
}

// asksOnce says that a bucket which a rule asks must not be asked by several lines.
func asksOnce(r compile.Rule) bool {
	slow := r.Log != nil && r.Log.UpTo != nil
	return r.Match.Terms != nil && (r.Limit != nil || slow)
}

// admits is the end of a line that admits: what is on trial is noted first.
func (w *liner) admits(r compile.Rule) step {
	if w.admit != nil && (r.Kind == "allow" || r.Kind == "stance") {
		return jump(w.admit)
	}
	return step{do: Accept}
}

// rule lays one rule out; apart says that a bucket it asks must not be asked by
// several of its lines.
func (w *liner) rule(c *LineChain, r compile.Rule, apart bool) {
	if w.OneIface && r.Match.NotIfaces && len(r.Match.Ifaces) > 1 {
		r.Unless = append(slices.Clone(r.Unless), compile.Match{Ifaces: r.Match.Ifaces})
		r.Match.Ifaces, r.Match.NotIfaces = nil, false
	}
	if w.Ends && r.Match.Since != 0 && r.Match.Until == 0 {
		r.Unless = append(slices.Clone(r.Unless), compile.Match{Until: r.Match.Since})
		r.Match.Since = 0
	}
	w.families = w.familiesOf(r)
	if len(r.Unless) == 0 && !apart {
		w.decide(c, r, r.Verdict, r.Log, "")
		return
	}
	helper := w.helper(policy.DirectionNames[w.dir] + "-" + r.Name)
	w.lines(c, r, r.Match, w.Family, jump(helper))
	w.body(helper, r)
}

type liner struct {
	Layout
	sp    *packet.Space
	out   []*LineChain
	came  bool       // destinations are asked for as packets came with them
	admit *LineChain // what rules admit goes there; nil is accepted

	dir      policy.Direction
	families []int // of the rule that is laid out
}

func anything(family int) Box {
	return Box{Family: family, Protocol: policy.AnyProtocol, Code: policy.AnyType}
}

// helper adds a chain that rules jump to, under a name of its own. (A rule's name has no dot.)
func (w *liner) helper(name string) *LineChain {
	unique := name
	for i := 2; slices.ContainsFunc(w.out, func(c *LineChain) bool { return c.Name == unique }); i++ {
		unique = fmt.Sprintf("%s.%d", name, i)
	}
	c := &LineChain{Name: unique, Direction: w.dir}
	w.out = append(w.out, c)
	return c
}

// body fills the chain of a rule that one line cannot say; what comes in has
// matched. What a block still refuses of an allow goes back; of the rest a
// limit admits some and refuses the others.
func (w *liner) body(c *LineChain, r compile.Rule) {
	r.Match = compile.Match{}
	for i, m := range r.Unless {
		whole, not := m.Whole()
		if w.Ends && m.Since != 0 && m.Until == 0 {
			not = append(not, compile.Match{Until: m.Since})
			whole.Since = 0
		}
		if not == nil {
			w.lines(c, r, m, w.Family, step{do: Return})
			continue
		}
		rest := w.helper(c.Name + ".rest") // for what is taken away of m, and what m is not about
		for _, n := range not {
			w.lines(c, r, n, w.Family, jump(rest))
		}
		w.lines(c, r, whole, w.Family, step{do: Return})
		w.lines(c, r, r.Match, w.Family, jump(rest))
		r.Unless = r.Unless[i+1:]
		w.body(rest, r)
		return
	}
	if r.Limit == nil {
		w.decide(c, r, r.Verdict, r.Log, "")
		return
	}
	within := w.admits(r)
	within.log = r.Log != nil
	if r.Log != nil && (r.Log.UpTo != nil || w.LogApart) { // the bucket may be asked once only
		inner := w.helper(c.Name + ".within")
		w.decide(inner, r, r.Verdict, r.Log, "")
		within = jump(inner)
	}
	for _, family := range w.families {
		within.bucket = &Bucket{r.Limit.Bucket(family), r.Limit.Rate, r.Limit.PerSource}
		w.lines(c, r, r.Match, family, within)
	}
	w.decide(c, r, r.Limit.Excess, r.Limit.ExcessLog, " exceeded")
}

// familiesOf are those that a rule's match leaves.
func (w *liner) familiesOf(r compile.Rule) (out []int) {
	boxes := w.boxes(r, r.Match, w.Family)
	for _, family := range []int{packet.IPv4, packet.IPv6} {
		if slices.ContainsFunc(boxes, func(b Box) bool { return b.Family == family || b.Family == policy.AnyFamily }) {
			out = append(out, family)
		}
	}
	return out
}

// step is the end of a line: what becomes of what matches.
type step struct {
	tcpOnly bool // only TCP can be answered with a reset
	bucket  *Bucket
	log     bool
	manner  string // said in the line that is logged
	do      Action
	with    string
	target  string
}

func jump(to *LineChain) step { return step{do: Jump, target: to.Name} }

// decide adds the lines that end a rule. A log with a limit comes before them,
// in lines that let the packet go on.
func (w *liner) decide(c *LineChain, r compile.Rule, v packet.Verdict, log *compile.Log, manner string) {
	if log != nil {
		manner += log.Manner
	}
	if log != nil && log.UpTo != nil {
		for _, family := range w.families {
			w.lines(c, r, r.Match, family, step{bucket: &Bucket{log.Bucket(family), *log.UpTo, false}, log: true, manner: manner, do: Pass})
		}
		log = nil
	}
	steps := map[packet.Verdict][]step{packet.Admit: {w.admits(r)}, packet.Drop: {{do: Drop}},
		packet.Reject: {{do: Reject, with: "tcp-reset", tcpOnly: true}, {do: Reject, with: "port-unreachable"}}}[v]
	if r.Kind == "stance" && v == packet.Drop { // which the chain's end does
		if log == nil {
			return
		}
		steps = []step{{do: Pass}}
	}
	if r.Kind == "leave" {
		steps = []step{{do: Accept, with: "leave"}}
	}
	for i := range steps {
		steps[i].log, steps[i].manner = log != nil, manner
	}
	w.lines(c, r, r.Match, w.Family, steps...)
}

// lines writes a match as one line per family and protocol it needs.
func (w *liner) lines(c *LineChain, r compile.Rule, m compile.Match, family int, steps ...step) {
	for _, b := range w.boxes(r, m, family) {
		for _, s := range steps {
			line := Line{Box: b, Bucket: s.bucket, Decider: r.Decider, Do: s.do, With: s.with, Target: s.target, Count: r.Count && s.do == Accept}
			if s.tcpOnly {
				if b.Protocol != packet.TCP && b.Protocol != policy.AnyProtocol {
					continue
				}
				line.Protocol = packet.TCP
			} else if len(steps) > 1 && b.Protocol == packet.TCP {
				continue
			}
			if s.log {
				line.Log = "yf " + r.Decider.String() + s.manner + ": "
			}
			if w.LogApart && line.Log != "" && line.Do != Pass {
				alone := line
				alone.Do, alone.With, alone.Target = Pass, "", ""
				c.Lines, line.Log = append(c.Lines, alone), ""
			}
			c.Lines = append(c.Lines, line)
		}
	}
}

// boxes takes a match apart into what lines ask, in one family if it is not policy.AnyFamily.
func (w *liner) boxes(r compile.Rule, m compile.Match, only int) (out []Box) {
	for _, g := range groups(m.Terms) {
		families := []int{packet.IPv4, packet.IPv6}
		switch {
		case only != policy.AnyFamily:
			families = []int{only}
		case m.From == nil && m.To == nil:
			families = []int{g.Family}
		}
		for _, family := range families {
			if g.Family != policy.AnyFamily && family != g.Family {
				continue
			}
			b := g
			b.Family, b.Ifaces, b.NotIfaces, b.States, b.Since, b.Until, b.IPsec, b.Leaving = family, m.Ifaces, m.NotIfaces, m.States, m.Since, m.Until, m.IPsec, w.dir == policy.Outbound || m.Leaving
			b.Came = w.came && m.To != nil
			b.Src, b.Dst, b.SrcName, b.DstName = ofFamily(m.From, family), ofFamily(m.To, family), sideName(r, m.From, true), sideName(r, m.To, false)
			if m.From != nil && b.Src == nil || m.To != nil && b.Dst == nil {
				continue
			}
			for _, b := range b.sent(m.Senders) {
				out = append(out, b.narrow(w.Layout)...)
			}
		}
	}
	return out
}

// narrow gives boxes that a layout has a line for.
func (b Box) narrow(l Layout) (out []Box) {
	switch {
	case l.OneIface && len(b.Ifaces) > 1:
		for _, name := range b.Ifaces {
			one := b
			one.Ifaces = []string{name}
			out = append(out, one.narrow(l)...)
		}
		return out
	case l.OneType && len(b.Types) > 1:
		for _, n := range b.Types {
			one := b
			one.Types = []int{n}
			out = append(out, one.narrow(l)...)
		}
		return out
	}
	if l.OneCame && b.Came {
		if prefixes := b.Dst.Prefixes(); len(prefixes) > 1 {
			for _, p := range prefixes {
				var only netipx.IPSetBuilder
				only.AddPrefix(p)
				one := b
				one.Dst, _ = only.IPSet()
				out = append(out, one.narrow(l)...)
			}
			return out
		}
	}
	used := 0
	for i, p := range b.Ports {
		takes := 1
		if p.Hi != p.Lo {
			takes = 2
		}
		if used += takes; l.Ports > 0 && used > l.Ports {
			first, rest := b, b
			first.Ports, rest.Ports = b.Ports[:i], b.Ports[i:]
			return append([]Box{first}, rest.narrow(l)...)
		}
	}
	return []Box{b}
}

// ofFamily is the addresses of one family; nil where there are none.
func ofFamily(s *netipx.IPSet, family int) *netipx.IPSet {
	if s == nil {
		return nil
	}
	if s = packet.OfFamily(s, family); len(s.Ranges()) == 0 {
		return nil
	}
	return s
}

// sent gives a box for each way in which the senders can be met.
func (b Box) sent(senders []fence.Sender) (out []Box) {
	if len(senders) == 0 {
		return []Box{b}
	}
	for _, name := range senders[0].Names {
		with := b
		with.Senders = append(slices.Clone(b.Senders), fence.Sender{Kind: senders[0].Kind, Names: []string{name}})
		out = append(out, with.sent(senders[1:])...)
	}
	return out
}

// A SetName is what a set of the addresses of one side of a rule is called.
type SetName struct {
	Name string
	Own  bool // the policy calls just these so: a role, a network, a segment
}

func sideName(r compile.Rule, addrs *netipx.IPSet, from bool) SetName {
	if r.Rule == nil {
		return SetName{r.Kind + "-" + r.Name, false}
	}
	end := map[bool]string{true: "-from", false: "-to"}[from]
	for _, s := range r.Rule.Spans {
		side, on := s.To, s.OnTo
		if from {
			side, on = s.From, s.OnFrom
		}
		name, all := setText(side.Text), side.Addrs
		if name == "" {
			break
		}
		if s.On != nil {
			name, all = name+"-on-"+s.On.Name, on
		}
		own := addrs != nil && (addrs == all || addrs.Equal(all))
		if own || len(r.Rule.Spans) == 1 {
			return SetName{name, own}
		}
	}
	return SetName{r.Name + end, false}
}

// setText is a side as it can be part of a set's name, "" where it cannot: one name, or one at another.
func setText(side string) string {
	words := strings.Split(side, " at ")
	for _, w := range words {
		if !fence.IsName(w) && w != "fleet" {
			return ""
		}
	}
	return strings.Join(words, "-at-")
}

// groups puts terms together that one line can ask for.
func groups(terms []policy.Term) (out []Box) {
	if terms == nil {
		return []Box{anything(policy.AnyFamily)}
	}
	for _, t := range terms {
		b := Box{Family: t.Family, Protocol: t.Protocol, Code: t.Code}
		allPorts := t.HasPorts() && t.Ports == fence.PortRange{Lo: 0, Hi: 65535}
		i := slices.IndexFunc(out, func(o Box) bool {
			sameKind := o.Ports != nil && t.HasPorts() && !allPorts || o.Types != nil && t.Type != policy.AnyType && t.Code == policy.AnyType
			return sameKind && o.Family == b.Family && o.Protocol == b.Protocol && o.Code == b.Code
		})
		if i < 0 {
			out = append(out, b)
			i = len(out) - 1
		}
		if t.HasPorts() && !allPorts {
			out[i].Ports = append(out[i].Ports, t.Ports)
		}
		if t.Type != policy.AnyType {
			out[i].Types = append(out[i].Types, t.Type)
		}
	}
	return out
}

// Set is the packets of one direction that a box asks for, among rules that remember
// what packets came with.
func (b Box) Set(sp *packet.Space, dir policy.Direction, rs *Ruleset) packet.Set {
	asked := packet.All
	connected := sp.Values(packet.State, packet.New, packet.Established, packet.Related)
	if b.Translated {
		asked = sp.Unknown(Translated)
	}
	if b.CamePort != 0 {
		asked = sp.AndAll(asked, connected, rs.Originally(sp, packet.DstPort, []packet.Range{{Lo: packet.Num(b.CamePort), Hi: packet.Num(b.CamePort)}}))
	}
	if b.Came {
		var runs []packet.Range
		for _, r := range b.Dst.Ranges() {
			runs = append(runs, packet.Range{Lo: packet.Addr(r.From()), Hi: packet.Addr(r.To())})
		}
		asked = sp.AndAll(asked, connected, sp.Value(packet.Family, b.Family), rs.Originally(sp, packet.Dst, runs))
		b.Dst = nil
	}
	m := compile.Match{Ifaces: b.Ifaces, NotIfaces: b.NotIfaces, Leaving: b.Leaving, From: b.Src, To: b.Dst, States: b.States, Since: b.Since, Until: b.Until, IPsec: b.IPsec, Senders: b.Senders}
	base := policy.Term{Family: b.Family, Protocol: b.Protocol, Ports: fence.PortRange{Hi: 65535}, Type: policy.AnyType, Code: b.Code}
	for _, p := range b.Ports {
		t := base
		t.Ports = p
		m.Terms = append(m.Terms, t)
	}
	for _, n := range b.Types {
		t := base
		t.Type = n
		m.Terms = append(m.Terms, t)
	}
	if m.Terms == nil {
		m.Terms = []policy.Term{base}
	}
	return sp.And(asked, m.Set(sp, dir))
}

// Runs are the line's cases by one run of ports each, from the lowest on: as a kernel lists them.
func (l Line) Runs() (out []Case) {
	for _, c := range l.Cases {
		for _, p := range c.Ports {
			out = append(out, Case{[]fence.PortRange{p}, c.Target})
		}
	}
	slices.SortFunc(out, func(a, b Case) int { return a.Ports[0].Lo - b.Ports[0].Lo })
	return out
}

// Rule is the line as rules of a ruleset are read; text is how it is written.
func (l Line) Rule(sp *packet.Space, dir policy.Direction, rs *Ruleset, at, text string) Rule {
	r := Rule{Match: l.Set(sp, dir, rs), Log: l.Log != "", Comment: l.Comment(), At: at, Text: Words(text)}
	if l.Bucket != nil {
		r.Match = sp.And(r.Match, sp.Room(l.Bucket.Bucket))
	}
	for _, c := range l.Runs() {
		r.Branches = append(r.Branches, Branch{Match: sp.And(sp.Value(packet.Protocol, l.Protocol), sp.Range(packet.DstPort, c.Ports[0].Lo, c.Ports[0].Hi)), Action: Jump, Target: c.Target})
	}
	if l.Cases != nil {
		r.Match = packet.All
	} else if l.Do != Pass {
		r.Branches = []Branch{{Match: packet.All, Action: l.Do, Target: l.Target, To: l.To, Port: l.Port}}
		if l.Do == Reject {
			r.Branches[0].With = l.With
		}
	}
	return r
}

// Comment says what a line carries out.
func (l Line) Comment() string {
	if l.Note != "" {
		return l.Note
	}
	return l.Decider.String()
}

// Leaves says that a line leaves packets to what other programs say.
func (l Line) Leaves() bool { return l.Do == Accept && l.With == "leave" }

// Joined puts the parts of a line together that say something.
func Joined(parts ...string) string {
	return strings.Join(slices.DeleteFunc(parts, func(s string) bool { return s == "" }), " ")
}

// FilledIn are the users and units that rules of a plan ask for, as in "unit backup.service":
// which those are on the host is filled in there, and where it is not, what names them decides
// nothing.
func FilledIn(plan *compile.Plan) (out []string) {
	for _, c := range plan.Chains {
		for _, r := range c.Rules {
			for _, s := range r.Match.Senders {
				for _, name := range s.Names {
					if what := s.Kind + " " + name; s.Kind != "program" && !slices.Contains(out, what) {
						out = append(out, what)
					}
				}
			}
		}
	}
	slices.Sort(out)
	return out
}

// ToFillIn is what the head of a file says of those.
func ToFillIn(plan *compile.Plan) string {
	who := FilledIn(plan)
	if len(who) == 0 {
		return ""
	}
	return fmt.Sprintf("# yfence settle, on the host, fills in who these are there: %s; loaded without that, rules about them decide nothing\n", strings.Join(who, ", "))
}

// Unsayable says what is wrong with the senders of a plan's rules, for a text that
// quotes their names: one item each, with the rule.
func Unsayable(plan *compile.Plan) (out []string) {
	for _, c := range plan.Chains {
		for _, r := range c.Rules {
			for _, s := range r.Match.Senders {
				if s.Kind == "program" {
					if what := r.Decider.Rule.Title() + ": from program"; !slices.Contains(out, what) {
						out = append(out, what)
					}
					continue
				}
				for _, name := range s.Names {
					if len(name) > 100 || strings.ContainsAny(name, "\"\\\n") {
						out = append(out, fmt.Sprintf("%s: from %s %q, a name the kernel's tool cannot take", r.Decider, s.Kind, name))
					}
				}
			}
		}
	}
	return out
}
