package service

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"github.com/danielgtaylor/huma/v2"

	"yellowfence.example/yfence/api"
	"yellowfence.example/yfence/core/dialect/group"
	"yellowfence.example/yfence/internal/store"
)

// mostListed is how many groups, and how many instances, of a cloud are kept to be shown.
const mostListed = 20_000

// listingOf is what a cloud has, in the order in which it is shown.
func listingOf(doc *group.Document) (l api.CloudListing) {
	l = api.CloudListing{HasGroups: []api.CloudGroup{}, HasInstances: []api.CloudInstance{}}
	members := map[string]int{}
	for _, m := range doc.Members {
		for _, name := range m.Groups {
			members[name]++
		}
		l.HasInstances = append(l.HasInstances, api.CloudInstance{ID: m.Instance, Groups: append([]string{}, m.Groups...)})
	}
	for _, g := range doc.Groups {
		l.HasGroups = append(l.HasGroups, api.CloudGroup{Name: g.Name, Ours: strings.HasPrefix(g.Name, group.Prefix),
			Inbound:  len(g.Inbound),
			Outbound: len(g.Outbound), Members: members[g.Name]})
	}
	slices.SortFunc(l.HasGroups, func(a, b api.CloudGroup) int {
		if a.Ours != b.Ours {
			return map[bool]int{true: -1, false: 1}[a.Ours]
		}
		return strings.Compare(a.Name, b.Name)
	})
	slices.SortFunc(l.HasInstances, func(a, b api.CloudInstance) int { return strings.Compare(a.ID, b.ID) })
	l.More = max(len(l.HasGroups)-mostListed, 0) + max(len(l.HasInstances)-mostListed, 0)
	l.HasGroups, l.HasInstances = l.HasGroups[:min(len(l.HasGroups), mostListed)], l.HasInstances[:min(len(l.HasInstances), mostListed)]
	return l
}

// showCloud answers how one cloud stands, with its groups and who is in them.
func (s *Service) showCloud(ctx context.Context, in *struct {
	Cloud string `path:"cloud" maxLength:"63"`
}) (*struct{ Body api.Cloud }, error) {
	states, err := s.Store.Clouds(ctx)
	if err != nil {
		return nil, s.broken("reading the cloud", err)
	}
	st, there := states[in.Cloud]
	if !there {
		return nil, huma.Error404NotFound(fmt.Sprintf("no cloud is named %q; GET /fleet lists them", in.Cloud))
	}
	out := api.Cloud{Version: api.Version, CloudStatus: st.CloudStatus, Limits: st.Abilities}
	if out.CloudListing, err = s.Store.CloudListing(ctx, in.Cloud); errors.Is(err, store.ErrNotFound) {
		out.CloudListing = listingOf(&group.Document{}) // it was never read
	} else if err != nil {
		return nil, s.broken("reading the cloud", err)
	}
	m, err := s.newest(ctx)
	if err != nil {
		return nil, s.broken("reading the cloud", err)
	}
	heard, err := s.cloudHeard(ctx, CloudAccount{Name: in.Cloud})
	if err != nil {
		return nil, s.broken("reading the cloud", err)
	}
	hosts, revisions := m.instances(in.Cloud), map[int64]int64{}
	for i := range out.HasInstances {
		one := &out.HasInstances[i]
		h := hosts[one.ID]
		if h == nil {
			continue
		}
		one.Host = h.Name
		at := atCloud(h)
		last := heard[at]
		if last.Pair == 0 {
			continue
		}
		if _, known := revisions[last.Pair]; !known {
			asked, err := s.modelOf(ctx, last.Pair)
			if err != nil {
				return nil, s.broken("reading the cloud", err)
			}
			revisions[last.Pair] = asked.pair.Revision
		}
		one.Asked, one.Failed = revisions[last.Pair], st.Failed[at]
		one.InForce = one.Failed == "" && st.Reached[at].Equal(last.AskedAt)
	}
	slices.SortStableFunc(out.HasInstances, func(a, b api.CloudInstance) int { // what asks for a look comes first
		return cmp.Compare(map[bool]int{false: 0, true: 1}[a.InForce], map[bool]int{false: 0, true: 1}[b.InForce])
	})
	return &struct{ Body api.Cloud }{out}, nil
}
