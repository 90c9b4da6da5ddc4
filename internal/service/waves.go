package service

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"yellowfence.example/yfence/core/ask"
	"yellowfence.example/yfence/core/fence"
	"yellowfence.example/yfence/core/fleet"
	"yellowfence.example/yfence/core/packet"
	"yellowfence.example/yfence/core/policy"
	"yellowfence.example/yfence/internal/api"
	"yellowfence.example/yfence/internal/store"
)

const (
	keepWithin  = time.Minute      // if a wave does not say
	taskWithin  = 30 * time.Second // that a host has for anything
	probeTries  = 3                // a connection may fail for reasons that are not the filter's
	waveLook    = 250 * time.Millisecond
	waveNothing = time.Second // between looks where no wave runs
)

type waveOutput struct{ Body api.Wave }

// startWave begins to put a pair in force over hosts.
func (s *Service) startWave(ctx context.Context, in *struct{ Body api.WaveRequest }) (*waveOutput, error) {
	req := in.Body
	m, err := s.newest(ctx)
	if err != nil {
		return nil, s.broken("beginning a wave", err)
	}
	if m.pair.Number == 0 {
		return nil, huma.Error409Conflict("no policy is published yet")
	}
	if req.Revision != 0 && req.Revision != m.pair.Revision {
		pair, err := s.Store.PairOf(ctx, req.Revision)
		if errors.Is(err, store.ErrNotFound) {
			return nil, huma.Error404NotFound(fmt.Sprintf("there is no revision %d", req.Revision))
		}
		if err == nil {
			m, err = s.model(ctx, pair)
		}
		if err != nil {
			return nil, s.broken("beginning a wave", err)
		}
	}
	within := keepWithin
	if req.Within != "" {
		if within, err = time.ParseDuration(req.Within); err != nil || within < 5*time.Second || within > 24*time.Hour {
			return nil, huma.Error422UnprocessableEntity(fmt.Sprintf("the time for a keep is from 5s to 24h, not %q", req.Within))
		}
	}
	attending, err := s.Store.Attending(ctx, "")
	if err != nil {
		return nil, s.broken("beginning a wave", err)
	}
	hosts, err := chosen(m, req.Hosts)
	if err != nil {
		return nil, err
	}
	w := api.Wave{Revision: m.pair.Revision, Generation: m.pair.Generation, By: caller(ctx).Name, Why: req.Why, State: api.WaveRunning, Step: 1, Check: req.Check, Untried: req.Untried, Even: req.Even, Within: within.String(), Hosts: []api.WaveHost{}}
	var there []*fleet.Host
	for _, h := range hosts {
		if s.attends(attending[h.Name]) {
			there = append(there, h)
		} else {
			w.Hosts = append(w.Hosts, api.WaveHost{Name: h.Name, Pair: m.pair.Number, Phase: api.HostAbsent, Why: "it does not ask what there is to do: is yfence attend running there?"})
		}
	}
	if len(there) == 0 {
		return nil, huma.Error409Conflict("none of these hosts asks what there is to do: is yfence attend running there?")
	}
	steps, err := stepsOf(there, req.Sizes)
	if err != nil {
		return nil, err
	}
	w.Steps = len(steps)
	for i, step := range steps {
		for _, h := range step {
			w.Hosts = append(w.Hosts, api.WaveHost{Name: h.Name, Step: i + 1, Pair: m.pair.Number, Phase: api.HostDue})
		}
	}
	return s.beginWave(ctx, w)
}

func (s *Service) beginWave(ctx context.Context, w api.Wave) (*waveOutput, error) {
	running, err := s.Store.Waves(ctx, true)
	if err != nil {
		return nil, s.broken("beginning a wave", err)
	}
	for _, other := range running {
		for _, h := range other.Hosts {
			if h.Phase != api.HostAbsent && slices.ContainsFunc(w.Hosts, func(mine api.WaveHost) bool { return mine.Name == h.Name && mine.Phase != api.HostAbsent }) {
				return nil, huma.Error409Conflict(fmt.Sprintf("wave %d is at %s; wait for it, or stop it first", other.Number, h.Name))
			}
		}
	}
	w, err = s.Store.NewWave(ctx, w)
	if err != nil {
		return nil, s.broken("beginning a wave", err)
	}
	return &waveOutput{w}, nil
}

// chosen are the hosts that names of hosts and roles stand for; all, if there are none.
func chosen(m *model, names []string) (hosts []*fleet.Host, err error) {
	for _, name := range names {
		if m.fleet.Host(name) == nil && !slices.ContainsFunc(m.policy.Roles, func(r *policy.Role) bool { return r.Name == name }) {
			return nil, huma.Error404NotFound(fmt.Sprintf("no host and no role is named %q", name))
		}
	}
	for _, h := range m.fleet.Hosts {
		if h.Dialect != fleet.NoFilter && (len(names) == 0 || slices.Contains(names, h.Name) || slices.ContainsFunc(h.Roles, func(r string) bool { return slices.Contains(names, r) })) {
			hosts = append(hosts, h)
		}
	}
	if len(hosts) == 0 {
		return nil, huma.Error409Conflict("there is no host to settle")
	}
	return hosts, nil
}

// stepsOf lays hosts out in steps: by the sizes, or one of each set of roles, then up to
// a tenth, then all.
func stepsOf(hosts []*fleet.Host, sizes []string) (steps [][]*fleet.Host, err error) {
	var order []*fleet.Host // one of each set of roles first
	seen := map[string]bool{}
	for _, h := range hosts {
		if roles := strings.Join(h.Roles, " "); !seen[roles] {
			seen[roles] = true
			order = append(order, h)
		}
	}
	first := len(order)
	for _, h := range hosts {
		if !slices.Contains(order[:first], h) {
			order = append(order, h)
		}
	}
	ends := []int{first, (len(order) + 9) / 10}
	if sizes != nil {
		ends = nil
	}
	for _, size := range sizes {
		n, err := strconv.Atoi(strings.TrimSuffix(size, "%"))
		if err != nil || n < 1 {
			return nil, huma.Error422UnprocessableEntity(fmt.Sprintf("%q is no size of a step: say a number of hosts, or a share as 10%%", size))
		}
		if strings.HasSuffix(size, "%") {
			n = (len(order)*n + 99) / 100
		}
		ends = append(ends, n)
	}
	done := 0
	for _, end := range append(ends, len(order)) {
		if end = min(end, len(order)); end > done {
			steps = append(steps, order[done:end])
			done = end
		}
	}
	return steps, nil
}

func (s *Service) listWaves(ctx context.Context, _ *struct{}) (*struct{ Body api.Waves }, error) {
	waves, err := s.Store.Waves(ctx, false)
	if err != nil {
		return nil, s.broken("reading the waves", err)
	}
	return &struct{ Body api.Waves }{api.Waves{Version: api.Version, Waves: waves}}, nil
}

type waveInput struct {
	Number int64 `path:"number"`
}

func (s *Service) showWave(ctx context.Context, in *waveInput) (*waveOutput, error) {
	w, err := s.Store.Wave(ctx, in.Number)
	if errors.Is(err, store.ErrNotFound) {
		return nil, huma.Error404NotFound(fmt.Sprintf("there is no wave %d", in.Number))
	} else if err != nil {
		return nil, s.broken("reading the wave", err)
	}
	return &waveOutput{w}, nil
}

// tellWaves says in a wave that has stopped already why one of its hosts went back.
func (s *Service) tellWaves(ctx context.Context, host string, c *api.HostChange) error {
	if c == nil || c.Phase != api.WentBack || c.Task == 0 {
		return nil
	}
	waves, err := s.Store.Waves(ctx, false)
	if err != nil {
		return err
	}
	of := func(w *api.Wave) *api.WaveHost {
		for i := range w.Hosts {
			if h := &w.Hosts[i]; h.Name == host && h.Change == c.ID && h.Phase == api.HostBack && h.Why != c.Why {
				return h
			}
		}
		return nil
	}
	for _, w := range waves {
		if w.State != api.WaveStopped || of(&w) == nil {
			continue
		}
		_, err := s.Store.StepWave(ctx, w.Number, nil, func(w *api.Wave, _ store.WaveStep) error {
			if h := of(w); h != nil {
				h.Why = c.Why
			}
			return nil
		})
		return err
	}
	return nil
}

// changeWave does something to a wave that runs.
func (s *Service) changeWave(ctx context.Context, number int64, change func(w *api.Wave, step store.WaveStep) error) (*waveOutput, error) {
	key, _, err := s.signer(ctx)
	if err != nil {
		return nil, s.broken("changing the wave", err)
	}
	w, err := s.Store.StepWave(ctx, number, key, change)
	var told huma.StatusError
	switch {
	case errors.Is(err, store.ErrNotFound):
		return nil, huma.Error404NotFound(fmt.Sprintf("there is no wave %d", number))
	case errors.As(err, &told):
		return nil, told
	case err != nil:
		return nil, s.broken("changing the wave", err)
	}
	return &waveOutput{w}, nil
}

func (s *Service) goOnWave(ctx context.Context, in *waveInput) (*waveOutput, error) {
	return s.changeWave(ctx, in.Number, func(w *api.Wave, _ store.WaveStep) error {
		if w.State != api.WaveWaiting {
			return huma.Error409Conflict(fmt.Sprintf("wave %d is %s, and does not wait for a word", w.Number, w.State))
		}
		goOn(w)
		return nil
	})
}

func goOn(w *api.Wave) {
	if w.State = api.WaveRunning; w.Step == w.Steps {
		w.State, w.Ended = api.WaveDone, new(time.Now().UTC())
		return
	}
	w.Step++
	w.Trials, w.Rounds = nil, 0
}

func (s *Service) stopWave(ctx context.Context, in *struct {
	Number int64 `path:"number"`
	Body   struct {
		Why string `json:"why,omitempty"`
	}
}) (*waveOutput, error) {
	why := "stopped by " + caller(ctx).Name
	if in.Body.Why != "" {
		why += ": " + in.Body.Why
	}
	attending, err := s.Store.Attending(ctx, "")
	if err != nil {
		return nil, s.broken("stopping the wave", err)
	}
	return s.changeWave(ctx, in.Number, func(w *api.Wave, step store.WaveStep) error {
		if w.State != api.WaveRunning && w.State != api.WaveWaiting {
			return huma.Error409Conflict(fmt.Sprintf("wave %d is %s already", w.Number, w.State))
		}
		return stop(ctx, w, step, attending, why)
	})
}

// byItself is how little time a change may have left that nobody need ask to go back.
const byItself = 5 * time.Second

// stop ends a wave: what is in force on a host and not kept goes back at once.
func stop(ctx context.Context, w *api.Wave, step store.WaveStep, attending map[string]store.Attending, why string) error {
	w.State, w.Stopped, w.Ended = api.WaveStopped, why, new(time.Now().UTC())
	for i := range w.Hosts {
		h := &w.Hosts[i]
		switch h.Phase {
		case api.HostInForce, api.HostProbed, api.HostKeeping:
			c := attending[h.Name].Change
			if c != nil && c.ID == h.Change && time.Until(c.Until) < byItself {
				h.Phase, h.Why = api.HostBack, "it goes back by itself"
				continue
			}
			if _, err := step.Task(ctx, api.Task{Host: h.Name, Do: "take back", Change: h.Change, Why: fmt.Sprintf("wave %d stopped: %s", w.Number, why), Until: time.Now().Add(taskWithin)}); err != nil {
				return err
			}
			h.Phase, h.Why = api.HostBack, "the wave stopped"
		case api.HostAsked: // if it gets to it, nobody keeps it
			h.Phase, h.Why = api.HostBack, "the wave stopped before it was in force"
		}
	}
	return nil
}

// returnWave begins a wave that puts every host back on the pair it had before.
func (s *Service) returnWave(ctx context.Context, in *waveInput) (*waveOutput, error) {
	before, err := s.Store.Wave(ctx, in.Number)
	if errors.Is(err, store.ErrNotFound) {
		return nil, huma.Error404NotFound(fmt.Sprintf("there is no wave %d", in.Number))
	} else if err != nil {
		return nil, s.broken("reading the wave", err)
	}
	if before.State == api.WaveRunning || before.State == api.WaveWaiting {
		return nil, huma.Error409Conflict(fmt.Sprintf("wave %d is %s; stop it first", before.Number, before.State))
	}
	heard, err := s.Store.Heard(ctx, "")
	if err != nil {
		return nil, s.broken("reading the wave", err)
	}
	w := api.Wave{By: caller(ctx).Name, Why: fmt.Sprintf("back to what was before wave %d", before.Number), State: api.WaveRunning, Step: 1, Steps: 1, Within: before.Within, Even: before.Even, Hosts: []api.WaveHost{}}
	for _, h := range before.Hosts {
		if last := heard[h.Name]; h.Phase == api.HostKept && last.Pair == h.Pair && last.Previous != 0 {
			pair, err := s.Store.Pair(ctx, last.Previous)
			if err != nil {
				return nil, s.broken("reading the wave", err)
			}
			w.Revision, w.Generation = pair.Revision, pair.Generation
			w.Hosts = append(w.Hosts, api.WaveHost{Name: h.Name, Step: 1, Pair: last.Previous, Phase: api.HostDue})
		}
	}
	if len(w.Hosts) == 0 {
		return nil, huma.Error409Conflict(fmt.Sprintf("wave %d has kept nothing that could go back", before.Number))
	}
	return s.beginWave(ctx, w)
}

// Work takes the next steps of all waves that run, until ctx ends. Any number of
// services may do it at once.
func (s *Service) Work(ctx context.Context) {
	for wait := time.Duration(0); ; {
		select {
		case <-ctx.Done():
			return
		case <-time.After(wait):
		}
		wait = waveNothing
		waves, err := s.Store.Waves(ctx, true)
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
			wait = waveLook
			if err := s.stepWave(ctx, w.Number); err != nil && ctx.Err() == nil {
				s.Log.Error("a step of a wave", "wave", w.Number, "error", err)
			}
		}
	}
}

func (s *Service) stepWave(ctx context.Context, number int64) error {
	key, _, err := s.signer(ctx)
	if err != nil {
		return err
	}
	attending, err := s.Store.Attending(ctx, "")
	if err != nil {
		return err
	}
	_, err = s.Store.StepWave(ctx, number, key, func(w *api.Wave, step store.WaveStep) error {
		if w.State != api.WaveRunning {
			return nil
		}
		done := true
		for i := range w.Hosts {
			h := &w.Hosts[i]
			if h.Step != w.Step {
				continue
			}
			if err := s.stepHost(ctx, w, h, step, attending); err != nil {
				return err
			}
			switch h.Phase {
			case api.HostFailed, api.HostBack:
				return stop(ctx, w, step, attending, fmt.Sprintf("%s %s: %s", h.Name, h.Phase, h.Why))
			case api.HostKept:
			default:
				done = false
			}
		}
		if done && !w.Untried {
			if done, err = s.stepTrials(ctx, w, step, attending); err != nil || w.State != api.WaveRunning {
				return err
			}
		}
		if done {
			if w.Check {
				w.State = api.WaveWaiting
			} else {
				goOn(w)
			}
		}
		return nil
	})
	return err
}

// maxTrials is how many connections a step of a wave tries.
const maxTrials = 60

// stepTrials tries what the policy expects of the hosts that a step has settled: first
// something listens at the far end, then the connections are opened. done says that all
// came out as they should; if one does not, however often it is tried, the wave stops.
func (s *Service) stepTrials(ctx context.Context, w *api.Wave, step store.WaveStep, attending map[string]store.Attending) (done bool, err error) {
	over := func(id int64) (t api.TaskStatus, over bool, err error) {
		if id == 0 {
			return t, true, nil
		}
		t, err = s.Store.Task(ctx, id)
		return t, t.Done != nil || time.Now().After(t.Until), err
	}
	if w.Rounds == 0 {
		if w.Trials, err = s.trials(ctx, w, attending); err != nil {
			return false, err
		}
	}
	if len(w.Trials) == 0 {
		return true, nil
	}
	probe := func(t *api.Trial) (p api.Probe) {
		p.To = t.Address
		if p.Protocol = "icmp"; t.Service != "ping" {
			_, _ = fmt.Sscan(t.Service, &p.Protocol, &p.Port) // as tries wrote it
		}
		return p
	}
	if w.Trials[0].Listen == 0 {
		asked := map[string]int64{}
		for i := range w.Trials {
			t := &w.Trials[i]
			at := t.Address + " " + t.Service
			if asked[at] == 0 {
				p := probe(t)
				if asked[at], err = step.Task(ctx, api.Task{Host: t.To, Do: "listen", Probe: &p, Within: taskWithin.String(), Until: time.Now().Add(taskWithin)}); err != nil {
					return false, err
				}
			}
			t.Listen = asked[at]
		}
		w.Rounds++
		return false, nil
	}
	for _, t := range w.Trials {
		if _, over, err := over(t.Listen); err != nil || !over {
			return false, err
		}
	}
	if w.Trials[0].Task == 0 {
		for i := range w.Trials {
			t := &w.Trials[i]
			p := probe(t)
			if t.Task, err = step.Task(ctx, api.Task{Host: t.From, Do: "probe", Probe: &p, Until: time.Now().Add(taskWithin)}); err != nil {
				return false, err
			}
		}
		return false, nil
	}
	var wrong []api.Trial
	held := 0
	for i := range w.Trials {
		t := &w.Trials[i]
		listened, _, err := over(t.Listen)
		if err != nil {
			return false, err
		}
		tried, over, err := over(t.Task)
		if err != nil || !over {
			return false, err
		}
		if t.Came, t.Agrees = "untried", "open"; tried.Result != nil && tried.Result.Came != "" {
			t.Came = tried.Result.Came
			listening := listened.Result != nil && answers(*listened.Result, probe(t).Protocol)
			t.Agrees = agrees(t.Came, t.Admitted, listening, probe(t).Protocol)
		}
		switch t.Agrees {
		case "yes":
			held++
		case "no":
			wrong = append(wrong, *t)
		}
	}
	w.Held += held
	if len(wrong) == 0 {
		return true, nil
	}
	if w.Rounds < probeTries { // only those again
		for i := range wrong {
			wrong[i].Listen, wrong[i].Task = 0, 0
		}
		w.Trials = wrong
		return false, nil
	}
	return false, stop(ctx, w, step, attending, wrong[0].String())
}

// trials are connections that show whether the policy's expectations hold between
// hosts that have the wave's pair in force; each has a host at one end that this step
// has settled.
func (s *Service) trials(ctx context.Context, w *api.Wave, attending map[string]store.Attending) (out []api.Trial, err error) {
	mine, settled := map[string]bool{}, map[string]bool{}
	var number int64
	for _, h := range w.Hosts {
		if h.Phase == api.HostKept {
			mine[h.Name], settled[h.Name] = h.Step == w.Step, true
			if number != 0 && number != h.Pair { // hosts go back to different revisions
				return nil, nil
			}
			number = h.Pair
		}
	}
	pair, err := s.Store.Pair(ctx, number)
	if err != nil {
		return nil, err
	}
	m, err := s.model(ctx, pair)
	if err != nil {
		return nil, err
	}
	can := func(h *fleet.Host) bool {
		c := attending[h.Name].Change
		has := c != nil && c.Phase == api.Kept && c.Kind == "" && c.Pair == number
		return (settled[h.Name] || has) && s.attends(attending[h.Name])
	}
	hosts := slices.Clone(m.fleet.Hosts)
	slices.SortStableFunc(hosts, func(a, b *fleet.Host) int { return cmp.Compare(btoi(mine[b.Name]), btoi(mine[a.Name])) })
	now := s.Clock().Unix()
	for _, e := range m.policy.Expects {
		if e.Off {
			continue
		}
		for _, t := range expected(e, hosts, can) {
			if !mine[t.from.Name] && !mine[t.to.Name] || len(out) == maxTrials {
				continue
			}
			q, problems := fence.ParseQuestion(fmt.Sprintf("%s -> %s : %s", t.from.Name, t.at, t.service()))
			if problems != nil {
				continue
			}
			answer, problems := m.asker().Policy(q, now)
			if problems != nil || answer.Verdict == ask.Mixed || answer.Verdict == ask.Uncertain {
				continue
			}
			out = append(out, api.Trial{For: t.about, From: t.from.Name, To: t.to.Name, Address: t.at.String(), Service: t.service(), Admitted: answer.Verdict == packet.Admit.String()})
		}
	}
	return out, nil
}

func btoi(b bool) int {
	if b {
		return 1
	}
	return 0
}

// stepHost takes the next step of one host.
func (s *Service) stepHost(ctx context.Context, w *api.Wave, h *api.WaveHost, step store.WaveStep, attending map[string]store.Attending) error {
	a := attending[h.Name]
	if h.Phase == api.HostAsked && a.Change != nil && a.Change.Task == h.Task {
		h.Change = a.Change.ID // it may be all that we hear
	}
	if c := a.Change; h.Change != "" && c != nil && c.ID == h.Change && c.Phase == api.WentBack {
		h.Phase, h.Why = api.HostBack, c.Why
		return nil
	}
	if c := a.Change; h.Change != "" && c != nil && c.ID == h.Change && c.Phase == api.Kept {
		h.Phase, h.Why = api.HostKept, c.Why // a person may have been faster
		return nil
	}
	fail := func(why string) error {
		h.Phase, h.Why = api.HostFailed, why
		return nil
	}
	switch h.Phase {
	case api.HostDue:
		if err := step.Ask(ctx, h.Name, h.Pair); err != nil {
			return err
		}
		id, err := step.Task(ctx, api.Task{Host: h.Name, Do: "settle", Pair: h.Pair, Within: w.Within, Even: w.Even, Why: fmt.Sprintf("wave %d", w.Number), Until: time.Now().Add(2 * taskWithin)})
		h.Phase, h.Task = api.HostAsked, id
		return err
	case api.HostAsked:
		t, err := s.Store.Task(ctx, h.Task)
		switch {
		case err != nil:
			return err
		case t.Done == nil && time.Now().After(t.Until):
			return fail("it did not answer")
		case t.Done == nil:
			return nil
		case t.Result.Failed != "":
			return fail(t.Result.Failed)
		case t.Result.Change == nil:
			return fail("it did not say how the change stands")
		}
		h.Phase, h.Change, h.Said = api.HostInForce, t.Result.Change.ID, t.Result.Said
		return nil
	case api.HostInForce:
		if h.Why != "" { // it waits for a person
			return nil
		}
		prober, to, err := s.wayIn(ctx, h, attending)
		if err != nil {
			return err
		}
		if prober == "" {
			h.Why = "by this revision no other host may log in there; it waits for a person who does, and runs yfence keep"
			return nil
		}
		p := &api.Probe{Protocol: "tcp", To: to.Addr().String(), Port: int(to.Port())}
		until := time.Now().Add(taskWithin)
		if h.Task, err = step.Task(ctx, api.Task{Host: h.Name, Do: "listen", Probe: p, Within: taskWithin.String(), Until: until}); err != nil {
			return err
		}
		h.Phase, h.Prober, h.To, h.Probe = api.HostProbed, prober, to.String(), 0
		return nil
	case api.HostProbed:
		if h.Probe == 0 {
			t, err := s.Store.Task(ctx, h.Task)
			if err != nil || t.Done == nil && time.Now().Before(t.Until) {
				return err
			}
			if t.Done == nil {
				return fail("it no longer answers")
			}
			h.Probe, err = step.Task(ctx, api.Task{Host: h.Prober, Do: "probe", Probe: t.Probe, Until: time.Now().Add(taskWithin)})
			return err
		}
		t, err := s.Store.Task(ctx, h.Probe)
		if err != nil || t.Done == nil && time.Now().Before(t.Until) {
			return err
		}
		if t.Done == nil || t.Result.Came != "answered" {
			if h.Tried++; h.Tried < probeTries {
				h.Phase = api.HostInForce
				return nil
			}
			came := h.Prober + " did not answer"
			if t.Done != nil {
				came = fmt.Sprintf("the way in is shut: a new connection from %s to %s was %s", h.Prober, h.To, t.Result.Came)
			}
			if _, err := step.Task(ctx, api.Task{Host: h.Name, Do: "take back", Change: h.Change, Why: came, Until: time.Now().Add(taskWithin)}); err != nil {
				return err
			}
			return fail(came)
		}
		key, _, err := s.signer(ctx)
		if err != nil {
			return err
		}
		proof := &api.KeepProof{Change: h.Change, From: h.Prober, To: h.To}
		proof.Sign(key)
		h.Task, err = step.Task(ctx, api.Task{Host: h.Name, Do: "keep", Change: h.Change, Proof: proof, Until: time.Now().Add(taskWithin)})
		h.Phase = api.HostKeeping
		return err
	case api.HostKeeping:
		t, err := s.Store.Task(ctx, h.Task)
		switch {
		case err != nil || t.Done == nil && time.Now().Before(t.Until):
			return err
		case t.Done == nil:
			return fail("it did not answer when it was to keep it")
		case t.Result.Failed != "":
			return fail(t.Result.Failed)
		}
		h.Phase, h.Why = api.HostKept, fmt.Sprintf("%s opened a connection to %s", h.Prober, h.To)
	}
	return nil
}

// wayIn finds a host that may log in to another by a rule that keeps a way in, and
// where. prober is "" if there is none.
func (s *Service) wayIn(ctx context.Context, w *api.WaveHost, attending map[string]store.Attending) (prober string, to netip.AddrPort, err error) {
	pair, err := s.Store.Pair(ctx, w.Pair)
	if err != nil {
		return "", to, err
	}
	m, err := s.model(ctx, pair)
	if err != nil {
		return "", to, err
	}
	h := m.fleet.Host(w.Name)
	if h == nil {
		return "", to, fmt.Errorf("%s is not in the fleet of pair %d", w.Name, w.Pair)
	}
	now := s.Clock().Unix()
	tried := 0
	for _, r := range m.policy.Rules {
		if !r.Guard || r.Block || !r.InForce(now) || !r.To.Names(h) {
			continue
		}
		port := 0
		for _, t := range r.Terms {
			if t.Protocol == packet.TCP && port == 0 {
				port = t.Ports.Lo
			}
		}
		for _, from := range r.From.Hosts {
			if port == 0 || from == h || !s.attends(attending[from.Name]) {
				continue
			}
			for _, at := range reached(from, h) {
				q, problems := fence.ParseQuestion(fmt.Sprintf("%s -> %s : tcp %d", from.Name, at, port))
				if problems != nil {
					continue
				}
				answer, problems := m.asker().Policy(q, now)
				if problems != nil || answer.Verdict != packet.Admit.String() {
					continue
				}
				// Of several ways another is tried each time.
				prober, to = from.Name, netip.AddrPortFrom(at, uint16(port))
				if tried++; tried > w.Tried {
					return prober, to, nil
				}
			}
		}
	}
	return prober, to, nil
}

// reached are the addresses of a host, those on a network that another is on too first.
func reached(from, h *fleet.Host) []netip.Addr {
	near, far := addressesFor(from, h)
	return append(near, far...)
}

// addressesFor are the addresses of a host: those on a network that another is on too,
// and the others.
func addressesFor(from, h *fleet.Host) (near, far []netip.Addr) {
	for _, i := range h.Interfaces {
		for _, p := range i.Addresses {
			shared := slices.ContainsFunc(from.Interfaces, func(o fleet.Interface) bool {
				return slices.ContainsFunc(o.Addresses, func(q netip.Prefix) bool { return p.Masked().Contains(q.Addr()) })
			})
			if shared {
				near = append(near, p.Addr())
			} else {
				far = append(far, p.Addr())
			}
		}
	}
	return near, far
}
