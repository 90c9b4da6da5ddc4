package service

import (
	"context"
	"errors"
	"reflect"
	"slices"
	"sync"
	"time"

	"yellowfence.example/yfence/api"
	"yellowfence.example/yfence/internal/store"
	"yellowfence.example/yfence/internal/wave"
)

// Work takes the next steps of all waves that run, until ctx ends. Any number of
// services may do it at once.
func (s *Service) Work(ctx context.Context) {
	ctx = store.For(ctx, store.Work)
	var working sync.Map // numbers of waves that are stepped now
	var all sync.WaitGroup
	defer all.Wait()
	for wait := time.Duration(0); ; {
		select {
		case <-ctx.Done():
			return
		case <-time.After(wait):
		}
		wait = waveNothing
		waves, err := s.Store.RunningWaves(ctx)
		if err != nil {
			if ctx.Err() == nil {
				s.Log.Error("looking for waves", "error", err)
			}
			continue
		}
		for _, w := range waves {
			if w.State != api.WaveRunning {
				continue
			}
			if _, stepping := working.LoadOrStore(w.Number, true); stepping {
				continue
			}
			all.Go(func() {
				defer working.Delete(w.Number)
				s.workWave(ctx, w.Number)
			})
		}
	}
}

// workWave takes the steps of one wave while it runs. No wave waits for another.
func (s *Service) workWave(ctx context.Context, number int64) {
	for {
		running, changed := false, false
		err := s.guarded(func() (err error) {
			if running, changed, err = s.stepWave(ctx, number); err != nil {
				return err
			}
			return s.openOwn(ctx)
		})
		if err != nil && ctx.Err() == nil {
			s.Log.Error("a step of a wave", "wave", number, "error", err)
			if running = !errors.Is(err, errPanicked); !running {
				s.setAside(ctx, number) // it would panic again
			}
		}
		if !running {
			return
		}
		if changed { // the next step may be due already
			continue
		}
		select {
		case <-ctx.Done():
			return
		case <-time.After(waveLook):
		}
	}
}

// setAside stops a wave that cannot be stepped. What is not kept goes back by itself.
func (s *Service) setAside(ctx context.Context, number int64) {
	const why = "something of ours failed; the service's log says why. What is not kept goes back by itself"
	_, err := s.Store.StepWave(ctx, number, nil, changeTries, func(w api.Wave) (api.Wave, wave.Commands, error) {
		return wave.SetAside(w, why, s.Clock()), wave.Commands{}, nil
	})
	if err != nil {
		s.Log.Error("stopping a wave", "wave", number, "error", err)
	}
}

// stepWave takes the next step of a wave, and says whether it runs still and whether anything
// changed. Where another service took the step meanwhile, that counts.
func (s *Service) stepWave(ctx context.Context, number int64) (running, changed bool, err error) {
	key, _, err := s.signer(ctx)
	if err != nil {
		return true, false, err
	}
	w, err := s.Store.StepWave(ctx, number, key, 1, func(w api.Wave) (api.Wave, wave.Commands, error) {
		seen, err := s.observe(ctx, w, wave.NeedsOf(w))
		if err != nil {
			return w, wave.Commands{}, err
		}
		next, todo := wave.Next(w, seen, s.Clock())
		changed = !reflect.DeepEqual(next, w)
		return next, todo, nil
	})
	if errors.Is(err, store.ErrConflict) {
		return true, false, nil
	}
	return err != nil || w.State == api.WaveRunning, changed && err == nil, err
}

// observe finds out what the next step of a wave needs to know.
func (s *Service) observe(ctx context.Context, w api.Wave, needs wave.Needs) (seen wave.Observed, err error) {
	statuses, err := s.allAttending(ctx)
	if err != nil {
		return seen, err
	}
	// Only what the machine asked for is read: a wave of thousands of hosts is stepped often.
	seen = wave.Observed{Agents: map[string]wave.Agent{}, Ways: map[string]wave.Ways{}, Instances: map[string]wave.Instance{},
		Sources: map[int]wave.Verdict{}, Number: store.NewTaskNumber, Outage: s.outage.seen()}
	for _, h := range w.Hosts {
		a := statuses[h.Name]
		seen.Agents[h.Name] = wave.Agent{AskedAt: a.AskedAt, Pair: a.Pair, Change: a.Change}
	}
	if seen.Tasks, err = s.Store.Tasks(ctx, needs.Tasks); err != nil {
		return seen, err
	}
	if seen.Asked, err = s.asked(ctx, needs.Asked); err != nil {
		return seen, err
	}
	for _, h := range needs.Ways {
		if seen.Ways[h.Subject()], err = s.waysIn(ctx, h, statuses); err != nil {
			return seen, err
		}
	}
	for _, h := range needs.Instances {
		if seen.Instances[h.Subject()], err = s.instance(ctx, h); err != nil {
			return seen, err
		}
	}
	if needs.Trials {
		if seen.Chosen, err = s.choose(ctx, w, statuses); err != nil {
			return seen, err
		}
	}
	// A connection may have come from another address of its host than was meant. What must become of
	// that one is worked out here.
	others := wave.OtherSources(w, seen.Tasks)
	if len(others) == 0 {
		return seen, nil
	}
	m, err := s.modelOf(ctx, wave.PairOf(w))
	if err != nil {
		return seen, err
	}
	for _, i := range others {
		t := w.Trials[i]
		t.Source = seen.Tasks[t.Task].Result.From
		admitted, err := s.admits(ctx, m, t)
		v := wave.Verdict{Admitted: admitted}
		if err != nil {
			v.Unclear = err.Error()
		}
		seen.Sources[i] = v
	}
	return seen, nil
}

// asked is what hosts and instances were last asked to have in force, and before that.
func (s *Service) asked(ctx context.Context, subjects []string) (map[string]wave.Asked, error) {
	out := map[string]wave.Asked{}
	for some := range slices.Chunk(subjects, 500) {
		heard, err := s.Store.LastReports(ctx, some...)
		if err != nil {
			return nil, err
		}
		for subject, last := range heard {
			out[subject] = wave.Asked{Pair: last.Pair, Previous: last.Previous}
		}
	}
	return out, nil
}

// instance is how the instance of a host of a wave stands at its cloud.
func (s *Service) instance(ctx context.Context, h api.WaveHost) (i wave.Instance, err error) {
	m, err := s.modelOf(ctx, h.Pair)
	if err != nil {
		return i, err
	}
	host := m.host(h.Name)
	if host == nil || host.Instance == nil {
		return wave.Instance{Unknown: true}, nil
	}
	k, err := s.known(ctx, host)
	if err != nil {
		return i, err
	}
	res, err := s.groups(ctx, m, host, k)
	at, c := h.Subject(), k.clouds[h.Cloud]
	heard := k.heard[at]
	return wave.Instance{ID: host.Instance.ID, Gone: c.Gone[at] > 0, Failed: c.Failed[at], Failing: c.Failing,
		InForce: res.State == api.InStep && c.Reached[at].Equal(heard.AskedAt) && heard.ReceivedAt.After(heard.AskedAt)}, err
}
