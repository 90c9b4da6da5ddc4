package service

import (
	"context"
	"sync"
	"time"

	"yellowfence.example/yfence/internal/store"
)

// outage is the last time that this service could not hear anybody: the database was away,
// or the service itself was not there or frozen. What hosts did not say then counts against
// none of them.
type outage struct {
	mu         sync.Mutex
	from, end  time.Time // end is zero while it lasts
	lookedLast time.Time
}

// afterOutage is how long hosts may take to be heard again: they ask less and less often
// while nobody answers.
const afterOutage = 150 * time.Second

// frozenFor is how long must pass between two looks that this service was frozen meanwhile.
const frozenFor = 20 * time.Second

// note notes whether the database answered just now.
func (o *outage) note(answered bool, now time.Time) {
	o.mu.Lock()
	defer o.mu.Unlock()
	if answered && !o.lookedLast.IsZero() && now.Sub(o.lookedLast) > frozenFor && !o.end.IsZero() {
		o.from, o.end = o.lookedLast, now
	}
	o.lookedLast = now
	switch {
	case answered && o.end.IsZero():
		o.end = now
	case !answered && !o.end.IsZero():
		o.from, o.end = now, time.Time{}
	}
}

// began says when the outage began that ended with the service's start.
func (o *outage) began(at time.Time) {
	o.mu.Lock()
	defer o.mu.Unlock()
	if o.from.IsZero() {
		o.from = at
	}
}

// excuses says that a host which was last heard at a time need not have been heard since:
// it was there when the outage began, and that ended only just now.
func (o *outage) excuses(heard, now time.Time) bool {
	o.mu.Lock()
	defer o.mu.Unlock()
	return (o.end.IsZero() || now.Sub(o.end) < afterOutage) && !heard.IsZero() && o.from.Sub(heard) < 2*maxWait
}

// since says that there was an outage after a time.
func (o *outage) since(at time.Time) bool {
	o.mu.Lock()
	defer o.mu.Unlock()
	return o.end.IsZero() || o.end.After(at)
}

// heardSince says that a host was heard after the outage.
func (o *outage) heardSince(at time.Time) bool {
	o.mu.Lock()
	defer o.mu.Unlock()
	return !o.end.IsZero() && at.After(o.end)
}

// allAttending is how all hosts attend. It is not to be changed.
func (s *Service) allAttending(ctx context.Context) (map[string]store.AgentStatus, error) {
	k, err := s.knownAll(ctx) // what changed since it was read last
	s.outage.note(err == nil, time.Now())
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
