package service_test

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"net/netip"
	"regexp"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yellowfence.example/yfence/api"
	"yellowfence.example/yfence/core/record"
	"yellowfence.example/yfence/internal/dunlin"
	"yellowfence.example/yfence/internal/service"
	"yellowfence.example/yfence/internal/store"
)

// sink is somebody who is told of events.
type sink struct {
	*httptest.Server
	mu     sync.Mutex
	got    []delivered
	answer func(w http.ResponseWriter, r *http.Request, body []byte) // 204, if nil
}

// delivered is a CloudEvent as it came.
type delivered struct {
	ID, Type, Subject, Source, SpecVersion string
	Time                                   time.Time
	Data                                   json.RawMessage
	header                                 http.Header
	body                                   []byte
}

func newSink(t *testing.T) *sink {
	s := &sink{}
	s.Server = httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		body, _ := io.ReadAll(r.Body)
		s.mu.Lock()
		answer := s.answer
		s.mu.Unlock()
		if answer != nil {
			answer(w, r, body)
			return
		}
		var d delivered
		assert.NoError(t, json.Unmarshal(body, &d))
		d.header, d.body = r.Header, body
		s.mu.Lock()
		s.got = append(s.got, d)
		s.mu.Unlock()
		w.WriteHeader(http.StatusNoContent)
	}))
	t.Cleanup(s.Close)
	return s
}

func (s *sink) answers(answer func(http.ResponseWriter, *http.Request, []byte)) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.answer = answer
}

func (s *sink) all() []delivered {
	s.mu.Lock()
	defer s.mu.Unlock()
	return append([]delivered{}, s.got...)
}

func to(name, url string, only ...string) service.Destination {
	return service.Destination{Destination: store.Destination{Name: name, Only: only}, URL: url, Internal: true}
}

// TestEventsAreDelivered: each deed and each change of a host's state is told once to each destination
// that wants it, in order for a subject, signed; with the record's checkpoint.
func TestEventsAreDelivered(t *testing.T) {
	t.Parallel()
	ctx := context.Background()
	every, hosts := newSink(t), newSink(t)
	secret := []byte("a secret of sixteen or more")
	first := to("every", every.URL)
	first.Secret = secret
	h := newHarbour(t, func(o *service.Options) {
		o.EventsLook = 20 * time.Millisecond
		o.Settings.Destinations = []service.Destination{first, to("hosts", hosts.URL, "host", "revision.published")}
	})
	_, err := h.Import(ctx, api.ImportRequest{File: "fleet.json", Text: fleetFile(t)})
	require.NoError(t, err)
	_, err = h.Publish(ctx, api.PublishRequest{Files: policyFiles(t), Why: "first"})
	require.NoError(t, err)
	_, err = h.Report(ctx, report("logbook-01", recorded(t, "logbook-01"))) // as after its mishap
	require.NoError(t, err)
	for i := range 5 {
		_, err := h.NewToken(ctx, api.TokenRequest{Name: fmt.Sprint("t", i), Rights: []api.Right{api.Read}})
		require.NoError(t, err)
	}
	require.Eventually(t, func() bool { return len(every.all()) >= 9 && len(hosts.all()) >= 2 }, 20*time.Second, 20*time.Millisecond)
	time.Sleep(200 * time.Millisecond) // what came twice would come now
	list, err := h.Events(ctx, 0, 100)
	require.NoError(t, err)
	ids := map[string]bool{}
	for _, d := range every.all() {
		require.False(t, ids[d.ID], "it came twice")
		ids[d.ID] = true
		require.Equal(t, []string{"1.0", "/yellowfence"}, []string{d.SpecVersion, d.Source})
		require.Equal(t, "application/cloudevents+json", d.header.Get("Content-Type"))
		require.Equal(t, service.Sign(secret, d.header.Get("Yfence-Time"), d.body), d.header.Get("Yfence-Hmac"))
		if strings.HasSuffix(d.Type, ".host.state") || strings.HasSuffix(d.Type, ".host.way-in") {
			continue
		}
		if strings.HasSuffix(d.Type, ".record.checkpoint") {
			var told record.Checkpoint
			require.NoError(t, json.Unmarshal(d.Data, &told))
			require.NoError(t, h.verified(told))
			continue
		}
		var told api.RecordEvent
		require.NoError(t, json.Unmarshal(d.Data, &told))
		head, err := record.Open(told.Checkpoint.Head, told.Checkpoint.Key)
		require.NoError(t, err)
		require.Equal(t, head.Size, told.Entry.Number)
		require.NoError(t, h.verified(told.Checkpoint), "each is a checkpoint that the record follows")
	}
	require.Len(t, ids, len(list.Events))
	types := []string{}
	for _, d := range hosts.all() {
		types = append(types, strings.TrimPrefix(d.Type, api.EventPrefix)+" "+d.Subject)
		require.Empty(t, d.header.Get("Yfence-Hmac"))
	}
	require.Contains(t, types, "revision.published revision 1")
	require.Contains(t, types, "host.state logbook-01")
	require.NotContains(t, strings.Join(types, "\n"), "token")
	var state api.HostEvent
	for _, d := range hosts.all() {
		if d.Subject == "logbook-01" && d.Type == api.EventPrefix+api.HostStateEvent {
			require.NoError(t, json.Unmarshal(d.Data, &state))
		}
	}
	require.Equal(t, []any{"logbook-01", api.Drifted, 1}, []any{state.Host, state.State, state.Changes})
	require.Contains(t, []api.State{"", api.InStep}, state.Was, "what was told before, if anything was")
	undelivered, err := h.Undelivered(ctx)
	require.NoError(t, err)
	require.Empty(t, undelivered.Undelivered)
}

// TestOtherEvents: a way in that somebody shut and what is to be said of a cloud are told, and again when that is
// over; and the newest head of the record, while it grows.
func TestOtherEvents(t *testing.T) {
	t.Parallel()
	ctx := context.Background()
	heard := newSink(t)
	var later atomic.Int64
	calm := func() { later.Add(int64(11 * time.Minute)) } // so that what is next is told at once
	c := newCloudedWith(t, func(o *service.Options) {
		o.EventsLook = 20 * time.Millisecond
		o.Clock = func() time.Time { return time.Now().Add(time.Duration(later.Load())) }
		o.Settings.Destinations = []service.Destination{to("heard", heard.URL, "host.way-in", "cloud", "record.checkpoint")}
	})
	last := func(kind string, into any) bool {
		all := heard.all()
		for i := range all {
			if d := all[len(all)-1-i]; d.Type == api.EventPrefix+kind {
				require.NoError(t, json.Unmarshal(d.Data, into))
				return true
			}
		}
		return false
	}
	require.Equal(t, api.WaveDone, c.wave().State)
	c.until("the head of the record is told", func() bool {
		var e record.Checkpoint
		return last("record.checkpoint", &e) && e.Size >= 3 && c.verified(e) == nil
	})

	rules, err := c.Settle(ctx, "jump-01")
	require.NoError(t, err)
	inForce := func(text string) {
		r := report("jump-01", "")
		r.TakenAt = time.Now().UTC()
		r.Dumps = []api.Dump{{Kind: "nft-text", Text: strings.Split(text, "delete table inet yellowfence\n")[1]}}
		_, err := c.Report(ctx, r)
		require.NoError(t, err)
	}
	inForce(rules.Text)
	c.until("it is in step", func() bool { return c.state("jump-01") == api.InStep })
	inForce(regexp.MustCompile(`(?m)^.*tcp dport 22 .*$`).ReplaceAllString(rules.Text, ""))
	c.until("the way in is told of", func() bool {
		var e api.WayIn
		return last("host.way-in", &e) && e.Host == "jump-01" && e.AtRisk && len(e.Says) > 0
	})
	inForce(rules.Text)
	c.until("and that it is open again", func() bool {
		var e api.WayIn
		return last("host.way-in", &e) && !e.AtRisk
	})

	calm()
	c.sky.Start(dunlin.Instance{ID: "dunlin-77", Labels: map[string]string{"role": "charts"},
		Addresses: []netip.Addr{netip.MustParseAddr("198.51.100.201")}}) // an address that is another's
	c.until("what is noted of the cloud is told", func() bool {
		var e api.CloudEvent
		return last("cloud.state", &e) && e.Cloud == "dunlin" && len(e.Notes) > 0
	})
	calm()
	c.sky.Stop("dunlin-77")
	c.until("and that it is over", func() bool {
		var e api.CloudEvent
		return last("cloud.state", &e) && len(e.Notes) == 0
	})
}

// TestDestinationsThatAreNotWell: what a destination answers keeps nobody else's events up; what is not
// taken is tried again, in order, and given up after a day, and then sent again when somebody says so.
func TestDestinationsThatAreNotWell(t *testing.T) {
	t.Parallel()
	ctx := context.Background()
	sick, well := newSink(t), newSink(t)
	outside := to("outside", well.URL)
	outside.Internal = false // and it is at this machine
	h := newHarbour(t, func(o *service.Options) {
		o.EventsLook = 20 * time.Millisecond
		o.Settings.Destinations = []service.Destination{to("sick", sick.URL, "token"), to("well", well.URL, "token"), outside}
	})
	said := func(destination string) string {
		list, err := h.Undelivered(ctx)
		require.NoError(t, err)
		for _, u := range list.Undelivered {
			if u.Destination == destination {
				return u.State + ": " + u.Said
			}
		}
		return ""
	}
	done := make(chan struct{})
	defer close(done)
	made := 1 // pat's
	for _, c := range []struct {
		answer func(http.ResponseWriter, *http.Request, []byte)
		says   string
	}{
		{func(w http.ResponseWriter, _ *http.Request, _ []byte) { w.WriteHeader(http.StatusBadGateway) },
			"due: it answered 502 Bad Gateway"},
		{func(w http.ResponseWriter, r *http.Request, _ []byte) {
			http.Redirect(w, r, "http://192.0.2.1/", http.StatusFound)
		},
			"it leads elsewhere; name the address that it leads to"},
		{func(w http.ResponseWriter, r *http.Request, _ []byte) {
			for r.Context().Err() == nil { // it never ends, and slowly
				if _, err := w.Write([]byte("x")); err != nil {
					return
				}
				w.(http.Flusher).Flush()
				select {
				case <-done:
					return
				case <-time.After(time.Second):
				}
			}
		}, "its answer did not end: "},
		{func(w http.ResponseWriter, _ *http.Request, _ []byte) { panic(http.ErrAbortHandler) }, "EOF"},
	} {
		sick.answers(c.answer)
		_, err := h.NewToken(ctx, api.TokenRequest{Name: "t", Rights: []api.Right{api.Read}})
		require.NoError(t, err)
		made++
		require.Eventually(t, func() bool { return strings.Contains(said("sick"), c.says) }, 30*time.Second, 20*time.Millisecond,
			"%s: %s", c.says,
			said("sick"))
		require.Eventually(t, func() bool { return len(well.all()) == made }, 10*time.Second, 20*time.Millisecond, "others have theirs")
	}
	require.NotContains(t, said("outside")+said("sick"), "http://", "an address may hold a secret, and any reader sees this")
	require.Contains(t, said("outside"), "events are not delivered to 127.0.0.1, which is this machine or its link; internal: true "+
		"allows it")

	h.turnTo(time.Now().Add(25 * time.Hour))
	require.Eventually(t, func() bool { return strings.HasPrefix(said("sick"), "given up: ") }, 30*time.Second, 50*time.Millisecond)
	h.set.Store(nil)
	sick.answers(nil)
	_, err := h.SendAgain(ctx, "nobody")
	require.Contains(t, problem(t, err).Detail, `nothing was given up for a destination "nobody"`)
	require.Eventually(t, func() bool {
		_, _ = h.SendAgain(ctx, "sick")
		return len(sick.all()) == made
	}, 30*time.Second, 100*time.Millisecond)
	last := int64(0)
	for _, d := range sick.all() { // all are about tokens, each of its own
		var told api.RecordEvent
		require.NoError(t, json.Unmarshal(d.Data, &told))
		require.NotEqual(t, last, told.Entry.Number)
		last = told.Entry.Number
	}
}
