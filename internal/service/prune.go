package service

import (
	"context"
	"crypto/rand"
	"time"

	"yellowfence.example/yfence/internal/store"
)

// The times of forgetting.
const (
	pruneEvery = 10 * time.Minute
	pruneHeld  = 30 * time.Minute // that one service prunes, unless it goes on
)

// Prune removes what is no longer needed now and then, until ctx ends. Of several services
// one does it.
func (s *Service) Prune(ctx context.Context) {
	ctx = store.For(ctx, store.Work)
	holder := rand.Text()
	for {
		select {
		case <-ctx.Done():
			return
		case <-time.After(pruneEvery):
		}
		err := s.guarded(func() error {
			mine, err := s.Store.Lease(ctx, "prune", holder, pruneHeld)
			if err != nil || !mine {
				return err
			}
			gone, err := s.Store.Prune(ctx, s.Keep)
			s.Log.Info("pruned", "rows", gone)
			return err
		})
		if err != nil && ctx.Err() == nil {
			s.Log.Error("pruning", "error", err)
		}
	}
}
