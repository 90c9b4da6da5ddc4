package service

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"yellowfence.example/yfence/api"
	"yellowfence.example/yfence/core/ask"
	"yellowfence.example/yfence/core/fence"
	"yellowfence.example/yfence/core/fleet"
	"yellowfence.example/yfence/core/packet"
	"yellowfence.example/yfence/core/source"
	"yellowfence.example/yfence/internal/limits"
	"yellowfence.example/yfence/internal/live"
	"yellowfence.example/yfence/internal/store"
)

// AtTime is an instant in the past that a question is about; nothing said is now. (Its name begins
// with a capital so that it is looked for in queries.)
type AtTime struct {
	At time.Time `query:"at" doc:"by what was in force then, as hosts had reported it; nothing said: now"`
}

// then is what was published at a time, and what a host had reported by then.
func (s *Service) then(ctx context.Context, at time.Time) (*model, error) {
	if at.After(s.Clock().Add(time.Minute)) {
		return nil, huma.Error422UnprocessableEntity("at is a time that is still to come")
	}
	pair, err := s.Store.PairAt(ctx, at)
	if errors.Is(err, store.ErrNotFound) {
		return nil, huma.Error404NotFound(fmt.Sprintf("nothing was published at %s", at.UTC().Format(time.RFC3339)))
	}
	if err != nil {
		return nil, s.broken("looking back", err)
	}
	m, err := s.model(ctx, pair)
	if err != nil {
		return nil, s.broken("looking back", err)
	}
	return m, nil
}

// had is what a host had in force at a time, as it had reported it.
func (s *Service) had(ctx context.Context, h *fleet.Host, at time.Time) (f api.InForce, r store.LastReport, err error) {
	r, err = s.Store.ReportAt(ctx, reporter(h), at)
	if errors.Is(err, store.ErrNotFound) {
		return f, r, huma.Error404NotFound(fmt.Sprintf("%s had reported nothing at %s that is kept: earlier reports go after a while "+
			"(serve --keep)", h.Name, at.UTC().Format(time.RFC3339)))
	}
	if err == nil {
		f, err = s.inForce(ctx, r.Dump)
	}
	if err != nil {
		return f, r, s.broken("looking back", err)
	}
	return f, r, nil
}

// past is what was published at a time, and what one host had in force then.
type past struct {
	*model
	host *fleet.Host
	has  api.InForce
	last store.LastReport // that said so
}

// past looks back at one host.
func (s *Service) past(ctx context.Context, host string, at time.Time) (p past, err error) {
	if p.model, err = s.then(ctx, at); err != nil {
		return p, err
	}
	if p.host = p.model.host(host); p.host == nil {
		return p, huma.Error404NotFound(fmt.Sprintf("no host was named %q then", host))
	}
	p.has, p.last, err = s.had(ctx, p.host, at)
	return p, err
}

// liveAt is the rules of a host at a time, beside what was published then.
func (s *Service) liveAt(ctx context.Context, host string, at time.Time) (*struct{ Body api.LiveRules }, error) {
	p, err := s.past(ctx, host, at)
	if err != nil {
		return nil, err
	}
	out := api.LiveRules{Version: api.Version, Host: host, TakenAt: timeOf(earlier(p.last.ReceivedAt, at)), Chains: []api.Chain{}}
	err = s.computed(ctx, s.computing, "reading the host's rules", func(b packet.Budget) error {
		return s.liveOf(ctx, b, p.model, p.host, p.has, nil, true, &out)
	})
	return &struct{ Body api.LiveRules }{out}, err
}

// earlier is the first of two times.
func earlier(a, b time.Time) time.Time {
	if a.Before(b) {
		return a
	}
	return b
}

// driftAt is how a host differed at a time from what was published then.
func (s *Service) driftAt(ctx context.Context, host string, at time.Time) (*api.Drift, error) {
	p, err := s.past(ctx, host, at)
	if err != nil {
		return nil, err
	}
	out := &api.Drift{Version: api.Version, Revision: p.pair.Revision, Hosts: []api.HostDrift{}}
	err = s.computed(ctx, s.computing, "reading the host's rules", func(packet.Budget) error {
		res := hold([]*model{p.model}, p.host, p.has, at.Unix(), ends(limits.ComputeTime))
		out.Hosts = append(out.Hosts, api.HostDrift{Host: host, State: res.State, TakenAt: timeOf(earlier(p.last.ReceivedAt, at)),
			Findings: res.Findings, Unread: res.Unread})
		return nil
	})
	return out, err
}

// mostAsked is how many hosts' rules of another time one question looks at.
const mostAsked = 20

// askAt answers by what hosts had in force at a time: where the question's traffic goes out, and
// where it comes in. Routers on the way are not looked at.
func (s *Service) askAt(ctx context.Context, q *fence.Question, at time.Time) (*ask.Answer, []source.Problem, error) {
	m, err := s.then(ctx, at)
	if err != nil {
		return nil, nil, err
	}
	from, to, _, problems := m.policy.Ask(q)
	if problems != nil {
		return nil, problems, nil
	}
	// The rules that decide are those of the sender's host as it goes out, and of the receiver's as it
	// comes in; an end that is nobody's of ours is taken to let it pass, as everywhere.
	type end struct {
		host      *fleet.Host
		direction packet.Direction
	}
	var all []end
	for _, h := range from.Hosts {
		all = append(all, end{h, packet.Outbound})
	}
	for _, h := range to.Hosts {
		all = append(all, end{h, packet.Inbound})
	}
	all = slices.DeleteFunc(all, func(e end) bool { return q.Direction != "" && e.direction.Word() != q.Direction })
	switch {
	case len(all) == 0:
		return nil, nil, huma.Error422UnprocessableEntity("name a host of the fleet at one end at least, by its name or an address of " +
			"its own: " +
			"what was in force is asked of hosts")
	case len(all) > mostAsked:
		return nil, nil, huma.Error422UnprocessableEntity(fmt.Sprintf("the question is about the rules of %d hosts; ask about %d at a time",
			len(all), mostAsked))
	}
	out := &ask.Answer{Steps: []ask.Step{}, Examples: []ask.Example{}}
	for _, e := range all {
		f, _, err := s.had(ctx, e.host, at)
		if err != nil {
			return nil, nil, err
		}
		// Of a side that is several hosts each is asked about its own addresses alone.
		one := *q
		one.Direction = e.direction.Word()
		name := fence.Peers{Items: []fence.Peer{{Kind: fence.NamedPeer, Name: e.host.Name, Text: e.host.Name}}}
		if side := &one.To; e.direction == packet.Inbound && len(to.Hosts) > 1 {
			*side = name
		} else if e.direction == packet.Outbound && len(from.Hosts) > 1 {
			one.From = name
		}
		var answer *ask.Answer
		err = s.computed(ctx, s.asking, "answering", func(b packet.Budget) error {
			sp := b.Space()
			rules, err := live.ReadOf(sp, e.host, m.fleet, f)
			if err != nil {
				out.Unread = append(out.Unread, e.host.Name+": "+err.Error())
				return nil
			}
			answer, problems = ask.Dump(sp, m.policy, rules, &one, at.Unix())
			return nil
		})
		if err != nil || problems != nil {
			return nil, problems, err
		}
		if answer == nil {
			out.Verdict = ask.Uncertain
			continue
		}
		for i := range answer.Steps {
			answer.Steps[i].Where = e.host.Name + " " + e.direction.String()
		}
		out.Steps, out.Examples = append(out.Steps, answer.Steps...), append(out.Examples, answer.Examples...)
		out.Unread, out.Hosts = append(out.Unread, answer.Unread...), append(out.Hosts, e.host.Name)
		out.Verdict = both(out.Verdict, answer.Verdict)
	}
	return out, nil, nil
}

// both is the verdict of two ends, "" for one that was not asked: what one of them refuses does not
// get through.
func both(a, b string) string {
	admitted := packet.Admit.String()
	switch {
	case a == "" || a == b || a == admitted:
		return b
	case b == admitted:
		return a
	case a == ask.Uncertain || b == ask.Uncertain:
		return ask.Uncertain
	}
	return ask.Mixed
}
