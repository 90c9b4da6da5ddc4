package service_test

import (
	"context"
	"io"
	"net/http"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yellowfence.example/yfence/api"
	"yellowfence.example/yfence/client"
	"yellowfence.example/yfence/core/check"
	"yellowfence.example/yfence/internal/store"
)

// TestKeys: a request sent again with its key is done once, whoever sends it, whatever became of the answer.
func TestKeys(t *testing.T) {
	t.Parallel()
	ctx := context.Background()
	h := newSmall(t)
	request := func(why string) api.PublishRequest {
		return api.PublishRequest{Files: []check.Source{{Name: "p.fence", Text: smallPolicy}}, Why: why}
	}
	key := func(k string) context.Context { return client.WithKey(ctx, k) }
	code := func(err error) api.ProblemCode { return problem(t, err).Code }

	first, err := h.Publish(key("a"), request("one"))
	require.NoError(t, err)
	again, err := h.Publish(key("a"), request("one"))
	require.NoError(t, err)
	require.Equal(t, first, again, "the answer comes again")
	_, err = h.Publish(key("a"), request("another"))
	require.Equal(t, api.KeyReused, code(err))
	other, err := h.as(api.Rights, "").Publish(key("a"), request("one"))
	require.NoError(t, err)
	require.Equal(t, first.Revision+1, other.Revision, "another's key is another")

	_, err = h.Publish(key("b"), api.PublishRequest{Files: []check.Source{{Name: "p.fence", Text: "nonsense"}}, Why: "x"})
	require.Equal(t, api.WrongText, code(err))
	done, err := h.Publish(key("b"), request("mended"))
	require.NoError(t, err, "what was refused did nothing, and its key is free")
	require.Equal(t, first.Revision+2, done.Revision)

	made, err := h.NewToken(key("c"), api.TokenRequest{Name: "ci", Rights: []api.Right{api.Read}})
	require.NoError(t, err)
	_, err = h.NewToken(key("c"), api.TokenRequest{Name: "ci", Rights: []api.Right{api.Read}})
	require.Equal(t, api.DoneBefore, code(err), "a secret is told once")
	require.NotContains(t, h.text("SELECT COALESCE(GROUP_CONCAT(body), '') FROM keyed"), made.Secret)
	require.NoError(t, h.RevokeToken(key("d"), made.ID))
	require.NoError(t, h.RevokeToken(key("d"), made.ID), "an answer without a body comes again too")

	// Eight at once are one.
	before := h.text("SELECT COUNT(*) FROM revisions")
	var all sync.WaitGroup
	for range 8 {
		all.Go(func() {
			_, err := client.New(h.url, h.token).Insist(6).Publish(key("e"), request("at once"))
			require.NoError(t, err)
		})
	}
	all.Wait()
	require.Equal(t, "1", h.text("SELECT COUNT(*) - ? FROM revisions", before))

	// An attempt that died before it did anything is taken over when its time is over; one that did something is not.
	id := store.KeyedID("token token 1 pat", "f")
	_, mine, err := h.store.TakeKeyed(ctx, id)
	require.NoError(t, err)
	require.True(t, mine)
	_, err = h.Publish(key("f"), request("taken over"))
	require.Equal(t, api.KeyAtWork, code(err))
	h.exec("UPDATE keyed SET until = UTC_TIMESTAMP(6) WHERE id = ?", id[:])
	_, err = h.Publish(key("f"), request("taken over"))
	require.NoError(t, err)
	h.exec("UPDATE keyed SET status = NULL, until = UTC_TIMESTAMP(6) WHERE id = ?", id[:])
	_, err = h.Publish(key("f"), request("taken over"))
	require.Equal(t, api.DoneBefore, code(err))

	// An attempt whose request was taken over does nothing any more.
	k, _, err := h.store.TakeKeyed(ctx, store.KeyedID("token token 1 pat", "g"))
	require.NoError(t, err)
	h.exec("UPDATE keyed SET holder = 'another' WHERE id = ?", k.ID[:])
	_, err = h.store.NewToken(store.ForKeyed(ctx, k), "late", []api.Right{api.Read}, "")
	require.ErrorContains(t, err, "another attempt works at this request")
	require.Equal(t, "0", h.text("SELECT COUNT(*) FROM tokens WHERE name = 'late'"))
	h.exec("UPDATE keyed SET at = at - INTERVAL 2 DAY")
	_, err = h.store.Prune(ctx, store.DefaultKeeping)
	require.NoError(t, err)
	require.Equal(t, "0", h.text("SELECT COUNT(*) FROM keyed"))
}

// TestInsist: a client whose connection breaks after the request arrived finds out that it was done.
func TestInsist(t *testing.T) {
	t.Parallel()
	h := newSaltmarsh(t)
	broken := 0
	insisting := client.New(h.url, h.token).Insist(3)
	insisting.Through(roundTrip(func(r *http.Request) (*http.Response, error) {
		res, err := http.DefaultTransport.RoundTrip(r)
		if broken++; broken == 1 && err == nil {
			_ = res.Body.Close()
			return nil, io.ErrUnexpectedEOF
		}
		return res, err
	}))
	token, err := insisting.NewToken(context.Background(), api.TokenRequest{Name: "once", Rights: []api.Right{api.Read}})
	require.Equal(t, api.DoneBefore, problem(t, err).Code, "%v", token)
	require.Equal(t, "1", h.text("SELECT COUNT(*) FROM tokens WHERE name = 'once'"))
	broken = 0
	done, err := insisting.Import(context.Background(), api.ImportRequest{File: "fleet.json", Text: smallFleet()})
	require.NoError(t, err)
	require.EqualValues(t, 2, done.Generation)
	require.Equal(t, 2, broken)
}

// roundTrip is a function that carries requests.
type roundTrip func(*http.Request) (*http.Response, error)

// RoundTrip carries one.
func (f roundTrip) RoundTrip(r *http.Request) (*http.Response, error) { return f(r) }

// text asks the database behind the service's back for one word.
func (h *harbour) text(query string, args ...any) (s string) {
	require.NoError(h.t, h.row(query, args...).Scan(&s), query)
	return s
}

// TestTags: whoever has an answer already is told so, and only then.
func TestTags(t *testing.T) {
	t.Parallel()
	h := newSaltmarsh(t)
	get := func(path, tag string) (*http.Response, []byte) {
		req, err := http.NewRequest(http.MethodGet, h.url+"/api/v1"+path, nil)
		require.NoError(t, err)
		req.Header.Set("Authorization", "Bearer "+h.token)
		req.Header.Set("If-None-Match", tag)
		res, err := http.DefaultClient.Do(req)
		require.NoError(t, err)
		defer func() { _ = res.Body.Close() }()
		body, err := io.ReadAll(res.Body)
		require.NoError(t, err)
		return res, body
	}
	for _, path := range []string{"/fleet", "/revisions", "/revisions/1", "/language", "/session", "/fleet/file?format=yaml", "/keys",
		"/record"} {
		res, body := get(path, "")
		require.Equal(t, 200, res.StatusCode, path)
		tag := res.Header.Get("ETag")
		require.NotEmpty(t, tag, path)
		require.NotEmpty(t, body, path)
		res, body = get(path, `"other", `+strings.TrimPrefix(tag, "W/"))
		require.Equal(t, 304, res.StatusCode, path)
		require.Empty(t, body)
		require.Equal(t, tag, res.Header.Get("ETag"))
	}
	res, _ := get("/fleet", "")
	_, err := h.Import(context.Background(), api.ImportRequest{File: "fleet.json", Text: smallFleet()})
	require.NoError(t, err)
	changed, body := get("/fleet", res.Header.Get("ETag"))
	require.Equal(t, 200, changed.StatusCode)
	require.NotEmpty(t, body)
	missing, _ := get("/waves/77", "")
	require.Empty(t, missing.Header.Get("ETag"))
	require.Equal(t, "application/problem+json", missing.Header.Get("Content-Type"))

}

// newSmall is a harbour with a small fleet and no policy.
func newSmall(t *testing.T) *harbour {
	h := newHarbour(t)
	_, err := h.Import(context.Background(), api.ImportRequest{File: "fleet.json", Text: smallFleet()})
	require.NoError(t, err)
	return h
}

// TestTwoImports: whoever imports over what he looked at is told when somebody else was faster.
func TestTwoImports(t *testing.T) {
	t.Parallel()
	ctx := context.Background()
	h := newSaltmarsh(t)
	one, none := int64(1), int64(0)
	_, err := h.Import(ctx, api.ImportRequest{File: "fleet.json", Text: smallFleet(), After: &none})
	require.Equal(t, api.MovedOn, problem(t, err).Code)
	_, err = h.Import(ctx, api.ImportRequest{File: "fleet.json", Text: smallFleet(), After: &one})
	require.NoError(t, err)
	_, err = h.Import(ctx, api.ImportRequest{File: "fleet.json", Text: fleetFile(t), After: &one})
	require.ErrorContains(t, err, "generation 2 of the fleet is the newest, not 1: somebody imported one since")
}

// TestStream: who listens hears what happens, from where he left off, until he may not listen any more.
func TestStream(t *testing.T) {
	t.Parallel()
	ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
	defer cancel()
	h := newSaltmarsh(t)
	listen := func(c *client.Client, after int64, kinds ...string) *client.Stream {
		s, err := c.Stream(ctx, after, kinds...)
		require.NoError(t, err)
		t.Cleanup(func() { _ = s.Close() })
		return s
	}
	hear := func(s *client.Stream, kind string) api.StreamMessage {
		for {
			m, err := s.Next()
			require.NoError(t, err)
			if m.Kind == kind {
				return m
			}
		}
	}
	all, waves := listen(h.Client, 0), listen(h.Client, 0, "wave", api.StreamLook)
	_, err := h.NewToken(ctx, api.TokenRequest{Name: "ci", Rights: []api.Right{api.Read}})
	require.NoError(t, err)
	made := hear(all, "token.made")
	require.Equal(t, "pat", h.text("SELECT JSON_VALUE(data, '$.entry.by.name') FROM events WHERE number = ?", made.Number))
	_, err = h.as([]api.Right{api.Host}, "charts-01").Report(ctx, report("charts-01", emptyListing))
	require.NoError(t, err)
	m, err := waves.Next()
	require.NoError(t, err)
	require.Equal(t, api.StreamMessage{Kind: api.StreamLook, Look: []string{api.StreamReports}}, m, "it heard of no token")

	// Whoever comes again hears what he missed, once.
	_, err = h.Import(ctx, api.ImportRequest{File: "fleet.json", Text: smallFleet()})
	require.NoError(t, err)
	back := listen(h.Client, made.Number)
	for _, kind := range []string{"token.made", "fleet.imported"} { // the host's token first
		m, err := back.Next()
		require.NoError(t, err)
		require.Equal(t, kind, m.Kind)
	}
	_, err = h.Publish(ctx, api.PublishRequest{Files: []check.Source{{Name: "p.fence", Text: smallPolicy}}, Why: "x"})
	require.NoError(t, err)
	for {
		m, err := back.Next()
		require.NoError(t, err)
		if m.Event != nil {
			require.Equal(t, "revision.published", m.Kind)
			break
		}
	}
	_, err = h.as([]api.Right{"read:charts"}, "").Stream(ctx, 0)
	require.Equal(t, api.NotAllowed, problem(t, err).Code)
}
