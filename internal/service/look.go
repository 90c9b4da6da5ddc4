package service

import (
	"context"
	"crypto/sha256"
	"encoding/json"
	"fmt"
	"strings"
	"time"

	"yellowfence.example/yfence/api"
	"yellowfence.example/yfence/core/compare"
	"yellowfence.example/yfence/internal/store"
)

// looking is one look at how hosts, their ways in and clouds stand, held against what others were told.
type looking struct {
	*Service
	was map[string]store.HostState // by what it is about; what is not looked at is left over
	now time.Time
}

// lookAtHosts tells others of hosts, ways in and clouds that stand otherwise than they were last told.
func (s *Service) lookAtHosts(ctx context.Context) error {
	m, err := s.newest(ctx)
	if err != nil || m.pair.Number == 0 {
		return err
	}
	k, err := s.known(ctx, nil)
	if err != nil {
		return err
	}
	l := looking{Service: s, now: s.Clock().UTC().Truncate(time.Microsecond)}
	if l.was, err = s.Store.HostStates(ctx); err != nil {
		return err
	}
	counts := map[string]int{}  // of hosts by state, for the figures of the day
	guards := map[string]bool{} // whether a rule, by its title, is a way in
	for _, r := range m.policy.Rules {
		guards[r.Title()] = r.Guard
	}
	for _, h := range m.fleet.Hosts {
		res, err := s.whole(ctx, m, h, k)
		if err != nil {
			return err
		}
		counts[string(res.State)]++
		if res.pending || h.Others() { // it is not known yet, or is not ours to speak of: what was told stays as it is
			delete(l.was, h.Name)
			delete(l.was, wayIn(h.Name))
			continue
		}
		if err := l.at(ctx, h.Name, res.State, func(was store.HostState, changes int) (string, string, any) {
			real, _ := res.differences()
			return api.HostStateEvent, h.Name, api.HostEvent{Host: h.Name, Was: was.Told, State: res.State, Why: res.Why, Findings: real,
				Changes: changes}
		}); err != nil {
			return err
		}
		risks := risks(res, guards)
		if err := l.at(ctx, wayIn(h.Name), worth(risks), func(store.HostState, int) (string, string, any) {
			return api.WayInEvent, h.Name, api.WayIn{Host: h.Name, AtRisk: len(risks) > 0, Says: risks}
		}); err != nil {
			return err
		}
	}
	if err := s.tally(ctx, m, counts, l.now); err != nil {
		return err
	}
	for _, c := range k.cloudNotes() {
		if err := l.at(ctx, "cloud "+c.Cloud, worth(c.Notes), func(store.HostState, int) (string, string, any) {
			return api.CloudEventType, "cloud " + c.Cloud, api.CloudEvent{Cloud: c.Cloud, Notes: c.Notes}
		}); err != nil {
			return err
		}
	}
	for gone := range l.was { // what nobody looked at is no longer in the fleet
		if err := s.Store.ForgetHostState(ctx, gone); err != nil {
			return err
		}
	}
	return nil
}

// at notes how something stands, and tells others where it is time to.
func (l *looking) at(ctx context.Context, what string, state api.State,
	says func(was store.HostState, changes int) (kind, subject string, data any)) error {
	before, known := l.was[what]
	delete(l.was, what)
	if !known && state == api.InStep && strings.Contains(what, " ") {
		return nil // no host: what is well and always was needs no row
	}
	before.Host = what
	is, keep, tell := notice(before, !known, state, l.now)
	if !keep {
		return nil
	}
	if !tell {
		return l.Store.PutHostState(ctx, is, "", "", nil)
	}
	kind, subject, data := says(before, max(is.Changes, 1))
	return l.Store.PutHostState(ctx, told(is, l.now), kind, subject, data)
}

// wayIn is what a host's ways in are called where it is kept what others were told.
func wayIn(host string) string { return "way in to " + host }

// risks are the findings by which somebody shut a way in that a guard keeps open.
func risks(res result, guards map[string]bool) (says []string) {
	for _, f := range res.Findings {
		if f.Kind == compare.Shut && f.Because == compare.Changed && guards[f.Published.By] && len(says) < 10 {
			says = append(says, f.Sentence)
		}
	}
	return says
}

// worth is a state for what there is to say: in step where that is nothing, else another for each.
func worth[T any](says []T) api.State {
	if len(says) == 0 {
		return api.InStep
	}
	text, _ := json.Marshal(says) // texts can be written
	return api.State(fmt.Sprintf("%x", sha256.Sum256(text))[:16])
}
