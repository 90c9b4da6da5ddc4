package compare

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"yellowfence.example/yfence/core/compile"
	"yellowfence.example/yfence/core/dialect"
	"yellowfence.example/yfence/core/fence"
	"yellowfence.example/yfence/core/kernel"
	"yellowfence.example/yfence/core/packet"
	"yellowfence.example/yfence/core/policy"
	"yellowfence.example/yfence/core/say"
)

// unasked are chains of ours that are to be gone to from the kernel's own, and are not.
func unasked(form dialect.Form, live *kernel.Ruleset) map[packet.Direction]string {
	out := map[packet.Direction]string{}
	for _, c := range live.Chains {
		way, helper, ok := form.Carries(c)
		if !form.Ours(c) || !ok || helper || c.Hook != "" || len(c.Rules) == 0 {
			continue
		}
		gone := slices.ContainsFunc(live.Chains, func(o *kernel.Chain) bool {
			return o.Family == c.Family && o.Table == c.Table && slices.ContainsFunc(o.Rules, func(r kernel.Rule) bool {
				return slices.ContainsFunc(r.Branches, func(b kernel.Branch) bool { return b.Target == c.Name })
			})
		})
		if !gone {
			out[way] = c.Name
		}
	}
	return out
}

// line is a rule of ours: the way of the packets it is for, and its statement.
type line struct {
	direction packet.Direction
	comment   string
}

// cause is one reason for a difference: a rule that is there, or one that is missing.
type cause struct {
	kind      Kind
	because   Because
	direction packet.Direction
	live      kernel.Decider
	published compile.Decider
	set       packet.Set
	others    int   // how many rules besides do the same
	blame     blame // where one thing does it
	folded    bool  // of several, about packets of no connection
	several   bool  // statements of the policy are not carried out by it
}

// stance says that no statement of the policy decides what is to become of it.
func (n *cause) stance() bool { return n.published.Kind == compile.ByStance }

// emptied says that a whole chain was emptied while its policy is drop.
func (n *cause) emptied() bool {
	return n.live.Chain != nil && n.live.Rule == nil && len(n.live.Chain.Rules) == 0
}

// mostCauses bounds how many rules a kind of difference is put down to one by
// one: where hundreds differ, the host has another policy, and nobody reads them all.
const mostCauses = 25

// does is what is done with packets, and by whom, as a kind of difference asks for it: what is
// altered may be the doing of a rule that admits and refuses nothing.
func (c *comparison) does(kind Kind) (packet.Decision, []kernel.Decider) {
	if kind == Altered {
		return c.altering, c.alteringBy
	}
	return c.done, c.doneBy
}

// collect finds the causes of the differences of a region.
func (c *comparison) collect(kind Kind, because Because, region packet.Set) {
	done, doneBy := c.does(kind)
	for _, direction := range packet.Directions {
		rest := c.sp.And(region, c.sp.Crossing(direction))
		hows := c.sp.Outcomes(c.sp.Only(done, rest))
		if len(hows) > mostCauses { // those that come first count first
			slices.SortFunc(hows, func(a, b packet.Outcome) int { return int(b.By - a.By) })
		}
		for i, how := range hows {
			if i == mostCauses {
				break
			}
			these := hows[i : i+1]
			if i == mostCauses-1 {
				these = hows[i:]
			}
			part := c.sp.And(rest, c.sp.Possible(c.sp.Where(done, func(o packet.Outcome) bool { return slices.Contains(these, o) })))
			if part == packet.Empty {
				continue
			}
			rest = c.sp.Minus(rest, part)
			for _, meant := range c.sp.Outcomes(c.sp.Only(c.meant, part)) {
				set := c.sp.And(part, c.sp.Where(c.meant, func(o packet.Outcome) bool { return o == meant }))
				c.add(&cause{kind: kind, because: because, direction: direction, live: doneBy[how.By-1],
					published: c.meantBy[meant.By-1], set: set, others: len(these) - 1})
			}
		}
	}
}

// recognised is the live rules that stand in our table as we would write them.
func recognised(sp *packet.Space, live, ours *kernel.Ruleset) map[*kernel.Rule]bool {
	key := func(chain *kernel.Chain, meaning, comment string) string {
		return chain.Place() + "\n" + meaning + "\n" + comment
	}
	known := map[string]bool{}
	meanings := ours.Meanings(sp)
	for _, chain := range ours.Chains {
		for i, meaning := range meanings[chain] {
			known[key(chain, meaning, chain.Rules[i].Comment)] = true
		}
	}
	found := map[*kernel.Rule]bool{}
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

// standing is recognised the other way round: the rules of ours that stand in force.
func standing(sp *packet.Space, live, ours *kernel.Ruleset) map[ruleKey]bool {
	found := recognised(sp, ours, live)
	out := map[ruleKey]bool{}
	for _, chain := range ours.Chains {
		for i := range chain.Rules {
			out[ruleKey{chain, i}] = found[&chain.Rules[i]]
		}
	}
	return out
}

// foreign says that a live rule is the cause of what it decides: one that is not
// as we would write it, no filter at all, or a chain that was emptied.
func (c *comparison) foreign(n *cause) bool {
	known := c.intended
	if n.because == Behind {
		known = c.published
	}
	return n.live.Chain == nil || n.emptied() || n.live.Rule != nil && !known[n.live.Rule]
}

// add joins a region to the cause it shares. A rule that should not be there is
// the cause of whatever it decides; else each statement of the policy that is
// not carried out is one.
func (c *comparison) add(n *cause) {
	if c.settledOnce && c.about == packet.All && n.because == Changed && n.others == 0 {
		n.blame = c.blames(c.example(n), n.kind == Altered)
	}
	for _, o := range c.causes {
		if o.kind != n.kind || o.because != n.because || o.direction != n.direction || o.blame.fault != n.blame.fault ||
			o.blame.settles != n.blame.settles {
			continue
		}
		if n.blame.fault != unblamed {
			if o.blame.same(n.blame) {
				o.join(c.sp, n)
				return
			}
			if o.published != n.published || n.blame.fault == extraRule || n.blame.fault == elsewhere {
				continue
			}
		} else if c.foreign(o) != c.foreign(n) {
			continue
		}
		if n.blame.fault == unblamed && c.foreign(n) && c.sameRule(o.live, n.live) || (n.blame.fault != unblamed || !c.foreign(n)) &&
			o.published == n.published {
			o.join(c.sp, n)
			return
		}
	}
	c.causes = append(c.causes, n)
}

// join takes another's packets for its own.
func (n *cause) join(sp *packet.Space, o *cause) {
	n.set = sp.Or(n.set, o.set)
	if n.published == o.published {
		return
	}
	n.several = n.several || n.published.Kind != compile.ByGround && o.published.Kind != compile.ByGround
	if n.published.Kind == compile.ByGround && (o.published.Kind != compile.ByGround || o.published.Name == fence.PartReplies) {
		n.published = o.published // of the ground people would mention answers at most
	}
}

// sameRule says that two deciders are one, or lines of our table that carry out
// the same statement.
func (c *comparison) sameRule(a, b kernel.Decider) bool {
	ours := a.Rule != nil && b.Rule != nil && c.form.Ours(a.Chain) && c.form.Ours(b.Chain)
	return a == b || ours && a.Rule.Comment != "" && a.Rule.Comment == b.Rule.Comment
}

// kindOrder is the order in which findings are told: the most urgent first.
var kindOrder = map[Kind]int{Opened: 0, Shut: 1, Altered: 2, Cosmetic: 3}

// fold makes one cause of those that are about packets of no connection alone, by kind and direction:
// nobody reads several lines of these.
func (c *comparison) fold(causes []*cause) (out []*cause) {
	for _, n := range causes {
		if n.kind != Altered && c.danger(n) < 0 {
			at := slices.IndexFunc(out, func(o *cause) bool {
				return o.kind == n.kind && o.because == n.because && o.direction == n.direction && o.blame.settles == n.blame.settles &&
					c.danger(o) < 0
			})
			if at >= 0 {
				out[at].set, out[at].folded = c.sp.Or(out[at].set, n.set), true
				continue
			}
		}
		out = append(out, n)
	}
	return out
}

// findings says what was collected, the most dangerous first, and what nobody needs to read not
// at all.
func (c *comparison) findings() (out []Finding) {
	for _, cause := range c.fold(c.alike()) {
		if cause.kind == Altered && cause.emptied() {
			continue // how an empty chain refuses what is refused anyway is no news
		}
		f := c.finding(cause)
		f.Danger = c.danger(cause)
		out = append(out, f)
	}
	out = c.bareOnce(out)
	slices.SortStableFunc(out, func(a, b Finding) int {
		return cmp.Or(kindOrder[a.Kind]-kindOrder[b.Kind], -cmp.Compare(a.Because, b.Because), -cmp.Compare(a.Danger, b.Danger))
	})
	return out
}

// wider is more than the bits of what any number of addresses is counted with.
const wider = 1000

// danger orders findings of a kind: what everybody reaches before what some do, log-in, databases and
// management before the rest, among these what more addresses reach, and what belongs to no connection (invalid,
// untracked) last.
func (c *comparison) danger(n *cause) int {
	itself := c.sp.Loopback()
	fresh := c.sp.AndAll(n.set, c.sp.Value(packet.State, packet.New), c.sp.Typical(), c.sp.Not(itself))
	if fresh == packet.Empty {
		if c.sp.And(n.set, c.sp.Values(packet.State, packet.Established, packet.Related)) == packet.Empty {
			return -1
		}
		return 0
	}
	danger := 1
	for _, s := range policy.Sensitive {
		if c.sp.AndAll(fresh, c.sp.Value(packet.Protocol, s.Protocol), c.sp.Value(packet.DstPort, s.Port)) != packet.Empty {
			danger += 2
			break
		}
	}
	peer := c.sp.ProjectOnto(fresh, packet.Family, n.direction.Peer())
	wide := c.sp.Count(peer, packet.Family, n.direction.Peer()).BitLen()
	if c.names.Policy.Strangers != nil && c.sp.And(peer, c.sp.Addrs(n.direction.Peer(), c.names.Policy.Strangers)) != packet.Empty {
		danger += 4
	}
	return danger*wider + wide
}

// bareOnce says once that there is no filter, whichever ways packets go.
func (c *comparison) bareOnce(all []Finding) (out []Finding) {
	first := -1
	for _, f := range all {
		if f.Kind != Opened || f.Live.Rule != noFilter || f.Because != Changed || !strings.HasPrefix(f.Sentence, "No filter") {
			out = append(out, f)
			continue
		}
		if first < 0 {
			first = len(out)
			out = append(out, f)
			continue
		}
		direction, _ := packet.DirectionOf(f.Direction)
		out[first].Sentence = fmt.Sprintf("%s, and %s %s.", strings.TrimSuffix(out[first].Sentence, "."), f.Traffic, say.Passes(direction))
		out[first].Hint = f.Hint
	}
	return out
}

// noFilter is what decides where nothing does.
var noFilter = kernel.Decider{}.Text()

// alike is the causes, those joined that alter what one statement of the policy
// says in one manner: people see one change there, on however many lines.
func (c *comparison) alike() (out []*cause) {
	type change struct {
		because   Because
		direction packet.Direction
		published compile.Decider
		manners   string
	}
	first := map[change]*cause{}
	for _, n := range c.causes {
		if n.kind == Altered {
			key := change{n.because, n.direction, n.published, c.manners(n, c.example(n))}
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
