package service

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"sync"
	"time"

	"golang.org/x/sync/singleflight"

	"yellowfence.example/yfence/core/ask"
	"yellowfence.example/yfence/core/check"
	"yellowfence.example/yfence/core/compare"
	"yellowfence.example/yfence/core/fence"
	"yellowfence.example/yfence/core/fleet"
	"yellowfence.example/yfence/core/packet"
	"yellowfence.example/yfence/core/policy"
	"yellowfence.example/yfence/core/say"
	"yellowfence.example/yfence/internal/limits"
	"yellowfence.example/yfence/internal/live"
	"yellowfence.example/yfence/internal/store"
)

// model is a published pair, ready to compute with. What it says never changes.
type model struct {
	pair   store.Pair
	fleet  *fleet.Fleet
	policy *policy.Policy
	asker  func() *ask.Asker // made when somebody asks
	names  func() *say.Names // made when something is to be said
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
	end := ends(limits.AskTime)
	answer, problems, err := m.asker().PolicyWithin(packet.Budget{Edges: limits.Cases, Halt: func() error {
		if over(end) {
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
	if m.watched != nil && m.watched.Good(now) {
		return m.watched
	}
	w := compare.NewWatch(m.policy, now, live.Bound)
	if m.watched == nil || !m.watched.Ahead(now) { // whoever asks about the past does not take away what all others need
		m.watched = w
	}
	return w
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

// How much of the past is looked at.
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

// keptModels is how many pairs are kept worked out: twice as many as one host's answer needs.
const keptModels = 2 * (mostBetween + 2)

// model is a pair, worked out when it is first asked for.
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

// put keeps a model in place of the oldest.
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
	m.names = sync.OnceValue(func() *say.Names { return say.NamesOf(m.policy) })
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

// content reads what is kept under a sum.
func (s *Service) content(ctx context.Context, h store.Hash, into any) error {
	body, err := s.Store.Content(ctx, h)
	if err != nil {
		return err
	}
	return json.Unmarshal(body, into)
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
