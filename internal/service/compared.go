package service

import (
	"context"
	"errors"

	"yellowfence.example/yfence/api"
	"yellowfence.example/yfence/core/compile"
	"yellowfence.example/yfence/core/dialect/forms"
	"yellowfence.example/yfence/core/fleet"
	"yellowfence.example/yfence/core/kernel"
	"yellowfence.example/yfence/core/packet"
	"yellowfence.example/yfence/internal/live"
	"yellowfence.example/yfence/internal/store"
)

// showLive answers what a host has in force, beside what its rules mean.
func (s *Service) showLive(ctx context.Context, in *struct {
	AtTime
	Host string `path:"host"`
}) (*struct{ Body api.LiveRules }, error) {
	if !in.At.IsZero() {
		return s.liveAt(ctx, in.Host, in.At)
	}
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
func (s *Service) liveOf(ctx context.Context, b packet.Budget, m *model, h *fleet.Host, f api.InForce, counts []api.Count, reported bool,
	out *api.LiveRules) error {
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
		out.Chains, out.Sets = live.Chains(rules, counts), live.Sets(f)
		pairOff(sp, out.Chains, rules, out.Published, ours)
	})
	var tangled *packet.TooComplexError
	if errors.As(complex, &tangled) {
		out.Chains, out.Unread = []api.Chain{}, tangled.Error()
		return nil
	}
	return complex
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
