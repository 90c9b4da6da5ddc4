package traffic

import (
	"cmp"
	"slices"

	"yellowfence.example/yfence/core/compile"
	"yellowfence.example/yfence/core/fence"
	"yellowfence.example/yfence/core/fleet"
	"yellowfence.example/yfence/core/packet"
	"yellowfence.example/yfence/core/policy"
)

// A Connection is connections that were seen: from one end to another, to one port.
type Connection struct {
	Group
	By     string `json:"by,omitempty" doc:"who admits them by the policy that is asked; left out where nothing is filtered there"`
	Place  string `json:"place,omitempty" doc:"where the policy says it"`
	Stated bool   `json:"stated" doc:"a statement of the policy says so, not the stance alone"`
	Both   bool   `json:"both,omitempty" doc:"seen at both ends: where it goes out and where it comes in"`
	Rule   string `json:"rule,omitempty" doc:"where none does: a statement that would"`
}

// Connections are which connections hosts saw from an instant on, the most frequent first. most bounds
// how many are told; the rest is counted. records are by host.
func Connections(b packet.Budget, pol *policy.Policy, records map[string]*Record, since, now int64, most int) (out []*Connection,
	more int) {
	e, all := endsOf(pol), map[string]*Connection{}
	for h, flow := range (span{pol, records, since}).seen() {
		if toService(pol, flow.Flow) {
			continue
		}
		one := &Connection{Group: e.group(h, flow.Flow)}
		if all[one.key()] == nil {
			all[one.key()] = one
		}
		all[one.key()].add(h, flow)
	}
	for _, c := range all {
		out = append(out, c)
	}
	slices.SortFunc(out, func(a, b *Connection) int {
		return cmp.Or(cmp.Compare(b.Times, a.Times), cmp.Compare(b.Last, a.Last), cmp.Compare(a.key(), b.key()))
	})
	// What is seen at both ends is one; more than these cannot come of so many.
	looked := out[:min(len(out), 2*most)]
	j, rest := judgeOf(b.Space(), pol, now), len(out)-len(looked)
	out = nil
	for _, c := range looked {
		every := c.finish(pol)
		by, _, filtered := j.decides(c.host, c.flow, true)
		if filtered {
			c.By, c.Place, c.Stated = by.String(), placeOf(by), by.Kind != compile.ByStance
		}
		if !c.Stated {
			c.Rule = fence.Line(c.rule(every, pol))
		}
		other := slices.IndexFunc(out, func(o *Connection) bool { return c.isOtherEnd(o) })
		if other >= 0 {
			out[other].Both = true
			continue
		}
		out = append(out, c)
	}
	more = rest + max(len(out)-most, 0)
	return out[:min(len(out), most)], more
}

// isOtherEnd says that a statement admits the same at the other end, where more of it was seen.
func (c *Connection) isOtherEnd(o *Connection) bool {
	through := packet.Forward.Word()
	return c.Stated && o.By == c.By && o.From == c.From && o.To == c.To && o.protocol == c.protocol && o.port == c.port &&
		o.Direction != c.Direction && o.Direction != through && c.Direction != through
}

// toService says that a flow is the host agents' own, to the service.
func toService(pol *policy.Policy, f Flow) bool {
	s := pol.Fleet.Service
	return f.Protocol == packet.TCP && f.Port == s.Port && slices.Contains(s.Addresses, f.Dst.Addr())
}

// placeOf is where a decider stands in the policy, "" for the ground and what nobody wrote.
func placeOf(by compile.Decider) string {
	if by.Pos.File == "" {
		return ""
	}
	return by.Pos.String()
}

// A Cut is connections that were seen and that a change of the policy would refuse.
type Cut struct {
	Group
	By    string `json:"by" doc:"who refuses them then"`
	Place string `json:"place,omitempty" doc:"where the policy says it"`
	Was   string `json:"was" doc:"who admits them until then"`
}

// cutOf says who refuses a flow after a change that passed before it; nil where it passes, or did not.
func cutOf(before, after *judge, was, is *fleet.Host, f Flow) *Cut {
	sp := before.sp
	// What a flow leaves open, as its interface, may be anything: it is cut where none passes any more.
	admitted := sp.And(before.fate(was).admitted, before.set(f))
	if admitted == packet.Empty || sp.And(after.fate(is).admitted, admitted) != packet.Empty {
		return nil
	}
	by, _, filtered := after.decides(is, f, false)
	if !filtered {
		return nil
	}
	cut := &Cut{By: by.String(), Place: placeOf(by)}
	if old, _, ok := before.decides(was, f, true); ok {
		cut.Was = old.String()
	}
	return cut
}

// Cuts are the connections seen from an instant on that one policy admits and another refuses, by
// which of its statements, the most frequent first. Of hosts that only one of them has nothing is
// said. records are by host.
func Cuts(b packet.Budget, from, to *policy.Policy, records map[string]*Record, since, now int64) (out []*Cut) {
	sp := b.Space()
	before, after := judgeOf(sp, from, now), judgeOf(sp, to, now)
	e, all, cuts := endsOf(to), map[string]*Cut{}, map[[2]likeness]*Cut{}
	for h, flow := range (span{to, records, since}).seen() {
		was := from.Fleet.Host(h.Name)
		if was == nil {
			continue
		}
		alike := [2]likeness{before.like(was, flow.Flow), after.like(h, flow.Flow)}
		cut, known := cuts[alike]
		if !known {
			cut = cutOf(before, after, was, h, flow.Flow)
			cuts[alike] = cut
		}
		if cut == nil {
			continue
		}
		one := &Cut{Group: e.group(h, flow.Flow), By: cut.By, Place: cut.Place, Was: cut.Was}
		key := one.By + "\n" + one.key()
		if all[key] == nil {
			all[key] = one
		}
		all[key].add(h, flow)
	}
	// What is told of a group is known only once all of it is there.
	for _, c := range all {
		c.finish(to)
		out = append(out, c)
	}
	slices.SortFunc(out, func(a, b *Cut) int {
		return cmp.Or(cmp.Compare(b.Times, a.Times), cmp.Compare(b.Last, a.Last), cmp.Compare(a.By+a.key(), b.By+b.key()))
	})
	return out
}
