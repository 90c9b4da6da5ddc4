package service_test

import (
	"context"
	"crypto/x509"
	"fmt"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yellowfence.example/yfence/api"
	"yellowfence.example/yfence/core/check"
	"yellowfence.example/yfence/internal/service"
)

// pestsAt is a list of so many addresses, from one on.
func pestsAt(first, n int) string {
	var b strings.Builder
	b.WriteString("# collected at 03:00\n")
	for i := range n {
		fmt.Fprintf(&b, "198.18.%d.%d\n", (first+i)/250, (first+i)%250)
	}
	return b.String()
}

// TestLists: what an address holds now takes the place of a list by itself, within what the
// policy says; what is wrong, or more than that, changes nothing.
func TestLists(t *testing.T) {
	t.Parallel()
	ctx := context.Background()
	var answer atomic.Value // func(http.ResponseWriter, *http.Request)
	says := func(text string) {
		answer.Store(func(w http.ResponseWriter, _ *http.Request) { _, _ = w.Write([]byte(text)) })
	}
	says(pestsAt(0, 40))
	web := httptest.NewTLSServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		answer.Load().(func(http.ResponseWriter, *http.Request))(w, r)
	}))
	defer web.Close()
	authorities := x509.NewCertPool()
	authorities.AddCert(web.Certificate())
	options := service.ListOptions{Look: 30 * time.Millisecond, Sooner: 3600 * 20, Loopback: true, Authorities: authorities}
	h := newHarbour(t, func(o *service.Options) { o.Lists = options })
	_, err := h.Import(ctx, api.ImportRequest{File: "fleet.json", Text: smallFleet()})
	require.NoError(t, err)
	policy := func(more string) []check.Source {
		return []check.Source{{Name: "p.fence", Text: smallPolicy + "network pests from \"pests.txt\" fetched \"" + web.URL +
			"/pests\" every 1h up to 100 changing 10 percent shared\nblock no-pests: pests -> fleet : any\n" + more},
			{Name: "pests.txt", Text: pestsAt(0, 40)}}
	}
	_, err = h.Publish(ctx, api.PublishRequest{Files: policy(""), Why: "first"})
	require.NoError(t, err)
	revision := func() api.Revision {
		list, err := h.Revisions(ctx)
		require.NoError(t, err)
		r, err := h.Revision(ctx, list.Revisions[0].Number)
		require.NoError(t, err)
		return r
	}
	state := func() api.ListStatus {
		list, err := h.Lists(ctx)
		require.NoError(t, err)
		return list.Lists[0]
	}
	until := func(what string, holds func() bool) {
		t.Helper()
		if !assert.Eventually(t, holds, 10*time.Second, 20*time.Millisecond, what) {
			require.Fail(t, what, "%+v", state())
		}
	}
	until("it is read", func() bool { return state().ReadAt != nil })
	require.EqualValues(t, 1, revision().Number, "what it holds is published already")

	says(pestsAt(0, 42))
	until("two more are taken", func() bool { return revision().Number == 2 })
	r := revision()
	require.Equal(t, []any{service.Itself, "pests: 2 more, 0 less, of 40, read from " + web.URL + "/pests", pestsAt(0, 42)},
		[]any{r.Author, r.Why, r.Files[1].Text})

	says(pestsAt(20, 42))
	until("half of it waits", func() bool { return state().Waits != "" })
	require.Equal(t, "pests: 20 more, 20 less, of 42: that is 95%, and 10% is taken without a person: yfence lists take pests",
		state().Waits)
	require.EqualValues(t, 2, revision().Number)
	for why, wrong := range map[string]func(http.ResponseWriter, *http.Request){
		"it holds no address": func(w http.ResponseWriter, _ *http.Request) {
			_,
				_ = w.Write([]byte("# nothing today\n"))
		},
		"it answered 503 Service Unavailable": func(w http.ResponseWriter,
			_ *http.Request) {
			w.WriteHeader(http.StatusServiceUnavailable)
		},
		"it has 101 lines, and up to 100 are taken": func(w http.ResponseWriter, _ *http.Request) {
			_,
				_ = w.Write([]byte(pestsAt(0, 101)))
		},
		"its entry 1: \"<html>\" is not an address": func(w http.ResponseWriter, _ *http.Request) { _, _ = w.Write([]byte("<html>\n")) },
		"elsewhere than to an https address": func(w http.ResponseWriter, r *http.Request) {
			http.Redirect(w, r, "http://192.0.2.1/", http.StatusFound)
		},
		"it is longer than the 4096 kB": func(w http.ResponseWriter, _ *http.Request) { _, _ = w.Write(make([]byte, 5<<20)) },
	} {
		answer.Store(wrong)
		until(why, func() bool { return strings.Contains(state().Failing, why) })
		require.EqualValues(t, 2, revision().Number)
	}
	says(pestsAt(20, 42))
	_, err = h.TakeList(ctx, "pest")
	require.Equal(t, http.StatusNotFound, problem(t, err).Status)
	_, err = h.as([]api.Right{api.Read}, "").TakeList(ctx, "pests")
	require.Equal(t, http.StatusForbidden, problem(t, err).Status)
	_, err = h.TakeList(ctx, "pests")
	require.NoError(t, err)
	require.Equal(t, pestsAt(20, 42), revision().Files[1].Text)
	require.Equal(t, []string{"", ""}, []string{state().Failing, state().Waits})

	// Whoever publishes need not know: neither does a copy of before come back, nor what came
	// by itself stand in the way.
	two := int64(1)
	_, err = h.Publish(ctx, api.PublishRequest{Files: policy("allow more: 198.51.100.9 -> charts : https\n"), Why: "more", After: &two})
	require.NoError(t, err)
	require.Equal(t, []string{"pat", pestsAt(20, 42)}, []string{revision().Author, revision().Files[1].Text})
	_, err = h.Publish(ctx, api.PublishRequest{Files: policy(""), Why: "late", After: &two})
	require.Equal(t, http.StatusConflict, problem(t, err).Status, "a person published since")

	// This machine's own services are none of a policy's business.
	inside := newHarbour(t, func(o *service.Options) { o.Lists = options; o.Lists.Loopback = false })
	_, err = inside.Import(ctx, api.ImportRequest{File: "fleet.json", Text: smallFleet()})
	require.NoError(t, err)
	_, err = inside.Publish(ctx, api.PublishRequest{Files: policy(""), Why: "first"})
	require.NoError(t, err)
	require.Eventually(t, func() bool {
		list, err := inside.Lists(ctx)
		return err == nil && strings.Contains(list.Lists[0].Failing, "lists are not read from 127.0.0.1")
	}, 10*time.Second, 20*time.Millisecond)
}
