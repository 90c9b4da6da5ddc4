package service

import (
	"cmp"
	"context"
	"net/netip"
	"time"

	"go4.org/netipx"

	"yellowfence.example/yfence/api"
	"yellowfence.example/yfence/core/packet"
	"yellowfence.example/yfence/core/policy"
	"yellowfence.example/yfence/core/traffic"
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
	// Who strangers are is looked up before anything is stored: their addresses never are.
	kept := s.keptFlow(m)
	err = s.Store.TakeTraffic(ctx, in.Host, func(r *traffic.Record) bool { return r.Take(in.Body, s.Clock().Unix(), kept) })
	if err != nil {
		return nil, s.broken("taking what was counted", err)
	}
	return nil, nil
}

// keptFlow gives what is kept of a connection that was seen: of strangers their prefix, unless the
// service is told otherwise. Everybody is one while no policy says who belongs to us.
func (s *Service) keptFlow(m *model) func(traffic.Flow) traffic.Flow {
	if s.set().WholeStrangers {
		return func(f traffic.Flow) traffic.Flow { return f }
	}
	var strangers *netipx.IPSet
	if m.pair.Number != 0 {
		strangers = m.policy.Strangers
	}
	return func(f traffic.Flow) traffic.Flow { return f.Kept(strangers) }
}

// SinceInput is how far back an answer about traffic goes. (Its name begins with a capital so that
// it is looked for in queries.)
type SinceInput struct {
	Since int64 `query:"since" minimum:"1" maximum:"7776000" default:"2592000" doc:"how far back, in seconds"`
}

// from is the instant from which on an answer counts.
func (in SinceInput) from(now time.Time) time.Time {
	return now.Add(-time.Duration(in.Since) * time.Second)
}

// oneByOne lets one question about traffic be answered at a time: each reads what all hosts told.
func (s *Service) oneByOne() (done func()) {
	s.tracing.Lock()
	return s.tracing.Unlock
}

// traffic is what is published, and what hosts told of their traffic.
func (s *Service) traffic(ctx context.Context, part store.TrafficPart) (*model, map[string]*traffic.Record, error) {
	m, err := s.newest(ctx)
	if err != nil {
		return nil, nil, s.broken("reading what was counted", err)
	}
	if m.pair.Number == 0 {
		return nil, nil, nothingPublished()
	}
	records, err := s.recordsOf(ctx, part)
	if err != nil {
		return nil, nil, s.broken("reading what was counted", err)
	}
	return m, records, nil
}

// recordsOf are what hosts told of their traffic, without what the service itself had them try.
func (s *Service) recordsOf(ctx context.Context, part store.TrafficPart) (map[string]*traffic.Record, error) {
	records, err := s.Store.Traffic(ctx, part)
	if err != nil || part == store.Counted {
		return records, err
	}
	// Connections that the service had hosts open would stand among the first of what is refused after
	// each wave. A host says from which address it opened one; where it did not, the task may.
	tasks, err := s.Store.ProbesSince(ctx, s.Clock().Add(-traffic.FlowDays*24*time.Hour))
	probes := traffic.Probes{}
	for _, t := range tasks {
		said := t.Probe.From
		if t.Result != nil { // else nobody answered, or has not yet
			said = cmp.Or(t.Result.From, said)
		}
		from, _ := netip.ParseAddr(said)
		to, _ := netip.ParseAddr(t.Probe.To)
		number, _ := packet.ProtocolNumber(t.Probe.Protocol)
		port := t.Probe.Port
		if number == packet.ICMP {
			if port = echo4; to.Is6() {
				number, port = packet.ICMPv6, echo6
			}
		}
		probes.Add(from, to, number, port)
	}
	probes.LeaveOut(records)
	return records, err
}

// The types of ICMP that a ping is.
const (
	echo4 = 8
	echo6 = 128
)

// showUnused tells how often each statement of what is published decided.
func (s *Service) showUnused(ctx context.Context, in *SinceInput) (*struct{ Body api.Usages }, error) {
	defer s.oneByOne()()
	m, records, err := s.traffic(ctx, store.Counted)
	if err != nil {
		return nil, err
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

// groupsInput is how far back an answer goes, and how much of it is told.
type groupsInput struct {
	SinceInput
	Most int `query:"most" minimum:"1" maximum:"1000" default:"100" doc:"how many reasons, or kinds, are told"`
}

// showRefused tells what hosts refused.
func (s *Service) showRefused(ctx context.Context, in *groupsInput) (*struct{ Body api.Refusals }, error) {
	defer s.oneByOne()()
	m, records, err := s.traffic(ctx, store.Refused)
	if err != nil {
		return nil, err
	}
	now := s.Clock()
	out := api.Refusals{Version: api.Version, Revision: m.pair.Revision, Now: now.UTC(), Since: in.from(now).UTC()}
	for _, r := range records {
		out.Telling++
		out.Over, out.Lost = out.Over+r.Refused.Over, out.Lost+r.Lost
	}
	err = s.computed(ctx, s.asking, "telling what was refused", func(b packet.Budget) error {
		out.Refused, out.More = traffic.Refusals(b, m.names(), records, out.Since.Unix(), now.Unix(), in.Most)
		return nil
	})
	return &struct{ Body api.Refusals }{out}, err
}

// showSeen tells which connections hosts saw.
func (s *Service) showSeen(ctx context.Context, in *groupsInput) (*struct{ Body api.SeenConnections }, error) {
	defer s.oneByOne()()
	m, records, err := s.traffic(ctx, store.Seen)
	if err != nil {
		return nil, err
	}
	now := s.Clock()
	out := api.SeenConnections{Version: api.Version, Revision: m.pair.Revision, Now: now.UTC(), Since: in.from(now).UTC()}
	out.Watching = watching(records)
	for _, r := range records {
		out.Over, out.Lost = out.Over+r.Seen.Over, out.Lost+r.Lost
	}
	err = s.computed(ctx, s.asking, "telling what was seen", func(b packet.Budget) error {
		out.Seen, out.More = traffic.Connections(b, m.policy, records, out.Since.Unix(), now.Unix(), in.Most)
		return nil
	})
	return &struct{ Body api.SeenConnections }{out}, err
}

// cutsLookBack is how far back connections are looked at when a change is judged.
const cutsLookBack = traffic.FlowDays * 24 * time.Hour

// cuts are the connections that were seen and that a change from one policy to another would refuse.
func (s *Service) cuts(ctx context.Context, b packet.Budget, from, to *policy.Policy) (*api.Cuts, error) {
	records, err := s.recordsOf(ctx, store.Seen)
	if err != nil {
		return nil, err
	}
	now := s.Clock()
	out := &api.Cuts{Since: now.Add(-cutsLookBack).UTC(), Cut: []*traffic.Cut{}}
	if out.Watching = watching(records); out.Watching > 0 {
		out.Cut = append(out.Cut, traffic.Cuts(b, from, to, records, out.Since.Unix(), now.Unix())...)
	}
	return out, nil
}

// askAgainst tells which connections were seen though expectations say that there are none.
func (s *Service) askAgainst(ctx context.Context, in *struct{ Body api.SeenRequest }) (*struct{ Body api.Contradictions }, error) {
	defer s.oneByOne()()
	m, records, err := s.traffic(ctx, store.Seen)
	if err != nil {
		return nil, err
	}
	pol, err := s.side(ctx, m, in.Body.Side)
	if err != nil {
		return nil, err
	}
	now := s.Clock()
	out := api.Contradictions{Version: api.Version, Since: SinceInput{in.Body.Since}.from(now).UTC(), Watching: watching(records),
		Against: []*traffic.Contradiction{}}
	err = s.computed(ctx, s.computing, "comparing", func(b packet.Budget) error {
		out.Against = append(out.Against, traffic.Against(b, pol, records, out.Since.Unix(), now.Unix())...)
		return nil
	})
	return &struct{ Body api.Contradictions }{out}, err
}

// watching is how many hosts listen to which connections begin.
func watching(records map[string]*traffic.Record) (n int) {
	for _, r := range records {
		if r.Watched != 0 {
			n++
		}
	}
	return n
}

// showNarrower tells which statements could be narrower.
func (s *Service) showNarrower(ctx context.Context, in *SinceInput) (*struct{ Body api.Narrowings }, error) {
	defer s.oneByOne()()
	m, records, err := s.traffic(ctx, store.Seen)
	if err != nil {
		return nil, err
	}
	now := s.Clock()
	out := api.Narrowings{Version: api.Version, Revision: m.pair.Revision, Now: now.UTC(), Since: in.from(now).UTC(),
		Watching: watching(records), Narrower: []traffic.Narrowing{}}
	err = s.computed(ctx, s.asking, "narrowing", func(b packet.Budget) error {
		out.Narrower = append(out.Narrower, traffic.Narrowings(b, m.policy, records, out.Since.Unix(), now.Unix())...)
		return nil
	})
	return &struct{ Body api.Narrowings }{out}, err
}
