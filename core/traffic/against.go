package traffic

import (
	"cmp"
	"slices"

	"yellowfence.example/yfence/core/compile"
	"yellowfence.example/yfence/core/fence"
	"yellowfence.example/yfence/core/packet"
	"yellowfence.example/yfence/core/policy"
)

// A Contradiction is connections that were seen though an expectation says that there are none: of
// hosts that have another policy in force, or of one that is in force no more.
type Contradiction struct {
	Expectation string `json:"expectation" doc:"its name"`
	Place       string `json:"place" doc:"where the policy says it"`
	Group
}

// Against are the connections seen from an instant on that expectations of a policy say there never
// are, in the policy's order. records are by host.
func Against(b packet.Budget, pol *policy.Policy, records map[string]*Record, since, now int64) (out []*Contradiction) {
	e, j := endsOf(pol), judgeOf(b.Space(), pol, now)
	for _, x := range pol.Expects {
		if x.Off || x.BySteps || x.Through != nil || x.Kind == fence.Always {
			continue
		}
		all := map[string]*Contradiction{}
		services := compile.TermsSet(j.sp, x.Terms)
		for h, flow := range (span{pol, records, since}).seen() {
			if !speaks(x, flow.Flow) || j.sp.And(j.set(flow.Flow), services) == packet.Empty {
				continue
			}
			one := &Contradiction{Expectation: x.Name, Place: x.Pos.String(), Group: e.group(h, flow.Flow)}
			if all[one.key()] == nil {
				all[one.key()] = one
			}
			all[one.key()].add(h, flow)
		}
		first := len(out)
		for _, c := range all {
			c.finish(pol)
			out = append(out, c)
		}
		slices.SortFunc(out[first:], func(a, b *Contradiction) int {
			return cmp.Or(cmp.Compare(b.Times, a.Times), cmp.Compare(a.key(), b.key()))
		})
	}
	return out
}

// speaks says that an expectation is against connections between a flow's ends, whatever the service.
func speaks(x *policy.Expectation, f Flow) bool {
	for _, span := range x.Spans {
		from, to := span.From.Addrs.ContainsPrefix(f.Src), span.To.Addrs.ContainsPrefix(f.Dst)
		if to && (x.Kind == fence.Never && from || x.Kind == fence.Only && !span.From.Addrs.OverlapsPrefix(f.Src)) {
			return true
		}
	}
	return false
}
