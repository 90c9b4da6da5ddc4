package compare

import (
	"fmt"
	"strings"

	"yellowfence.example/yfence/core/compile"
	"yellowfence.example/yfence/core/fence"
	"yellowfence.example/yfence/core/kernel"
	"yellowfence.example/yfence/core/packet"
	"yellowfence.example/yfence/core/say"
)

// care is the packets that a sentence about a cause is exact for. It leaves out
// what nobody would mention: packets that are not new, marked, or pieces, over
// loopback, or with a source that a local segment unmasks as forged, unless the
// cause is about nothing else; and of what was opened, the packets that rules admit anyway,
// unless the cause is nothing but by whom, when or how they are sent.
func (c *comparison) care(n *cause) packet.Set {
	honest := c.sp.WellFormed()
	for _, chain := range c.plan.Chains {
		for _, r := range chain.Rules {
			if r.Kind == compile.ByLocal || r.Kind == compile.ByGround && r.Name == fence.PartLoopback {
				honest = c.sp.Minus(honest, r.Match.Set(c.sp, chain.Direction))
			}
		}
	}
	fresh := c.sp.And(c.sp.Value(packet.State, packet.New), c.sp.Typical())
	for _, care := range []packet.Set{c.sp.And(honest, fresh), c.sp.And(c.sp.WellFormed(), fresh), honest} {
		if c.sp.And(n.set, care) != packet.Empty {
			if n.kind == Opened && c.sp.Within(n.set, c.whatever(c.bothAdmit)) {
				care = c.sp.Minus(care, c.sp.Minus(c.bothAdmit, c.whatever(n.set)))
			} else if n.kind == Opened && n.published.Kind == compile.ByStance {
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
	if c.grouped {
		return c.sp.And(c.saidOfGroup(n), c.families())
	}
	if c.about != packet.All { // nothing is known of the rest
		return c.sp.ProjectOnto(n.set, packet.Family, packet.Protocol, packet.Src, packet.DstPort, packet.InIface)
	}
	care := c.sp.And(c.care(n), c.sp.Crossing(n.direction))
	if n.live.Rule != nil {
		rule := n.live.Rule.Match
		// What another rule decides before it, to the same end, is no less its doing.
		if mine := c.sp.And(rule, care); c.sp.Within(c.sp.And(n.set, care), mine) && c.sp.Within(mine, c.regions[n.kind]) {
			fresh := c.sp.And(c.sp.WellFormed(), c.sp.Value(packet.State, packet.New))
			for _, care := range []packet.Set{c.sp.And(fresh, c.sp.Typical()), fresh} {
				if c.sp.And(rule, care) != packet.Empty {
					return c.sp.Simplify(rule, care)
				}
			}
			return rule
		}
	}
	if n.live.Rule == nil && c.cutsAnswers(n, c.sp.And(n.set, care)) {
		care = c.sp.Or(care, c.onConnections())
	}
	return addressed(c.sp, c.sp.Simplify(n.set, care), c.sp.And(n.set, care))
}

// addressed is what is said of exact packets without a family that none of them has, if
// addresses are said: simplified, one family's would stand for the other's too.
func addressed(sp *packet.Space, said, exact packet.Set) packet.Set {
	for _, family := range []int{packet.IPv4, packet.IPv6} {
		of := sp.Value(packet.Family, family)
		if exact != packet.Empty && sp.And(exact, of) == packet.Empty && sp.Exists(said, packet.Src, packet.Dst) != said {
			said = sp.Minus(said, of)
		}
	}
	return said
}

// onConnections is the packets on connections that stand, over the host's interfaces.
func (c *comparison) onConnections() packet.Set {
	return c.sp.AndAll(c.sp.WellFormed(), c.sp.Typical(), c.sp.Values(packet.State, packet.Established, packet.Related),
		c.sp.Not(c.sp.Loopback()))
}

// cutsAnswers says that a cause is about packets on connections that stand, which what is said of
// it would not show.
func (c *comparison) cutsAnswers(n *cause, said packet.Set) bool {
	return n.kind == Shut && !c.sp.Within(c.sp.And(n.set, c.onConnections()), c.sp.Exists(said, packet.State))
}

// saidOfGroup is said of what a group decides.
func (c *comparison) saidOfGroup(n *cause) packet.Set {
	care := c.about
	if n.kind == Opened && n.published.Kind == compile.ByStance {
		care = c.sp.Minus(care, c.bothAdmit)
	}
	if n.live.Rule != nil && c.sp.Within(c.sp.And(n.set, care), n.live.Rule.Match) &&
		c.sp.Within(c.sp.And(n.live.Rule.Match, care), c.regions[n.kind]) {
		return c.sp.Simplify(n.live.Rule.Match, c.sp.AndAll(c.sp.WellFormed(), c.sp.Value(packet.State, packet.New), c.sp.Typical()))
	}
	return c.sp.Simplify(n.set, care)
}

// families are the packets of the families that the host has addresses of.
func (c *comparison) families() packet.Set {
	all := packet.Empty
	for _, family := range []int{packet.IPv4, packet.IPv6} {
		if len(packet.OfFamily(c.plan.Host.Addresses(), family).Ranges()) > 0 {
			all = c.sp.Or(all, c.sp.Value(packet.Family, family))
		}
	}
	return all
}

// whatever is the packets of a set whoever sends them, whenever and however.
func (c *comparison) whatever(s packet.Set) packet.Set {
	return c.sp.Exists(s, append([]packet.Field{packet.Time, packet.User, packet.Group, packet.Unit, packet.Program, packet.IPsec},
		packet.MarkFields...)...)
}

// subject is what a sentence is about.
type subject struct {
	text     string
	ground   string // the part of the ground that it is said as
	admitted bool   // it is said as what the policy admits
}

// subject says what a cause is about; set is its packets as they are said.
func (c *comparison) subject(n *cause, set packet.Set) subject {
	part := n.published.Name
	// Some findings have a name of their own, and need no list of what they are about.
	switch {
	case n.folded:
		return subject{text: "packets of no connection (invalid, untracked), some of them,"}
	case n.kind == Shut && n.emptied() && (n.blame.fault == emptyChain || n.blame.fault == unblamed):
		return subject{text: "everything the policy admits"}
	case n.kind == Shut && n.published.Kind == compile.ByGround && c.allOf(n):
		return subject{text: say.Ground(part), ground: part}
	case n.kind == Shut && n.blame.fault == missingRule && n.published.Kind == compile.ByGround && !c.stands(n, n.published.String()):
		return subject{text: say.Ground(part) + " that no other rule admits", ground: part}
	case n.kind == Shut && n.published == (compile.Decider{Kind: compile.ByGround, Name: fence.PartReplies}) && !c.answers(n):
		return subject{text: "what is related to a connection that stands"}
	case n.kind == Altered && n.published.Kind == compile.ByStance && !c.foreign(n):
		return subject{text: "what no rule admits"}
	}
	if n.blame.fault == pausing && n.kind == Opened &&
		c.sp.Within(c.sp.AndAll(c.regions[Opened], c.sp.Crossing(n.direction), c.care(n)), n.set) {
		return subject{text: "whatever the policy refuses"}
	}
	// All others are told by their traffic, unless that is more than anybody reads.
	traffic := c.names.Traffic(c.sp, set, n.direction)
	many := len(traffic.Phrases) > 3
	if n.kind == Shut && many {
		switch {
		case n.blame.fault == wrongPolicy:
			return subject{text: "what no rule of the chain " + n.blame.chain.Name + " decides"}
		case n.blame.fault == elsewhere && n.blame.rule == nil:
			return subject{text: "what the policy admits and the chain " + n.blame.chain.Place() + " does not", admitted: true}
		}
	}
	many = many || c.cutsAnswers(n, c.sp.And(n.set, c.care(n)))
	if n.kind == Shut && c.foreign(n) && n.live.Rule != nil && n.others == 0 && c.about == packet.All && many {
		// It is easier said of what the rule takes.
		all := c.sp.Simplify(n.live.Rule.Match, c.sp.And(c.sp.WellFormed(), c.sp.Crossing(n.direction)))
		if whole := c.names.Traffic(c.sp, all, n.direction); len(whole.Phrases) < 3 {
			return subject{text: "what the policy admits of " + whole.String(), admitted: true}
		}
	}
	return subject{text: traffic.String()}
}

// allOf says that a cause is about all that the statement admits which it is put down to, at
// least of what comes and goes by the host's interfaces.
func (c *comparison) allOf(n *cause) bool {
	admitted := c.sp.Where(c.meant, func(o packet.Outcome) bool { return o.By > 0 && c.meantBy[o.By-1] == n.published })
	mine := c.sp.AndAll(admitted, c.sp.Crossing(n.direction), c.sp.WellFormed(), c.sp.Typical())
	if n.published.Name != fence.PartLoopback {
		mine = c.sp.Minus(mine, c.sp.Loopback())
	}
	return c.sp.Within(mine, n.set)
}

// answers says that a cause is about answers, not only about what is related.
func (c *comparison) answers(n *cause) bool {
	return c.sp.And(n.set, c.sp.Value(packet.State, packet.Established)) != packet.Empty
}

// finding says one cause: with a packet that shows it, what becomes of it at either side, by
// what, and what to do.
func (c *comparison) finding(n *cause) Finding {
	example := c.example(n)
	if n.blame.fault != unblamed { // what is said is of the packet that is shown
		n.blame = c.blames(example, n.kind == Altered)
	}
	does, doesBy := c.does(n.kind)
	done, meant := c.sp.Outcome(does, example), c.sp.Outcome(c.meant, example)
	live, published := doesBy[max(done.By-1, 0)], c.meantBy[max(meant.By-1, 0)]
	said := c.sp.Simplify(c.said(n), c.sp.Crossing(n.direction))

	about := c.subject(n, said)
	f := Finding{Kind: n.kind, Direction: n.direction.Word(), Traffic: about.text, Packet: &example,
		Live:      Live{Verdict: done.Verdict.String(), At: live.At(), Rule: live.Text()},
		Published: Published{Verdict: meant.Verdict.String(), By: published.String()},
	}
	if published.Pos.Line > 0 {
		f.Published.At = published.Pos.String()
	}
	f.Because = Changed
	if n.because == Behind {
		c.behind(n, &f)
		return f
	}
	if asked := c.stages[0]; asked.Revision != 0 && n.blame.fault != pausing { // nobody changed what is paused
		f.Revision, f.Generation = asked.Revision, asked.Generation
	}
	passes := say.Passes(n.direction)
	// What another's table admits ours refuses again; what it refuses stays refused.
	undoes := c.undo + " undoes it"
	if n.kind != Opened && live.Chain != nil && !c.form.Overrides(live.Chain) {
		undoes = leftAlone(live.Chain)
	}
	if n.blame.fault != unblamed {
		c.blamed(n, &f, about, published, passes)
		return f
	}
	switch n.kind {
	case Opened:
		c.opened(n, &f, live, published, passes, undoes)
	case Shut:
		c.shut(n, &f, about, live, published, passes, undoes)
	case Altered:
		f.Sentence = f.Traffic + " is " + c.manners(n, example) + "."
		f.Hint = undoes
	}
	if chain := c.unasked[n.direction]; chain != "" && (live.Rule == nil || !c.form.Ours(live.Chain)) {
		f.Sentence = fmt.Sprintf("Nothing goes to the chain %s, so that its rules do nothing: %s", chain, f.Sentence)
		f.Hint = c.undo + " has the kernel ask them"
	}
	return f
}

// opened says what is admitted and should not be, where no single thing is to blame.
func (c *comparison) opened(n *cause, f *Finding, live kernel.Decider, published compile.Decider, passes, undoes string) {
	refused := published.String() + " refuses it"
	if published.Kind == compile.ByStance {
		refused = "nothing in the policy admits it"
	}
	if n.others > 0 {
		passes += fmt.Sprintf(" by %d rules", n.others+1)
	}
	f.Sentence = fmt.Sprintf("%s %s; %s.", f.Traffic, passes, refused)
	if live.Chain == nil {
		f.Sentence = fmt.Sprintf("No filter is in force: %s %s.", f.Traffic, passes)
	}
	f.Hint = undoes
	if live.Chain == nil {
		f.Hint = c.undo + " puts a filter in force"
	} else if s := c.suggestion(n); s != "" && published.Kind == compile.ByStance {
		f.Hint = fmt.Sprintf("to keep it, add `%s` to the policy; else %s", s, undoes)
	}
}

// suggestion is the allow that would make the policy say what was opened, "" where one line does not.
func (c *comparison) suggestion(n *cause) string {
	role := "host " + c.plan.Host.Name
	if len(c.plan.Host.Roles) == 1 {
		role = c.plan.Host.Roles[0]
	}
	said := c.sp.Simplify(c.said(n), c.sp.Crossing(n.direction))
	rule, ok := c.names.Allow(c.names.Traffic(c.sp, said, n.direction), role)
	if !ok {
		return ""
	}
	return fence.Line(rule)
}

// shut says what is refused and should not be, where no single thing is to blame.
func (c *comparison) shut(n *cause, f *Finding, about subject, live kernel.Decider, published compile.Decider, passes, undoes string) {
	if n.published.Kind == compile.ByGround { // which the traffic is said by
		published = n.published
	}
	// From the one thing that is to blame to what is said when nothing else fits; the first that
	// holds is said.
	switch {
	case n.emptied():
		f.Sentence = fmt.Sprintf("Chain %s has no rules left while its policy is drop: nothing %s, answers to the host's own "+
			"connections included.", live.Chain.Name, passes)
		f.Hint = c.undo + " puts the rules back"
	case n.others > 0:
		f.Sentence = fmt.Sprintf("%s no longer %s, though %s and others admit it: %d rules stand in the way.", f.Traffic, passes,
			published, n.others+1)
		f.Hint = undoes + "; if it is right, say it in the policy with blocks"
	case live.Rule != nil && c.foreign(n):
		though := ", though " + published.String() + " admits it"
		if about.admitted {
			though = ""
		}
		f.Sentence = fmt.Sprintf("%s no longer %s%s: the rule `%s` stands in the way.", f.Traffic, passes, though, live.Rule.Text)
		f.Hint = undoes + "; to keep it, add a block to the policy"
	case live.Rule != nil && c.stands(n, published.String()):
		f.Sentence = fmt.Sprintf("%s no longer %s, though %s admits it: the rule `%s` now stands before its own.", f.Traffic, passes,
			published, live.Rule.Text)
		f.Hint = c.undo + " puts them in their order"
	case c.changed[line{n.direction, published.String()}] != nil:
		rule := c.changed[line{n.direction, published.String()}].Text.String()
		was := fmt.Sprintf("the rule for %s was changed to `%s`", published, rule)
		if strings.Contains(rule, "@") {
			was = fmt.Sprintf("the rule for %s, or a set it names, was changed: it is now `%s`", published, rule)
		}
		f.Sentence = fmt.Sprintf("%s no longer %s: %s.", f.Traffic, passes, was)
		f.Hint = c.undo + " changes it back"
	case published.Name == fence.PartReplies:
		f.Sentence = fmt.Sprintf("The rule for replies is missing: connections hang, because no answer %s.", passes)
		f.Hint = c.undo + " puts it back"
	default:
		f.Sentence = fmt.Sprintf("%s no longer %s: the rule for %s is missing.", f.Traffic, passes, published)
		f.Hint = c.undo + " puts it back"
	}
}

// stands says that rules of ours for a statement are there, and would take
// packets of a cause if they came to them.
func (c *comparison) stands(n *cause, statement string) bool {
	for r := range c.intended {
		if r.Comment == statement && c.sp.And(r.Match, n.set) != packet.Empty {
			return true
		}
	}
	return false
}
