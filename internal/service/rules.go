package service

import (
	"context"
	"errors"
	"fmt"

	"github.com/danielgtaylor/huma/v2"

	"yellowfence.example/yfence/api"
	"yellowfence.example/yfence/core/compile"
	"yellowfence.example/yfence/core/dialect"
	"yellowfence.example/yfence/core/dialect/forms"
	"yellowfence.example/yfence/core/dialect/group"
	"yellowfence.example/yfence/core/fleet"
	"yellowfence.example/yfence/core/kernel"
	"yellowfence.example/yfence/core/packet"
	"yellowfence.example/yfence/internal/limits"
	"yellowfence.example/yfence/internal/live"
	"yellowfence.example/yfence/internal/store"
)

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
	r := api.Rules{Version: api.Version, Host: h.Name, Revision: m.pair.Revision, Generation: m.pair.Generation, Pair: m.pair.Number,
		Dialect: h.Dialect, Kind: kind, OwnConsole: h.OwnConsole,
		Files: files, Text: api.TextOf(files), Chains: published(plan, rs)}
	r.Sign(key)
	return &struct{ Body api.Rules }{r}, nil
}

// written are the rules of a plan as files, and as what they are where they are in force: of
// a host without a filter of its own they are its instance's groups, as its cloud takes them.
func (s *Service) written(ctx context.Context, sp *packet.Space, m *model, h *fleet.Host, plan *compile.Plan,
	kind string) ([]dialect.File, *kernel.Ruleset, error) {
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
	out := live.Chains(rs, nil)
	for i := range out {
		for j := range out[i].Rules {
			r := &out[i].Rules[j]
			r.At = at[r.By]
		}
	}
	return out
}

// rulesInput names a host's rules.
type rulesInput struct {
	Host string `path:"host"`
	Kind string `query:"kind" enum:"ground,pause" doc:"apply only the ground and the guards, or what admits everything for a while"`
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

// showRules answers the rules of a host, without asking it for anything.
func (s *Service) showRules(ctx context.Context, in *rulesInput) (*struct{ Body api.Rules }, error) {
	m, h, err := s.modelFor(ctx, in)
	if err != nil {
		return nil, err
	}
	return s.rulesOf(ctx, m, h, in.Kind)
}
