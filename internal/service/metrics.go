package service

import (
	"context"
	"net/http"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/go-chi/chi/v5"
	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/collectors"
	"github.com/prometheus/client_golang/prometheus/promhttp"

	"yellowfence.example/yfence/api"
	"yellowfence.example/yfence/internal/store"
)

// figures are what the service tells of itself and of the fleet, in Prometheus' form.
type figures struct {
	registry *prometheus.Registry
	reports  prometheus.Counter
	requests *prometheus.HistogramVec

	mu     sync.Mutex
	known  []prometheus.Metric // of the fleet, as it was last looked at
	looked time.Time
}

// What is told of the fleet, which every service tells alike: take the highest of several.
var (
	hostsFigure      = describe("hosts", "Hosts of the fleet by state.", "state")
	findingsFigure   = describe("findings", "Differences between what hosts have in force and what is published, by kind.", "kind")
	reportAgeFigure  = describe("oldest_report_age_seconds", "Age of the oldest newest report of a host that ever reported.")
	judgingFigure    = describe("judging_waiting", "Reports that wait to be compared in this service.")
	wavesFigure      = describe("waves", "Waves that are under way, by state.", "state")
	deliveriesFigure = describe("deliveries", "Events that destinations did not take yet (due) or never will (given up).",
		"destination", "state")
	databaseFigure  = describe("database_up", "1 where the database answers reads.")
	revisionFigure  = describe("published_revision", "The revision that is published.")
	proposalsFigure = describe("proposals_open", "Proposals that wait.")
	recordFigure    = describe("record_entries", "Entries of the record.")
)

// describe is a figure of ours.
func describe(name, help string, labels ...string) *prometheus.Desc {
	return prometheus.NewDesc("yfence_"+name, help, labels, nil)
}

// newFigures makes the figures of a service.
func newFigures(s *Service) *figures {
	f := &figures{registry: prometheus.NewRegistry(),
		reports: prometheus.NewCounter(prometheus.CounterOpts{Name: "yfence_reports_total",
			Help: "Reports of hosts that this service took."}),
		requests: prometheus.NewHistogramVec(prometheus.HistogramOpts{Name: "yfence_request_seconds",
			Help: "How long requests took, by route and class of status.", Buckets: []float64{0.005, 0.02, 0.1, 0.5, 2, 10}},
			[]string{"method", "route", "status"})}
	f.registry.MustRegister(f.reports, f.requests, &fleetFigures{s}, collectors.NewGoCollector(),
		collectors.NewProcessCollector(collectors.ProcessCollectorOpts{}))
	return f
}

// took notes how long a request took. Routes that are none are one.
func (f *figures) took(r *http.Request, status int, seconds float64) {
	route := chi.RouteContext(r.Context()).RoutePattern()
	switch route {
	case "":
		route = "none"
	case streamPath: // which takes as long as somebody listens
		return
	}
	f.requests.WithLabelValues(methodOf(r.Method), route, strconv.Itoa(status/100)+"xx").Observe(seconds)
}

// methodOf is a method that there is: whoever makes one up makes no figure of it.
func methodOf(m string) string {
	switch m {
	case http.MethodGet, http.MethodPost, http.MethodPut, http.MethodDelete, http.MethodHead:
		return m
	}
	return "other"
}

// fleetFigures are the figures that are looked up when they are asked for.
type fleetFigures struct{ s *Service }

// Describe says which figures there are.
func (c *fleetFigures) Describe(to chan<- *prometheus.Desc) {
	for _, d := range []*prometheus.Desc{hostsFigure, findingsFigure, reportAgeFigure, judgingFigure, wavesFigure, deliveriesFigure,
		databaseFigure,
		revisionFigure, proposalsFigure, recordFigure} {
		to <- d
	}
}

// The times of figures: how long a look at the fleet counts, and how long one may take.
const (
	figuresFresh = 5 * time.Second
	figuresTime  = 8 * time.Second
)

// Collect gives the figures of now, or of some seconds ago. Where the database is away that is said, and
// nothing else.
func (c *fleetFigures) Collect(to chan<- prometheus.Metric) {
	f := c.s.figures
	f.mu.Lock()
	defer f.mu.Unlock()
	if moment().Sub(f.looked) >= figuresFresh {
		ctx, cancel := context.WithTimeout(store.For(context.Background(), store.Work), figuresTime)
		known, err := c.s.look(ctx)
		cancel()
		up := 1.0
		if err != nil {
			c.s.Log.Warn("looking the figures up", "error", err)
			known, up = nil, 0
		}
		f.known = append(known, gauge(databaseFigure, up))
		f.looked = moment()
	}
	for _, m := range f.known {
		to <- m
	}
	to <- gauge(judgingFigure, float64(c.s.judging.waiting()))
}

// waiting is how many comparisons are not begun.
func (j *judging) waiting() int {
	j.mu.Lock()
	defer j.mu.Unlock()
	return len(j.queue)
}

// gauge is a figure with a value.
func gauge(d *prometheus.Desc, value float64, labels ...string) prometheus.Metric {
	return prometheus.MustNewConstMetric(d, prometheus.GaugeValue, value, labels...)
}

// look works the figures of the fleet out.
func (s *Service) look(ctx context.Context) (out []prometheus.Metric, err error) {
	m, err := s.newest(ctx)
	if err != nil {
		return nil, err
	}
	k, err := s.known(ctx, nil)
	if err != nil {
		return nil, err
	}
	hosts, findings := map[string]int{}, map[string]int{"opened": 0, "shut": 0, "altered": 0, "boot": 0, "cosmetic": 0}
	for _, st := range api.States {
		hosts[string(st.State)] = 0
	}
	oldest, now := time.Time{}, s.Clock()
	if m.pair.Number != 0 {
		for _, h := range m.fleet.Hosts {
			res, err := s.whole(ctx, m, h, k)
			if err != nil {
				return nil, err
			}
			hosts[string(res.State)]++
			for _, f := range res.Findings {
				findings[string(f.Kind)]++
			}
			if at := k.lastHeard(h).ReceivedAt; !at.IsZero() && (oldest.IsZero() || at.Before(oldest)) {
				oldest = at
			}
		}
	}
	for state, n := range hosts {
		out = append(out, gauge(hostsFigure, float64(n), strings.ReplaceAll(state, " ", "-")))
	}
	for kind, n := range findings {
		out = append(out, gauge(findingsFigure, float64(n), kind))
	}
	if !oldest.IsZero() {
		out = append(out, gauge(reportAgeFigure, max(now.Sub(oldest).Seconds(), 0)))
	}
	waves, err := s.Store.RunningWaves(ctx)
	if err != nil {
		return nil, err
	}
	running := map[string]int{api.WaveRunning: 0, api.WaveWaiting: 0}
	for _, w := range waves {
		running[w.State]++
	}
	for state, n := range running {
		out = append(out, gauge(wavesFigure, float64(n), state))
	}
	counts, err := s.Store.Counts(ctx)
	if err != nil {
		return nil, err
	}
	for _, d := range counts.Deliveries {
		out = append(out, gauge(deliveriesFigure, float64(d.Events), d.Destination, strings.ReplaceAll(d.State, " ", "-")))
	}
	return append(out, gauge(revisionFigure, float64(m.pair.Revision)), gauge(proposalsFigure, float64(counts.Proposals)),
		gauge(recordFigure, float64(counts.Entries))), nil
}

// Metrics answers the figures to whoever asks, for a listener of their own.
func (s *Service) Metrics() http.Handler {
	return promhttp.HandlerFor(s.figures.registry, promhttp.HandlerOpts{MaxRequestsInFlight: 2, Timeout: 2 * figuresTime})
}

// metrics answers the figures to whoever may read.
func (s *Service) metrics(w http.ResponseWriter, r *http.Request) {
	secret, _ := strings.CutPrefix(r.Header.Get("Authorization"), "Bearer ")
	t, err := s.Store.TokenBySecret(r.Context(), secret)
	if err != nil || s.over(t) != "" || !api.Has(t.Rights, api.Read) {
		w.Header().Set("WWW-Authenticate", "Bearer")
		http.Error(w, "figures take a token with the right read, or a listener of their own (yfence serve --metrics-listen)",
			http.StatusUnauthorized)
		return
	}
	s.Metrics().ServeHTTP(w, r)
}
