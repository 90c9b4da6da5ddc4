package service

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"yellowfence.example/yfence/api"
	"yellowfence.example/yfence/internal/limits"
	"yellowfence.example/yfence/internal/store"
)

// report takes what a host says it has in force, and answers how it stands.
func (s *Service) report(ctx context.Context, in *struct {
	Host string `path:"host"`
	Body api.Report
}) (*struct{ Body api.HostDrift }, error) {
	m, err := s.newest(ctx)
	if err != nil {
		return nil, s.broken("taking the report", err)
	}
	h := m.host(in.Host)
	// What no program of ours sends, or somebody else's report, is refused before it is stored.
	switch {
	case h == nil:
		return nil, noHost(in.Host)
	case in.Body.Host != in.Host:
		return nil, huma.Error422UnprocessableEntity(fmt.Sprintf("the report is of %q and was sent as %q's", in.Body.Host, in.Host))
	case in.Body.TakenAt.Year() < 2000 || in.Body.TakenAt.Year() > 2200:
		return nil, huma.Error422UnprocessableEntity(fmt.Sprintf("the report says it was taken in the year %d; set the host's clock",
			in.Body.TakenAt.Year()))
	case len(in.Body.Dumps) == 0 && in.Body.Same == "":
		return nil, huma.Error422UnprocessableEntity("the report holds no dump; a host without rules sends an empty listing, which is " +
			"not the same")
	}
	believable(in.Body.Around)
	// Most reports say what the last one said, and send its hash alone.
	if in.Body.Same != "" {
		err = s.Store.ReportSame(ctx, h.Name, in.Body.TakenAt, in.Body.Same)
		if errors.Is(err, store.ErrNotFound) {
			return nil, huma.Error409Conflict("nothing of that hash was reported; send the dumps")
		}
	} else {
		var dumps []byte
		if dumps, err = json.Marshal(in.Body.InForce); err == nil {
			_, err = s.Store.Report(ctx, h.Name, in.Body.TakenAt, dumps, limits.ReportQuota)
		}
	}
	if errors.Is(err, store.ErrQuota) {
		return nil, huma.ErrorWithHeaders(huma.Error429TooManyRequests(fmt.Sprintf("%s sent reports of more than %d MB within a day, "+
			"each other than the one before: find out what keeps changing its rules", in.Host, limits.ReportQuota>>20)),
			http.Header{"Retry-After": {"3600"}})
	}
	if err != nil {
		return nil, s.broken("taking the report", err)
	}
	if err := s.Store.PutHostFacts(ctx, h.Name, in.Body.TakenAt, in.Body.Around, in.Body.Counts, in.Body.Same != ""); err != nil {
		return nil, s.broken("taking the report", err)
	}
	s.figures.reports.Inc()
	// It is stored; from here on the host hears how it stands. Its addresses may change the fleet.
	k, err := s.known(ctx, h)
	if err != nil {
		return nil, s.broken("reading the report", err)
	}
	if m, err = s.follow(ctx, m, h.Name, k.attending[h.Name].Around); err != nil {
		return nil, s.told("following the host's addresses", err)
	}
	if h = m.host(in.Host); h == nil {
		return nil, noHost(in.Host)
	}
	// A host waits a moment for the comparison; where that takes longer it is told so.
	ctx = patient(ctx, ends(senderWaits))
	res, err := s.whole(ctx, m, h, k)
	if err != nil {
		return nil, s.broken("reading the report", err)
	}
	said := drifts(h, res, k.heard[h.Name])
	said.TakenAt, said.Hash = timeOf(in.Body.TakenAt), hashOf(k.heard[h.Name])
	return &struct{ Body api.HostDrift }{said}, nil
}
