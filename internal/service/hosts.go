package service

import (
	"context"
	"crypto/sha256"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/conditional"

	"yellowfence.example/yfence/core/compile"
	"yellowfence.example/yfence/core/dialect"
	"yellowfence.example/yfence/core/dialect/forms"
	"yellowfence.example/yfence/core/dialect/group"
	"yellowfence.example/yfence/core/fleet"
	"yellowfence.example/yfence/core/kernel"
	"yellowfence.example/yfence/core/packet"
	"yellowfence.example/yfence/internal/api"
	"yellowfence.example/yfence/internal/limits"
	"yellowfence.example/yfence/internal/live"
	"yellowfence.example/yfence/internal/store"
)

type hostInput struct {
	Host string `path:"host"`
}

// HostsWanted is which hosts of the fleet are wanted. (Its name begins with a capital so that
// the package which reads requests finds its fields where it is part of another.)
type HostsWanted struct {
	conditional.Params
	State []string `query:"state" maxItems:"20" doc:"in one of these states"`
	Role  string   `query:"role" maxLength:"63" doc:"of this role"`
	Name  string   `query:"name" maxLength:"253" doc:"with this in its name"`
	After string   `query:"after" maxLength:"253" doc:"those that come after this one: what the part before gave as next"`
	Limit int      `query:"limit" minimum:"1" maximum:"1000" default:"1000" doc:"how many at most"`
}

// waits is how long is waited for comparisons: whoever reads on has waited already.
func (in *HostsWanted) waits() time.Duration {
	if in.After != "" {
		return 0
	}
	return readerWaits
}

// each goes through the hosts that are wanted, with what each is now, and counts them by
// state and by the revision in force there. page is called for those of the part that is wanted; the tally's Next is the last of
// them, if there are more.
func (s *Service) each(ctx context.Context, in *HostsWanted, m *model, k known, page func(h *fleet.Host, res result)) (tally api.Tally, err error) {
	tally.Counts = map[string]int{}
	has := map[int64]int{}
	if in.After != "" && m.host(in.After) == nil {
		return tally, huma.Error409Conflict(fmt.Sprintf("%s is no longer in the fleet: it changed meanwhile; begin again", in.After))
	}
	given, begun := 0, in.After == ""
	last := ""
	for _, h := range m.fleet.Hosts {
		before := !begun
		begun = begun || h.Name == in.After
		if in.Role != "" && !slices.Contains(h.Roles, in.Role) || in.Name != "" && !strings.Contains(h.Name, in.Name) {
			continue
		}
		res, err := s.whole(ctx, m, h, k)
		if err != nil {
			return tally, err
		}
		if len(in.State) > 0 && !slices.Contains(in.State, string(res.State)) {
			continue
		}
		tally.Counts[string(res.State)]++
		tally.Total++
		if !h.Others() {
			has[res.inForce]++
		}
		switch {
		case before:
		case given == in.Limit:
			tally.Next = last
		default:
			given++
			last = h.Name
			page(h, res)
		}
	}
	for revision, hosts := range has {
		tally.InForce = append(tally.InForce, api.RevisionInForce{Revision: revision, Hosts: hosts})
	}
	slices.SortFunc(tally.InForce, func(a, b api.RevisionInForce) int { return int(b.Revision - a.Revision) })
	return tally, nil
}

// A tagged answer is told by its content: whoever has it already is told that, and no more.
type tagged[T any] struct {
	ETag         string `header:"ETag"`
	CacheControl string `header:"Cache-Control"`
	Body         T
}

func tag[T any](p conditional.Params, body T) (*tagged[T], error) {
	text, err := json.Marshal(body)
	if err != nil {
		return nil, err
	}
	sum := sha256.Sum256(text)
	etag := fmt.Sprintf("%x", sum[:12])
	if p.HasConditionalParams() {
		if err := p.PreconditionFailed(etag, time.Time{}); err != nil {
			return nil, err
		}
	}
	return &tagged[T]{`"` + etag + `"`, "private, no-cache", body}, nil
}

func (s *Service) showFleet(ctx context.Context, in *HostsWanted) (*tagged[api.Fleet], error) {
	m, err := s.newest(ctx)
	if err != nil {
		return nil, s.broken("reading the fleet", err)
	}
	k, err := s.known(ctx, nil)
	if err != nil {
		return nil, s.broken("reading the fleet", err)
	}
	ctx = patient(ctx, time.Now().Add(in.waits()))
	out := api.Fleet{Version: api.Version, Generation: m.pair.Generation, Revision: m.pair.Revision, Policy: m.policy.Name, Service: m.fleet.Service, Hosts: []api.HostStatus{}, Clouds: k.cloudNotes()}
	out.Tally, err = s.each(ctx, in, m, k, func(h *fleet.Host, res result) {
		a := k.attending[h.Name]
		status := api.HostStatus{Name: h.Name, Roles: h.Roles, Dialect: h.Dialect, Interfaces: h.Interfaces, State: res.State, Why: res.Why,
			Instance: h.Instance, HeardAt: timeOf(k.lastHeard(h).ReceivedAt), InForce: res.inForce, Change: a.Change, Attends: timeOf(a.AskedAt)}
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
	return tag(in.Params, out)
}

func timeOf(t time.Time) *time.Time {
	if t.IsZero() {
		return nil
	}
	return &t
}

func (s *Service) showDrift(ctx context.Context, in *struct {
	HostsWanted
	Host string `query:"host" maxLength:"253" doc:"one host only"`
}) (*tagged[api.Drift], error) {
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
	ctx = patient(ctx, time.Now().Add(in.waits()))
	out := api.Drift{Version: api.Version, Revision: m.pair.Revision, Hosts: []api.HostDrift{}}
	if only != nil {
		res, err := s.whole(ctx, m, only, k)
		if err != nil {
			return nil, s.broken("reading the drift", err)
		}
		out.Hosts = append(out.Hosts, drifts(only, res, k.lastHeard(only)))
		return tag(in.Params, out)
	}
	out.Clouds = k.cloudNotes()
	out.Tally, err = s.each(ctx, &in.HostsWanted, m, k, func(h *fleet.Host, res result) {
		out.Hosts = append(out.Hosts, drifts(h, res, k.lastHeard(h)))
	})
	if err != nil {
		return nil, s.told("reading the drift", err)
	}
	return tag(in.Params, out)
}

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
		return nil, nil, huma.Error409Conflict("no policy is published yet")
	}
	return m, h, nil
}

// rulesOf are the rules of a host, signed. The kind is "" for those of the policy.
func (s *Service) rulesOf(ctx context.Context, m *model, h *fleet.Host, kind string) (*struct{ Body api.Rules }, error) {
	pol := m.policy
	if kind == "ground" {
		pol = pol.WaysIn()
	}
	var plan *compile.Plan
	var files []dialect.File
	var rs *kernel.Ruleset
	var err error
	if tangled := packet.Try(func() {
		sp := packet.Budget{Edges: limits.JudgeCases, Halt: ctx.Err}.Space()
		plan = compile.ForHost(sp, pol, h, s.Clock().Unix())
		if kind == "pause" {
			plan = plan.Paused(sp)
		}
		files, rs, err = s.written(ctx, sp, m, h, plan, kind)
	}); tangled != nil {
		err = fmt.Errorf("the rules of %s: %w", h.Name, tangled)
	}
	if err != nil {
		return nil, huma.Error409Conflict(err.Error())
	}
	key, _, err := s.signer(ctx)
	if err != nil {
		return nil, s.broken("signing the rules", err)
	}
	r := api.Rules{Version: api.Version, Host: h.Name, Revision: m.pair.Revision, Generation: m.pair.Generation, Pair: m.pair.Number, Dialect: h.Dialect, Kind: kind, OwnConsole: h.OwnConsole,
		Files: files, Text: api.TextOf(files), Chains: published(plan, rs)}
	r.Sign(key)
	return &struct{ Body api.Rules }{r}, nil
}

// written are the rules of a plan as files, and as what they are where they are in force: of
// a host without a filter of its own they are its instance's groups, as its cloud takes them.
func (s *Service) written(ctx context.Context, sp *packet.Space, m *model, h *fleet.Host, plan *compile.Plan, kind string) ([]dialect.File, *kernel.Ruleset, error) {
	if h.Dialect != fleet.NoFilter {
		form := forms.Of(h)
		files, err := form.Write(sp, plan)
		return files, form.Rules(sp, plan), err
	}
	var doc *group.Document
	clouds, err := s.Store.Clouds(ctx)
	if err != nil {
		return nil, nil, err
	}
	if h.Instance != nil && clouds[h.Instance.Cloud].ReadAt != nil && kind == "" {
		whole, _, failed := s.groupsOf(m, h.Instance.Cloud, clouds[h.Instance.Cloud].Abilities)
		doc, err = whole.Concerning(h.Instance.ID), failed[h.Name]
	} else {
		doc, _, err = group.Alone(sp, plan)
	}
	if err != nil {
		return nil, nil, err
	}
	rs, err := group.Read(sp, h, m.fleet, doc)
	return []dialect.File{{Kind: "group", Text: doc.String()}}, rs, err
}

// published says the rules of a plan, each with the place of what it comes from.
func published(plan *compile.Plan, rs *kernel.Ruleset) []api.Chain {
	at := map[string]string{}
	for _, c := range plan.Chains {
		for _, r := range c.Rules {
			if r.Pos.Line > 0 {
				at[r.Decider.String()] = r.Pos.String()
			}
		}
	}
	out := chains(rs)
	for i := range out {
		for j := range out[i].Rules {
			r := &out[i].Rules[j]
			r.At = at[r.By]
		}
	}
	return out
}

// chains says a ruleset as the API does.
func chains(rs *kernel.Ruleset) []api.Chain {
	out := []api.Chain{}
	for _, c := range rs.Chains {
		chain := api.Chain{Place: c.Place(), Hook: c.Hook, Rules: []api.Rule{}}
		if c.Hook != "" {
			chain.Policy = "accept"
			if c.Policy == packet.Drop {
				chain.Policy = "drop"
			}
		}
		for _, r := range c.Rules {
			chain.Rules = append(chain.Rules, api.Rule{Text: r.Text.String(), By: r.Comment, At: r.At})
		}
		out = append(out, chain)
	}
	return out
}

// rulesInput names a host's rules.
type rulesInput struct {
	Host string `path:"host"`
	Kind string `query:"kind" enum:"ground,pause" doc:"the ground and the ways in alone, or what admits everything for a while"`
	Pair int64  `query:"pair" doc:"of an earlier pair than that in force"`
}

// modelFor is the pair that rules are asked of.
func (s *Service) modelFor(ctx context.Context, in *rulesInput) (*model, *fleet.Host, error) {
	m, h, err := s.host(ctx, in.Host)
	if err != nil || in.Pair == 0 || in.Pair == m.pair.Number {
		return m, h, err
	}
	m, err = s.modelOf(ctx, in.Pair)
	if errors.Is(err, store.ErrNotFound) {
		return nil, nil, huma.Error404NotFound(fmt.Sprintf("there is no pair %d", in.Pair))
	}
	if err != nil {
		return nil, nil, s.broken("reading the pair", err)
	}
	if h = m.host(in.Host); h == nil {
		return nil, nil, huma.Error409Conflict(fmt.Sprintf("%s was not in the fleet of pair %d", in.Host, in.Pair))
	}
	return m, h, nil
}

func (s *Service) showRules(ctx context.Context, in *rulesInput) (*struct{ Body api.Rules }, error) {
	m, h, err := s.modelFor(ctx, in)
	if err != nil {
		return nil, err
	}
	return s.rulesOf(ctx, m, h, in.Kind)
}

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

func (s *Service) showLive(ctx context.Context, in *hostInput) (*struct{ Body api.LiveRules }, error) {
	current, h, err := s.host(ctx, in.Host)
	if err != nil {
		return nil, err
	}
	k, err := s.known(ctx, h)
	if err != nil {
		return nil, s.broken("reading what the host reported", err)
	}
	said, err := s.Store.HostFacts(ctx, in.Host)
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		return nil, s.broken("reading what the host reported", err)
	}
	last := k.lastHeard(h)
	var f api.InForce
	if last.ReceivedAt.IsZero() {
		f = api.InForce{}
	} else if f, err = s.inForce(ctx, last.Dump); err != nil {
		return nil, s.broken("reading what the host reported", err)
	}
	out := api.LiveRules{Version: api.Version, Host: in.Host, TakenAt: timeOf(last.TakenAt), Chains: []api.Chain{}}
	err = s.computed(ctx, s.computing, "reading the host's rules", func(b packet.Budget) error {
		return s.liveOf(ctx, b, current, h, f, said.Counts, !last.ReceivedAt.IsZero(), &out)
	})
	if err != nil {
		return nil, err
	}
	return &struct{ Body api.LiveRules }{out}, nil
}

// liveOf reads a host's rules into out, beside those that are published.
func (s *Service) liveOf(ctx context.Context, b packet.Budget, m *model, h *fleet.Host, f api.InForce, counts []api.Count, reported bool, out *api.LiveRules) error {
	sp := b.Space()
	sp.Since(s.Clock().Unix())
	plan := compile.ForHost(sp, m.policy, h, s.Clock().Unix())
	ours := &kernel.Ruleset{}
	if h.Dialect != fleet.NoFilter {
		ours = forms.Of(h).Rules(sp, plan)
	} else if _, rs, err := s.written(ctx, sp, m, h, plan, ""); err == nil { // else there is nothing to hold them beside
		ours = rs
	}
	out.Published = published(plan, ours)
	if !reported {
		return nil
	}
	complex := packet.Try(func() {
		rules, err := live.ReadOf(sp, h, m.fleet, f)
		if err != nil {
			out.Unread = err.Error()
			return
		}
		out.Chains = chains(rules)
		pairOff(sp, out.Chains, rules, out.Published, ours)
		count(out.Chains, counts)
	})
	var tangled *packet.TooComplexError
	if errors.As(complex, &tangled) {
		out.Chains, out.Unread = []api.Chain{}, tangled.Error()
		return nil
	}
	return complex
}

// count says of rules what their counters stood at.
func count(chains []api.Chain, counts []api.Count) {
	at := map[string]api.Count{}
	for _, c := range counts {
		at[c.At] = c
	}
	for i := range chains {
		for j := range chains[i].Rules {
			r := &chains[i].Rules[j]
			if c, ok := at[r.At]; ok {
				r.Packets = &c.Packets
			}
		}
	}
}

// pairOff marks the rules of two rulesets that stand on both sides, each with one twin.
func pairOff(sp *packet.Space, left []api.Chain, a *kernel.Ruleset, right []api.Chain, b *kernel.Ruleset) {
	type place struct{ chain, rule int }
	waiting := map[string][]place{}
	meanings := b.Meanings(sp)
	for i, c := range b.Chains {
		for j, meaning := range meanings[c] {
			key := c.Place() + " " + meaning
			waiting[key] = append(waiting[key], place{i, j})
		}
	}
	meanings = a.Meanings(sp)
	for i, c := range a.Chains {
		for j, meaning := range meanings[c] {
			key := c.Place() + " " + meaning
			if twins := waiting[key]; len(twins) > 0 {
				left[i].Rules[j].Twin, right[twins[0].chain].Rules[twins[0].rule].Twin = true, true
				waiting[key] = twins[1:]
			}
		}
	}
}

func (s *Service) report(ctx context.Context, in *struct {
	Host string `path:"host"`
	Body api.Report
}) (*struct{ Body api.HostDrift }, error) {
	m, err := s.newest(ctx)
	if err != nil {
		return nil, s.broken("taking the report", err)
	}
	h := m.host(in.Host)
	switch {
	case h == nil:
		return nil, noHost(in.Host)
	case in.Body.Host != in.Host:
		return nil, huma.Error422UnprocessableEntity(fmt.Sprintf("the report is of %q and was sent as %q's", in.Body.Host, in.Host))
	case in.Body.TakenAt.Year() < 2000 || in.Body.TakenAt.Year() > 2200:
		return nil, huma.Error422UnprocessableEntity(fmt.Sprintf("the report says it was taken in the year %d; set the host's clock", in.Body.TakenAt.Year()))
	case len(in.Body.Dumps) == 0 && in.Body.Same == "":
		return nil, huma.Error422UnprocessableEntity("the report holds no dump; a host without rules sends an empty listing, which is not the same")
	}
	believable(in.Body.Around)
	if in.Body.Same != "" {
		err = s.Store.ReportSame(ctx, h.Name, in.Body.TakenAt, in.Body.Same)
		if errors.Is(err, store.ErrNotFound) {
			return nil, huma.Error409Conflict("nothing of that hash was reported; send the dumps")
		}
	} else {
		var dumps []byte
		if dumps, err = json.Marshal(in.Body.InForce); err == nil {
			_, err = s.Store.Report(ctx, h.Name, in.Body.TakenAt, dumps, limits.ReportQuota)
		}
	}
	if errors.Is(err, store.ErrQuota) {
		return nil, huma.ErrorWithHeaders(huma.Error429TooManyRequests(fmt.Sprintf("%s sent reports of more than %d MB within a day, each other than the one before: find out what keeps changing its rules", in.Host, limits.ReportQuota>>20)), http.Header{"Retry-After": {"3600"}})
	}
	if err != nil {
		return nil, s.broken("taking the report", err)
	}
	if err := s.Store.PutHostFacts(ctx, h.Name, in.Body.TakenAt, in.Body.Around, in.Body.Counts); err != nil {
		return nil, s.broken("taking the report", err)
	}
	k, err := s.known(ctx, h)
	if err != nil {
		return nil, s.broken("reading the report", err)
	}
	if m, err = s.follow(ctx, m, h.Name, k.attending[h.Name].Around); err != nil {
		return nil, s.told("following the host's addresses", err)
	}
	if h = m.host(in.Host); h == nil {
		return nil, noHost(in.Host)
	}
	ctx = patient(ctx, time.Now().Add(senderWaits))
	res, err := s.whole(ctx, m, h, k)
	if err != nil {
		return nil, s.broken("reading the report", err)
	}
	said := drifts(h, res, k.heard[h.Name])
	said.TakenAt, said.Hash = timeOf(in.Body.TakenAt), hashOf(k.heard[h.Name])
	return &struct{ Body api.HostDrift }{said}, nil
}
