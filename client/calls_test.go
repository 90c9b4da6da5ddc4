package client_test

import (
	"context"
	"encoding/pem"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"yellowfence.example/yfence/api"
	"yellowfence.example/yfence/client"
)

// at is a service that answers each request with the next of some answers, and the last one again after that.
func at(t *testing.T, answers ...http.HandlerFunc) (c *client.Client, heard *[]*http.Request) {
	heard = &[]*http.Request{}
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		n := min(len(*heard), len(answers)-1)
		*heard = append(*heard, r)
		answers[n](w, r)
	}))
	t.Cleanup(server.Close)
	return client.New(server.URL, "secret"), heard
}

// says answers a status with a text.
func says(status int, format string, args ...any) http.HandlerFunc {
	return func(w http.ResponseWriter, _ *http.Request) {
		w.WriteHeader(status)
		_, _ = fmt.Fprintf(w, format, args...)
	}
}

// breaks ends the connection before there is an answer.
func breaks(http.ResponseWriter, *http.Request) { panic(http.ErrAbortHandler) }

// TestInsist: which calls are made again, how often, and that all of them carry one key.
func TestInsist(t *testing.T) {
	t.Parallel()
	done := says(http.StatusOK, `{"number": 7}`)
	problem := func(code api.ProblemCode, status int) http.HandlerFunc {
		return says(status, `{"code": %q, "detail": "not now"}`, code)
	}
	stop := func(ctx context.Context, c *client.Client) error {
		_, err := c.StopWave(ctx, 7, "the tide")
		return err
	}
	read := func(ctx context.Context, c *client.Client) error {
		_, err := c.Wave(ctx, 7)
		return err
	}
	for _, c := range []struct {
		name    string
		call    func(context.Context, *client.Client) error
		insists int
		answers []http.HandlerFunc
		calls   int
		fails   string
	}{
		{"answered at once", stop, 2, []http.HandlerFunc{done}, 1, ""},
		{"the connection breaks", stop, 1, []http.HandlerFunc{breaks, done}, 2, ""},
		{"it breaks once more than anybody insists", stop, 1, []http.HandlerFunc{breaks}, 2, "does not answer"},
		{"nobody insists", stop, 0, []http.HandlerFunc{breaks, done}, 1, "does not answer"},
		{"the same call is at work", stop, 1, []http.HandlerFunc{problem(api.KeyAtWork, 409), done}, 2, ""},
		{"it is unclear what became of it", stop, 1, []http.HandlerFunc{problem(api.Unclear, 503), done}, 2, ""},
		{"it was refused", stop, 1, []http.HandlerFunc{problem(api.NeedsApproval, 409)}, 1, "not now"},
		{"half an answer", stop, 1, []http.HandlerFunc{says(http.StatusOK, `{"number": `), done}, 2, ""},
		{"who reads asks once", read, 1, []http.HandlerFunc{breaks}, 1, "does not answer"},
	} {
		t.Run(c.name, func(t *testing.T) {
			t.Parallel()
			to, heard := at(t, c.answers...)
			err := c.call(context.Background(), to.Insist(c.insists))
			if c.fails == "" {
				require.NoError(t, err)
			} else {
				require.ErrorContains(t, err, c.fails)
			}
			var keys []string
			for _, r := range *heard {
				keys = append(keys, r.Header.Get("Idempotency-Key"))
			}
			require.Len(t, keys, c.calls)
			keys = slices.Compact(keys)
			require.Len(t, keys, 1, "one key for all of them")
			require.Equal(t, c.insists > 0 && (*heard)[0].Method != http.MethodGet, keys[0] != "")
		})
	}
	to, heard := at(t, breaks, done)
	require.NoError(t, stop(client.WithKey(context.Background(), "mine"), to.Insist(1)))
	require.Equal(t, "mine", (*heard)[1].Header.Get("Idempotency-Key"))
	to, heard = at(t, breaks)
	ctx, cancel := context.WithCancel(context.Background())
	cancel()
	require.ErrorIs(t, stop(ctx, to.Insist(5)), context.Canceled)
	require.Empty(t, *heard)
}

// TestNobodyIsFollowedElsewhere: a request that changes something would arrive there as one that reads, and be answered
// as if all were well.
func TestNobodyIsFollowedElsewhere(t *testing.T) {
	for _, status := range []int{http.StatusMovedPermanently, http.StatusFound, http.StatusTemporaryRedirect} {
		there, reached := at(t, says(http.StatusOK, `{}`))
		c, heard := at(t, func(w http.ResponseWriter, r *http.Request) {
			http.Redirect(w, r, there.URL()+r.URL.Path+"?x=1", status)
		})
		_, err := c.Publish(context.Background(), api.PublishRequest{})
		require.ErrorContains(t, err, c.URL()+" sends on to "+there.URL()+": give that as the server, if you trust it")
		_, err = c.Stream(context.Background(), 0)
		require.ErrorContains(t, err, "sends on to")
		require.Len(t, *heard, 2)
		require.Empty(t, *reached, "whose token it is stays here")
	}
}

// TestListsInParts: parts are put together in order, and a list that does not end is given up.
func TestListsInParts(t *testing.T) {
	c, heard := at(t, says(200, `{"version": 1, "total": 3, "hosts": [{"name": "a"}, {"name": "b c"}], "next": "b c"}`),
		says(200, `{"version": 1, "total": 3, "hosts": [{"name": "d"}]}`))
	fleet, err := c.Fleet(context.Background())
	require.NoError(t, err)
	require.Len(t, fleet.Hosts, 3)
	require.Equal(t, "d", fleet.Hosts[2].Name)
	require.Equal(t, "b c", (*heard)[1].URL.Query().Get("after"))

	c, heard = at(t, says(200, `{"revisions": [{"number": 9}], "next": 9}`), says(200, `{"revisions": [{"number": 8}]}`))
	revisions, err := c.Revisions(context.Background())
	require.NoError(t, err)
	require.Len(t, revisions.Revisions, 2)
	require.Equal(t, "9", (*heard)[1].URL.Query().Get("before"))

	c, _ = at(t, says(200, `{"hosts": [], "next": "a"}`))
	_, err = c.Drift(context.Background(), "")
	require.ErrorContains(t, err, "tells of hosts without an end: 1000 parts were read")
}

// TestStreams: messages are read one by one; what is no message is passed over, and one that is too long is not kept.
func TestStreams(t *testing.T) {
	long := strings.Repeat("x", 5<<20)
	c, heard := at(t, says(200, ": hello\n\nid: 7\ndata: {\"number\": 7, \"kind\": \"wave\"}\n\n: still here\n\ndata: {\"kind\": "+
		"\"look\"}\n\n"),
		says(200, "data: {\"kind\": %q}\n\n", long), says(200, "data: what\n\n"), says(http.StatusTooManyRequests,
			`{"detail": "end one first"}`))
	next := func(s *client.Stream) string {
		m, err := s.Next()
		if err != nil {
			return err.Error()
		}
		return fmt.Sprint(m.Number, " ", m.Kind)
	}
	listen := func() *client.Stream {
		s, err := c.Stream(context.Background(), 6, "wave", "a&b")
		require.NoError(t, err)
		t.Cleanup(func() { _ = s.Close() })
		return s
	}
	s := listen()
	require.Equal(t, []string{"7 wave", "0 look", io.EOF.Error()}, []string{next(s), next(s), next(s)})
	require.Equal(t, "6", (*heard)[0].Header.Get("Last-Event-ID"))
	require.Equal(t, "wave,a&b", (*heard)[0].URL.Query().Get("only"))
	require.Equal(t, "a message is longer than 4 MB", next(listen()))
	require.Contains(t, next(listen()), "invalid character 'w'")
	_, err := c.Stream(context.Background(), 0)
	require.ErrorContains(t, err, "end one first")
}

// TestTrust: a service is believed by the authority that was named, and by no other.
func TestTrust(t *testing.T) {
	server := httptest.NewTLSServer(says(http.StatusOK, `{"version": 1}`))
	defer server.Close()
	server.Config.ErrorLog = nil
	authority := pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: server.Certificate().Raw})
	ask := func(c *client.Client) error {
		_, err := c.Keys(context.Background())
		return err
	}
	c := client.New(server.URL, "secret")
	require.ErrorContains(t, ask(c), "certificate")
	require.NoError(t, c.Trust(authority))
	require.NoError(t, ask(c))
	require.EqualError(t, c.Trust([]byte("-----BEGIN CERTIFICATE-----\n")), "there is no certificate in it (PEM)")
}
