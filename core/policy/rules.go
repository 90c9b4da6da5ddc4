package policy

import (
	"fmt"
	"strings"

	"go4.org/netipx"

	"yellowfence.example/yfence/core/fence"
	"yellowfence.example/yfence/core/fleet"
	"yellowfence.example/yfence/core/packet"
	"yellowfence.example/yfence/core/source"
)

// rules makes the rules in the order of the files. Allows that name blocks (`over`) are joined
// with them at the end, when all are known.
func (r *resolver) rules() {
	byName := map[string]*Rule{}
	for _, d := range r.ruleOrder {
		r.budget.Check()
		rule := &Rule{Name: d.Name, Block: d.Block, Log: logOf(d.Log), AtMost: atMostOf(d.AtMost), IPsec: d.Encrypted, Guard: d.Guard,
			Off: d.Off != nil, Pos: d.Pos, Decl: d, Verdict: packet.Admit,
			Terms: r.serviceTerms(d.Services)}
		if d.Block {
			rule.Verdict = refusal(d.By)
		}
		rule.Services = textOf(d.Services)
		// Who is meant at either end, and where; within several peers the rule is a pair of sides for each.
		rule.On, rule.Arriving = r.segments(d.On), r.segments(d.Arriving)
		rule.Within = fence.Peers{Items: d.Within}.String()
		rule.From, rule.To, rule.Spans = r.spans(d.From, d.To, d.Within, rule.On)
		// When it counts. A rule that never would is a mistake and not an empty rule.
		if d.Until != nil {
			rule.Until, _ = d.Until.Instant()
		}
		if d.Since != nil {
			if rule.Since, _ = d.Since.Begins(); rule.Until != 0 && rule.Since >= rule.Until {
				r.errorf(fence.Ident{Name: d.Until.Text, Pos: d.Until.Pos}, "date", "the rule %q ends before it begins",
					d.Name).Hint = "it begins on " + d.Since.Text + "; give it a later end"
			}
		}
		if rule.Trial = trial(d.Trial); rule.Trial != nil && rule.Until != 0 && rule.Trial.Until >= rule.Until {
			r.errorf(fence.Ident{Name: "on", Pos: d.Trial.Pos}, "date", "the block %q ends before its trial does",
				d.Name).Hint = "it ends with " + d.Until.Text + "; give it a later end, or a shorter trial"
		}
		// What only some rules may have, and by which routers the rule is carried out.
		r.guardTakesNo(d)
		r.senders(d, rule)
		r.crossings(rule)
		if !rule.From.Named && !rule.To.Named && d.Through == nil && rule.Routers() == nil {
			r.errorf(d.Declared(), "no-end", "the rule %q names hosts of ours at neither end", d.Name).Hint =
				"name a role, host NAME or fleet on one side, so that there is a host to put the rule on, or a role it goes `through`, " +
					"or join the networks through one"
		}
		byName[d.Name] = rule
		r.pol.Rules = append(r.pol.Rules, rule)
	}
	// A rule may name a block that stands further down.
	r.exceptions(byName)
}

// spans are the parts of what is said between two sides: each within one of some peers, if there
// are any, and on one of some segments. Sides are then no more than what lies in those.
func (r *resolver) spans(from, to fence.Peers, within []fence.Peer, on []*Network) (left, right Side, spans []Span) {
	pairs := []Span{{From: &left, To: &right}}
	if within == nil {
		left, right = r.side(from), r.side(to)
	} else {
		left, right = r.side(in(from, within...)), r.side(in(to, within...))
		left.Text, right.Text = from.String(), to.String()
		pairs = nil
		for _, w := range within {
			a, b := r.side(in(from, w)), r.side(in(to, w))
			pairs = append(pairs, Span{From: &a, To: &b})
		}
	}
	for _, p := range pairs {
		if on == nil {
			spans = append(spans, p)
		}
		for _, seg := range on {
			spans = append(spans, Span{From: p.From, To: p.To, On: seg, OnFrom: r.within(p.From.Addrs, seg),
				OnTo: r.within(p.To.Addrs, seg)})
		}
	}
	return left, right, spans
}

// in is what of a side is of some peers too.
func in(side fence.Peers, within ...fence.Peer) fence.Peers {
	out := fence.Peers{Pos: side.Pos, Except: side.Except}
	for _, w := range within {
		for _, p := range side.Items {
			out.Items = append(out.Items, at(p, w))
		}
	}
	return out
}

// at is a peer as far as it is another's too, behind what it says of that itself.
func at(p, where fence.Peer) fence.Peer {
	if p.At != nil {
		inner := at(*p.At, where)
		p.At = &inner
	} else {
		p.At = &where
	}
	p.Text += " at " + where.Text
	return p
}

// segments are the segments that names mean.
func (r *resolver) segments(names []fence.Ident) (out []*Network) {
	for _, i := range names {
		if n := r.segment(i); n != nil {
			out = append(out, n)
		}
	}
	return out
}

// within is the addresses of a side that are on a segment, worked out once for
// all rules that say both.
func (r *resolver) within(side *netipx.IPSet, on *Network) *netipx.IPSet {
	if side == nil {
		return on.Addrs
	}
	return r.shared(side, on.Addrs)
}

// shared is the addresses in both of two sets, worked out once.
func (r *resolver) shared(a, b *netipx.IPSet) *netipx.IPSet {
	key := [2]*netipx.IPSet{a, b}
	both, known := r.both[key]
	if !known {
		both = packet.Intersection(a, b)
		r.both[key] = both
	}
	return both
}

// textOf is a list of services as it was written.
func textOf(terms []fence.ServiceTerm) string {
	texts := make([]string, len(terms))
	for i, t := range terms {
		texts[i] = t.Text
	}
	return strings.Join(texts, ", ")
}

// guardTakesNo: a guard is sure, so nothing may end or stop it. (One with a limit is none of
// those that a host must be reached by: see Rule.Sure.)
func (r *resolver) guardTakesNo(d *fence.Rule) {
	if !d.Guard {
		return
	}
	for word, pos := range map[string]*source.Pos{"until": untilPos(d.Until), "from": untilPos(d.Since), "off": d.Off} {
		if pos != nil {
			r.errorf(fence.Ident{Name: word, Pos: *pos}, "guard", "a guard takes no %q: the way in must be sure",
				word).Hint = "take it away, or take guard away"
		}
	}
}

// untilPos is where an end stands; nil where there is none.
func untilPos(u *fence.Until) *source.Pos {
	if u == nil {
		return nil
	}
	return &u.Pos
}

// senders takes what a rule says of who sends, and of routers on the way.
func (r *resolver) senders(d *fence.Rule, rule *Rule) {
	for _, s := range d.Senders {
		rule.Senders = append(rule.Senders, Sender{Kind: s.Kind, Names: s.Names})
		if !rule.From.Named {
			r.errorf(fence.Ident{Name: string(s.Kind), Pos: s.Pos}, "sender",
				"only the sending end knows who sends, and %s is no host of ours",
				rule.From.Text).Hint =
				"name a role, host NAME or fleet on the left, or take `from " + string(s.Kind) + "` away"
		}
	}
	if d.Through != nil {
		rule.Through = r.through(d.Through)
		for word, pos := range map[string]*source.Pos{"on": first(d.On), "arriving": first(d.Arriving)} {
			if pos != nil {
				r.errorf(fence.Ident{Name: word, Pos: *pos}, "through",
					"what goes through %s is on more than one segment: it takes no %q", d.Through[0].Name,
					word).Hint = "take one of the two away"
			}
		}
		if d.Encrypted {
			r.errorf(d.Through[0], "through", "what is encrypted from end to end shows a router on its way "+
				"nothing but ESP").Hint = "take `through` away, and allow `protocol 50` through " + d.Through[0].Name
		}
	}
}

// first is where a list of names begins; nil for none.
func first(names []fence.Ident) *source.Pos {
	if len(names) == 0 {
		return nil
	}
	return &names[0].Pos
}

// leave resolves what is set aside.
func (r *resolver) leave(d *fence.Leave) {
	side := r.side(d.Peers)
	l := Leave{Name: d.Name, hosts: map[*fleet.Host]bool{}, Refs: side.Refs, Pos: d.Pos,
		Direction: map[string]packet.Direction{"inbound": packet.Inbound, "outbound": packet.Outbound,
			"forwarded": packet.Forward}[d.Direction]}
	for _, h := range side.Hosts {
		l.hosts[h] = d.Off == nil
	}
	for _, i := range d.Interfaces {
		l.Interfaces = append(l.Interfaces, i.Text)
	}
	r.pol.Leaves = append(r.pol.Leaves, l)
}

// others resolves the statements that are no allow and no block.
func (r *resolver) others() {
	for _, d := range r.roleOrder {
		r.ground(r.roles[d.Name], d.Ground)
	}
	for _, stmt := range r.otherOrder {
		switch d := stmt.(type) {
		case *fence.GroundDecl:
			r.ground(nil, d.Parts)
		case *fence.Redirect:
			r.redirect(d)
		case *fence.Masquerade:
			r.masquerade(d)
		case *fence.Leave:
			r.leave(d)
		case *fence.Expectation:
			r.expectation(d)
		}
	}
	r.leavingBy()
}

// expectation makes an expectation, and tells one that hosts of ours cannot make hold.
func (r *resolver) expectation(d *fence.Expectation) {
	e := &Expectation{Name: d.Name, Kind: d.Kind, Terms: r.serviceTerms(d.Services), Services: textOf(d.Services), Off: d.Off != nil,
		Pos: d.Pos, Decl: d,
		Within: fence.Peers{Items: d.Within}.String(), On: r.segments(d.On), Through: r.through(d.Through), BySteps: d.BySteps != nil}
	e.From, e.To, e.Spans = r.spans(d.From, d.To, d.Within, nil)
	if d.Off != nil && d.Because == "" {
		r.errorf(fence.Ident{Name: "off", Pos: *d.Off}, "expectation-off", "the expectation %q is off and does not say why",
			d.Name).Hint = "say so: because \"…\""
	}
	if !e.From.Named && !e.To.Named && d.Through == nil {
		r.errorf(d.Declared(), "no-end", "the expectation %q names hosts of ours at neither end", d.Name).Hint =
			"name a role, host NAME or fleet on one side, or the routers with `through ROLE`: only hosts of ours can make it hold"
	}
	r.pol.Expects = append(r.pol.Expects, e)
}

// ground notes what is changed of the ground, of one role's or of all, for each direction that
// it is said of.
func (r *resolver) ground(of *Role, parts []fence.GroundPart) {
	for _, p := range parts {
		for _, dir := range []packet.Direction{packet.Inbound, packet.Outbound, packet.Forward} {
			if p.Direction != "" && p.Direction != dir.String() {
				continue
			}
			change := GroundChange{Role: of, Part: p.Name, Direction: dir, Off: p.Off}
			if !p.Off {
				change.From = r.side(p.From).Addrs
			}
			r.pol.Ground = append(r.pol.Ground, change)
		}
	}
}

// exceptions resolves what the allows are exceptions to.
func (r *resolver) exceptions(byName map[string]*Rule) {
	var blocks []string
	for _, rule := range r.pol.Rules {
		if rule.Block {
			blocks = append(blocks, rule.Name)
		}
	}
	for _, d := range r.ruleOrder {
		r.budget.Check()
		for _, i := range d.Over {
			if b := byName[i.Name]; b == nil {
				r.unknown(i, "block", blocks...)
				if d := r.networks[i.Name]; d != nil && d.Segment {
					r.problems[len(r.problems)-1].Hint = fmt.Sprintf("%q is a segment: to admit only what stays on it, write `on %s`",
						i.Name, i.Name)
				}
			} else if !b.Block {
				r.errorf(i, "over", "%q is an allow; an exception is made to a block",
					i.Name).Hint = "name the block that stands in the way"
			} else {
				byName[d.Name].Over = append(byName[d.Name].Over, b)
			}
		}
	}
}
