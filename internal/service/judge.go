package service

import (
	"context"
	"encoding/json"
	"fmt"
	"time"

	"yellowfence.example/yfence/core/dialect/group"
	"yellowfence.example/yfence/core/dialect/nft"

	"yellowfence.example/yfence/api"
	"yellowfence.example/yfence/core/compare"
	"yellowfence.example/yfence/core/fleet"
	"yellowfence.example/yfence/internal/live"
	"yellowfence.example/yfence/internal/store"
)

// engine is the number of the way results are worked out. It goes up whenever
// the same dump may get another result; older results are then made anew.
const engine = 10

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

// putResult keeps what was found out about a dump, for other services and for a restart.
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
		return result{Engine: engine, Until: r.Until, State: api.State(r.State()), Findings: r.Findings, Unread: r.Unread,
			AsAsked: r.AsAsked}
	}
	// Most hosts are in step, or have what they were last asked for, and their one dump is like others':
	// that is found out without taking anything apart.
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
	// All others are explained, with every pair from the one that was asked for to the newest.
	var stages []live.Stage
	for _, one := range since {
		if then := one.host(h.Name); then != nil {
			stages = append(stages, live.Stage{Policy: one.policy, Host: then, Revision: one.pair.Revision,
				Generation: one.pair.Generation})
		}
	}
	r, err := live.Drift(stages, m.names(), now, f, over)
	// What cannot be read is a result like any other, and is not tried again until something changes.
	if err != nil {
		r = &compare.Result{Unread: []string{err.Error()}}
	}
	return as(r)
}

// overdue is how long after its time for the keep a host may take to say that it went back.
const overdue = time.Minute

// status is what a host is now, held against what is published, by current.
func (s *Service) status(ctx context.Context, current *model, h *fleet.Host, heard store.LastReport, a store.AgentStatus) (res result,
	err error) {
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
	ours := a.Pair == asked && change.Kind == api.ChangeSettle // it is about what the host was asked for
	switch {
	case s.Clock().Sub(heard.ReceivedAt) > 3*s.ReportEvery:
		res.State = api.Silent
	case change.Kind == api.ChangePause && change.Phase == api.InForceYet:
		res.State, res.Why = api.Paused, fmt.Sprintf("until %s: %s", change.Until.UTC().Format(time.DateTime), change.Why)
		if s.Clock().Sub(change.Until) > overdue {
			res.Why += "; that is over, and the host has not said yet what became of it"
		}
	case ours && change.Phase == api.InForceYet:
		res.State, res.Why = api.Waiting, "it is in force, and waits for its keep"
		if s.Clock().Sub(change.Until) > overdue {
			res.Why = fmt.Sprintf("its time for the keep ended at %s, and the host has not said yet what became of it",
				change.Until.UTC().Format(time.DateTime))
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
