package check

import (
	"slices"

	"yellowfence.example/yfence/core/compile"
	"yellowfence.example/yfence/core/packet"
	"yellowfence.example/yfence/core/policy"
	"yellowfence.example/yfence/core/source"
)

// covered: another rule does all that this one does.
var covered = Check{
	Code:     "covered",
	Severity: source.Warning,
	Doc: `Another rule does all that this one does, and more.

On every host, whatever this rule matches the other one matches too, and does the
same with it. This one can go, unless it is there for a reason of its own; then say
so with knowingly.
`,
	run: func(p *pass) {
		rules := p.rules()
		for _, r := range rules {
			p.budget.Check()
			for _, other := range rules {
				if r != other && p.covers(other, r) && !p.covers(r, other) {
					p.warn(r, "take it away, or narrow "+other.Title(), "all that the rule %q does is done by %s", r.Name, other.Title())
					break
				}
			}
		}
	},
}

// repeated: two rules do the same under different spellings.
var repeated = Check{
	Code:     "repeated",
	Severity: source.Warning,
	Doc: `Two rules do exactly the same, or one says a service twice.

They may be spelled differently, one by a service's name and one by its port. Taking
one of them away changes nothing, which surprises whoever does it. Keep one.
`,
	run: func(p *pass) {
		rules := p.rules()
		for i, r := range rules {
			p.budget.Check()
			p.saidTwice(r)
			for _, other := range rules[:i] {
				if p.covers(other, r) && p.covers(r, other) {
					p.warn(r, "take one of them away", "the rule %q does exactly what %s does", r.Name, other.Title())
					break
				}
			}
		}
	},
}

// saidTwice warns of a service of a rule that is part of another of the same rule.
func (p *pass) saidTwice(r *policy.Rule) {
	sets := make([]packet.Set, len(r.Decl.Services))
	for i, s := range r.Decl.Services {
		sets[i] = compile.TermsSet(p.sp, p.pol.TermsFor(s))
	}
	for i, s := range r.Decl.Services {
		for k, o := range r.Decl.Services {
			if i != k && sets[i] != packet.Empty && p.sp.Within(sets[i], sets[k]) && (sets[i] != sets[k] || i > k) {
				p.warn(r, "take it away", "the rule %q names %s, which is part of %s already", r.Name, s.Text, o.Text)
				return
			}
		}
	}
}

// covers says that b does wherever a is rendered all that a does. A rule that
// says something no dialect writes yet covers nothing and is not covered, and
// one with a limit is looked at by itself.
func (p *pass) covers(b, a *policy.Rule) bool {
	logged := a.Log == nil || b.Log != nil && b.Log.UpTo == nil
	if !logged || a.AtMost != nil || b.AtMost != nil || a.Guard {
		return false
	}
	return p.matchesAll(b, a)
}

// matchesAll says that two rules do the same wherever a matches, log and limit
// aside: that there b matches too, and is an exception to as many blocks.
func (p *pass) matchesAll(b, a *policy.Rule) bool {
	if a.Block != b.Block || a.Verdict != b.Verdict {
		return false
	}
	if !names(b.To, a.To) || !names(b.From, a.From) {
		return false
	}
	// No host has more of a than its wide set, and one without segments has just that.
	if wa, wb := p.wide(a), p.wide(b); !segmented(b) &&
		(len(a.To.Hosts) > 0 && !p.sp.Within(wa[0], wb[0]) || len(a.From.Hosts) > 0 && !p.sp.Within(wa[1], wb[1])) && !segmented(a) {
		return false
	}
	for _, o := range a.Over {
		if !slices.Contains(b.Over, o) {
			return false
		}
	}
	matches, all := false, true
	p.ends(a, func(plan *compile.Plan, dir packet.Direction, speaks packet.Set) {
		matches = matches || speaks != packet.Empty
		all = all && p.sp.Within(speaks, p.speaks(plan, b, dir))
	})
	return matches && all
}

// names says that side b names every host that side a does.
func names(b, a policy.Side) bool {
	if len(b.Hosts) < len(a.Hosts) {
		return false
	}
	for _, h := range a.Hosts {
		if !b.Names(h) {
			return false
		}
	}
	return true
}
