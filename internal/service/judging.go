package service

import (
	"context"
	"errors"
	"runtime"
	"sync"
	"time"

	"yellowfence.example/yfence/api"
	"yellowfence.example/yfence/core/compare"
	"yellowfence.example/yfence/core/fleet"
	"yellowfence.example/yfence/internal/limits"
	"yellowfence.example/yfence/internal/store"
)

// judging compares what hosts reported with what they are to have. It is work of its own:
// so many comparisons at once, one for a host at a time, each made once for all who wait for
// it. Whoever reads what is known does not wait, or not for long.
type judging struct {
	mu      sync.Mutex
	jobs    map[judged]*job
	queue   []*job          // those that are not begun
	busy    map[string]bool // hosts that one is at work for
	working int

	results map[judged]result // worked out lately
}

// judged is what a comparison is of.
type judged struct {
	host  string
	dump  store.Hash
	pair  int64
	asked int64 // the pair that the host was last asked for; 0 where that is the same
}

// job is one dump to be judged.
type job struct {
	judged
	since []*model // from what it was asked for to what counts
	h     *fleet.Host
	done  chan struct{} // closed when it is
	res   result
	err   error
}

// keptResults is how many results are kept in memory.
const keptResults = 50_000

// beingRead is what a host is whose last report is not compared yet.
func beingRead() result {
	const why = "its last report is being read"
	return result{State: api.Unread, Why: why, Unread: []string{why}, Findings: []compare.Finding{}, pending: true}
}

// patienceKey is what a context keeps by when its caller must have an answer.
type patienceKey struct{}

// patient has whoever reads with the context wait until then for comparisons that are not
// made yet; afterwards hosts are told as being read.
func patient(ctx context.Context, until time.Time) context.Context {
	return context.WithValue(ctx, patienceKey{}, until)
}

// How long is waited for comparisons.
const (
	readerWaits = time.Second      // by whoever reads, for all that he reads
	senderWaits = 20 * time.Second // by a host that reports, for its own
)

// judge gives the result of comparing a dump with a pair, from memory, the store or the
// pool; asked is the pair that the host was last asked for.
func (s *Service) judge(ctx context.Context, m *model, h *fleet.Host, dump store.Hash, asked int64) (res result, err error) {
	j := &s.judging
	since := []*model{m}
	key := judged{host: h.Name, dump: dump, pair: m.pair.Number}
	if asked != m.pair.Number {
		if since, err = s.historyOf(ctx, m, asked); err != nil {
			return res, err
		}
		if since[0].host(h.Name) != nil {
			key.asked = asked
		} else { // it was not in the fleet then
			since = []*model{m}
		}
	}
	now := s.Clock().Unix()
	j.mu.Lock()
	res, known := j.results[key]
	j.mu.Unlock()
	if known && res.good(now) {
		return res, nil
	}
	until, ok := ctx.Value(patienceKey{}).(time.Time)
	if !ok {
		until = ends(limits.JudgeTime)
	}
	if !over(until) { // else what is stored comes to it too
		if res, err = s.stored(ctx, key); err == nil && res.good(now) {
			j.remember(key, res)
			return res, nil
		}
		if err != nil && !errors.Is(err, store.ErrNotFound) {
			return res, err
		}
	}
	one := s.enqueue(&job{judged: key, since: since, h: h})
	if one == nil {
		return beingRead(), nil
	}
	select {
	case <-one.done:
		return one.res, one.err
	default:
	}
	timer := time.NewTimer(left(until))
	defer timer.Stop()
	select {
	case <-one.done:
		return one.res, one.err
	case <-timer.C:
		return beingRead(), nil
	case <-ctx.Done():
		return res, ctx.Err()
	}
}

// remember keeps a result in memory. When there are too many it begins anew: they are in the
// database too.
func (j *judging) remember(key judged, res result) {
	j.mu.Lock()
	defer j.mu.Unlock()
	if len(j.results) >= keptResults {
		clear(j.results)
	}
	j.results[key] = res
}

// enqueue has a comparison made, or joins one of the same. It is nil where too many wait.
func (s *Service) enqueue(one *job) *job {
	j := &s.judging
	j.mu.Lock()
	defer j.mu.Unlock()
	if same := j.jobs[one.judged]; same != nil {
		return same
	}
	if len(j.queue) >= limits.JudgeWait {
		return nil
	}
	one.done = make(chan struct{})
	j.jobs[one.judged] = one
	j.queue = append(j.queue, one)
	if j.working < limits.Judging {
		j.working++
		go s.work()
	}
	return one
}

// next takes the first job of a host that none is at work for; nil if there is none.
func (j *judging) next() *job {
	j.mu.Lock()
	defer j.mu.Unlock()
	for i, one := range j.queue {
		if !j.busy[one.host] {
			j.queue = append(j.queue[:i], j.queue[i+1:]...)
			j.busy[one.host] = true
			return one
		}
	}
	j.working--
	return nil
}

// work makes comparisons until there are none.
func (s *Service) work() {
	j := &s.judging
	for {
		one := j.next()
		if one == nil {
			return
		}
		ctx, cancel := context.WithTimeout(store.For(context.Background(), store.Work), limits.JudgeTime+10*time.Second)
		err := s.guarded(func() (err error) {
			one.res, err = s.compareNow(ctx, one)
			return err
		})
		if errors.Is(err, errPanicked) { // what poisons the work is set aside, and told
			one.res, err = result{Engine: engine, State: api.Unread, Findings: []compare.Finding{},
				Unread: []string{"the report could not be compared: something of ours failed; the service's log says why"}}, nil
		}
		cancel()
		one.err = err
		if err == nil {
			j.remember(one.judged, one.res)
		}
		j.mu.Lock()
		delete(j.jobs, one.judged)
		delete(j.busy, one.host)
		j.mu.Unlock()
		close(one.done)
		runtime.Gosched() // requests first
	}
}

// compareNow makes a comparison and stores its result.
func (s *Service) compareNow(ctx context.Context, one *job) (res result, err error) {
	if res, err = s.stored(ctx, one.judged); err == nil && res.good(s.Clock().Unix()) {
		return res, nil // another service was faster
	}
	f, err := s.inForce(ctx, one.dump)
	if err != nil {
		return res, err
	}
	res = hold(one.since, one.h, f, s.Clock().Unix(), ends(limits.JudgeTime))
	if res.quick {
		return res, nil
	}
	return res, s.putResult(ctx, one.judged, res)
}
