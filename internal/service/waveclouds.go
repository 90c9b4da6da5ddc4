package service

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"time"

	"yellowfence.example/yfence/internal/api"
	"yellowfence.example/yfence/internal/store"
)

// cloudWithin is how long a cloud may take to have in force what it is asked for.
const cloudWithin = 5 * time.Minute

// stepInstance takes the next step of a host's instance: its groups are asked for, and once
// they are in force another host opens a new connection by a way in. The cloud can be asked
// whatever they admit, so that nothing need go back by itself.
func (s *Service) stepInstance(ctx context.Context, w *api.Wave, h *api.WaveHost, step *store.WaveStep, attending map[string]store.AgentStatus) error {
	fail := func(why string) error { // what it had before is asked for
		err := s.cloudBack(ctx, h, step, why)
		h.Phase, h.Why = api.HostFailed, cmp.Or(h.Why, why)
		return err
	}
	switch h.Phase {
	case api.HostDue:
		if err := s.had(ctx, h, store.AgentStatus{}); err != nil {
			return err
		}
		until := time.Now().Add(cloudWithin)
		h.Phase, h.Until = api.HostAsked, &until
		step.Ask(h.Subject(), h.Pair)
		return nil
	case api.HostAsked:
		m, err := s.modelOf(ctx, h.Pair)
		if err != nil {
			return err
		}
		host := m.host(h.Name)
		if host == nil {
			return fail(fmt.Sprintf("it is not in the fleet of pair %d", h.Pair))
		}
		k, err := s.known(ctx, host)
		if err != nil {
			return err
		}
		res, err := s.groups(ctx, m, host, k)
		switch heard, c := k.heard[h.Subject()], k.clouds[h.Cloud]; {
		case err != nil:
			return err
		case c.Gone[h.Subject()] > 0: // nobody is open by that
			h.Phase, h.Why = api.HostAbsent, fmt.Sprintf("%s has no instance %s", h.Cloud, host.Instance.ID)
		case c.Failed[h.Subject()] != "":
			return fail(c.Failed[h.Subject()])
		case res.State == api.InStep && c.Reached[h.Subject()].Equal(heard.AskedAt) && heard.ReceivedAt.After(heard.AskedAt):
			h.Phase, h.Said = api.HostInForce, nil
		case time.Now().After(*h.Until):
			why := cmp.Or(c.Failing, "some of what was asked for is not in force")
			return fail(fmt.Sprintf("%s did not have it in force within %s: %s", h.Cloud, cloudWithin, why))
		}
		return nil
	case api.HostInForce:
		prober, to, err := s.wayIn(ctx, h, attending)
		if err != nil {
			return err
		}
		if prober == "" && slices.ContainsFunc(w.Hosts, func(o api.WaveHost) bool { return o.Step == h.Step && o.Cloud == "" && o.Phase != api.HostKept }) {
			return nil // it is kept with the hosts of its step, or goes back with them
		}
		if prober == "" {
			h.Phase, h.Why = api.HostKept, h.Cloud+" has it in force; by this revision no other host may log in there, so that it is not tried"
			return nil
		}
		h.Phase, h.Prober, h.To = api.HostProbed, prober, to.String()
		h.Probe = step.Task(api.Task{Host: prober, Do: "probe", Probe: &api.Probe{Protocol: "tcp", To: to.Addr().String(), Port: int(to.Port())}, Until: time.Now().Add(taskWithin)})
		return nil
	case api.HostProbed:
		t, err := s.Store.Task(ctx, h.Probe)
		if err != nil || t.Done == nil && time.Now().Before(t.Until) {
			return err
		}
		came := h.Prober + " did not answer"
		if t.Done != nil {
			switch t.Result.Came {
			case api.Answered:
				h.Phase, h.Why = api.HostKept, fmt.Sprintf("%s has it in force; %s opened a connection to %s", h.Cloud, h.Prober, h.To)
				return nil
			case "refused": // it got there: a group refuses without a word
				h.Phase, h.Why = api.HostKept, fmt.Sprintf("%s has it in force; %s got to %s, where nothing listens", h.Cloud, h.Prober, h.To)
				return nil
			}
			came = fmt.Sprintf("the way in is shut: a new connection from %s to %s was %s", h.Prober, h.To, t.Result.Came)
		}
		if h.Tried++; h.Tried < probeTries {
			h.Phase = api.HostInForce
			return nil
		}
		return fail(came)
	}
	return nil
}

// cloudBack asks for what an instance had before, where that was ours. What was there before
// nobody had asked for anything stays away: whoever is cut off by it can ask the cloud.
func (s *Service) cloudBack(ctx context.Context, h *api.WaveHost, step *store.WaveStep, why string) error {
	switch h.Phase {
	case api.HostAsked, api.HostInForce, api.HostProbed:
	default:
		return nil
	}
	h.Phase, h.Why = api.HostBack, why
	previous, err := s.Store.Previous(ctx, h.Subject())
	if err != nil {
		return err
	}
	if previous == 0 {
		h.Phase, h.Why = api.HostFailed, why+"; nothing of ours was in force there before that could be put back"
		return nil
	}
	step.Ask(h.Subject(), previous)
	return nil
}
