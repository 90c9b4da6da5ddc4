// Package compare tells two decisions apart: what a host's kernel does and
// what the policy means it to do. Where they differ, it says so in findings:
// one for each cause, with a packet that shows it and who decides at each side.
package compare

import (
	"fmt"
	"slices"
	"strings"

	"go4.org/netipx"

	"yellowfence.example/yfence/core/compile"
	"yellowfence.example/yfence/core/dialect"
	"yellowfence.example/yfence/core/dialect/nft"
	"yellowfence.example/yfence/core/packet"
	"yellowfence.example/yfence/core/policy"
)

// Kind is a kind of finding.
type Kind string

// The kinds, the most urgent first.
const (
	Opened   Kind = "opened"   // admitted, and should be refused
	Shut     Kind = "shut"     // refused, and should be admitted
	Altered  Kind = "altered"  // admitted or refused both times, but otherwise done
	Cosmetic Kind = "cosmetic" // written differently, and means the same
)

// A Finding is one difference in meaning.
type Finding struct {
	Kind      Kind           `json:"kind" enum:"opened,shut,altered,cosmetic,boot"`
	Direction string         `json:"direction" enum:"in,out,through,"`
	Traffic   string         `json:"traffic" doc:"what it is about, in the policy's own names"`
	Packet    *packet.Packet `json:"packet,omitempty" doc:"a packet that shows it"`
	Live      Live           `json:"live"`
	Published Published      `json:"published"`
	Sentence  string         `json:"sentence" doc:"the finding in one sentence"`
	Hint      string         `json:"hint" doc:"what to do about it"`
}

// Live is what a host's kernel does with the packet, and the rule of the dump that says so.
type Live struct {
	Verdict string `json:"verdict"`
	At      string `json:"at" doc:"where the rule stands in the dump"`
	Rule    string `json:"rule" doc:"the rule as the dump writes it"`
}

// Published is what the policy means for the packet, and the statement that says so.
type Published struct {
	Verdict string `json:"verdict"`
	By      string `json:"by" doc:"the rule of the policy, a part of the ground, or the stance"`
	At      string `json:"at" doc:"file, line and column of the rule"`
}

// A Result is all that tells a host's dump from what it should be.
type Result struct {
	Findings []Finding
	Unread   []string // what was not understood and could change the answer
	Bare     bool     // no filter is in force at all
	Until    int64    // the second since 1970 at which it may be another; 0 is never
}

// State is the host's state as far as one dump tells it.
func (r *Result) State() string {
	differs := slices.ContainsFunc(r.Findings, func(f Finding) bool { return f.Kind != Cosmetic })
	switch {
	case r.Bare:
		return "bare"
	case differs:
		return "drifted"
	case len(r.Unread) > 0:
		return "unread"
	}
	return "in step"
}

// Drift compares what a host's kernel has in force with what its plan means. A
// rule that admits so much and no more is held against what it admits while it
// is not exceeded; what it does with the rest, and at which rate, is told apart.
func Drift(sp *packet.Space, names *Names, plan *compile.Plan, live *dialect.Ruleset) *Result {
	res := &Result{Bare: live.Bare()}
	meant, done := plan.Decision(sp), live.Decision(sp)
	if turns := slices.Concat(sp.Turns(meant), sp.Turns(done)); len(turns) > 0 {
		slices.Sort(turns)
		res.Until = turns[0]
	}
	left := plan.Left(sp) // is nobody's question
	if sp.Within(sp.Differ(meant, done), left) {
		ours := nft.Rules(sp, plan)
		if ours.Signature(sp, nft.Family, nft.Table) != live.Signature(sp, nft.Family, nft.Table) {
			res.Findings = append(res.Findings, cosmetic(sp, live, ours))
		}
		return res
	}
	c := &comparison{sp: sp, pol: names.pol, plan: plan, names: names, meantRates: meant, doneRates: done}
	c.meant, c.meantBy = plan.Attributed(sp)
	c.done, c.doneBy = live.Attributed(sp)
	c.meant, c.done = sp.WithRoom(c.meant), sp.WithRoom(c.done)
	c.intended, c.carriedOut = recognised(sp, live, nft.Rules(sp, plan)), map[string]bool{}
	for r := range c.intended {
		c.carriedOut[r.Comment] = true
	}
	c.changed = map[line]*dialect.Rule{}
	for _, chain := range live.Chains {
		for i := range chain.Rules {
			if r := &chain.Rules[i]; chain.Table == nft.Table && r.Comment != "" && !c.intended[r] {
				c.changed[line{slices.Index(chainHooks, chain.Hook), r.Comment}] = r
			}
		}
	}

	admitted := func(o packet.Outcome) bool { return o.Verdict == packet.Admit }
	should, does := sp.Where(sp.WithRoom(meant), admitted), sp.Where(sp.WithRoom(done), admitted)
	differ := sp.Minus(sp.Differ(meant, done), left)
	opened := sp.AndAll(sp.Certain(sp.Minus(does, should)), sp.WellFormed(), sp.Not(left))
	shut := sp.Minus(sp.Certain(sp.Minus(should, does)), left)
	either := sp.Or(sp.Possible(sp.Minus(does, should)), sp.Possible(sp.Minus(should, does)))
	altered := sp.Minus(sp.AnyRoom(sp.Certain(differ)), either)
	c.bothAdmit = sp.And(should, does)
	c.collect(Opened, opened)
	c.collect(Shut, shut)
	c.collect(Altered, altered)
	if certain := sp.OrAll(opened, shut, altered); !sp.Within(sp.Possible(differ), certain) {
		res.Unread = sp.UnknownsOf(sp.Minus(differ, certain))
	}
	res.Findings = c.findings()
	return res
}

func cosmetic(sp *packet.Space, live, ours *dialect.Ruleset) Finding {
	has := false
	for _, c := range live.Chains {
		has = has || c.Family == nft.Family && c.Table == nft.Table
	}
	f := Finding{Kind: Cosmetic, Traffic: "none", Sentence: "The rules are written differently from what was settled, and mean exactly the same for every packet.",
		Hint: "nothing is at risk; settling the host writes them as they were",
		Live: Live{Rule: fmt.Sprintf("table %s %s", nft.Family, nft.Table), At: fmt.Sprintf("%s %s", nft.Family, nft.Table)}}
	if !has {
		f.Sentence = "The host has other rules than ours, and they mean exactly what the policy means."
		f.Live = Live{Rule: fmt.Sprintf("no table %s %s", nft.Family, nft.Table)}
	}
	if idle, by := idle(sp, live, ours); idle != nil {
		f.Live = Live{At: idle.At, Rule: idle.Text.String()}
		f.Sentence = fmt.Sprintf("The rule `%s` does nothing: %s. The rules mean exactly what was settled, for every packet.", idle.Text, by)
		f.Hint = "if it should do something, say it in the policy; settling the host takes the rule away"
	}
	return f
}

// idle is a rule in a chain of ours that we did not write and that no packet
// gets to, with why.
func idle(sp *packet.Space, live, ours *dialect.Ruleset) (rule *dialect.Rule, why string) {
	known := recognised(sp, live, ours)
	for _, c := range live.Chains {
		if c.Family != nft.Family || c.Table != nft.Table {
			continue
		}
		rest := sp.WellFormed()
		if hook := slices.Index(chainHooks, c.Hook); hook >= 0 {
			rest = sp.And(rest, sp.Value(packet.Hook, hook))
		}
		for i := range c.Rules {
			r := &c.Rules[i]
			if asked := sp.And(r.Match, rest); asked == packet.Empty && !known[r] {
				for k := range c.Rules[:i] {
					if before := &c.Rules[k]; sp.Within(sp.And(r.Match, sp.WellFormed()), decided(sp, before)) {
						return r, fmt.Sprintf("`%s`, which stands before it, decides all that it asks for", before.Text)
					}
				}
				return r, "what stands before it decides all that it asks for"
			}
			rest = sp.Minus(rest, decided(sp, r))
		}
	}
	return nil, ""
}

// chainHooks are where our base chains hang, by the way packets cross them.
var chainHooks = []string{packet.In: "input", packet.Out: "output", packet.Through: "forward"}

// decided is the packets that do not go on behind a rule.
func decided(sp *packet.Space, r *dialect.Rule) packet.Set {
	out, rest := packet.Empty, r.Match
	for _, b := range r.Branches {
		switch b.Action {
		case dialect.Accept, dialect.Drop, dialect.Reject, dialect.Return, dialect.Goto:
			out = sp.Or(out, sp.And(rest, b.Match))
		}
		rest = sp.Minus(rest, b.Match)
	}
	return out
}

// comparison collects the regions in which two decisions differ, by cause.
type comparison struct {
	sp          *packet.Space
	pol         *policy.Policy
	plan        *compile.Plan
	names       *Names
	meant, done packet.Decision // attributed, while nothing is exceeded
	meantRates  packet.Decision // not attributed, with what exceeds a rate
	doneRates   packet.Decision
	meantBy     []compile.Decider
	doneBy      []dialect.Decider
	bothAdmit   packet.Set
	intended    map[*dialect.Rule]bool // the live rules that stand as we would write them
	carriedOut  map[string]bool        // the statements that have such a rule
	changed     map[line]*dialect.Rule // live rules that stand for a statement and are not as we would write them
	causes      []*cause
}

// line is a rule of ours: the way of the packets it is for, and its statement.
type line struct {
	direction int
	comment   string
}

// cause is one reason for a difference: a rule that is there, or one that is missing.
type cause struct {
	kind      Kind
	direction int
	live      dialect.Decider
	published compile.Decider
	set       packet.Set
}

// emptied says that a whole chain was emptied while its policy is drop.
func (n *cause) emptied() bool {
	return n.live.Chain != nil && n.live.Rule == nil && len(n.live.Chain.Rules) == 0
}

func (c *comparison) collect(kind Kind, region packet.Set) {
	for direction := range packet.HookNames {
		rest := c.sp.And(region, c.sp.Value(packet.Hook, direction))
		for _, how := range c.sp.Outcomes(c.sp.Only(c.done, rest)) {
			part := c.sp.And(rest, c.sp.Possible(c.sp.Where(c.done, func(o packet.Outcome) bool { return o == how })))
			if part == packet.Empty {
				continue
			}
			rest = c.sp.Minus(rest, part)
			for _, meant := range c.sp.Outcomes(c.sp.Only(c.meant, part)) {
				set := c.sp.And(part, c.sp.Where(c.meant, func(o packet.Outcome) bool { return o == meant }))
				c.add(&cause{kind: kind, direction: direction, live: c.doneBy[how.By-1], published: c.meantBy[meant.By-1], set: set})
			}
		}
	}
}

// recognised is the live rules that stand in our table as we would write them.
func recognised(sp *packet.Space, live, ours *dialect.Ruleset) map[*dialect.Rule]bool {
	key := func(chain *dialect.Chain, meaning, comment string) string {
		return chain.Place() + "\n" + meaning + "\n" + comment
	}
	known := map[string]bool{}
	meanings := ours.Meanings(sp)
	for _, chain := range ours.Chains {
		for i, meaning := range meanings[chain] {
			known[key(chain, meaning, chain.Rules[i].Comment)] = true
		}
	}
	found := map[*dialect.Rule]bool{}
	meanings = live.Meanings(sp)
	for _, chain := range live.Chains {
		for i, meaning := range meanings[chain] {
			if r := &chain.Rules[i]; known[key(chain, meaning, r.Comment)] {
				found[r] = true
			}
		}
	}
	return found
}

// foreign says that a live rule is the cause of what it decides: one that is not
// as we would write it, no filter at all, or a chain that was emptied.
func (c *comparison) foreign(n *cause) bool {
	return n.live.Chain == nil || n.emptied() || n.live.Rule != nil && !c.intended[n.live.Rule]
}

// add joins a region to the cause it shares. A rule that should not be there is
// the cause of whatever it decides; else each statement of the policy that is
// not carried out is one.
func (c *comparison) add(n *cause) {
	for _, o := range c.causes {
		if o.kind != n.kind || o.direction != n.direction || c.foreign(o) != c.foreign(n) {
			continue
		}
		if c.foreign(n) && sameRule(o.live, n.live) || !c.foreign(n) && o.published == n.published {
			if o.set = c.sp.Or(o.set, n.set); o.published.Kind == "ground" { // which is about packets that nobody would mention
				o.published = n.published
			}
			return
		}
	}
	c.causes = append(c.causes, n)
}

// sameRule says that two deciders are one, or lines of our table that carry out
// the same statement.
func sameRule(a, b dialect.Decider) bool {
	ours := a.Rule != nil && b.Rule != nil && a.Chain.Family == nft.Family && a.Chain.Table == nft.Table && b.Chain.Table == nft.Table
	return a == b || ours && a.Rule.Comment != "" && a.Rule.Comment == b.Rule.Comment
}

var kindOrder = map[Kind]int{Opened: 0, Shut: 1, Altered: 2, Cosmetic: 3}

func (c *comparison) findings() (out []Finding) {
	for _, cause := range c.alike() {
		if cause.kind == Altered && cause.emptied() {
			continue // how an empty chain refuses what is refused anyway is no news
		}
		out = append(out, c.finding(cause))
	}
	slices.SortStableFunc(out, func(a, b Finding) int { return kindOrder[a.Kind] - kindOrder[b.Kind] })
	return out
}

// alike is the causes, those joined that alter what one statement of the policy
// says in one manner: people see one change there, on however many lines.
func (c *comparison) alike() (out []*cause) {
	type change struct {
		direction int
		published compile.Decider
		manners   string
	}
	first := map[change]*cause{}
	for _, n := range c.causes {
		if n.kind == Altered {
			key := change{n.direction, n.published, c.manners(n, c.example(n))}
			if o := first[key]; o != nil {
				o.set = c.sp.Or(o.set, n.set)
				continue
			}
			first[key] = n
		}
		out = append(out, n)
	}
	return out
}

// care is the packets that a sentence about a cause is exact for. It leaves out
// what nobody would mention: packets that are not new, marked, or pieces, over loopback, or with a
// source that a local segment unmasks as forged, unless the cause is about
// nothing else; and of what was opened, the packets that rules admit anyway,
// unless the cause is nothing but by whom, when or how they are sent.
func (c *comparison) care(n *cause) packet.Set {
	honest := c.sp.WellFormed()
	for _, chain := range c.plan.Chains {
		for _, r := range chain.Rules {
			if r.Kind == "local" || r.Kind == "ground" && r.Name == "loopback" {
				honest = c.sp.Minus(honest, r.Match.Set(c.sp, chain.Direction))
			}
		}
	}
	fresh := c.sp.And(c.sp.Value(packet.State, packet.New), c.sp.Usual())
	for _, care := range []packet.Set{c.sp.And(honest, fresh), c.sp.And(c.sp.WellFormed(), fresh), honest} {
		if c.sp.And(n.set, care) != packet.Empty {
			if n.kind == Opened && c.sp.Within(n.set, c.whatever(c.bothAdmit)) {
				care = c.sp.Minus(care, c.sp.Minus(c.bothAdmit, c.whatever(n.set)))
			} else if n.kind == Opened && n.published.Kind == "stance" {
				care = c.sp.Minus(care, c.bothAdmit)
			}
			return care
		}
	}
	return c.sp.WellFormed()
}

// said is a cause's packets as a sentence names them: exact for those of care, and
// what is simplest for the rest, which is what the rule that does it says itself,
// if that is it.
func (c *comparison) said(n *cause) packet.Set {
	care := c.sp.And(c.care(n), c.sp.Value(packet.Hook, n.direction))
	if n.live.Rule != nil {
		rule := n.live.Rule.Match
		if c.sp.And(rule, care) == c.sp.And(n.set, care) {
			fresh := c.sp.And(c.sp.WellFormed(), c.sp.Value(packet.State, packet.New))
			for _, care := range []packet.Set{c.sp.And(fresh, c.sp.Usual()), fresh} {
				if c.sp.And(rule, care) != packet.Empty {
					return c.sp.Simplify(rule, care)
				}
			}
			return rule
		}
	}
	return c.sp.Simplify(n.set, care)
}

// whatever is the packets of a set whoever sends them, whenever and however.
func (c *comparison) whatever(s packet.Set) packet.Set {
	return c.sp.Forget(s, append([]packet.Field{packet.Time, packet.User, packet.Group, packet.Unit, packet.IPsec}, packet.MarkFields...)...)
}

// traffic says what a cause is about.
func (c *comparison) traffic(n *cause, set packet.Set) string {
	switch {
	case n.kind == Shut && n.emptied():
		return "everything the policy admits"
	case n.kind == Shut && n.published == (compile.Decider{Kind: "ground", Name: "replies"}) && !c.answers(n):
		return "what is related to a connection that stands"
	case n.kind == Shut && n.published.Kind == "ground":
		return groundTraffic[n.published.Name]
	case n.kind == Altered && n.published.Kind == "stance" && !c.foreign(n):
		return "what no rule admits"
	}
	text := c.names.Traffic(c.sp, set, n.direction)
	if n.kind == Shut && c.foreign(n) && n.live.Rule != nil && strings.Count(text, ";") > 2 {
		// It is easier said of what the rule takes.
		all := c.sp.Simplify(n.live.Rule.Match, c.sp.And(c.sp.WellFormed(), c.sp.Value(packet.Hook, n.direction)))
		if whole := c.names.Traffic(c.sp, all, n.direction); strings.Count(whole, ";") < 2 {
			return "what the policy admits of " + whole
		}
	}
	return text
}

// answers says that a cause is about answers, not only about what is related.
func (c *comparison) answers(n *cause) bool {
	return c.sp.And(n.set, c.sp.Value(packet.State, packet.Established)) != packet.Empty
}

// groundTraffic says what the parts of the ground are about.
var groundTraffic = map[string]string{
	"loopback":           "what the host says to itself",
	"replies":            "every answer on a connection that stands (established, related)",
	"icmp-errors":        "what path MTU and traceroute need to hear (ICMP errors)",
	"neighbours":         "IPv6 neighbour discovery",
	"dhcp-client":        "address configuration (DHCP)",
	"multicast-listener": "multicast group membership",
	"fence":              "the way to the Yellow Fence service",
}

// example is a packet that shows a cause: a new one between neighbours on one of
// the host's interfaces if it can be, and from a stranger to the fleet where
// something was opened.
func (c *comparison) example(n *cause) packet.Packet {
	h := c.plan.Host
	here, there, iface := packet.Dst, packet.Src, packet.InIface
	if n.direction == packet.Out {
		here, there, iface = packet.Src, packet.Dst, packet.OutIface
	}
	taste := packet.Taste{}
	var interfaces []string
	for _, i := range h.Interfaces {
		interfaces = append(interfaces, i.Name)
		for _, p := range i.Addresses {
			taste.Likes(here, p.Addr())
		}
	}
	taste.LikesInterfaces(packet.InIface, interfaces...)
	taste.LikesInterfaces(packet.OutIface, interfaces...)
	taste[there] = c.names.hostsFirst
	if n.kind == Opened {
		taste[there] = c.names.strangersFirst
	}

	fresh := c.sp.And(n.set, c.sp.Value(packet.State, packet.New))
	try := []packet.Set{}
	for _, base := range []packet.Set{c.sp.And(fresh, c.sp.Usual()), fresh, n.set} {
		if base == packet.Empty {
			continue
		}
		for _, i := range h.Interfaces {
			var own, near netipx.IPSetBuilder
			for _, p := range i.Addresses {
				own.Add(p.Addr())
				near.AddPrefix(p.Masked())
				near.Remove(p.Addr())
			}
			mine, _ := own.IPSet()
			neighbours, _ := near.IPSet()
			on := c.sp.AndAll(base, c.sp.Interfaces(iface, i.Name), c.sp.Addrs(here, mine))
			try = append(try, c.sp.And(on, c.sp.Addrs(there, neighbours)))
		}
		try = append(try, base)
	}
	for _, set := range try {
		if p, ok := c.sp.Example(set, taste); ok {
			return p
		}
	}
	return packet.Packet{} // a cause is never empty
}

func (c *comparison) finding(n *cause) Finding {
	h := c.plan.Host
	example := c.example(n)
	done, meant := c.sp.Outcome(c.done, example), c.sp.Outcome(c.meant, example)
	live, published := c.doneBy[max(done.By-1, 0)], c.meantBy[max(meant.By-1, 0)]
	said := c.sp.Simplify(c.said(n), c.sp.Value(packet.Hook, n.direction))

	f := Finding{Kind: n.kind, Direction: packet.HookNames[n.direction], Traffic: c.traffic(n, said), Packet: &example,
		Live:      Live{Verdict: done.Verdict.String(), At: live.At(), Rule: live.Text()},
		Published: Published{Verdict: meant.Verdict.String(), By: published.String()},
	}
	if published.Pos.Line > 0 {
		f.Published.At = published.Pos.String()
	}
	role := "host " + h.Name
	if len(h.Roles) == 1 {
		role = h.Roles[0]
	}
	passes := []string{"gets in", "gets out", "is forwarded"}[n.direction]
	undo := "settling " + h.Name
	switch n.kind {
	case Opened:
		refused := published.String() + " refuses it"
		if published.Kind == "stance" {
			refused = "nothing in the policy admits it"
		}
		f.Sentence = fmt.Sprintf("%s %s; %s.", f.Traffic, passes, refused)
		if live.Chain == nil {
			f.Sentence = fmt.Sprintf("No filter is in force: %s %s.", f.Traffic, passes)
		}
		f.Hint = undo + " undoes it"
		if live.Chain == nil {
			f.Hint = undo + " puts a filter in force"
		} else if s := c.names.suggestion(c.sp, said, n.direction, role); s != "" && published.Kind == "stance" {
			f.Hint = fmt.Sprintf("if this is right, say it in the policy: `%s`; if not, %s undoes it", s, undo)
		}
	case Shut:
		switch {
		case n.emptied():
			f.Sentence = fmt.Sprintf("Chain %s has no rules left while its policy is drop: nothing %s, answers to the host's own connections included.", live.Chain.Name, passes)
			f.Hint = undo + " puts the rules back"
		case live.Rule != nil && c.foreign(n):
			f.Sentence = fmt.Sprintf("%s no longer %s, though %s admits it: the rule `%s` stands in the way.", f.Traffic, passes, published, live.Rule.Text)
			f.Hint = undo + " undoes it; if it is right, say it in the policy with a block"
		case live.Rule != nil && c.carriedOut[published.String()]:
			f.Sentence = fmt.Sprintf("%s no longer %s, though %s admits it: the rule `%s` now stands before its own.", f.Traffic, passes, published, live.Rule.Text)
			f.Hint = undo + " puts them in their order"
		case c.changed[line{n.direction, published.String()}] != nil:
			f.Sentence = fmt.Sprintf("%s no longer %s: the rule for %s was changed to `%s`.", f.Traffic, passes, published, c.changed[line{n.direction, published.String()}].Text)
			f.Hint = undo + " changes it back"
		case published.Name == "replies":
			f.Sentence = fmt.Sprintf("The rule for replies is missing: connections hang, because no answer %s.", passes)
			f.Hint = undo + " puts it back"
		default:
			f.Sentence = fmt.Sprintf("%s no longer %s: the rule for %s is missing.", f.Traffic, passes, published)
			f.Hint = undo + " puts it back"
		}
	case Altered:
		f.Sentence = f.Traffic + " is " + c.manners(n, example) + "."
		f.Hint = undo + " undoes it"
	}
	return f
}

// manners says what is done with the packets of a cause and what should be.
func (c *comparison) manners(n *cause, example packet.Packet) string {
	is, ought := c.manner(c.done, c.doneRates, n.set, example), c.manner(c.meant, c.meantRates, n.set, example)
	if is == ought { // it is about what exceeds a limit
		done, meant := c.exceeding(c.doneRates, example), c.exceeding(c.meantRates, example)
		return is.beside(ought) + is.limit() + "; what exceeds it is " + done.beside(meant) + ", and should be " + meant.beside(done)
	}
	return is.beside(ought) + ", and should be " + ought.beside(is)
}

// manner is what is done with packets: while nothing is exceeded, and how much at most.
type manner struct {
	packet.Outcome
	atMost, logUpTo string // rates; "" is without limit
}

func (c *comparison) manner(d, rated packet.Decision, set packet.Set, example packet.Packet) (m manner) {
	m.Outcome = c.sp.Outcome(d, example)
	m.By = 0
	rated = c.sp.Only(rated, c.sp.And(set, c.sp.WellFormed()))
	m.atMost = c.rates(rated, "", func(o packet.Outcome) bool { return o.Verdict == packet.Admit })
	m.logUpTo = c.rates(rated, m.atMost, func(o packet.Outcome) bool { return o.Verdict == packet.Admit && o.Logged })
	return m
}

// rates says the buckets that decide whether packets are in a part of a decision, but for one.
func (c *comparison) rates(d packet.Decision, but string, part func(packet.Outcome) bool) string {
	var rates []string
	for _, b := range packet.Buckets(c.sp, c.sp.Where(d, part)) {
		if rate := b.String(); rate != but && !slices.Contains(rates, rate) {
			rates = append(rates, rate)
		}
	}
	return strings.Join(rates, " and ")
}

// exceeding is what becomes of a packet for which no bucket has a token.
func (c *comparison) exceeding(rated packet.Decision, example packet.Packet) (m manner) {
	here := c.sp.Exactly(example)
	for _, b := range packet.Buckets(c.sp, rated) {
		here = c.sp.Minus(here, c.sp.Room(b))
	}
	for _, o := range c.sp.Outcomes(c.sp.Only(rated, here)) {
		m.Outcome = o // the only one, since all else is decided
	}
	return m
}

func (m manner) limit() string {
	if m.atMost == "" {
		return " without a limit"
	}
	return " at most " + m.atMost
}

// beside says a manner as far as it differs from another.
func (m manner) beside(other manner) string {
	s := m.Verdict.String()
	if m.With != "" && m.With != other.With {
		s += " with " + m.With
	}
	limited := m.atMost != other.atMost
	if limited {
		s += m.limit()
	}
	if m.Logged == other.Logged && m.logUpTo == other.logUpTo {
		return s
	}
	switch {
	case m.Logged && m.logUpTo != "":
		return s + " and logged up to " + m.logUpTo
	case m.Logged && other.Logged:
		return s + " and logged without a limit"
	case m.Logged:
		return s + " and logged"
	case limited:
		return s + " and without a log"
	}
	return s + " without a log"
}
