package service

import (
	"context"
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
	s.leased(ctx, "prune", pruneHeld, pruneEvery, func() error {
		gone, err := s.Store.Prune(ctx, s.set().Keep)
		s.Log.Info("pruned", "rows", gone)
		return err
	})
}
