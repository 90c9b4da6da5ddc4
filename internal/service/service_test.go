package service_test

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yellowfence.example/yfence/api"
	"yellowfence.example/yfence/client"
	"yellowfence.example/yfence/core/check"
	"yellowfence.example/yfence/core/compare"
	"yellowfence.example/yfence/core/kernel"
	"yellowfence.example/yfence/core/policy/policytest"
	"yellowfence.example/yfence/internal/service"
	"yellowfence.example/yfence/internal/store"
	"yellowfence.example/yfence/internal/testbed"
)

func TestMain(m *testing.M) { os.Exit(testbed.Main(m)) }

const saltmarsh = "../../demo/saltmarsh"

// harbour is a running service, and a client with all rights.
type harbour struct {
	*client.Client
	t     testing.TB
	store *store.Store
	dsn   string // of its database
	url   string
	token string
	set   atomic.Pointer[time.Time] // the service's clock; nil is the real one
}

// allRead waits until every host's last report is compared: whoever reads waits a second at most.
func (h *harbour) allRead() {
	h.t.Helper()
	require.Eventually(h.t, func() bool {
		a, err := h.Attention(context.Background())
		return err == nil && a.Reading == 0
	}, 5*time.Minute, 20*time.Millisecond)
}

func newHarbour(t testing.TB, with ...func(*service.Options)) *harbour {
	t.Helper()
	ctx := context.Background()
	dsn := testbed.Database(t)
	st, err := store.Open(ctx, dsn)
	require.NoError(t, err)
	h := &harbour{t: t, store: st, dsn: dsn}
	o := service.Options{Store: st, Log: slog.New(slog.DiscardHandler), ReportEvery: time.Minute, Clock: h.now}
	for _, more := range with {
		more(&o)
	}
	svc := service.New(o)
	server := httptest.NewServer(svc.Handler())
	working, stop := context.WithCancel(ctx)
	var work sync.WaitGroup
	if o.Clouds != nil {
		work.Go(func() { svc.Work(working) })
		work.Go(func() { svc.Follow(working) })
		work.Go(func() { svc.WorkClouds(working) })
	}
	if o.EventsLook != 0 {
		work.Go(func() { svc.WorkEvents(working) })
	}
	if o.Lists.Look != 0 {
		work.Go(func() { svc.WorkLists(working) })
	}
	t.Cleanup(func() {
		stop()
		work.Wait()
		server.Close()
		require.NoError(t, st.Close())
	})
	token, err := st.NewToken(ctx, "pat", api.Rights, "")
	require.NoError(t, err)
	h.url, h.token = server.URL, token.Secret
	h.Client = client.New(h.url, h.token)
	return h
}

// now is what the service's clock shows.
func (h *harbour) now() time.Time {
	if at := h.set.Load(); at != nil {
		return *at
	}
	return time.Now()
}

// turnTo sets the service's clock, which then stands.
func (h *harbour) turnTo(at time.Time) { h.set.Store(&at) }

func (h *harbour) as(rights []api.Right, host string) *client.Client {
	token, err := h.store.NewToken(context.Background(), "somebody", rights, host)
	require.NoError(h.t, err)
	return client.New(h.url, token.Secret)
}

// row asks the database behind the service's back.
func (h *harbour) row(query string, args ...any) *sql.Row {
	h.t.Helper()
	db, err := sql.Open("mysql", h.dsn)
	require.NoError(h.t, err)
	h.t.Cleanup(func() { _ = db.Close() })
	return db.QueryRow(query, args...)
}

// exec changes the database behind the service's back.
func (h *harbour) exec(query string, args ...any) {
	h.t.Helper()
	db, err := sql.Open("mysql", h.dsn)
	require.NoError(h.t, err)
	_, err = db.Exec(query, args...)
	require.NoError(h.t, errors.Join(err, db.Close()))
}

func fleetFile(t *testing.T) string {
	data, err := os.ReadFile(filepath.Join(saltmarsh, "fleet.json"))
	require.NoError(t, err)
	return string(data)
}

func policyFiles(t *testing.T) (files []check.Source) { return policytest.SaltmarshFiles(t, "../..") }

// saltmarsh is a harbour with Saltmarsh's fleet and policy published.
func newSaltmarsh(t *testing.T) *harbour {
	h := newHarbour(t)
	_, err := h.Import(context.Background(), api.ImportRequest{File: "fleet.json", Text: fleetFile(t)})
	require.NoError(t, err)
	done, err := h.Publish(context.Background(), api.PublishRequest{Files: policyFiles(t), Why: "first"})
	require.NoError(t, err)
	require.EqualValues(t, 1, done.Revision)
	return h
}

func recorded(t *testing.T, host string) string {
	return recordedReport(t, host).Dumps[0].Text
}

func recordedReport(t *testing.T, host string) (r api.Report) {
	data, err := os.ReadFile("../../demo/recorded/" + host + ".json")
	require.NoError(t, err)
	require.NoError(t, json.Unmarshal(data, &r))
	return r
}

// report is a dump as a host reports it that has the user backup and no unit backup.service.
func report(host, dump string) api.Report {
	names := &kernel.Names{Users: map[string]int{"backup": 34}, Absent: []string{"unit backup.service"}}
	return api.Report{Version: 1, Host: host, TakenAt: time.Now().UTC(),
		InForce: api.InForce{Dumps: []api.Dump{{Kind: "nft-json", Text: dump}}, Names: names}}
}

func problem(t *testing.T, err error) *client.Problem {
	t.Helper()
	var p *client.Problem
	require.True(t, errors.As(err, &p), "%v", err)
	return p
}

func TestABrokenPolicyPublishesNothing(t *testing.T) {
	t.Parallel()
	h := newSaltmarsh(t)
	ctx := context.Background()
	files := policyFiles(t)
	files[0].Text += "allow x: nobody -> broker : ssh\n"
	_, err := h.Publish(ctx, api.PublishRequest{Files: files, Why: "broken"})
	p := problem(t, err)
	require.Equal(t, http.StatusUnprocessableEntity, p.Status)
	require.Equal(t, "the policy is not published: 1 error", p.Detail)
	require.Len(t, p.Problems, 1)
	require.Equal(t, `no role, network or segment is named "nobody"`, p.Problems[0].Message)
	list, err := h.Revisions(ctx)
	require.NoError(t, err)
	require.Len(t, list.Revisions, 1)
}

func TestAFleetThatBreaksThePolicyIsRefused(t *testing.T) {
	t.Parallel()
	h := newSaltmarsh(t)
	_, err := h.Import(context.Background(),
		api.ImportRequest{File: "fleet.json", Text: strings.Replace(fleetFile(t), `"roles": ["depot"]`, `"roles": ["dpot"]`, 1)})
	p := problem(t, err)
	require.Equal(t, `no role is named "dpot"`, p.Problems[0].Message)
	require.Equal(t, `did you mean "depot"?`, p.Problems[0].Hint)
	fl, err := h.Fleet(context.Background())
	require.NoError(t, err)
	require.EqualValues(t, 1, fl.Generation)
}

func TestStatesOfAHost(t *testing.T) {
	t.Parallel()
	h := newSaltmarsh(t)
	ctx := context.Background()
	state := func(host string) api.State {
		d, err := h.Drift(ctx, host)
		require.NoError(t, err)
		return d.Hosts[0].State
	}
	send := func(host, dump string) api.HostDrift {
		d, err := h.Report(ctx, report(host, dump))
		require.NoError(t, err)
		require.Equal(t, d.State, state(host), "the report's answer is what the drift says")
		return d
	}
	require.Equal(t, api.New, state("logbook-01"))
	_, err := h.Settle(ctx, "logbook-01")
	require.NoError(t, err)

	const nothing = `{"nftables": [{"metainfo": {"version": "1.0.6"}}]}`
	const empty = `{"nftables": [{"chain": {"family": "inet", "table": "t", "name": "c", "type": "filter", "hook": "input", "prio": 0, ` +
		`"policy": "accept"}}]}`
	require.Equal(t, api.Bare, send("logbook-01", nothing).State, "no filter")
	require.Equal(t, api.Drifted, send("logbook-01", empty).State, "a filter without rules is no bare host")
	d := send("logbook-01", recorded(t, "logbook-01"))
	require.Equal(t, api.Drifted, d.State)
	require.Equal(t, "tcp 5432 from hill-lan (IPv4) gets in; nothing in the policy admits it.", d.Findings[0].Sentence)
	require.Equal(t, api.InStep, send("charts-01", recorded(t, "charts-01")).State)
	watch := send("watch-01", recorded(t, "watch-01"))
	require.Equal(t, []any{api.InStep, 1}, []any{watch.State, len(watch.Findings)})

	half := recorded(t, "charts-01")
	half = half[:len(half)/2]
	d = send("charts-01", half)
	require.Equal(t, api.Unread, d.State)
	require.Equal(t, []string{"nft-json dump: line 1: the dump ends in the middle"}, d.Unread)
	heard, err := h.store.LastReports(ctx)
	require.NoError(t, err)
	kept, err := h.store.Content(ctx, heard["charts-01"].Dump)
	require.NoError(t, err)
	var stored api.InForce
	require.NoError(t, json.Unmarshal(kept, &stored))
	require.Equal(t, half, stored.Dumps[0].Text, "kept as received")
	live, err := h.Live(ctx, "charts-01")
	require.NoError(t, err)
	require.Contains(t, live.Unread, "ends in the middle")

	// A new revision: a host that was asked and still has the old rules is waiting.
	send("charts-01", recorded(t, "charts-01"))
	_, err = h.Settle(ctx, "charts-01")
	require.NoError(t, err)
	send("charts-01", recorded(t, "charts-01"))
	files := policyFiles(t)
	files[2].Text += "allow extra: office -> charts : tcp 8096\n"
	_, err = h.Publish(ctx, api.PublishRequest{Files: files, Why: "more"})
	require.NoError(t, err)
	require.Equal(t, api.Behind, state("charts-01"), "it was not asked yet")
	_, err = h.Settle(ctx, "charts-01")
	require.NoError(t, err)
	require.Equal(t, api.Waiting, state("charts-01"), "asked since its last report")
	require.Equal(t, api.Waiting, send("charts-01", recorded(t, "charts-01")).State, "it has what it was asked before")
	require.Equal(t, api.Bare, send("charts-01", nothing).State)

	require.Equal(t, []any{api.Waiting, compare.Behind},
		[]any{send("charts-01", recorded(t, "charts-01")).State, send("charts-01", recorded(t, "charts-01")).Findings[0].Because})
	require.Equal(t, api.Bare, send("charts-01", nothing).State)

	h.turnTo(time.Now().Add(4 * time.Minute))
	require.Equal(t, api.Silent, state("charts-01"), "three intervals passed")
	fl, err := h.Fleet(ctx)
	require.NoError(t, err)
	for _, host := range fl.Hosts {
		if host.HeardAt == nil {
			require.Equal(t, api.New, host.State, host.Name)
		}
	}
}

// TestPublishedAskedInForce: what is published and not settled is told wherever hosts are, at
// once, apart from what somebody changed.
func TestPublishedAskedInForce(t *testing.T) {
	t.Parallel()
	h := newSaltmarsh(t)
	ctx := context.Background()
	for _, host := range []string{"charts-01", "logbook-01", "watch-01"} {
		_, err := h.Settle(ctx, host)
		require.NoError(t, err)
		_, err = h.Report(ctx, report(host, recorded(t, host)))
		require.NoError(t, err)
	}
	_, err := h.Publish(ctx, api.PublishRequest{Files: narrower(t), Why: "the site is for the office alone"})
	require.NoError(t, err)

	h.allRead()
	d, err := h.Drift(ctx, "")
	require.NoError(t, err)
	told := map[string][]string{}
	for _, host := range d.Hosts {
		told[host.Host] = []string{string(host.State)}
		for _, f := range host.Findings {
			if f.Kind != compare.Cosmetic {
				told[host.Host] = append(told[host.Host], fmt.Sprintf("%s %s %d: %s", f.Kind, f.Because, f.Revision, f.Sentence))
			}
		}
	}
	require.Equal(t, []string{"behind", "opened behind 2: tcp 80, 443 from everywhere except pests, office still gets in: as of revision " +
		"2 nothing in the policy admits it; that is not settled here."}, told["charts-01"])
	require.Equal(t, []string{"drifted", "opened changed 1: tcp 5432 from hill-lan (IPv4) gets in; nothing in the policy admits it."},
		told["logbook-01"], "what somebody changed stays theirs")
	require.Equal(t, []string{"in step"}, told["watch-01"], "revision 2 means the same for it")
	in := []api.RevisionInForce{{Revision: 2, Hosts: 1}, {Revision: 1, Hosts: 1}, {Revision: 0, Hosts: 13}}
	require.Equal(t, in, d.InForce)

	fl, err := h.Fleet(ctx)
	require.NoError(t, err)
	require.Equal(t, in, fl.InForce)
	for _, host := range fl.Hosts {
		if host.Name == "charts-01" {
			require.Equal(t, []any{api.Behind, int64(1), int64(1)}, []any{host.State, host.Asked, host.InForce})
		}
	}
	list, err := h.Revisions(ctx)
	require.NoError(t, err)
	require.Equal(t, []any{15, true, 1, false, 1},
		[]any{list.Total, list.Revisions[0].Published, list.Revisions[0].Hosts, list.Revisions[1].Published, list.Revisions[1].Hosts})
	answer, err := h.Ask(ctx, "198.51.100.5 -> charts-01 : https")
	require.NoError(t, err)
	require.Equal(t, "dropped", answer.Verdict)
	require.Equal(t, &api.AnswerInForce{Revision: 2, Of: 1, Not: []string{"charts-01"}}, answer.InForce)
}

// narrower is the demo's policy with its site for the office alone.
func narrower(t *testing.T) []check.Source {
	files := policyFiles(t)
	for i := range files {
		files[i].Text = strings.Replace(files[i].Text, "allow chart-web:        everywhere -> charts",
			"allow chart-web:        office -> charts", 1)
	}
	return files
}

// TestAnEndThatComesIsSeen: what was worked out before a rule's end does not
// hold after it, though host and policy stayed as they were.
func TestAnEndThatComesIsSeen(t *testing.T) {
	t.Parallel()
	h := newSaltmarsh(t)
	ctx := context.Background()
	kinds := func() (out []compare.Kind) {
		d, err := h.Drift(ctx, "charts-01")
		require.NoError(t, err)
		for _, f := range d.Hosts[0].Findings {
			out = append(out, f.Kind)
		}
		return out
	}
	_, err := h.Report(ctx, report("charts-01", recorded(t, "charts-01")))
	require.NoError(t, err)
	require.Empty(t, kinds())
	h.turnTo(time.Date(2035, 3, 31, 23, 59, 59, 0, time.UTC))
	require.Empty(t, kinds(), "the survey's last second")
	h.turnTo(h.now().Add(time.Second))
	require.Equal(t, []compare.Kind{compare.Cosmetic}, kinds(), "its rule is still there and does nothing")
}

func TestAsk(t *testing.T) {
	t.Parallel()
	h := newHarbour(t)
	ctx := context.Background()
	_, err := h.Ask(ctx, "office -> jump : ssh")
	require.Equal(t, http.StatusConflict, problem(t, err).Status, "nothing is published")
	h = newSaltmarsh(t)
	a, err := h.Ask(ctx, "pilotage -> logbook : postgresql")
	require.NoError(t, err)
	require.Equal(t, []any{"admitted", 2, "rules.fence:4:7"}, []any{a.Verdict, len(a.Steps), a.Steps[1].At})
	_, err = h.Ask(ctx, "pilotag -> logbook : postgresql")
	require.Equal(t, `did you mean "pilotage"?`, problem(t, err).Problems[0].Hint)
	_, err = h.as([]api.Right{api.Host}, "charts-01").Ask(ctx, "office -> jump : ssh")
	require.Equal(t, http.StatusForbidden, problem(t, err).Status)
}

func TestRulesBesideLive(t *testing.T) {
	t.Parallel()
	h := newSaltmarsh(t)
	ctx := context.Background()
	_, err := h.Report(ctx, report("logbook-01", recorded(t, "logbook-01")))
	require.NoError(t, err)
	live, err := h.Live(ctx, "logbook-01")
	require.NoError(t, err)
	alone := func(chains []api.Chain) (texts []string) {
		for _, c := range chains {
			for _, r := range c.Rules {
				if !r.Twin {
					texts = append(texts, r.Text)
				}
			}
		}
		return texts
	}
	require.Equal(t, []string{"ip saddr 10.60.0.0/16 tcp dport 5432 accept"}, alone(live.Chains))
	require.Empty(t, alone(live.Published))
	rules, err := h.Rules(ctx, "logbook-01")
	require.NoError(t, err)
	require.Contains(t, rules.Text, "table inet yellowfence")
	for _, r := range rules.Chains[0].Rules {
		if r.By == "allow hop" {
			require.Equal(t, "rules.fence:17:7", r.At)
		}
	}
}

// TestWhatWasAcceptedStaysAccepted: a revision that was published in spite of a problem does
// not stand in the way of fleet files for the same problem, and its history says so.
func TestWhatWasAcceptedStaysAccepted(t *testing.T) {
	t.Parallel()
	h := newSaltmarsh(t)
	ctx := context.Background()
	files := policyFiles(t)
	for i := range files {
		files[i].Text = strings.ReplaceAll(files[i].Text, "  guard", "")
	}
	_, err := h.Publish(ctx, api.PublishRequest{Files: files, Why: "no guards"})
	require.Equal(t, "no-guard", problem(t, err).Problems[0].Code)
	_, err = h.Publish(ctx, api.PublishRequest{Files: files, Why: "no guards", Accept: []string{"no-guard", "stale-knowingly"}})
	require.NoError(t, err)
	list, err := h.Revisions(ctx)
	require.NoError(t, err)
	require.Equal(t, []api.Accepted{{Code: "no-guard", Message: "no rule of this policy is a guard, so nothing keeps a way in"}},
		list.Revisions[0].Accepted)
	require.Nil(t, list.Revisions[1].Accepted)

	_, err = h.Import(ctx, api.ImportRequest{File: "fleet.json", Text: fleetFile(t), Why: "the same"})
	require.NoError(t, err)
	_, err = h.Import(ctx, api.ImportRequest{File: "fleet.json",
		Text: strings.Replace(fleetFile(t), `"roles": ["depot"]`, `"roles": ["dpot"]`, 1)})
	require.Equal(t, `no role is named "dpot"`, problem(t, err).Problems[0].Message, "other problems do")
	_, err = h.Publish(ctx, api.PublishRequest{Files: files, Why: "again"})
	require.Equal(t, "no-guard", problem(t, err).Problems[0].Code, "whoever publishes accepts for himself")
}
