package layout

import (
	"net/netip"
	"slices"
	"strings"

	"go4.org/netipx"

	"yellowfence.example/yfence/core/compile"
	"yellowfence.example/yfence/core/kernel"
	"yellowfence.example/yfence/core/packet"
	"yellowfence.example/yfence/core/policy"
)

// A Chain is a chain before it is words: what every filter that tries rules
// in order can be told.
type Chain struct {
	Name      string // the direction's, or with a rule's behind it: "inbound-front-door"
	Direction packet.Direction
	Of        *compile.Chain // nil for one that is jumped to, or that translates
	Hook      string         // of one that translates: prerouting or postrouting
	Lines     []Line
}

// place orders chains that are not for a direction behind those that are.
func (c *Chain) place() string {
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
	Note    string        // where the line carries out no rule
	Log     string        // what the line that it writes begins with; "" is none
	Noted   string        // as whose refusal the host agent hears of the packet; "" does not tell it
	Action  kernel.Action // Pass where the packet goes on
	Reply   packet.Reply  // of Reject
	Target  string        // of Jump
	To      netip.Addr    // of DestinationNAT
	Port    int           // of Redirect and DestinationNAT; 0 is the same
	Cases   []Case        // it jumps by the packet's port, and does nothing else
	Count   bool          // how often is counted, where the filter does not count anyway
}

// A Case is ports for which a line jumps to a chain.
type Case struct {
	Ports  []packet.PortRange
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
	Ports            []packet.PortRange
	Types            []int
	Code             int // or policy.AnyType
	States           []int
	Since, Until     int64
	IPsec            bool
	Senders          []packet.Sender
	OriginalDst      bool // Dst is where the packet was sent, before it was redirected
	OriginalPort     int  // and the port; 0 is any
	Translated       bool // it was redirected
}

// A Bucket is what a line asks so that it holds so often and no more.
type Bucket struct {
	packet.Bucket
	Rate      packet.Rate
	PerSource bool
}

// A Options is what a form of rules can say in one line.
type Options struct {
	Family         int  // the only one it is about, or policy.AnyFamily
	LogApart       bool // a line that logs does nothing else
	OneIface       bool // a line names one interface at most, to be used or not
	Ends           bool // a line that begins must end: one that does not leaves what is before to others
	OneType        bool // a line asks for one type of ICMP
	OneOriginalDst bool // a line asks for one prefix that a packet came to
	ByPort         int  // from so many lines on that accept by a port, they are found by it; 0 is never
	ByRange        bool // they are found by ranges of ports, for want of a line that knows every port
	Ports          int  // how many ports a line takes, a range counting for two; 0 is any number
}

// Lines lays a plan out.
func (l Options) Lines(sp *packet.Space, plan *compile.Plan) []*Chain {
	w := &liner{Options: l, sp: sp}
	for i := range plan.Chains {
		c := &plan.Chains[i]
		w.dir = c.Direction
		chain := &Chain{Name: c.Direction.String(), Direction: c.Direction, Of: c}
		if c.Trial != nil {
			w.admit = w.trial(c.Direction.String(), c.Trial, nil)
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
	slices.SortStableFunc(w.out, func(a, b *Chain) int { // the reader's own order: the whole, then its parts
		return strings.Compare(a.place(), b.place())
	})
	return w.out
}

// Set is the packets of one direction that a box asks for, among rules that remember
// what packets came with.
func (b Box) Set(sp *packet.Space, dir packet.Direction, rs *kernel.Ruleset) packet.Set {
	asked := packet.All
	connected := sp.Values(packet.State, packet.New, packet.Established, packet.Related)
	if b.Translated {
		asked = sp.Unknown(kernel.Translated)
	}
	if b.OriginalPort != 0 {
		asked = sp.AndAll(asked, connected, rs.OriginalDst(sp, packet.DstPort,
			[]packet.Range{{Lo: packet.Num(b.OriginalPort), Hi: packet.Num(b.OriginalPort)}}))
	}
	if b.OriginalDst {
		var runs []packet.Range
		for _, r := range b.Dst.Ranges() {
			runs = append(runs, packet.Range{Lo: packet.Addr(r.From()), Hi: packet.Addr(r.To())})
		}
		asked = sp.AndAll(asked, connected, sp.Value(packet.Family, b.Family), rs.OriginalDst(sp, packet.Dst, runs))
		b.Dst = nil
	}
	m := compile.Match{Ifaces: b.Ifaces, NotIfaces: b.NotIfaces, Leaving: b.Leaving, From: b.Src, To: b.Dst, States: b.States,
		Since: b.Since, Until: b.Until, IPsec: b.IPsec}
	for _, s := range b.Senders {
		m.Senders = append(m.Senders, policy.Sender{Kind: s.Kind, Names: []string{s.Name}})
	}
	base := policy.Term{Family: b.Family, Protocol: b.Protocol, Ports: packet.PortRange{Hi: 65535}, Type: policy.AnyType, Code: b.Code}
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
			out = append(out, Case{[]packet.PortRange{p}, c.Target})
		}
	}
	slices.SortFunc(out, func(a, b Case) int { return a.Ports[0].Lo - b.Ports[0].Lo })
	return out
}

// Rule is the line as rules of a ruleset are read; text is how it is written.
func (l Line) Rule(sp *packet.Space, dir packet.Direction, rs *kernel.Ruleset, at, text string) kernel.Rule {
	if l.Noted != "" { // it does nothing about a packet
		return kernel.Rule{Match: packet.Empty, Comment: l.Comment(), At: at, Text: kernel.Words(text)}
	}
	r := kernel.Rule{Match: l.Set(sp, dir, rs), Log: l.Log != "", Comment: l.Comment(), At: at, Text: kernel.Words(text)}
	if l.Bucket != nil {
		r.Match = sp.And(r.Match, sp.HasToken(l.Bucket.Bucket))
	}
	for _, c := range l.Runs() {
		r.Branches = append(r.Branches, kernel.Branch{Match: sp.And(sp.Value(packet.Protocol, l.Protocol),
			sp.Range(packet.DstPort, c.Ports[0].Lo, c.Ports[0].Hi)), Action: kernel.Jump, Target: c.Target})
	}
	if l.Cases != nil {
		r.Match = packet.All
	} else if l.Action != kernel.Pass {
		r.Branches = []kernel.Branch{{Match: packet.All, Action: l.Action, Target: l.Target, To: l.To, Port: l.Port}}
		if l.Action == kernel.Reject {
			r.Branches[0].Reply = l.Reply
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
func (l Line) Leaves() bool { return l.Action == kernel.Accept && l.Decider.Kind == compile.ByLeave }

// Joined puts the parts of a line together that say something.
func Joined(parts ...string) string {
	return strings.Join(slices.DeleteFunc(parts, func(s string) bool { return s == "" }), " ")
}
