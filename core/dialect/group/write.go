package group

import (
	"cmp"
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"go4.org/netipx"

	"yellowfence.example/yfence/core/compile"
	"yellowfence.example/yfence/core/dialect"
	"yellowfence.example/yfence/core/packet"
)

// Abilities are what a cloud's groups can hold; 0 is without a limit.
type Abilities struct {
	RulesPerGroup     int  `json:"rules_per_group,omitempty" doc:"in each direction"`
	GroupsPerInstance int  `json:"groups_per_instance,omitempty"`
	PeersPerRule      int  `json:"peers_per_rule,omitempty"`
	GroupPeers        bool `json:"group_peers,omitempty" doc:"a peer may be a group"`
	Ordered           bool `json:"ordered,omitempty" doc:"the rules of a group are tried in order, and may refuse"`
}

// Check says what of the abilities no cloud can have.
func (can Abilities) Check() error {
	for name, n := range map[string]int{"rules_per_group": can.RulesPerGroup, "groups_per_instance": can.GroupsPerInstance,
		"peers_per_rule": can.PeersPerRule} {
		if n < 0 {
			return fmt.Errorf("%s is %d; it is 0 where there is no limit, else at least 1", name, n)
		}
	}
	return nil
}

// TooMany is what a cloud's limits do not hold, with the statements that cost most.
type TooMany struct {
	Host      string
	Direction packet.Direction
	Rules     int
	Groups    int // that those take
	Each      int // how many rules a group may hold
	May       int // how many groups an instance may be in
	Costs     []Cost
}

// A Cost is how many rules come from one statement; of a rule that several share, all have it.
type Cost struct {
	Statement string
	Rules     int
}

// Error says what does not fit, and which statements need the most of it.
func (e *TooMany) Error() string {
	var costs []string
	for _, c := range e.Costs {
		costs = append(costs, fmt.Sprintf("%s %d", c.Statement, c.Rules))
	}
	return fmt.Sprintf("its %d %s rules take %d groups of at most %d, and the cloud lets an instance be in %d; most come from %s",
		e.Rules, e.Direction.String(), e.Groups, e.Each, e.May, strings.Join(costs, ", "))
}

// Write gives the groups of the plan's host, of which it is to be in all: as few rules as
// merging gives, laid out by what the cloud can hold. Of a host without a filter of its own
// nothing may be left to one: it is refused then, with a *dialect.Refusal.
func (a *Admitted) Write(sp *packet.Space, name string, can Abilities) ([]Group, error) {
	h := a.Plan.Host
	if h.Dialect == "none" && len(a.Left) > 0 {
		return nil, &dialect.Refusal{Host: h.Name, Dialect: "group", What: a.Left}
	}
	groups := []Group{}
	for _, s := range a.Sides {
		rules := s.rules(sp, can, a.Known)
		parts := split(rules, can.RulesPerGroup)
		if plain := can; can.Ordered && len(parts) > 1 { // what belongs together may leave room that rules without exceptions fill
			plain.Ordered = false
			if others := s.rules(sp, plain, a.Known); len(split(others, can.RulesPerGroup)) < len(parts) {
				rules, parts = others, split(others, can.RulesPerGroup)
			}
		}
		if can.GroupsPerInstance > 0 && len(parts) > can.GroupsPerInstance {
			return nil, &TooMany{h.Name, s.Direction, len(rules), len(parts), can.RulesPerGroup, can.GroupsPerInstance, costs(rules)}
		}
		for n, part := range parts {
			if n == len(groups) {
				groups = append(groups, Group{Name: partOf(name, n+1), Inbound: []Rule{}, Outbound: []Rule{}})
			}
			if s.Direction == packet.Inbound {
				groups[n].Inbound = part
			} else {
				groups[n].Outbound = part
			}
		}
	}
	return groups, nil
}

// split lays rules out in groups of so many at most; 0 is any number. What refuses stays with
// what it is an exception to; in which order such lots stand is all the same, since nobody is
// refused what another rule admits him to. The largest lots are laid first, each where there is
// room for it (first fit decreasing), and then stand in the order of the rules.
func split(rules []Rule, most int) [][]Rule {
	if most == 0 {
		return [][]Rule{append([]Rule{}, rules...)}
	}
	type lot struct{ at, n int }
	var lots []lot
	for at := 0; at < len(rules); {
		n := 1
		if rules[at].Refuses {
			for at+n < len(rules) && (rules[at+n].Refuses && rules[at+n-1].Refuses || !rules[at+n].Refuses) &&
				rules[at+n].Service == rules[at].Service {
				n++
			}
		}
		lots = append(lots, lot{at, n})
		at += n
	}
	slices.SortStableFunc(lots, func(a, b lot) int { return cmp.Compare(b.n, a.n) })
	groups, sizes := [][]lot{nil}, []int{0}
	for _, l := range lots {
		i := slices.IndexFunc(sizes, func(n int) bool { return n+l.n <= most || n == 0 })
		if i < 0 {
			i = len(groups)
			groups, sizes = append(groups, nil), append(sizes, 0)
		}
		groups[i], sizes[i] = append(groups[i], l), sizes[i]+l.n
	}
	parts := make([][]Rule, len(groups))
	for i, laid := range groups {
		slices.SortFunc(laid, func(a, b lot) int { return cmp.Compare(a.at, b.at) })
		parts[i] = []Rule{}
		for _, l := range laid {
			parts[i] = append(parts[i], rules[l.at:l.at+l.n]...)
		}
	}
	return parts
}

// costs counts the rules by the statements in their comments, the most costly first; three of them.
func costs(rules []Rule) (out []Cost) {
	for _, r := range rules {
		for _, s := range strings.Split(r.Comment, ", ") {
			i := slices.IndexFunc(out, func(c Cost) bool { return c.Statement == s })
			if i < 0 {
				i = len(out)
				out = append(out, Cost{Statement: s})
			}
			out[i].Rules++
		}
	}
	slices.SortStableFunc(out, func(a, b Cost) int { return b.Rules - a.Rules })
	return out[:min(len(out), 3)]
}

// peersOf says prefixes, and a known group in place of those that are together just the
// addresses of its members: then whoever comes into it needs no new rule.
func peersOf(prefixes []netip.Prefix, known []Named) (out []Peer) {
	for _, g := range known {
		var within netipx.IPSetBuilder
		rest := slices.DeleteFunc(slices.Clone(prefixes), func(p netip.Prefix) bool {
			if g.Addresses.ContainsPrefix(p) {
				within.AddPrefix(p)
				return true
			}
			return false
		})
		if set, err := within.IPSet(); err == nil && len(rest) < len(prefixes) && set.Equal(g.Addresses) {
			out, prefixes = append(out, Peer{Group: g.Name}), rest
		}
	}
	return append(out, PeersOf(prefixes...)...)
}

// runs are the runs of a dimension's values, in order and without a gap, whose addresses
// are the same, with those.
func (s *Side) runs(sp *packet.Space, d dimension) (runs []packet.Range, sets []*netipx.IPSet) {
	boxes, _ := sp.Boxes(sp.ProjectOnto(sp.And(s.Admitted, d.within), packet.Family, d.field, s.peer), maxBoxes)
	ends := []int{d.field.Limit().Int()}
	for _, b := range boxes {
		for _, r := range b[d.field] {
			if r.Lo.Int() > 0 {
				ends = append(ends, r.Lo.Int()-1)
			}
			ends = append(ends, r.Hi.Int())
		}
	}
	slices.Sort(ends)
	lo := 0
	for _, hi := range slices.Compact(ends) {
		var of netipx.IPSetBuilder
		for _, b := range boxes {
			if b.Allows(d.field, packet.Num(lo)) {
				of.AddSet(b.AddrSet(s.peer))
			}
		}
		set, _ := of.IPSet()
		if n := len(sets); n > 0 && sets[n-1].Equal(set) {
			runs[n-1].Hi = packet.Num(hi)
		} else {
			runs, sets = append(runs, packet.Range{Lo: packet.Num(lo), Hi: packet.Num(hi)}), append(sets, set)
		}
		lo = hi + 1
	}
	return runs, sets
}

// maxBoxes is more than a policy for one host comes to.
const maxBoxes = 1 << 20

// addresses are the peers of a set that goes by nothing else.
func (s *Side) addresses(sp *packet.Space, set packet.Set) *netipx.IPSet {
	var b netipx.IPSetBuilder
	boxes, _ := sp.Boxes(set, maxBoxes)
	for _, box := range boxes {
		b.AddSet(box.AddrSet(s.peer))
	}
	out, _ := b.IPSet()
	return out
}

// statements are what admits packets of a set, as a comment says it; the ground where
// nothing else does.
func (s *Side) statements(sp *packet.Space, set packet.Set) string {
	var names, ground []string
	for _, o := range sp.Outcomes(sp.Only(s.decision, set)) {
		if o.Verdict != packet.Admit || o.By == 0 {
			continue
		}
		by, to := s.deciders[o.By-1], &names
		if by.Kind == compile.ByGround {
			to = &ground
		}
		if name := by.String(); !slices.Contains(*to, name) {
			*to = append(*to, name)
		}
	}
	if names == nil {
		names = ground
	}
	slices.Sort(names)
	return strings.Join(names, ", ")
}
