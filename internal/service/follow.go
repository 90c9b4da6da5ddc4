package service

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"yellowfence.example/yfence/api"
	"yellowfence.example/yfence/core/fleet"
	"yellowfence.example/yfence/internal/store"
	"yellowfence.example/yfence/internal/wave"
)

// Itself is by whom a wave is that nobody began.
const Itself = "the service"

// followLook is how often hosts are looked for that are behind by what came by itself.
const followLook = 3 * time.Second

// Follow begins waves, until ctx ends, for hosts that are behind by nothing but what came by
// itself: addresses of dynamic interfaces, instances that come, go or change. Whatever a
// person published waits for a person's wave. Any number of services may do it at once.
func (s *Service) Follow(ctx context.Context) {
	ctx = store.For(ctx, store.Work)
	var looked int64 // the pair that nothing more is to be done for
	for {
		select {
		case <-ctx.Done():
			return
		case <-time.After(s.followEvery()):
		}
		if s.set().Stay { // which may be another at each look
			continue
		}
		err := s.guarded(func() (err error) { looked, err = s.followOn(ctx, looked); return err })
		if err != nil && ctx.Err() == nil {
			s.Log.Error("looking for hosts that follow", "error", err)
		}
	}
}

// followEvery is how often is looked for what other services have published.
func (s *Service) followEvery() time.Duration {
	if s.FollowEvery != 0 {
		return s.FollowEvery
	}
	return followLook
}

// followOn begins a wave for the hosts that follow the newest pair, if there are any. done is
// the last pair for which none is to be begun any more.
func (s *Service) followOn(ctx context.Context, done int64) (int64, error) {
	m, err := s.newest(ctx)
	if err != nil || m.pair.Number == done || !m.pair.ByItself {
		return done, err
	}
	// One that stopped is not tried again: what made it stop is for a person.
	waves, err := s.Store.Waves(ctx, 0, 50)
	if err != nil {
		return done, err
	}
	for _, w := range waves {
		if w.By == Itself && w.Revision == m.pair.Revision && w.Generation == m.pair.Generation && w.State == api.WaveStopped {
			return m.pair.Number, nil
		}
	}
	k, err := s.knownAll(ctx)
	if err != nil {
		return done, err
	}
	w := api.Wave{Revision: m.pair.Revision, Generation: m.pair.Generation, By: Itself, State: api.WaveRunning, Step: 1,
		Within: keepWithin.String(), Hosts: []api.WaveHost{}}
	follows, err := s.following(ctx, m, k)
	if err != nil || len(follows) == 0 {
		return done, err
	}
	hosts := make([]*fleet.Host, 0, len(follows))
	for _, h := range m.fleet.Hosts {
		if follows[h] != nil {
			hosts = append(hosts, h)
		}
	}
	steps, err := wave.Steps(hosts, nil)
	if err != nil {
		return done, err
	}
	w = wave.LayOut(w, steps, func(h *fleet.Host) []api.WaveHost { return follows[h] })
	if w.Why, err = s.cameItself(ctx, m, k, hosts); err != nil {
		return done, err
	}
	var taken *store.Taken
	if w, err = s.Store.NewWave(ctx, w); errors.As(err, &taken) {
		return done, nil // a wave is at one of them; it is looked again when that is over
	}
	if err == nil {
		s.Log.Info("hosts follow what came by itself", "wave", w.Number, "hosts", len(hosts), "why", w.Why)
	}
	return done, err
}

// following are the hosts that follow, each with what of it does: its own filter, its
// instance's groups.
func (s *Service) following(ctx context.Context, m *model, k known) (map[*fleet.Host][]api.WaveHost, error) {
	out := map[*fleet.Host][]api.WaveHost{}
	itself := map[int64]bool{} // by the pair that was asked for
	follows := func(asked int64) (yes bool, err error) {
		if asked == 0 || asked == m.pair.Number {
			return false, nil
		}
		yes, known := itself[asked]
		if !known {
			if yes, err = s.Store.Itself(ctx, asked, m.pair.Number); err == nil {
				itself[asked] = yes
			}
		}
		return yes, err
	}
	ctx = patient(ctx, ends(readerWaits))
	for _, h := range m.fleet.Hosts {
		due := api.WaveHost{Name: h.Name, Pair: m.pair.Number, Phase: api.HostDue}
		if yes, err := follows(k.heard[h.Name].Pair); err != nil {
			return nil, err
		} else if yes && h.Dialect != fleet.NoFilter && s.attends(k.attending[h.Name]) {
			res, err := s.status(ctx, m, h, k.heard[h.Name], k.attending[h.Name])
			if err != nil {
				return nil, err
			}
			if res.State == api.Behind {
				// Where nobody could show that the way in is open it would only go back.
				if ways, err := s.waysIn(ctx, due, k.attending); err != nil {
					return nil, err
				} else if len(ways.In) > 0 {
					out[h] = append(out[h], due)
				}
			}
		}
		if !s.connected(h) {
			continue
		}
		if yes, err := follows(k.heard[atCloud(h)].Pair); err != nil {
			return nil, err
		} else if yes {
			res, err := s.groups(ctx, m, h, k)
			if err != nil {
				return nil, err
			}
			if res.State == api.Behind {
				due.Cloud = h.Instance.Cloud
				out[h] = append(out[h], due)
			}
		}
	}
	return out, nil
}

// cameItself says what came by itself since some hosts were last asked, the newest first.
func (s *Service) cameItself(ctx context.Context, m *model, k known, hosts []*fleet.Host) (string, error) {
	// From the oldest pair that any of these hosts has, to the newest.
	oldest := m.pair.Number
	for _, h := range hosts {
		for _, asked := range []int64{k.heard[h.Name].Pair, k.lastHeard(h).Pair} {
			if asked != 0 {
				oldest = min(oldest, asked)
			}
		}
	}
	const most = 3
	between, err := s.Store.PairsBetween(ctx, oldest, m.pair.Number+1, most+1)
	if err != nil {
		return "", err
	}
	// Each pair in between came for a reason of its own; those that are the same are said once.
	var what []string
	for i, pair := range between {
		var before store.Pair
		if i+1 < len(between) {
			before = between[i+1]
		} else if before, err = s.pair(ctx, oldest); err != nil {
			return "", err
		}
		var why string
		if pair.Revision != before.Revision {
			r, _, err := s.Store.Revision(ctx, pair.Revision)
			if err != nil {
				return "", err
			}
			why = r.Why
		} else if why, err = s.Store.WhyGeneration(ctx, pair.Generation); err != nil {
			return "", err
		}
		what = append(what, why)
	}
	what = slices.Compact(what)
	if len(what) > most {
		what = append(what[:most], "and more")
	}
	return fmt.Sprintf("%.1900s", strings.Join(what, "; ")), nil
}
