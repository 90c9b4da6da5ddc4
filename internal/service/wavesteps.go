package service

import (
	"context"
	"fmt"
	"net/netip"
	"slices"
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

// stepHost takes the next step of one host.
func (s *Service) stepHost(ctx context.Context, w *api.Wave, h *api.WaveHost, step store.WaveStep, attending map[string]store.Attending) error {
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
		if t.Done == nil || t.Result.Came != api.Answered {
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
	m, err := s.modelOf(ctx, w.Pair)
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
