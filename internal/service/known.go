package service

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"yellowfence.example/yfence/api"
	"yellowfence.example/yfence/core/compare"
	"yellowfence.example/yfence/core/fleet"
	"yellowfence.example/yfence/internal/store"
)

// known is what the service was told of hosts and clouds.
type known struct {
	heard     map[string]store.LastReport // by host, and for what clouds say by HOST@CLOUD
	attending map[string]store.AgentStatus
	clouds    map[string]store.CloudState
}

// known reads what is known of a host, or of all if it is nil.
func (s *Service) known(ctx context.Context, h *fleet.Host) (k known, err error) {
	if h == nil {
		return s.knownAll(ctx)
	}
	names, subjects := []string{h.Name}, []string{h.Name}
	if h.Instance != nil {
		subjects = append(subjects, atCloud(h))
	}
	if k.heard, err = s.Store.LastReports(ctx, subjects...); err != nil {
		return k, err
	}
	if k.attending, err = s.Store.AgentStatuses(ctx, names...); err != nil {
		return k, err
	}
	k.clouds, err = s.Store.Clouds(ctx)
	return k, err
}

// atCloud is how what concerns a host's instance is kept apart from what concerns the host.
func atCloud(h *fleet.Host) string {
	return api.Subject{Host: h.Name, Cloud: h.Instance.Cloud}.String()
}

// reporter is under which name is kept what a host has in force: its own, or that of its instance where it has no filter itself.
func reporter(h *fleet.Host) string {
	if h.Dialect == fleet.NoFilter && h.Instance != nil {
		return atCloud(h)
	}
	return h.Name
}

// lastHeard is when a host or, for one without a filter of its own, its cloud was last heard.
func (k known) lastHeard(h *fleet.Host) store.LastReport {
	return k.heard[reporter(h)]
}

// whole is what a host is now, by its own filter and by its instance's groups.
func (s *Service) whole(ctx context.Context, current *model, h *fleet.Host, k known) (res result, err error) {
	if h.Others() {
		return result{State: api.Others, Findings: []compare.Finding{}}, nil
	}
	own, grouped := h.Dialect != fleet.NoFilter, h.Instance != nil && k.clouds[h.Instance.Cloud].Cloud != ""
	if own || !grouped {
		if res, err = s.status(ctx, current, h, k.heard[h.Name], k.attending[h.Name]); err != nil || !grouped {
			return res, err
		}
	}
	groups, err := s.groups(ctx, current, h, k)
	if err != nil || !own {
		return groups, err
	}
	if len(groups.Findings) > 0 {
		res.Findings = append(slices.Clone(res.Findings), groups.Findings...)
	}
	res.Unread = append(slices.Clone(res.Unread), groups.Unread...)
	res.inForce = min(res.inForce, groups.inForce) // the older counts, and none
	if groups.State.Worse(res.State) {
		res.State, res.Why = groups.State, groups.Why
		if res.Why == "" {
			res.Why = "by the groups of " + h.Instance.Cloud
		}
	}
	return res, nil
}

// groups is what a host is by the groups of its instance.
func (s *Service) groups(ctx context.Context, current *model, h *fleet.Host, k known) (res result, err error) {
	at, cloud := atCloud(h), k.clouds[h.Instance.Cloud]
	heard := k.heard[at]
	if res, err = s.status(ctx, current, h, heard, store.AgentStatus{}); err != nil {
		return res, err
	}
	switch why := cloud.Failed[at]; {
	case cloud.Gone[at] > 0:
		res.State, res.Why, res.inForce = api.Silent, fmt.Sprintf("%s has no instance %s", h.Instance.Cloud, h.Instance.ID), 0
		return res, nil
	case res.State == api.InStep:
	case why != "":
		res.State, res.Why = api.Failed, why
	case heard.Pair != 0 && !cloud.Reached[at].Equal(heard.AskedAt):
		res.State, res.Why = api.Waiting, "asked of "+h.Instance.Cloud+", not in force yet"
	}
	if res.State == api.Silent && cloud.Failing != "" {
		res.Why = cloud.Failing
	}
	return res, nil
}

// cloudNotes are how clouds stand, for people.
func (k known) cloudNotes() (out []api.CloudStatus) {
	for _, c := range k.clouds {
		out = append(out, c.CloudStatus)
	}
	slices.SortFunc(out, func(a, b api.CloudStatus) int { return strings.Compare(a.Cloud, b.Cloud) })
	return out
}

// drifts says a host's result as the API does.
func drifts(h *fleet.Host, res result, heard store.LastReport) api.HostDrift {
	if res.Findings == nil {
		res.Findings = []compare.Finding{}
	}
	return api.HostDrift{Host: h.Name, State: res.State, Why: res.Why, TakenAt: timeOf(heard.TakenAt), Findings: res.Findings,
		Unread: res.Unread}
}

// hashOf is the hash of what was heard, as hosts are told it.
func hashOf(h store.LastReport) string { return fmt.Sprintf("%x", h.Dump) }
