package layout

import (
	"fmt"
	"slices"

	"yellowfence.example/yfence/core/compile"
	"yellowfence.example/yfence/core/kernel"
	"yellowfence.example/yfence/core/packet"
	"yellowfence.example/yfence/core/policy"
)

// trial lays out the chain that notes what would be refused if nothing were on trial, of what is
// admitted otherwise, and admits it; speaks leaves rules out, or says less of them, if it is said.
func (w *liner) trial(of string, rules []compile.Rule, speaks func(*compile.Match) bool) *Chain {
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
	w.lines(c, compile.Rule{Decider: compile.Decider{Kind: compile.ByStance, Name: w.dir.String() + " on trial"}}, compile.Match{},
		w.Family,
		step{do: kernel.Accept})
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
	if w.admit != nil && (r.Kind == compile.ByAllow || r.Kind == compile.ByStance) {
		return jump(w.admit)
	}
	return step{do: kernel.Accept}
}

// rule lays one rule out; apart says that a bucket it asks must not be asked by
// several of its lines.
func (w *liner) rule(c *Chain, r compile.Rule, apart bool) {
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
	helper := w.helper(w.dir.String() + "-" + r.Name)
	w.lines(c, r, r.Match, w.Family, jump(helper))
	w.body(helper, r)
}

// liner lays one plan out. A rule of the policy becomes as many lines as its addresses,
// families and protocols need; what is asked by several lines is put into a chain of its own.
type liner struct {
	Options
	sp    *packet.Space
	out   []*Chain
	came  bool   // destinations are asked for as packets came with them
	admit *Chain // what rules admit goes there; nil is accepted

	dir      packet.Direction
	families []int // of the rule that is laid out
}

// helper adds a chain that rules jump to, under a name of its own. (A rule's name has no dot.)
func (w *liner) helper(name string) *Chain {
	unique := name
	for i := 2; slices.ContainsFunc(w.out, func(c *Chain) bool { return c.Name == unique }); i++ {
		unique = fmt.Sprintf("%s.%d", name, i)
	}
	c := &Chain{Name: unique, Direction: w.dir}
	w.out = append(w.out, c)
	return c
}

// body fills the chain of a rule that one line cannot say; what comes in has
// matched. What a block still refuses of an allow goes back; of the rest a
// limit admits some and refuses the others.
func (w *liner) body(c *Chain, r compile.Rule) {
	r.Match = compile.Match{}
	for i, m := range r.Unless {
		whole, not := m.Whole()
		if w.Ends && m.Since != 0 && m.Until == 0 {
			not = append(not, compile.Match{Until: m.Since})
			whole.Since = 0
		}
		if not == nil {
			w.lines(c, r, m, w.Family, step{do: kernel.Return})
			continue
		}
		rest := w.helper(c.Name + ".rest") // for what is taken away of m, and what m is not about
		for _, n := range not {
			w.lines(c, r, n, w.Family, jump(rest))
		}
		w.lines(c, r, whole, w.Family, step{do: kernel.Return})
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
	noted   bool
	manner  string // said in the line that is logged
	do      kernel.Action
	reply   packet.Reply
	target  string
}

// jump is the step that goes to a chain.
func jump(to *Chain) step { return step{do: kernel.Jump, target: to.Name} }

// decide adds the lines that end a rule. A log with a limit comes before them,
// in lines that let the packet go on.
func (w *liner) decide(c *Chain, r compile.Rule, v packet.Verdict, log *compile.Log, manner string) {
	if log != nil {
		manner += log.Manner
	}
	if refuses(r.Kind) && (v != packet.Admit || log != nil && log.Manner != "") {
		w.lines(c, r, r.Match, w.Family, step{noted: true, manner: manner, do: kernel.Pass})
	}
	if log != nil && log.UpTo != nil {
		for _, family := range w.families {
			w.lines(c, r, r.Match, family, step{bucket: &Bucket{log.Bucket(family), *log.UpTo, false}, log: true, manner: manner,
				do: kernel.Pass})
		}
		log = nil
	}
	steps := map[packet.Verdict][]step{packet.Admit: {w.admits(r)}, packet.Drop: {{do: kernel.Drop}},
		packet.Reject: {{do: kernel.Reject, reply: packet.TCPReset, tcpOnly: true}, {do: kernel.Reject, reply: packet.PortUnreachable}}}[v]
	if r.Kind == compile.ByStance && v == packet.Drop { // which the chain's end does
		if log == nil {
			return
		}
		steps = []step{{do: kernel.Pass}}
	}
	if r.Kind == compile.ByLeave {
		steps = []step{{do: kernel.Accept}}
	}
	for i := range steps {
		steps[i].log, steps[i].manner = log != nil, manner
	}
	w.lines(c, r, r.Match, w.Family, steps...)
}

// counts says that a line of a decider is one by which it is known how often a statement is used:
// nothing is asked of a packet any more behind it. The ground is nobody's statement, and what is
// translated is counted where that is done.
func counts(of compile.Kind, does kernel.Action) bool {
	switch of {
	case compile.ByGround:
		return false
	case compile.ByRedirect, compile.ByMasquerade:
		return does == kernel.Redirect || does == kernel.DestinationNAT || does == kernel.SourceNAT
	}
	return does == kernel.Accept || does == kernel.Drop || does == kernel.Reject
}

// refuses says that of what a decider refuses the host agent is told: who was refused what is asked
// of statements and stances. What the ground refuses is broken, or forged.
func refuses(of compile.Kind) bool {
	return of == compile.ByBlock || of == compile.ByStance || of == compile.ByAllow || of == compile.ByLocal
}

// lines writes a match as one line per family and protocol it needs.
func (w *liner) lines(c *Chain, r compile.Rule, m compile.Match, family int, steps ...step) {
	for _, b := range w.boxes(r, m, family) {
		for _, s := range steps {
			line := Line{Box: b, Bucket: s.bucket, Decider: r.Decider, Action: s.do, Reply: s.reply, Target: s.target,
				Count: counts(r.Kind, s.do)}
			if s.tcpOnly {
				if b.Protocol != packet.TCP && b.Protocol != policy.AnyProtocol {
					continue
				}
				line.Protocol = packet.TCP
			} else if len(steps) > 1 && b.Protocol == packet.TCP {
				continue
			}
			if s.noted {
				line.Noted = r.Decider.String() + s.manner
			}
			if s.log {
				line.Log = "yf " + r.Decider.String() + s.manner + ": "
			}
			if w.LogApart && line.Log != "" && line.Action != kernel.Pass {
				alone := line
				alone.Action, alone.Reply, alone.Target = kernel.Pass, packet.NoReply, ""
				c.Lines, line.Log = append(c.Lines, alone), ""
			}
			c.Lines = append(c.Lines, line)
		}
	}
}
