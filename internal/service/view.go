package service

import (
	"context"
	"maps"
	"sync"
	"time"

	"yellowfence.example/yfence/internal/store"
)

// view is what is known of all hosts, kept in memory: each reader reads what changed since
// the last one did. What is in it never changes; it is replaced.
type view struct {
	mu    sync.Mutex
	known known
	at    time.Time // of the database, when it was read

	began  stopwatch // when the last reading began, and what came of it
	failed error
}

// knownAll is what is known of all hosts, everything included that was stored before the call.
func (s *Service) knownAll(ctx context.Context) (known, error) {
	v := &s.view
	arrived := begin()
	v.mu.Lock()
	defer v.mu.Unlock()
	if v.began.after(arrived) { // somebody read it while this one waited
		return v.known, v.failed
	}
	v.began = begin()
	v.failed = s.refresh(ctx, v)
	return v.known, v.failed
}

// refresh reads what is new in the database into a view, whose lock is held. What was handed
// out before stays as it was.
func (s *Service) refresh(ctx context.Context, v *view) error {
	d, err := s.Store.Delta(ctx, v.at)
	if err != nil {
		return err
	}
	clouds, err := s.Store.Clouds(ctx)
	if err != nil {
		return err
	}
	k := known{heard: v.known.heard, attending: v.known.attending, clouds: clouds}
	if k.heard == nil {
		k.heard, k.attending = map[string]store.LastReport{}, map[string]store.AgentStatus{}
	}
	if len(d.Reported)+len(d.Asked) > 0 {
		k.heard = maps.Clone(k.heard)
	}
	if len(d.Attending)+len(d.Polled) > 0 {
		k.attending = maps.Clone(k.attending)
	}
	for _, h := range d.Reported {
		now := k.heard[h.Host]
		now.Host, now.TakenAt, now.ReceivedAt, now.Dump = h.Host, h.TakenAt, h.ReceivedAt, h.Dump
		k.heard[h.Host] = now
	}
	for _, h := range d.Asked {
		now := k.heard[h.Host]
		now.Host, now.Pair, now.Previous, now.AskedAt = h.Host, h.Pair, h.Previous, h.AskedAt
		k.heard[h.Host] = now
	}
	maps.Copy(k.attending, d.Attending)
	for name, at := range d.Polled {
		now := k.attending[name]
		now.AskedAt = at
		k.attending[name] = now
	}
	v.known, v.at = k, d.At
	return nil
}
