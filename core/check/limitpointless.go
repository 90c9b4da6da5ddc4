package check

import (
	"strings"

	"yellowfence.example/yfence/core/compile"
	"yellowfence.example/yfence/core/packet"
	"yellowfence.example/yfence/core/policy"
	"yellowfence.example/yfence/core/source"
)

// limitPointless is exact: of the allows that are freer (compile.Freer) the packets that they
// admit are put together, at each host. One that does it alone is named alone.
var limitPointless = Check{
	Code:     "limit-pointless",
	Severity: source.Warning,
	Doc: `An allow's limit never counts, since freer allows admit all of it.

Of the allows that match a packet the freest decides: one without at most before one
with it, then one that counts each source by itself, then the larger rate. Here freer ones
match wherever this one does. Narrow them, or take the limit away.
`,
	run: func(p *pass) {
		for _, r := range p.rules() {
			if r.AtMost == nil {
				continue
			}
			var freer []*policy.Rule
			for _, o := range p.rules() {
				if o != r && !o.Block && compile.Freer(o, r) {
					freer = append(freer, o)
				}
			}
			by := p.inPlaceOf(r, freer...)
			for _, o := range freer { // one that does it alone is told alone
				if alone := p.inPlaceOf(r, o); alone != nil {
					by = alone
					break
				}
			}
			if by != nil {
				verb := "admits"
				if len(by) > 1 {
					verb = "together admit"
				}
				p.warn(r, "narrow what is freer, or take `at most` away",
					"the limit of the allow %q never counts: %s %s all of it more freely", r.Name, strings.Join(by, " and "), verb)
			}
		}
	},
}

// inPlaceOf names those of some allows that match where a rule's limit counts, if
// together they match all of it; nil where some of it is left to the rule.
func (p *pass) inPlaceOf(r *policy.Rule, freer ...*policy.Rule) (names []string) {
	used := map[*policy.Rule]bool{}
	counts, all := false, true
	p.ends(r, func(plan *compile.Plan, dir packet.Direction, speaks packet.Set) {
		if dir == packet.Outbound { // what goes to hosts of ours is counted there
			speaks = p.sp.Minus(speaks, p.sp.Addrs(packet.Dst, r.To.HostAddrs()))
		}
		left := speaks
		for _, o := range freer {
			if both := p.sp.And(left, p.overridesAll(o, r, plan, dir)); both != packet.Empty {
				left, used[o] = p.sp.Minus(left, both), true
			}
		}
		counts, all = counts || speaks != packet.Empty, all && left == packet.Empty
	})
	if !counts || !all {
		return nil
	}
	for _, o := range freer {
		if used[o] {
			names = append(names, o.Title())
		}
	}
	return names
}

// overridesAll is the packets that an allow matches at an end and admits of all
// that r admits there: what a block refuses that only r is an exception to is not.
func (p *pass) overridesAll(o, r *policy.Rule, plan *compile.Plan, dir packet.Direction) packet.Set {
	s := p.speaks(plan, o, dir)
	for _, b := range r.Over {
		if !o.Overrides(b) {
			s = p.sp.Minus(s, p.speaks(plan, b, dir))
		}
	}
	return s
}
