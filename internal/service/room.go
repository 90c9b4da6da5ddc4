package service

import (
	"cmp"
	"context"
	"fmt"
	"maps"
	"slices"

	"yellowfence.example/yfence/core/check"
	"yellowfence.example/yfence/core/dialect/group"
	"yellowfence.example/yfence/core/fleet"
	"yellowfence.example/yfence/core/packet"
	"yellowfence.example/yfence/core/policy"
	"yellowfence.example/yfence/core/source"
)

// cloudLimits warns of instances whose groups a cloud cannot hold by a policy, and of those whose
// groups leave no room to change them all at once.
func (s *Service) cloudLimits(ctx context.Context, files []check.Source, fl *fleet.Fleet) (problems []source.Problem, err error) {
	states, err := s.Store.Clouds(ctx)
	if err != nil || len(s.Clouds) == 0 {
		return nil, err
	}
	var pol *policy.Policy
	err = s.computed(ctx, s.computing, "laying out groups", func(b packet.Budget) (err error) {
		pol, _, err = check.PolicyWithin(b, files, fl, s.Clock().Unix())
		return err
	})
	if err != nil || pol == nil {
		return nil, err
	}
	at := source.Pos{Line: 1, Column: 1}
	if len(files) > 0 {
		at.File = files[0].Name
	}
	warn := func(who []string, what, hint string) {
		slices.Sort(who)
		some := who[0]
		if len(who) > 1 {
			some = fmt.Sprintf("%s and %d more", who[0], len(who)-1)
		}
		problems = append(problems, source.Warningf(at, 1, "cloud-limits", "instances in a cloud: %s: %s", some, what).Hinted("%s", hint))
	}
	for _, c := range s.Clouds {
		can := states[c.Name].Abilities
		if states[c.Name].ReadAt == nil {
			continue // nobody knows yet what it can hold
		}
		can.GroupPeers = false // see groupsOf
		doc, _, failed := group.OfFleet(pol, c.Name, s.Clock().Unix(), can)
		cannot, tight := map[string][]string{}, map[int][]string{}
		for host, why := range failed {
			cannot[why.Error()] = append(cannot[why.Error()], host)
		}
		for _, m := range doc.Members {
			if n := len(m.Groups); can.GroupsPerInstance > 0 && 2*n > can.GroupsPerInstance {
				h := slices.IndexFunc(fl.Hosts, func(h *fleet.Host) bool {
					return h.Instance != nil && h.Instance.Cloud == c.Name && h.Instance.ID == m.Instance
				})
				tight[n] = append(tight[n], fl.Hosts[h].Name)
			}
		}
		for _, why := range slices.Sorted(maps.Keys(cannot)) {
			warn(cannot[why], why, "a wave leaves the instance as it is; fewer or wider rules take fewer groups")
		}
		for _, n := range slices.SortedFunc(maps.Keys(tight), func(a, b int) int { return cmp.Compare(b, a) }) {
			warn(tight[n], fmt.Sprintf("%d of the %d groups that cloud %s lets an instance be in are taken: there is no room for old and "+
				"new ones at once", n, can.GroupsPerInstance, c.Name),
				"they change by and by, and not at all where that would leave a gap; fewer or wider rules take fewer groups")
		}
	}
	return problems, nil
}
