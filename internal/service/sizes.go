package service

import (
	"context"
	"fmt"
	"time"

	"yellowfence.example/yfence/api"
)

// days is a length of time in days, as people read it.
func days(d time.Duration) string {
	if d < 48*time.Hour {
		return fmt.Sprintf("%d hours", int(d.Hours()))
	}
	return fmt.Sprintf("%d days", int(d.Hours()/24))
}

// showStore answers what the database holds, and for how long.
func (s *Service) showStore(ctx context.Context, _ *struct{}) (*struct{ Body api.Store }, error) {
	names, sizes, err := s.Store.Sizes(ctx)
	if err != nil {
		return nil, s.broken("reading the sizes", err)
	}
	out := api.Store{Version: api.Version, Parts: []api.StorePart{}}
	if out.Tables, err = s.Store.Tables(ctx); err != nil {
		return nil, s.broken("reading the sizes", err)
	}
	if out.Server, err = s.Store.Server(ctx); err != nil {
		return nil, s.broken("reading the sizes", err)
	}
	keep := s.set().Keep
	keeps := map[string]string{"reports": "whole for " + days(keep.Reports) + ", then the last of each day for " + days(keep.Daily),
		"contents": "as long as something refers to them", "traffic": "90 days counted, 30 days refused and seen", "events": "30 days",
		"tokens": "a day behind their end for answers with a key", "hosts": "while they are in the fleet; tasks " + days(keep.Done)}
	for _, name := range names {
		p := api.StorePart{What: name, Rows: sizes[name].Rows, Bytes: sizes[name].Bytes, Oldest: timeOf(sizes[name].Oldest),
			Keeps: keeps[name]}
		if p.Keeps == "" {
			p.Keeps = "always"
		}
		out.Parts = append(out.Parts, p)
	}
	return &struct{ Body api.Store }{out}, nil
}
