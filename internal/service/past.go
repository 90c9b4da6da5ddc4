package service

import (
	"context"
	"encoding/hex"
	"errors"

	"yellowfence.example/yfence/api"
	"yellowfence.example/yfence/core/fleet"
	"yellowfence.example/yfence/core/packet"
	"yellowfence.example/yfence/internal/live"
	"yellowfence.example/yfence/internal/store"
)

// samples is how many lines of a change of the past are shown, and how long one may be.
const (
	samples      = 6
	sampleLength = 200
)

// showPast answers each change of what a host had in force, as its reports showed it.
func (s *Service) showPast(ctx context.Context, in *struct {
	Host   string `path:"host" maxLength:"253"`
	Before int64  `query:"before" minimum:"0" doc:"changes before this one; 0 is from the newest"`
	Limit  int    `query:"limit" minimum:"1" maximum:"50" default:"20" doc:"how many at most"`
}) (*struct{ Body api.Past }, error) {
	m, err := s.newest(ctx)
	if err != nil {
		return nil, s.broken("looking back", err)
	}
	h := m.host(in.Host)
	if h == nil {
		return nil, noHost(in.Host)
	}
	if err := s.mayOn(ctx, api.Read, h); err != nil {
		return nil, err
	}
	reports, err := s.Store.PastReports(ctx, reporter(h), in.Before, in.Limit+1)
	if err != nil {
		return nil, s.broken("looking back", err)
	}
	out := api.Past{Version: api.Version, Host: h.Name, Changes: []api.PastChange{}}
	if len(reports) > in.Limit {
		out.Next = reports[in.Limit-1].ID
	}
	err = s.computed(ctx, s.computing, "looking back", func(b packet.Budget) error {
		var later listing // of the change before this one in the list
		for i, r := range reports {
			has, err := s.listed(ctx, b, m, h, r.Dump)
			if err != nil {
				return err
			}
			if i > 0 {
				compared(&out.Changes[i-1], later, has)
			}
			if later = has; i == in.Limit {
				break
			}
			// The database says when it began, and the service when it was last heard: their clocks are not one.
			until := r.Received
			if until.Before(r.Began) {
				until = r.Began
			}
			c := api.PastChange{Number: r.ID, Began: r.Began, Until: until, Sum: hex.EncodeToString(r.Dump[:6]), First: i+1 == len(reports)}
			pair, err := s.Store.PairAt(ctx, r.Began)
			if err != nil && !errors.Is(err, store.ErrNotFound) {
				return err
			}
			c.Published = pair.Revision
			out.Changes = append(out.Changes, c)
		}
		return nil
	})
	if err != nil {
		return nil, s.told("looking back", err)
	}
	return &struct{ Body api.Past }{out}, nil
}

// A listing is what a host had in force, line by line: rules with the chain that they stand in, what
// becomes of the rest there, and the elements of sets; and how often it has each.
type listing struct {
	lines  []string
	times  map[string]int
	unread string // why it is not known
}

// listed is what a report said was in force.
func (s *Service) listed(ctx context.Context, b packet.Budget, m *model, h *fleet.Host, dump store.Hash) (l listing, err error) {
	f, err := s.inForce(ctx, dump)
	if err != nil {
		return l, err
	}
	l.times = map[string]int{}
	add := func(line string) {
		l.lines = append(l.lines, line)
		l.times[line]++
	}
	tangled := packet.Try(func() {
		sp := b.Space()
		rules, err := live.ReadOf(sp, h, m.fleet, f)
		if err != nil {
			l.unread = err.Error()
			return
		}
		for _, c := range live.Chains(rules, nil) {
			if c.Hook != "" {
				add(c.Place + ": what no rule decides: " + c.Policy)
			}
			for _, r := range c.Rules {
				add(c.Place + ": " + r.Text)
			}
		}
		for _, set := range live.Sets(f) {
			for _, e := range set.Elements {
				if !set.Changes { // else they come and go by themselves
					add("set " + set.Name + ": " + e)
				}
			}
		}
	})
	if tangled != nil {
		l.unread = tangled.Error()
	}
	return l, nil
}

// compared says what came and went with a change.
func compared(c *api.PastChange, now, was listing) {
	if c.Unread = now.unread; c.Unread == "" {
		c.Unread = was.unread
	}
	if c.Unread == "" {
		c.Added, c.Plus = now.over(was)
		c.Removed, c.Minus = was.over(now)
	}
}

// over counts the lines that a listing has and another lacks, and gives the first of them.
func (l listing) over(other listing) (n int, first []string) {
	seen := map[string]int{}
	for _, line := range l.lines {
		if seen[line]++; seen[line] <= other.times[line] {
			continue
		}
		if n++; n <= samples {
			first = append(first, clipped(line))
		}
	}
	return n, first
}

// clipped is a line that is not longer than a sample may be.
func clipped(line string) string {
	if letters := []rune(line); len(letters) > sampleLength {
		return string(letters[:sampleLength-1]) + "…"
	}
	return line
}
