package service

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"sync"
	"time"

	"yellowfence.example/yfence/core/dialect/group"
	"yellowfence.example/yfence/core/dialect/nft"

	"golang.org/x/sync/singleflight"

	"yellowfence.example/yfence/core/ask"
	"yellowfence.example/yfence/core/check"
	"yellowfence.example/yfence/core/compare"
	"yellowfence.example/yfence/core/fence"
	"yellowfence.example/yfence/core/fleet"
	"yellowfence.example/yfence/core/packet"
	"yellowfence.example/yfence/core/policy"
	"yellowfence.example/yfence/internal/api"
	"yellowfence.example/yfence/internal/limits"
	"yellowfence.example/yfence/internal/live"
	"yellowfence.example/yfence/internal/store"
)

// model is a published pair, ready to compute with. What it says never changes.
type model struct {
	pair   store.Pair
	fleet  *fleet.Fleet
	policy *policy.Policy
	asker  func() *ask.Asker     // made when somebody asks
	names  func() *compare.Names // made when something is to be said
	byName map[string]*fleet.Host

	grouping sync.Mutex
	grouped  *grouped // nil before a cloud is looked at

	watching sync.Mutex
	watched  *compare.Watch // nil before a report is judged
	lags     map[int64]*lag // by the pair that was asked for
}

// lag is how hosts are behind that were last asked for an earlier pair than a model's.
type lag struct {
	since []*model // that pair's and those after it, up to the model's own
	told  *compare.Lag
}

// host is a host of the fleet by its name; nil if there is none.
func (m *model) host(name string) *fleet.Host { return m.byName[name] }

// answer is what becomes of one connection; nil where that cannot be told, or takes too much.
func (m *model) answer(q *fence.Question, now int64) *ask.Answer {
	over := time.Now().Add(limits.AskTime)
	answer, problems, err := m.asker().PolicyWithin(packet.Budget{Edges: limits.Cases, Halt: func() error {
		if time.Now().After(over) {
			return errTooLong
		}
		return nil
	}}, q, now)
	if problems != nil || err != nil {
		return nil
	}
	return answer
}

// watch tells which hosts are in step at an instant.
func (m *model) watch(now int64) *compare.Watch {
	m.watching.Lock()
	defer m.watching.Unlock()
	if m.watched == nil || !m.watched.Good(now) {
		m.watched = compare.NewWatch(m.policy, now, live.Bound)
	}
	return m.watched
}

// historyOf are the models from the pair that was asked for to m, oldest first; of those
// between, the newest few.
func (s *Service) historyOf(ctx context.Context, m *model, asked int64) ([]*model, error) {
	m.watching.Lock()
	known := m.lags[asked]
	m.watching.Unlock()
	if known != nil {
		return known.since, nil
	}
	first, err := s.modelOf(ctx, asked)
	if err != nil {
		return nil, err
	}
	between, err := s.Store.PairsBetween(ctx, asked, m.pair.Number, mostBetween)
	if err != nil {
		return nil, err
	}
	since := []*model{m}
	for _, pair := range between {
		one, err := s.model(ctx, pair)
		if err != nil {
			return nil, err
		}
		since = append(since, one)
	}
	since = append(since, first)
	slices.Reverse(since)
	m.watching.Lock()
	defer m.watching.Unlock()
	if len(m.lags) >= keptLags {
		clear(m.lags)
	}
	if m.lags == nil {
		m.lags = map[int64]*lag{}
	}
	if m.lags[asked] == nil {
		m.lags[asked] = &lag{since: since}
	}
	return m.lags[asked].since, nil
}

const (
	mostBetween = 6 // pairs that are looked at to tell with which of them something came
	keptLags    = 4 // pairs that hosts are told to be behind of at once
)

// lag tells how hosts are behind that have what since begins with, at an instant.
func (m *model) lag(since []*model, now int64) *compare.Lag {
	m.watching.Lock()
	defer m.watching.Unlock()
	l := m.lags[since[0].pair.Number]
	if l == nil {
		l = &lag{since: since}
	}
	if l.told == nil || !l.told.Good(now) {
		var eras []compare.Era
		for _, one := range since {
			eras = append(eras, compare.Era{Policy: one.policy, Revision: one.pair.Revision, Generation: one.pair.Generation})
		}
		l.told = compare.NewLag(eras, m.names(), now, live.Bound)
	}
	return l.told
}

// modelCache keeps the last few models. They are made of what is stored, so
// forgetting one costs time only.
type modelCache struct {
	making singleflight.Group

	mu     sync.Mutex
	models map[int64]*model
	order  []int64
}

const keptModels = 2 * (mostBetween + 2)

func (s *Service) model(ctx context.Context, pair store.Pair) (*model, error) {
	c := &s.models
	if m := c.get(pair.Number); m != nil {
		return m, nil
	}
	if pair.Number == 0 {
		return s.load(ctx, pair)
	}
	// It is made once for all who want it, and for those who come when the first has left.
	made := c.making.DoChan(fmt.Sprint(pair.Number), func() (any, error) {
		ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), loadTime)
		defer cancel()
		m, err := s.load(ctx, pair)
		if err == nil {
			c.put(m)
		}
		return m, err
	})
	select {
	case r := <-made:
		m, _ := r.Val.(*model)
		return m, r.Err
	case <-ctx.Done():
		return nil, ctx.Err()
	}
}

// loadTime is how long reading and resolving a pair may take.
const loadTime = 30 * time.Second

// get is a model that is kept; nil if it is not.
func (c *modelCache) get(number int64) *model {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.models[number]
}

func (c *modelCache) put(m *model) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.models[m.pair.Number] = m
	if c.order = append(c.order, m.pair.Number); len(c.order) > keptModels {
		delete(c.models, c.order[0])
		c.order = c.order[1:]
	}
}

// load reads what a pair is of.
func (s *Service) load(ctx context.Context, pair store.Pair) (*model, error) {
	m := &model{pair: pair, fleet: &fleet.Fleet{}}
	if pair.Generation != 0 {
		text, err := s.fleetFile(ctx, pair.Generation)
		if err != nil {
			return nil, err
		}
		m.fleet, _ = fleet.Read(text.Name, []byte(text.Text))
	}
	m.byName = m.fleet.Index()
	in := policy.Input{Fleet: m.fleet}
	if pair.Revision != 0 {
		sources, err := s.files(ctx, pair.Revision)
		if err != nil {
			return nil, err
		}
		in, _ = policy.Read(sources, m.fleet)
	}
	m.policy, _ = policy.Resolve(in) // it was checked when it was published
	m.names = sync.OnceValue(func() *compare.Names { return compare.NamesOf(m.policy) })
	m.asker = sync.OnceValue(func() *ask.Asker { return ask.NewAsker(m.policy) })
	return m, nil
}

// newest is the model of the pair in force.
func (s *Service) newest(ctx context.Context) (*model, error) {
	pair, err := s.Store.Newest(ctx)
	if err != nil {
		return nil, err
	}
	return s.model(ctx, pair)
}

// files are the policy files of a revision.
func (s *Service) files(ctx context.Context, revision int64) (files []check.Source, err error) {
	_, h, err := s.Store.Revision(ctx, revision)
	if err != nil {
		return nil, err
	}
	return files, s.content(ctx, h, &files)
}

// fleetFile is the file of a generation of the fleet.
func (s *Service) fleetFile(ctx context.Context, generation int64) (file check.Source, err error) {
	h, err := s.Store.Generation(ctx, generation)
	if err != nil {
		return file, err
	}
	return file, s.content(ctx, h, &file)
}

func (s *Service) content(ctx context.Context, h store.Hash, into any) error {
	body, err := s.Store.Content(ctx, h)
	if err != nil {
		return err
	}
	return json.Unmarshal(body, into)
}

// engine is the number of the way results are worked out. It goes up whenever
// the same dump may get another result; older results are then made anew.
const engine = 9

// result is what holding a dump against a pair gives, as it is stored.
type result struct {
	Engine   int               `json:"engine"`
	Until    int64             `json:"until,omitempty"` // the second since 1970 at which it may be another; 0 is never
	State    api.State         `json:"state"`
	Why      string            `json:"-"` // it is paused, went back or failed
	Findings []compare.Finding `json:"findings"`
	Unread   []string          `json:"unread,omitempty"`
	AsAsked  bool              `json:"as_asked,omitempty"` // in force is what was last asked for
	pending  bool              // it is not made yet
	quick    bool              // it is made again in less time than it takes to store it
	inForce  int64             // the revision that is in force there; 0 is none, or not known
}

// good says that a result was worked out as it would be now.
func (r result) good(now int64) bool { return r.Engine == engine && (r.Until == 0 || now < r.Until) }

// differences counts the findings that mean something, and those that do not.
func (r result) differences() (real, cosmetic int) {
	for _, f := range r.Findings {
		if f.Kind == compare.Cosmetic {
			cosmetic++
		} else {
			real++
		}
	}
	return real, cosmetic
}

// inForce is a report's content as it is stored.
func (s *Service) inForce(ctx context.Context, dump store.Hash) (f api.InForce, err error) {
	body, err := s.Store.Content(ctx, dump)
	if err != nil {
		return f, err
	}
	if len(body) > 0 && body[0] == '[' { // from before hosts told names
		return f, json.Unmarshal(body, &f.Dumps)
	}
	return f, json.Unmarshal(body, &f)
}

// stored is the result of a comparison as it is stored.
func (s *Service) stored(ctx context.Context, of judged) (res result, err error) {
	body, err := s.Store.Findings(ctx, of.host, of.dump, of.pair, of.asked)
	if err != nil {
		return res, err
	}
	return res, json.Unmarshal(body, &res)
}

func (s *Service) putResult(ctx context.Context, of judged, res result) error {
	body, err := json.Marshal(res)
	if err != nil {
		return err
	}
	return s.Store.PutFindings(ctx, of.host, of.dump, of.pair, of.asked, body)
}

// hold holds what a host has in force against the last of some models, and gives up at a
// time. The first is what the host was last asked for, if there are more than one.
func hold(since []*model, h *fleet.Host, f api.InForce, now int64, over time.Time) (res result) {
	m := since[len(since)-1]
	quick := func(r result) result {
		r.quick = true
		return r
	}
	as := func(r *compare.Result) result {
		if r.Findings == nil {
			r.Findings = []compare.Finding{}
		}
		return result{Engine: engine, Until: r.Until, State: api.State(r.State()), Findings: r.Findings, Unread: r.Unread, AsAsked: r.AsAsked}
	}
	if dumps := nft.Relevant(f.Dumps); len(dumps) == 1 && dumps[0].Kind != group.Listing {
		if r, ok := m.watch(now).InStep(h, []byte(dumps[0].Text), f.Names); ok {
			return quick(as(r))
		}
		if asked := since[0].host(h.Name); len(since) > 1 {
			if was, ok := since[0].watch(now).InStep(asked, []byte(dumps[0].Text), f.Names); ok {
				if r, ok := m.lag(since, now).Of(h.Name); ok {
					if was.Until != 0 && (r.Until == 0 || was.Until < r.Until) {
						r.Until = was.Until
					}
					return quick(as(r))
				}
			}
		}
	}
	var stages []live.Stage
	for _, one := range since {
		if then := one.host(h.Name); then != nil {
			stages = append(stages, live.Stage{Policy: one.policy, Host: then, Revision: one.pair.Revision, Generation: one.pair.Generation})
		}
	}
	r, err := live.Drift(stages, m.names(), now, f, over)
	if err != nil {
		r = &compare.Result{Unread: []string{err.Error()}}
	}
	return as(r)
}

// overdue is how long after its time for the keep a host may take to say that it went back.
const overdue = time.Minute

// status is what a host is now, held against what is published, by current.
func (s *Service) status(ctx context.Context, current *model, h *fleet.Host, heard store.LastReport, a store.AgentStatus) (res result, err error) {
	res = result{State: api.New, Findings: []compare.Finding{}}
	if heard.ReceivedAt.IsZero() || current.pair.Number == 0 {
		return res, nil
	}
	asked := heard.Pair
	if asked == 0 {
		asked = current.pair.Number
	}
	if res, err = s.judge(ctx, current, h, heard.Dump, asked); err != nil {
		return res, err
	}
	has, before := asked, false // the pair that is in force there, if one is
	if heard.Previous != 0 && (res.State == api.Drifted || res.State == api.Behind && !res.AsAsked) {
		was, err := s.judge(ctx, current, h, heard.Dump, heard.Previous)
		if err != nil || was.pending {
			return was, err
		}
		if before = was.State == api.Behind && was.AsAsked; before { // it has what it was asked for before, and nobody changed that
			was.State = api.Drifted
			res, has = was, heard.Previous
		}
	}
	switch {
	case res.State == api.InStep:
		res.inForce = current.pair.Revision
	case res.State == api.Behind && res.AsAsked || before:
		pair, err := s.pair(ctx, has)
		if err != nil {
			return res, err
		}
		res.inForce = pair.Revision
	}
	boot := a.Around.Boot
	if a.ToldAt.After(heard.ReceivedAt) || a.Change != nil && a.Change.Phase == api.InForceYet {
		boot = nil // what was said of it is about before, or nothing is kept yet
	}
	found, err := s.bootFindings(ctx, current, h, boot, has, res.Findings)
	if err != nil {
		return res, err
	}
	found = append(missingInterfaces(h, a.Around.Interfaces), found...)
	if found != nil {
		res.Findings = append(found, res.Findings...)
		if res.State == api.InStep || res.State == api.Behind {
			res.State = api.Drifted
		}
	}
	change := a.Change
	if change == nil {
		change = &api.HostChange{}
	}
	ours := a.Pair == asked && change.Kind == "settle" // it is about what the host was asked for
	switch {
	case s.Clock().Sub(heard.ReceivedAt) > 3*s.ReportEvery:
		res.State = api.Silent
	case change.Kind == "pause" && change.Phase == api.InForceYet:
		res.State, res.Why = api.Paused, fmt.Sprintf("until %s: %s", change.Until.UTC().Format(time.DateTime), change.Why)
		if s.Clock().Sub(change.Until) > overdue {
			res.Why += "; that is over, and the host has not said yet what became of it"
		}
	case ours && change.Phase == api.InForceYet:
		res.State, res.Why = api.Waiting, "it is in force, and waits for its keep"
		if s.Clock().Sub(change.Until) > overdue {
			res.Why = fmt.Sprintf("its time for the keep ended at %s, and the host has not said yet what became of it", change.Until.UTC().Format(time.DateTime))
		}
	case res.State == api.InStep:
	case ours && (change.Phase == api.WentBack || change.Phase == api.GoingBack):
		res.State, res.Why = api.WentBackState, change.Why
	case a.Pair == asked && a.Failed != "":
		res.State, res.Why = api.Failed, a.Failed
	case res.State != api.Drifted:
	case before || heard.AskedAt.After(heard.ReceivedAt):
		res.State = api.Waiting
	}
	return res, nil
}

// pair is the pair with a number. What it is of never changes.
func (s *Service) pair(ctx context.Context, number int64) (store.Pair, error) {
	if known, ok := s.pairs.Load(number); ok {
		return known.(store.Pair), nil
	}
	pair, err := s.Store.Pair(ctx, number)
	if err == nil {
		s.pairs.Store(number, pair)
	}
	return pair, err
}

// modelOf is the model of the pair with a number.
func (s *Service) modelOf(ctx context.Context, number int64) (*model, error) {
	pair, err := s.pair(ctx, number)
	if err != nil {
		return nil, err
	}
	return s.model(ctx, pair)
}
