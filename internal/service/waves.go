package service

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"yellowfence.example/yfence/api"
	"yellowfence.example/yfence/core/fleet"
	"yellowfence.example/yfence/core/policy"
	"yellowfence.example/yfence/internal/store"
	"yellowfence.example/yfence/internal/wave"
)

// The times of waves.
const (
	keepWithin  = time.Minute // if a wave does not say
	waveLook    = 250 * time.Millisecond
	waveNothing = time.Second // between looks where no wave runs
)

// waveOutput is a wave as an answer.
type waveOutput struct{ Body api.Wave }

// startWave begins to put a pair in force over hosts.
func (s *Service) startWave(ctx context.Context, in *struct{ Body api.WaveRequest }) (*waveOutput, error) {
	req := in.Body
	m, err := s.newest(ctx)
	if err != nil {
		return nil, s.broken("beginning a wave", err)
	}
	if m.pair.Number == 0 {
		return nil, nothingPublished()
	}
	if m, err = s.earlierModel(ctx, m, req.Revision); err != nil {
		return nil, err
	}
	within := keepWithin
	if req.Within != "" {
		if within, err = time.ParseDuration(req.Within); err != nil || within < 5*time.Second || within > 24*time.Hour {
			return nil, huma.Error422UnprocessableEntity(fmt.Sprintf("the time for a keep is from 5s to 24h, not %q", req.Within))
		}
	}
	attending, err := s.allAttending(ctx)
	if err != nil {
		return nil, s.broken("beginning a wave", err)
	}
	hosts, err := s.chosen(m, req.Hosts)
	if err != nil {
		return nil, err
	}
	w := api.Wave{Revision: m.pair.Revision, Generation: m.pair.Generation, By: caller(ctx).Name, Why: req.Why, State: api.WaveRunning,
		Step: 1, PauseBetween: req.PauseBetween, SkipProbes: req.SkipProbes, Force: req.Force, Within: within.String(),
		Hosts: []api.WaveHost{}}
	for _, h := range hosts {
		if err := s.mayOn(ctx, api.Settle, h); err != nil {
			return nil, err
		}
	}
	// Hosts that do not ask for tasks are in the wave by name only, so that nobody thinks they were settled.
	// An instance whose cloud we look after needs no program on the host.
	var there []*fleet.Host
	for _, h := range hosts {
		attends := s.attends(attending[h.Name])
		if attends || s.connected(h) {
			there = append(there, h)
		}
		if !attends && h.Dialect != fleet.NoFilter {
			w.Hosts = append(w.Hosts, api.WaveHost{Name: h.Name, Pair: m.pair.Number, Phase: api.HostAbsent,
				Why: "it does not poll the service: is yfence attend running there?"})
		}
	}
	if len(there) == 0 {
		return nil, api.NewProblem(api.NotAttending, "none of these hosts polls the service: is yfence attend running there?")
	}
	steps, err := wave.Steps(there, req.Sizes)
	if err != nil {
		return nil, huma.Error422UnprocessableEntity(err.Error())
	}
	// A host with both filters is in its step twice: its own filter, and its groups.
	w = wave.LayOut(w, steps, func(h *fleet.Host) (of []api.WaveHost) {
		due := api.WaveHost{Name: h.Name, Pair: m.pair.Number, Phase: api.HostDue}
		if h.Dialect != fleet.NoFilter && s.attends(attending[h.Name]) {
			of = append(of, due)
		}
		if s.connected(h) {
			due.Cloud = h.Instance.Cloud
			of = append(of, due)
		}
		return of
	})
	if req.Plan {
		w.State = api.WavePlanned
		return &waveOutput{w}, nil
	}
	return s.beginWave(ctx, w)
}

// earlierModel is a revision with the newest fleet that it was published with; 0 is the one that is published.
func (s *Service) earlierModel(ctx context.Context, m *model, revision int64) (*model, error) {
	if revision == 0 || revision == m.pair.Revision {
		return m, nil
	}
	pair, err := s.Store.PairOf(ctx, revision)
	if errors.Is(err, store.ErrNotFound) {
		return nil, huma.Error404NotFound(fmt.Sprintf("there is no revision %d", revision))
	}
	if err == nil {
		m, err = s.model(ctx, pair)
	}
	if err != nil {
		return nil, s.broken("beginning a wave", err)
	}
	return m, nil
}

// beginWave stores a new wave, if no other has one of its hosts.
func (s *Service) beginWave(ctx context.Context, w api.Wave) (*waveOutput, error) {
	w, err := s.Store.NewWave(ctx, w)
	var taken *store.Taken
	if errors.As(err, &taken) {
		return nil, huma.Error409Conflict(fmt.Sprintf("%s; wait for it, or stop it first", taken))
	}
	if err != nil {
		return nil, s.broken("beginning a wave", err)
	}
	return &waveOutput{w}, nil
}

// chosen are the hosts that names of hosts and roles stand for; all, if there are none.
func (s *Service) chosen(m *model, names []string) (hosts []*fleet.Host, err error) {
	for _, name := range names {
		if m.host(name) == nil && !slices.ContainsFunc(m.policy.Roles, func(r *policy.Role) bool { return r.Name == name }) {
			return nil, huma.Error404NotFound(fmt.Sprintf("no host and no role is named %q", name))
		}
	}
	for _, h := range m.fleet.Hosts {
		if (h.Dialect != fleet.NoFilter || s.connected(h)) &&
			(len(names) == 0 || slices.Contains(names, h.Name) ||
				slices.ContainsFunc(h.Roles, func(r string) bool { return slices.Contains(names, r) })) {
			hosts = append(hosts, h)
		}
	}
	if len(hosts) == 0 {
		return nil, huma.Error409Conflict("there is no host to settle")
	}
	return hosts, nil
}

// listWaves answers which waves there are, the newest first.
func (s *Service) listWaves(ctx context.Context, in *PageInput) (*struct{ Body api.Waves }, error) {
	waves, err := s.Store.Waves(ctx, in.Before, in.Limit)
	if err != nil {
		return nil, s.broken("reading the waves", err)
	}
	out := api.Waves{Version: api.Version, Waves: waves}
	if len(waves) == in.Limit {
		out.Next = waves[len(waves)-1].Number
	}
	return &struct{ Body api.Waves }{out}, nil
}

// waveInput is a request about one wave.
type waveInput struct {
	Number int64 `path:"number"`
}

// showWave answers a wave with its hosts, trials and reasons.
func (s *Service) showWave(ctx context.Context, in *waveInput) (*waveOutput, error) {
	w, err := s.Store.Wave(ctx, in.Number)
	if errors.Is(err, store.ErrNotFound) {
		return nil, noWave(in.Number)
	} else if err != nil {
		return nil, s.broken("reading the wave", err)
	}
	return &waveOutput{w}, nil
}

// noWave is the answer about a wave that there is not.
func noWave(number int64) error {
	return huma.Error404NotFound(fmt.Sprintf("there is no wave %d", number))
}

// tellWaves says in a wave that has stopped already why one of its hosts went back.
func (s *Service) tellWaves(ctx context.Context, host string, c *api.HostChange) error {
	if c == nil || c.Phase != api.WentBack || c.Task == 0 {
		return nil
	}
	number, err := s.Store.WaveOf(ctx, c.Task)
	if err != nil || number == 0 {
		return err
	}
	_, err = s.Store.StepWave(ctx, number, nil, changeTries, func(w api.Wave) (api.Wave, wave.Commands, error) {
		return wave.Told(w, host, *c), wave.Commands{}, nil
	})
	return err
}

// changeWave does something to a wave that runs.
func (s *Service) changeWave(ctx context.Context, number int64, change func(w api.Wave) (api.Wave, wave.Commands, error)) (*waveOutput,
	error) {
	key, _, err := s.signer(ctx)
	if err != nil {
		return nil, s.broken("changing the wave", err)
	}
	if err := s.mayOnWave(ctx, number); err != nil {
		return nil, err
	}
	w, err := s.Store.StepWave(ctx, number, key, changeTries, change)
	var told huma.StatusError
	switch {
	case errors.Is(err, store.ErrNotFound):
		return nil, noWave(number)
	case errors.As(err, &told):
		return nil, told
	case err != nil:
		return nil, s.broken("changing the wave", err)
	}
	return &waveOutput{w}, nil
}

// mayOnWave is an error where whoever asks may not settle one of a wave's hosts.
func (s *Service) mayOnWave(ctx context.Context, number int64) error {
	if api.Has(caller(ctx).Rights, api.Settle) {
		return nil
	}
	m, err := s.newest(ctx)
	if err != nil {
		return s.broken("changing the wave", err)
	}
	w, err := s.Store.Wave(ctx, number)
	if errors.Is(err, store.ErrNotFound) {
		return noWave(number)
	} else if err != nil {
		return s.broken("changing the wave", err)
	}
	names := make([]string, len(w.Hosts))
	for i, h := range w.Hosts {
		names[i] = h.Name
	}
	return s.mayOnAll(ctx, api.Settle, m, names)
}

// goOnWave has a wave go on that waits for a person's word.
func (s *Service) goOnWave(ctx context.Context, in *waveInput) (*waveOutput, error) {
	return s.changeWave(ctx, in.Number, func(w api.Wave) (api.Wave, wave.Commands, error) {
		if w.State != api.WaveWaiting {
			return w, wave.Commands{}, huma.Error409Conflict(fmt.Sprintf("wave %d is %s, and does not wait for a word", w.Number, w.State))
		}
		return wave.GoOn(w, s.Clock()), wave.Commands{}, nil
	})
}

// stopWave stops a wave; what is in force and not kept is taken back.
func (s *Service) stopWave(ctx context.Context, in *struct {
	Number int64 `path:"number"`
	Body   struct {
		Why string `json:"why,omitempty" maxLength:"2000"`
	}
}) (*waveOutput, error) {
	why := "stopped by " + caller(ctx).Name
	if in.Body.Why != "" {
		why += ": " + in.Body.Why
	}
	return s.changeWave(ctx, in.Number, func(w api.Wave) (api.Wave, wave.Commands, error) {
		if w.State != api.WaveRunning && w.State != api.WaveWaiting {
			return w, wave.Commands{}, huma.Error409Conflict(fmt.Sprintf("wave %d is %s already", w.Number, w.State))
		}
		seen, err := s.observe(ctx, w, wave.Needs{Asked: wave.NeedsOf(w).Asked})
		if err != nil {
			return w, wave.Commands{}, err
		}
		w, todo := wave.Stop(w, seen, why, s.Clock())
		return w, todo, nil
	})
}

// returnWave begins a wave that puts every host back on the pair it had before.
func (s *Service) returnWave(ctx context.Context, in *waveInput) (*waveOutput, error) {
	if err := s.mayOnWave(ctx, in.Number); err != nil {
		return nil, err
	}
	shown, err := s.showWave(ctx, in)
	if err != nil {
		return nil, err
	}
	before := shown.Body
	if before.State == api.WaveRunning || before.State == api.WaveWaiting {
		return nil, huma.Error409Conflict(fmt.Sprintf("wave %d is %s; stop it first", before.Number, before.State))
	}
	heard, err := s.Store.LastReports(ctx)
	if err != nil {
		return nil, s.broken("reading the wave", err)
	}
	w := api.Wave{By: caller(ctx).Name, Why: fmt.Sprintf("back to what was before wave %d", before.Number), State: api.WaveRunning,
		Step: 1, Steps: 1, Within: before.Within, Force: before.Force, Hosts: []api.WaveHost{}}
	for _, h := range before.Hosts {
		if h.Phase == api.HostKept && heard[h.Subject()].Pair == h.Pair && h.Had != 0 && h.Had != h.Pair {
			pair, err := s.Store.Pair(ctx, h.Had)
			if err != nil {
				return nil, s.broken("reading the wave", err)
			}
			w.Revision, w.Generation = pair.Revision, pair.Generation
			w.Hosts = append(w.Hosts, api.WaveHost{Name: h.Name, Cloud: h.Cloud, Step: 1, Pair: h.Had, Phase: api.HostDue})
		}
	}
	if len(w.Hosts) == 0 {
		return nil, huma.Error409Conflict(fmt.Sprintf("wave %d has kept nothing that could go back", before.Number))
	}
	return s.beginWave(ctx, w)
}
