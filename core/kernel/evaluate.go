package kernel

import (
	"slices"

	"yellowfence.example/yfence/core/packet"
)

// hooks are those that packets pass, in order, by the way they cross the host: decide
// goes over them from the last to the first.
var hooks = [][]string{
	packet.In:      {"prerouting", "input"},
	packet.Out:     {"output", "postrouting"},
	packet.Through: {"prerouting", "forward", "postrouting"},
}

// Decision is what the kernel does with every packet that crosses the host. Chains are entered
// once for each place that they are jumped to from, however many rules jump there.
func (rs *Ruleset) Decision(sp *packet.Space) packet.Decision {
	return rs.DecisionWith(sp, EvalCache{})
}

// EvalCache is what is known of chains that several rulesets have in common.
type EvalCache map[call]packet.Decision

// DecisionWith is Decision for one of several rulesets that have chains in common:
// what one chain does is worked out once. They must all be of one Space.
func (rs *Ruleset) DecisionWith(sp *packet.Space, known EvalCache) packet.Decision {
	d, _ := rs.decide(sp, known, false)
	return d
}

// Attributed is Decision with the decider of each outcome: Outcome.By counts the deciders from
// 1. What is admitted is owed to the last chain that had a say of its own. A rule that
// translates decides nothing: what it lets on is owed to those that filter.
func (rs *Ruleset) Attributed(sp *packet.Space) (packet.Decision, []Decider) {
	return rs.decide(sp, nil, false)
}

// Altering is Attributed for the question who changes packets: what is translated is owed to
// the rule that translates it.
func (rs *Ruleset) Altering(sp *packet.Space) (packet.Decision, []Decider) {
	return rs.decide(sp, nil, true)
}

// Translates says that a rule translates anything: else Altering is Attributed.
func (rs *Ruleset) Translates() bool {
	return slices.ContainsFunc(rs.Chains, func(c *Chain) bool { return c.Type == "nat" && len(c.Rules) > 0 })
}

// decide is the decision by what is known already, or with deciders where known is nil.
func (rs *Ruleset) decide(sp *packet.Space, known EvalCache, translators bool) (packet.Decision, []Decider) {
	e := &evaluation{sp: sp, attributed: known == nil, translators: translators, chains: map[chainKey]*Chain{}, done: known,
		open:   map[*Chain]bool{},
		plains: map[*Chain]bool{}, routes: rs.Routes, links: rs.Links, originals: rs.Originals}
	if known == nil {
		e.done = EvalCache{}
	}
	for _, c := range rs.Chains {
		e.chains[chainKey{c.Family, c.Table, c.Name}] = c
	}
	admit := sp.Leaf(packet.Outcome{Verdict: packet.Admit, By: e.by(Decider{})})
	next := ways{admit, admit, admit}
	next = e.hook(rs, "postrouting", next, packet.Out, packet.Through)
	next = e.hook(rs, "input", next, packet.In)
	next = e.hook(rs, "forward", next, packet.Through)
	e.sent = next[packet.Out]
	next = e.hook(rs, "prerouting", next, packet.In, packet.Through)
	next = e.hook(rs, "ingress", next, packet.In, packet.Through)
	next = e.hook(rs, "output", next, packet.Out)
	all := packet.Void
	for way, d := range next {
		for _, c := range rs.Chains {
			if sent := slices.Contains([]string{"egress", "output", "postrouting"}, c.Hook); c.Outside != "" &&
				(way == packet.Through || sent == (way == packet.Out)) {
				d = e.outside(c, way, d)
			}
		}
		all = sp.Choose(sp.Value(packet.Hook, way), d, all)
	}
	// Of what no rule here translated nothing says that it was: but for a new
	// connection's first packet nobody knows what was done with those before.
	fresh := sp.Not(sp.Values(packet.State, packet.Established, packet.Related))
	all = e.original(sp.Choose(fresh, sp.Answered(all, Translated, false), all))
	return sp.Only(all, sp.WellFormed()), e.deciders
}

// Translated is the unknown whether a connection's destination was changed.
const Translated = "whether the connection's destination was changed"

// ways is what becomes of packets from some hook on, by the way they cross the host.
type ways [3]packet.Decision

// on lists the base chains of a hook by priority; early are those that run
// before the kernel puts fragments together.
func (rs *Ruleset) on(hook string) (early, late []*Chain) {
	for _, c := range rs.Chains {
		switch {
		case c.Hook != hook || c.Outside != "":
		case c.SeesFragments():
			early = append(early, c)
		default:
			late = append(late, c)
		}
	}
	for _, chains := range [][]*Chain{early, late} {
		slices.SortStableFunc(chains, func(a, b *Chain) int { return a.Priority - b.Priority })
	}
	return early, late
}

// joinPriority is where the kernel puts fragments together (NF_IP_PRI_CONNTRACK_DEFRAG).
const joinPriority = -400

// LaterPorts is the unknown whether a kernel looks for ports in later fragments
// (where it finds whatever stands there: nft of 6.18 does) or lets no match on ports hold.
const LaterPorts = "whether the kernel looks for ports in later fragments"

// SeesFragments says that a base chain runs before fragments are put together,
// where they are.
func (c *Chain) SeesFragments() bool {
	return c.Hook == "ingress" || c.Hook == "prerouting" && c.Priority < joinPriority
}

// whole is d where fragments of families are put together before: they fare as
// the whole packet does.
func (e *evaluation) whole(d packet.Decision, families [2]bool) packet.Decision {
	for family, join := range families {
		if join {
			d = e.sp.Choose(e.sp.Value(packet.Family, family), e.sp.Restrict(d, packet.Fragment, packet.Num(packet.Whole)), d)
		}
	}
	return d
}

// chainKey is what a jump finds a chain by: it stays in its table.
type chainKey struct{ family, table, name string }

// call is one entry into a chain. What becomes of it depends on nothing else, so that it is
// worked out once, however often rules jump there.
type call struct {
	chain            *Chain
	unrouted         bool
	way              int
	next             ways // see evaluation
	after, accepting packet.Decision
}

// evaluation works through chains from their ends: each rule is a choice
// between what it does and what comes after it, so that a whole chain is a
// function from what happens when it is left to what happens to a packet.
type evaluation struct {
	sp          *packet.Space
	attributed  bool
	translators bool // they count among the deciders
	chains      map[chainKey]*Chain
	done        EvalCache
	open        map[*Chain]bool // being evaluated: met again, the chains are a loop
	plains      map[*Chain]bool // see plain
	unrouted    bool            // on a hook before routing, where no packet has an outbound interface yet
	way         int             // of the packets that are being followed, as their Hook
	next        ways            // what happens behind the base chain that is being evaluated, before routing
	sent        packet.Decision // what happens to what the host sends once it is routed
	routes      *Routes
	links       Links
	originals   map[string]packet.Set
	deciders    []Decider
}

// by numbers a decider from 1, for Outcome.By; it is 0 where nobody asks who decides.
func (e *evaluation) by(d Decider) int32 {
	if !e.attributed {
		return 0
	}
	e.deciders = append(e.deciders, d)
	return int32(len(e.deciders))
}

// unmodelled is a decision that could be anything, what goes on without the thing included.
func (e *evaluation) unmodelled(what string, without packet.Decision) packet.Decision {
	by := e.by(Decider{})
	either := e.sp.Choose(e.sp.Unknown(what+", and its packets pass"),
		e.sp.Leaf(packet.Outcome{Verdict: packet.Admit, By: by}), e.sp.Leaf(packet.Outcome{Verdict: packet.Drop, By: by}))
	return e.sp.Choose(e.sp.Unknown(what), either, without)
}
