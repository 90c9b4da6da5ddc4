package service

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"yellowfence.example/yfence/api"
	"yellowfence.example/yfence/core/fleet"
)

// hostInput is a request about one host.
type hostInput struct {
	Host string `path:"host"`
}

// HostsWanted is which hosts of the fleet are wanted. (Its name begins with a capital so that
// the package which reads requests finds its fields where it is part of another.)
type HostsWanted struct {
	State []string `query:"state" maxItems:"20" doc:"in one of these states"`
	Role  string   `query:"role" maxLength:"63" doc:"of this role"`
	Name  string   `query:"name" maxLength:"253" doc:"with this in its name"`
	After string   `query:"after" maxLength:"253" doc:"those that come after this one: what the part before gave as next"`
	Sort  string   `query:"sort" enum:"name,roles,state,in_force,findings,heard" doc:"in this order instead of the fleet file's: the worst state, the most findings, the longest silence first"`
	Turn  bool     `query:"turn" doc:"turn that order round"`
	From  int      `query:"from" minimum:"0" maximum:"1000000" doc:"leave out so many at the beginning, instead of after"`
	Limit int      `query:"limit" minimum:"1" maximum:"1000" default:"1000" doc:"how many at most"`
}

// waits is how long is waited for comparisons: whoever reads on has waited already.
func (in *HostsWanted) waits() time.Duration {
	if in.After != "" {
		return 0
	}
	return readerWaits
}

// standsAt is a host and how it stands.
type standsAt struct {
	h   *fleet.Host
	res result
}

// selected are the hosts of the fleet that are asked for and that the caller may see, in the order that is
// asked for; skip is how many of them are before the part that is.
func (s *Service) selected(ctx context.Context, in *HostsWanted, m *model, k known) (all []standsAt, skip int, err error) {
	if in.After != "" && (in.Sort != "" || in.Turn || in.From > 0) {
		return nil, 0, huma.Error422UnprocessableEntity("after goes by the fleet file's order: with sort, turn or from say how many to " +
			"leave out (from)")
	}
	if in.After != "" && m.host(in.After) == nil {
		return nil, 0, api.NewProblem(api.MovedOn, fmt.Sprintf("%s is no longer in the fleet: it changed meanwhile; begin again", in.After))
	}
	rights := caller(ctx).Rights
	part := api.HasSome(rights, api.Read) && !api.Has(rights, api.Read) // of the fleet is all that may be seen
	skip = in.From
	for _, h := range m.fleet.Hosts {
		if !(part && !api.Covers(rights, api.Read, h.Roles) || in.Role != "" && !slices.Contains(h.Roles, in.Role) ||
			in.Name != "" && !strings.Contains(h.Name, in.Name)) {
			res, err := s.whole(ctx, m, h, k)
			if err != nil {
				return nil, 0, err
			}
			if len(in.State) == 0 || slices.Contains(in.State, string(res.State)) {
				all = append(all, standsAt{h, res})
			}
		}
		if h.Name == in.After {
			skip = len(all)
		}
	}
	if order := orders[in.Sort]; order != nil {
		slices.SortStableFunc(all, func(a, b standsAt) int { return cmp.Or(order(k, a, b), strings.Compare(a.h.Name, b.h.Name)) })
	}
	if in.Turn {
		slices.Reverse(all)
	}
	return all, min(skip, len(all)), nil
}

// orders are those in which hosts can be asked for.
var orders = map[string]func(k known, a, b standsAt) int{
	"name":     func(_ known, a, b standsAt) int { return strings.Compare(a.h.Name, b.h.Name) },
	"roles":    func(_ known, a, b standsAt) int { return slices.Compare(a.h.Roles, b.h.Roles) },
	"state":    func(_ known, a, b standsAt) int { return cmp.Or(byState(a, b), byFindings(a, b)) },
	"in_force": func(_ known, a, b standsAt) int { return cmp.Compare(a.res.inForce, b.res.inForce) },
	"findings": func(_ known, a, b standsAt) int { return cmp.Or(byFindings(a, b), byState(a, b)) },
	"heard": func(k known, a, b standsAt) int {
		return k.lastHeard(a.h).ReceivedAt.Compare(k.lastHeard(b.h).ReceivedAt)
	},
}

// byState has the worst state first.
func byState(a, b standsAt) int {
	switch {
	case a.res.State.Worse(b.res.State):
		return -1
	case b.res.State.Worse(a.res.State):
		return 1
	}
	return 0
}

// byFindings has first whoever has the most, and the most dangerous.
func byFindings(a, b standsAt) int {
	mine, cosmetic := a.res.differences()
	theirs, besides := b.res.differences()
	return cmp.Or(cmp.Compare(theirs, mine), cmp.Compare(besides, cosmetic))
}

// each goes through the hosts that are wanted, with what each is now, and counts them by
// state and by the revision in force there. page is called for those of the part that is wanted; the tally's Next is the last of
// them, if there are more.
func (s *Service) each(ctx context.Context, in *HostsWanted, m *model, k known, page func(h *fleet.Host, res result)) (tally api.Tally,
	err error) {
	all, skip, err := s.selected(ctx, in, m, k)
	if err != nil {
		return tally, err
	}
	tally.Total, tally.Counts = len(all), map[string]int{}
	has := map[int64]int{}
	for _, one := range all {
		tally.Counts[string(one.res.State)]++
		if !one.h.Others() {
			has[one.res.inForce]++
		}
	}
	end := min(skip+in.Limit, len(all))
	for _, one := range all[skip:end] {
		page(one.h, one.res)
	}
	if end < len(all) && end > skip {
		tally.Next = all[end-1].h.Name
	}
	for revision, hosts := range has {
		tally.InForce = append(tally.InForce, api.RevisionInForce{Revision: revision, Hosts: hosts})
	}
	slices.SortFunc(tally.InForce, func(a, b api.RevisionInForce) int { return int(b.Revision - a.Revision) })
	return tally, nil
}

// showFleet answers which hosts there are and how each stands, a page at a time.
func (s *Service) showFleet(ctx context.Context, in *HostsWanted) (*struct{ Body api.Fleet }, error) {
	m, err := s.newest(ctx)
	if err != nil {
		return nil, s.broken("reading the fleet", err)
	}
	k, err := s.known(ctx, nil)
	if err != nil {
		return nil, s.broken("reading the fleet", err)
	}
	ctx = patient(ctx, ends(in.waits()))
	out := api.Fleet{Version: api.Version, Generation: m.pair.Generation, Revision: m.pair.Revision, Policy: m.policy.Name,
		Service: m.fleet.Service, Hosts: []api.HostStatus{}, Clouds: k.cloudNotes()}
	out.Tally, err = s.each(ctx, in, m, k, func(h *fleet.Host, res result) {
		a := k.attending[h.Name]
		status := api.HostStatus{Name: h.Name, Roles: h.Roles, Dialect: h.Dialect, Interfaces: h.Interfaces, State: res.State, Why: res.Why,
			Instance: h.Instance, HeardAt: timeOf(k.lastHeard(h).ReceivedAt), InForce: res.inForce, Change: a.Change,
			Attends: timeOf(a.AskedAt)}
		status.Findings, status.Cosmetic = res.differences()
		if pair, err := s.pair(ctx, k.lastHeard(h).Pair); err == nil { // else it was never asked
			status.Asked = pair.Revision
		}
		if a.Around.Interfaces != nil {
			status.Differs = differs(h, a.Around.Interfaces)
		}
		out.Hosts = append(out.Hosts, status)
	})
	if err != nil {
		return nil, s.told("reading the fleet", err)
	}
	return &struct{ Body api.Fleet }{out}, nil
}

// timeOf is a time, nil for one that never was.
func timeOf(t time.Time) *time.Time {
	if t.IsZero() {
		return nil
	}
	return &t
}

// showDrift answers in what hosts differ from what they are to have: one host, or those that
// differ.
func (s *Service) showDrift(ctx context.Context, in *struct {
	HostsWanted
	AtTime
	Host string `query:"host" maxLength:"253" doc:"one host only"`
}) (*struct{ Body api.Drift }, error) {
	if !in.At.IsZero() {
		if in.Host == "" {
			return nil, huma.Error422UnprocessableEntity("at a time one host is looked at: name it")
		}
		if !api.Has(caller(ctx).Rights, api.Read) { // its roles may have been others then
			return nil, s.forbidden(ctx, caller(ctx), api.Read, "read for the whole fleet")
		}
		d, err := s.driftAt(ctx, in.Host, in.At)
		if err != nil {
			return nil, err
		}
		return &struct{ Body api.Drift }{*d}, nil
	}
	m, err := s.newest(ctx)
	if err != nil {
		return nil, s.broken("reading the drift", err)
	}
	only := m.host(in.Host)
	if in.Host != "" && only == nil {
		return nil, noHost(in.Host)
	}
	k, err := s.known(ctx, only)
	if err != nil {
		return nil, s.broken("reading the drift", err)
	}
	if only != nil {
		if err := s.mayOn(ctx, api.Read, only); err != nil {
			return nil, err
		}
	}
	ctx = patient(ctx, ends(in.waits()))
	out := api.Drift{Version: api.Version, Revision: m.pair.Revision, Hosts: []api.HostDrift{}}
	if only != nil {
		res, err := s.whole(ctx, m, only, k)
		if err != nil {
			return nil, s.broken("reading the drift", err)
		}
		out.Hosts = append(out.Hosts, drifts(only, res, k.lastHeard(only)))
		return &struct{ Body api.Drift }{out}, nil
	}
	out.Clouds = k.cloudNotes()
	out.Tally, err = s.each(ctx, &in.HostsWanted, m, k, func(h *fleet.Host, res result) {
		out.Hosts = append(out.Hosts, drifts(h, res, k.lastHeard(h)))
	})
	if err != nil {
		return nil, s.told("reading the drift", err)
	}
	return &struct{ Body api.Drift }{out}, nil
}

// noHost is the answer about a host that is not in the fleet.
func noHost(name string) error {
	return huma.Error404NotFound(fmt.Sprintf("no host is named %q", name))
}

// host finds a host in the pair in force; something must be published.
func (s *Service) host(ctx context.Context, name string) (*model, *fleet.Host, error) {
	m, err := s.newest(ctx)
	if err != nil {
		return nil, nil, s.broken("reading the fleet", err)
	}
	h := m.host(name)
	if h == nil {
		return nil, nil, noHost(name)
	}
	if m.pair.Number == 0 {
		return nil, nil, nothingPublished()
	}
	return m, h, nil
}

// settle gives a host the rules that it is to put in force, signed, and notes that it was asked
// for them.
func (s *Service) settle(ctx context.Context, in *rulesInput) (*struct{ Body api.Rules }, error) {
	m, h, err := s.modelFor(ctx, in)
	if err != nil {
		return nil, err
	}
	rules, err := s.rulesOf(ctx, m, h, in.Kind)
	if err != nil {
		return nil, err // it is not asked for what cannot be written
	}
	if in.Kind != "pause" {
		if err := s.Store.Ask(ctx, h.Name, m.pair.Number); err != nil {
			return nil, s.broken("asking the host", err)
		}
	}
	return rules, nil
}
