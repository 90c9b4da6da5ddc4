package service

import (
	"context"
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"sync"
	"time"

	"yellowfence.example/yfence/core/fence"
	"yellowfence.example/yfence/core/fleet"
	"yellowfence.example/yfence/core/packet"
	"yellowfence.example/yfence/internal/api"
	"yellowfence.example/yfence/internal/store"
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
		running := false
		err := s.guarded(func() (err error) {
			running, err = s.stepWave(ctx, number)
			return err
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
		select {
		case <-ctx.Done():
			return
		case <-time.After(waveLook):
		}
	}
}

// setAside stops a wave that cannot be stepped. What is not kept goes back by itself.
func (s *Service) setAside(ctx context.Context, number int64) {
	_, err := s.Store.StepWave(ctx, number, nil, changeTries, func(w *api.Wave, _ *store.WaveStep) error {
		w.State, w.Stopped, w.Ended = api.WaveStopped, "something of ours failed; the service's log says why. What is not kept goes back by itself", new(time.Now().UTC())
		return nil
	})
	if err != nil {
		s.Log.Error("stopping a wave", "wave", number, "error", err)
	}
}

// stepWave takes the next step of a wave, and says whether it runs still. Where another
// service took it meanwhile, that counts.
func (s *Service) stepWave(ctx context.Context, number int64) (running bool, err error) {
	key, _, err := s.signer(ctx)
	if err != nil {
		return true, err
	}
	attending, err := s.allAttending(ctx)
	if err != nil {
		return true, err
	}
	w, err := s.Store.StepWave(ctx, number, key, 1, func(w *api.Wave, step *store.WaveStep) error {
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
				return s.stop(ctx, w, step, attending, fmt.Sprintf("%s %s: %s", h.Name, h.Phase, h.Why))
			case api.HostKept, api.HostAbsent:
			default:
				done = false
			}
		}
		if done && !w.SkipProbes {
			if done, err = s.stepTrials(ctx, w, step, attending); err != nil || w.State != api.WaveRunning {
				return err
			}
		}
		if done {
			if w.PauseBetween {
				w.State = api.WaveWaiting
			} else {
				goOn(w)
			}
		}
		return nil
	})
	if errors.Is(err, store.ErrConflict) {
		return true, nil
	}
	return err != nil || w.State == api.WaveRunning, err
}

// What becomes of a task that nobody answered in its time.
type excuse int

const (
	inVain   excuse = iota // the host had its time
	waitOn                 // it could not be heard, and may be soon
	askAgain               // it could not be heard, and is there again without having done it
)

// excused says whether a host that did not answer could be heard at all.
func (s *Service) excused(t api.TaskStatus, a store.AgentStatus) excuse {
	switch {
	case !s.outage.since(t.Asked):
		return inVain
	case s.outage.heardSince(a.AskedAt):
		if a.Change != nil && a.Change.Task == t.ID {
			return waitOn // it has begun
		}
		return askAgain
	case s.outage.excuses(a.AskedAt, time.Now()):
		return waitOn
	}
	return inVain
}

// stepHost takes the next step of one host.
func (s *Service) stepHost(ctx context.Context, w *api.Wave, h *api.WaveHost, step *store.WaveStep, attending map[string]store.AgentStatus) error {
	if h.Cloud != "" {
		return s.stepInstance(ctx, w, h, step, attending)
	}
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
		if err := s.had(ctx, h, a); err != nil {
			return err
		}
		step.Ask(h.Name, h.Pair)
		id := step.Task(api.Task{Host: h.Name, Do: "settle", Pair: h.Pair, Within: w.Within, Force: w.Force, Why: fmt.Sprintf("wave %d", w.Number), Until: time.Now().Add(2 * taskWithin)})
		h.Phase, h.Task = api.HostAsked, id
		return nil
	case api.HostAsked:
		t, err := s.Store.Task(ctx, h.Task)
		switch {
		case err != nil:
			return err
		case t.Done == nil && time.Now().After(t.Until):
			switch s.excused(t, a) {
			case askAgain:
				h.Phase = api.HostDue // it never took the task
				return nil
			case waitOn:
				return nil
			}
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
			if away := s.awayProbers(ctx, h, attending); len(away) > 0 {
				h.Why = fmt.Sprintf("%s may log in there, and does not ask what there is to do; it waits for a person who logs in, and runs yfence keep", strings.Join(away, ", "))
				return nil
			}
			h.Why = "by this revision no other host may log in there; it waits for a person who does, and runs yfence keep"
			return nil
		}
		p := &api.Probe{Protocol: "tcp", To: to.Addr().String(), Port: int(to.Port())}
		until := time.Now().Add(taskWithin)
		h.Task = step.Task(api.Task{Host: h.Name, Do: "listen", Probe: p, Within: taskWithin.String(), Until: until})
		h.Phase, h.Prober, h.To, h.Probe = api.HostProbed, prober, to.String(), 0
		return nil
	case api.HostProbed:
		if h.Probe == 0 {
			t, err := s.Store.Task(ctx, h.Task)
			if err != nil || t.Done == nil && time.Now().Before(t.Until) {
				return err
			}
			if t.Done == nil {
				if excused := s.excused(t, a); excused != inVain {
					if excused == askAgain {
						h.Phase = api.HostInForce
					}
					return nil
				}
				return fail("it no longer answers")
			}
			h.Probe = step.Task(api.Task{Host: h.Prober, Do: "probe", Probe: t.Probe, Until: time.Now().Add(taskWithin)})
			return nil
		}
		t, err := s.Store.Task(ctx, h.Probe)
		if err != nil || t.Done == nil && time.Now().Before(t.Until) {
			return err
		}
		if t.Done == nil || t.Result.Came != api.Answered {
			if h.Tried++; h.Tried < probeTries {
				h.Phase = api.HostInForce
				return nil
			}
			came := h.Prober + " did not answer"
			if t.Done != nil {
				came = fmt.Sprintf("the way in is shut: a new connection from %s to %s was %s", h.Prober, h.To, t.Result.Came)
			}
			step.Task(api.Task{Host: h.Name, Do: "take back", Change: h.Change, Why: came, Until: time.Now().Add(taskWithin)})
			return fail(came)
		}
		key, _, err := s.signer(ctx)
		if err != nil {
			return err
		}
		proof := &api.KeepProof{Change: h.Change, From: h.Prober, To: h.To}
		proof.Sign(key)
		h.Task = step.Task(api.Task{Host: h.Name, Do: "keep", Change: h.Change, Proof: proof, Until: time.Now().Add(taskWithin)})
		h.Phase = api.HostKeeping
		return nil
	case api.HostKeeping:
		t, err := s.Store.Task(ctx, h.Task)
		switch {
		case err != nil || t.Done == nil && time.Now().Before(t.Until):
			return err
		case t.Done == nil:
			if excused := s.excused(t, a); excused != inVain {
				if excused == askAgain {
					h.Phase = api.HostInForce
				}
				return nil
			}
			return fail("it did not answer when it was to keep it")
		case t.Result.Failed != "":
			return fail(t.Result.Failed)
		}
		h.Phase, h.Why = api.HostKept, fmt.Sprintf("%s opened a connection to %s", h.Prober, h.To)
	}
	return nil
}

// had notes what a host of a wave had before: what it was last asked for, or what was before
// that, if that went back.
func (s *Service) had(ctx context.Context, h *api.WaveHost, a store.AgentStatus) error {
	if h.Had != 0 { // it is asked again
		return nil
	}
	heard, err := s.Store.LastReports(ctx, h.Subject())
	last := heard[h.Subject()]
	h.Had = last.Pair
	if c := a.Change; c != nil && a.Pair == last.Pair && c.Kind == "settle" && c.Phase == api.WentBack {
		h.Had = last.Previous
	}
	return err
}

// wayIn finds a host that may log in to another by a rule that keeps a way in, and
// where. prober is "" if there is none.
func (s *Service) wayIn(ctx context.Context, w *api.WaveHost, attending map[string]store.AgentStatus) (prober string, to netip.AddrPort, err error) {
	m, err := s.modelOf(ctx, w.Pair)
	if err != nil {
		return "", to, err
	}
	h := m.host(w.Name)
	if h == nil {
		return "", to, fmt.Errorf("%s is not in the fleet of pair %d", w.Name, w.Pair)
	}
	now := s.Clock().Unix()
	tried := 0
	eachWayIn(m, h, now, func(from *fleet.Host, port int) (more bool) {
		if !s.attends(attending[from.Name]) {
			return true
		}
		for _, at := range reached(from, h) {
			q, problems := fence.ParseQuestion(fmt.Sprintf("%s -> %s : tcp %d", from.Name, at, port))
			if problems != nil {
				continue
			}
			answer := m.answer(q, now)
			if answer == nil || answer.Verdict != packet.Admit.String() {
				continue
			}
			// Of several ways another is tried each time.
			prober, to = from.Name, netip.AddrPortFrom(at, uint16(port))
			if tried++; tried > w.Tried {
				return false
			}
		}
		return true
	})
	return prober, to, nil
}

// eachWayIn calls f for each host that may log in to another by a rule that keeps a way in,
// and with the port, until f says that it is enough.
func eachWayIn(m *model, h *fleet.Host, now int64, f func(from *fleet.Host, port int) (more bool)) {
	for _, r := range m.policy.Rules {
		if !r.Sure() || r.Block || !r.InForce(now) || !r.To.Names(h) {
			continue
		}
		port := 0
		for _, t := range r.Terms {
			if t.Protocol == packet.TCP && port == 0 {
				port = t.Ports.Lo
			}
		}
		for _, from := range r.From.Hosts {
			if port != 0 && from != h && !f(from, port) {
				return
			}
		}
	}
}

// awayProbers are the first few hosts that may log in to another and do not attend.
func (s *Service) awayProbers(ctx context.Context, w *api.WaveHost, attending map[string]store.AgentStatus) (names []string) {
	m, err := s.modelOf(ctx, w.Pair)
	if err != nil {
		return nil
	}
	if h := m.host(w.Name); h != nil {
		eachWayIn(m, h, s.Clock().Unix(), func(from *fleet.Host, _ int) bool {
			if !s.attends(attending[from.Name]) && !slices.Contains(names, from.Name) {
				names = append(names, from.Name)
			}
			return len(names) < 3
		})
	}
	return names
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
