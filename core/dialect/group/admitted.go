package group

import (
	"fmt"
	"slices"
	"strings"

	"go4.org/netipx"

	"yellowfence.example/yfence/core/compile"
	"yellowfence.example/yfence/core/fleet"
	"yellowfence.example/yfence/core/packet"
)

// A Side is one direction of what an instance's groups are to admit: who may begin what,
// whatever a group cannot tell about it.
type Side struct {
	Direction packet.Direction
	Admitted  packet.Set    // of the fields that a group knows
	asked     packet.Set    // the packets that its groups are asked about
	domain    packet.Set    // those, by the fields that a group knows
	own       *netipx.IPSet // the host's addresses, which are nobody's peers
	peer      packet.Field
	decision  packet.Decision
	deciders  []compile.Decider
}

// Admitted is both sides, and what is left to the host's own filter.
type Admitted struct {
	Plan  *compile.Plan
	Sides []Side
	Known []Named  // groups that may stand for their members' addresses
	Until int64    // the second since 1970 from which they are to admit otherwise; 0 is never
	Left  []string // the statements whose whole meaning no group can say, each with what is left
}

// Named is a group with the addresses of whoever is in it.
type Named struct {
	Name      string
	Addresses *netipx.IPSet
}

// known are the fields that a group knows; with the peer's address.
var known = []packet.Field{packet.Family, packet.Protocol, packet.DstPort, packet.ICMPType, packet.ICMPCode}

// Of is what the groups of a plan's host are to admit: the connections that the plan lets
// somebody begin, by what a group can tell about them. Where the plan goes by more (who
// sends, how often, over which interface) the groups admit what it may admit. No group ends by
// itself: they are to be written anew when a rule does (Until).
func Of(sp *packet.Space, plan *compile.Plan) *Admitted { return of(sp, plan, false) }

// of is Of; where others share the groups, a host's own addresses are peers of theirs.
func of(sp *packet.Space, plan *compile.Plan, shares bool) *Admitted {
	a := &Admitted{Plan: plan}
	d, deciders := plan.Attributed(sp)
	own, now := ownAddresses(plan.Host), packet.All
	if turns := sp.ChangeTimes(d); len(turns) > 0 {
		a.Until, now = turns[0], sp.Before(turns[0])
	}
	names := make([]string, len(plan.Host.Interfaces)) // a packet comes by one of these, and never by loopback
	for i, in := range plan.Host.Interfaces {
		names[i] = in.Name
	}
	for _, dir := range directions {
		side := Side{Direction: dir, own: own, peer: dir.Peer(), deciders: deciders}
		asked := sp.AndAll(sp.WellFormed(), now, sp.Crossing(dir), sp.Value(packet.State, packet.New),
			sp.Value(packet.Fragment, packet.Whole), sp.Interfaces(dir.Interface(), names...), sp.Addrs(dir.Local(), own))
		if shares {
			side.own = &netipx.IPSet{}
		} else {
			asked = sp.Minus(asked, sp.Addrs(dir.Peer(), own)) // what a host says to itself crosses no group
		}
		side.asked, side.decision = asked, sp.Only(d, asked)
		admits := sp.And(asked, sp.Where(d, func(o packet.Outcome) bool { return o.Verdict == packet.Admit }))
		keep := append(slices.Clone(known), dir.Peer())
		side.domain = sp.ProjectOnto(asked, keep...)
		side.Admitted = sp.ProjectOnto(admits, keep...)
		sure := sp.Minus(side.domain, sp.ProjectOnto(sp.Minus(asked, admits), keep...))
		if unsure := sp.Minus(side.Admitted, sure); unsure != packet.Empty {
			a.Left = append(a.Left, left(sp, plan, dir, asked, unsure)...)
		}
		a.Sides = append(a.Sides, side)
	}
	slices.Sort(a.Left)
	a.Left = slices.Compact(a.Left)
	return a
}

// ownAddresses are the addresses that an instance sends from and gets packets for, floating
// ones included: a cloud's groups see either.
func ownAddresses(h *fleet.Host) *netipx.IPSet {
	var b netipx.IPSetBuilder
	for _, at := range slices.Concat(h.Own(), h.Floating) {
		b.Add(at)
	}
	set, _ := b.IPSet()
	return set
}

// beyond is what a group cannot tell, by field.
var beyond = []struct {
	field packet.Field
	says  string
}{{packet.Src, "which of its addresses"}, {packet.Dst, "which of its addresses"}, {packet.InIface, "the interface"},
	{packet.OutIface, "the interface"}, {packet.User, "the user"}, {packet.Group, "the group of users"}, {packet.Unit, "the unit"},
	{packet.Program, "the program"}, {packet.IPsec, "encrypted"}}

// left tells of the statements that bear on packets of which a group is not sure, and by
// what that it cannot tell.
func left(sp *packet.Space, plan *compile.Plan, dir packet.Direction, asked, unsure packet.Set) (out []string) {
	seen := map[compile.Decider]bool{}
	for _, c := range plan.Chains {
		if c.Direction != dir {
			continue
		}
		for _, r := range c.Rules {
			if seen[r.Decider] {
				continue
			}
			seen[r.Decider] = true
			all := r.Match.Set(sp, dir)
			if r.Rule != nil {
				all = plan.RuleSet(sp, r.Rule, dir)
			}
			of := sp.And(asked, all)
			if sp.And(of, unsure) == packet.Empty {
				continue
			}
			var what []string
			for _, b := range beyond {
				if b.field != dir.Peer() && sp.And(asked, sp.Exists(of, b.field)) != of && !slices.Contains(what, b.says) {
					what = append(what, b.says)
				}
			}
			if r.Rule != nil && r.Rule.AtMost != nil {
				what = append(what, "how often")
			}
			if what != nil {
				out = append(out, fmt.Sprintf("%s: %s", r.Decider, strings.Join(what, ", ")))
			}
		}
	}
	return out
}

// Asked is the packets that the groups are asked about, and those of them that they are to admit.
func (a *Admitted) Asked(sp *packet.Space) (asked, admitted packet.Set) {
	for _, s := range a.Sides {
		asked, admitted = sp.Or(asked, s.asked), sp.Or(admitted, sp.And(s.asked, s.Admitted))
	}
	return asked, admitted
}
