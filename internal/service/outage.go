package service

import (
	"context"
	"sync"
	"time"

	"yellowfence.example/yfence/internal/store"
	"yellowfence.example/yfence/internal/wave"
)

// outage follows when this service could hear hosts.
type outage struct {
	mu         sync.Mutex
	last       wave.Outage
	lookedLast time.Time
}

// frozenFor is how long must pass between two looks that this service was frozen meanwhile.
const frozenFor = 20 * time.Second

// note notes whether the database answered just now.
func (o *outage) note(answered bool, now time.Time) {
	o.mu.Lock()
	defer o.mu.Unlock()
	if answered && !o.lookedLast.IsZero() && now.Sub(o.lookedLast) > frozenFor && !o.last.End.IsZero() {
		o.last.From, o.last.End = o.lookedLast, now
	}
	o.lookedLast = now
	switch {
	case answered && o.last.End.IsZero():
		o.last.End = now
	case !answered && !o.last.End.IsZero():
		o.last.From, o.last.End = now, time.Time{}
	}
}

// began says when the outage began that ended with the service's start.
func (o *outage) began(at time.Time) {
	o.mu.Lock()
	defer o.mu.Unlock()
	if o.last.From.IsZero() {
		o.last.From = at
	}
}

// seen is the outage as far as it is known.
func (o *outage) seen() wave.Outage {
	o.mu.Lock()
	defer o.mu.Unlock()
	return o.last
}

// allAttending is how all hosts attend. It is not to be changed.
func (s *Service) allAttending(ctx context.Context) (map[string]store.AgentStatus, error) {
	k, err := s.knownAll(ctx) // what changed since it was read last
	s.outage.note(err == nil, s.Clock())
	if err != nil {
		return nil, err
	}
	var newest time.Time
	for _, a := range k.attending {
		if a.AskedAt.After(newest) {
			newest = a.AskedAt
		}
	}
	s.outage.began(newest)
	return k.attending, nil
}
