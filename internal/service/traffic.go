package service

import (
	"context"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"go4.org/netipx"

	"yellowfence.example/yfence/core/traffic"
	"yellowfence.example/yfence/internal/api"
	"yellowfence.example/yfence/internal/store"
)

// takeTraffic keeps what a host counted and saw. A batch that is sent again counts once.
func (s *Service) takeTraffic(ctx context.Context, in *struct {
	Host string `path:"host"`
	Body traffic.Batch
}) (*struct{}, error) {
	m, err := s.newest(ctx)
	if err != nil {
		return nil, s.broken("taking what was counted", err)
	}
	if m.host(in.Host) == nil {
		return nil, noHost(in.Host)
	}
	kept := m.keptFlow()
	err = s.Store.TakeTraffic(ctx, in.Host, func(r *traffic.Record) bool { return r.Take(in.Body, s.Clock().Unix(), kept) })
	if err != nil {
		return nil, s.broken("taking what was counted", err)
	}
	return nil, nil
}

// keptFlow gives what is kept of a connection that was seen: of strangers their prefix. Everybody
// is one while no policy says who belongs to us.
func (m *model) keptFlow() func(traffic.Flow) traffic.Flow {
	var strangers *netipx.IPSet
	if m.pair.Number != 0 {
		strangers = m.policy.Strangers
	}
	return func(f traffic.Flow) traffic.Flow { return f.Kept(strangers) }
}

// sinceInput is how far back an answer about traffic goes.
type sinceInput struct {
	Since int64 `query:"since" minimum:"1" maximum:"7776000" default:"2592000" doc:"how far back, in seconds"`
}

// from is the instant from which on an answer counts.
func (in sinceInput) from(now time.Time) time.Time {
	return now.Add(-time.Duration(in.Since) * time.Second)
}

// showUnused tells how often each statement of what is published decided.
func (s *Service) showUnused(ctx context.Context, in *sinceInput) (*struct{ Body api.Usages }, error) {
	m, err := s.newest(ctx)
	if err != nil {
		return nil, s.broken("counting", err)
	}
	if m.pair.Number == 0 {
		return nil, huma.Error409Conflict("no policy is published yet")
	}
	records, err := s.Store.Traffic(ctx, store.Counted)
	if err != nil {
		return nil, s.broken("counting", err)
	}
	now := s.Clock()
	out := api.Usages{Version: api.Version, Revision: m.pair.Revision, Now: now.UTC(), Since: in.from(now).UTC(), Hosts: len(m.fleet.Hosts)}
	for _, h := range m.fleet.Hosts {
		if r := records[h.Name]; r != nil {
			out.Counting++
		}
	}
	out.Statements = traffic.Usages(m.policy, records, out.Since.Unix(), now.Unix())
	return &struct{ Body api.Usages }{out}, nil
}
