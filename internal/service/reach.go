package service

import (
	"context"
	"sync"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"yellowfence.example/yfence/api"
	"yellowfence.example/yfence/core/ask"
	"yellowfence.example/yfence/core/packet"
	"yellowfence.example/yfence/core/policy"
)

// keptReaches is how many matrices are kept: two are laid over each other, by several people.
const keptReaches = 8

// reaches are matrices that were worked out lately, by revision and generation of the fleet.
type reaches struct {
	mu   sync.Mutex
	kept map[[2]int64]api.Reach
}

// of is one that is kept and still right at an instant.
func (r *reaches) of(key [2]int64, pol *policy.Policy, now time.Time) (api.Reach, bool) {
	r.mu.Lock()
	defer r.mu.Unlock()
	kept, ok := r.kept[key]
	return kept, ok && pol.SameAt(kept.At.Unix(), now.Unix())
}

// keep keeps one, in the place of others.
func (r *reaches) keep(key [2]int64, one api.Reach) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.kept == nil || len(r.kept) >= keptReaches {
		r.kept = map[[2]int64]api.Reach{}
	}
	r.kept[key] = one
}

// showReach answers which services pass between all roles and networks of a revision.
func (s *Service) showReach(ctx context.Context, in *struct {
	Revision int64     `query:"revision" minimum:"0" doc:"over the newest fleet; 0, or nothing said, is what is published"`
	At       time.Time `query:"at" doc:"instead: what was published then, over the fleet of then"`
}) (*struct{ Body api.Reach }, error) {
	current, err := s.newest(ctx)
	if err != nil {
		return nil, s.broken("working out the reach", err)
	}
	out := api.Reach{Version: api.Version, Revision: in.Revision, At: s.Clock().UTC().Truncate(time.Second)}
	switch {
	case !in.At.IsZero() && in.Revision > 0:
		return nil, huma.Error422UnprocessableEntity("name a revision or an instant (at), not both")
	case !in.At.IsZero():
		if current, err = s.then(ctx, in.At); err != nil {
			return nil, err
		}
		out.At = in.At.UTC().Truncate(time.Second)
	}
	pol, err := s.side(ctx, current, api.Side{Revision: in.Revision})
	if err != nil {
		return nil, err
	}
	if out.Revision == 0 {
		out.Revision = current.pair.Revision
	}
	key := [2]int64{out.Revision, current.pair.Generation}
	if kept, ok := s.reaches.of(key, pol, out.At); ok {
		kept.At = out.At
		return &struct{ Body api.Reach }{kept}, nil
	}
	if err := s.computed(ctx, s.computing, "working out the reach", func(b packet.Budget) error {
		m, err := ask.MatrixOf(b, pol, out.At.Unix())
		if err == nil {
			out.Matrix = *m
		}
		return err
	}); err != nil {
		return nil, err
	}
	s.reaches.keep(key, out)
	return &struct{ Body api.Reach }{out}, nil
}
