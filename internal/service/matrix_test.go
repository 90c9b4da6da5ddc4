package service_test

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yellowfence.example/yfence/api"
	"yellowfence.example/yfence/internal/service"
)

// bodies are requests that come as far as the question who may do this on what.
var bodies = map[string]string{
	"start-wave": `{"hosts": ["charts-01"]}`,
	"probe":      `{"question": "charts-01 -> charts-02 : ssh"}`,
	"ask-host":   `{"do": "pause", "within": "1h", "why": "who is refused?"}`,
	"publish":    `{"files": [{"name": "p.fence", "text": "policy p language 1"}], "why": "w"}`,
	"make-token": `{"name": "charts-01", "rights": [], "host": "charts-01"}`,
}

// TestWhoMayDoWhat calls every operation as every kind of caller. What comes of it is one table, to be
// read: "." is not let in at all, "no" may not do this, "yes" may.
func TestWhoMayDoWhat(t *testing.T) {
	t.Parallel()
	ctx := context.Background()
	h := newSaltmarsh(t)
	revoked, err := h.store.NewToken(ctx, "revoked", api.Rights, "")
	require.NoError(t, err)
	require.NoError(t, h.store.RevokeToken(ctx, revoked.ID))
	past := time.Now().Add(-time.Second)
	ended, err := h.store.MakeToken(ctx, api.Token{Name: "ended", Rights: api.Rights, Until: &past})
	require.NoError(t, err)
	type kind struct{ name, secret string }
	callers := []kind{{"nobody", ""}, {"wrong", "yft_wrong"}, {"revoked", revoked.Secret}, {"ended", ended.Secret}}
	for _, one := range []struct {
		name, right, host string
	}{{"charts-01", "host", "charts-01"}, {"logbook-01", "host", "logbook-01"}, {"read", "read", ""}, {"read:charts", "read:charts", ""},
		{"read:gate", "read:gate", ""}, {"propose", "propose", ""}, {"approve", "approve", ""}, {"publish", "publish", ""},
		{"settle", "settle", ""}, {"settle:charts", "settle:charts", ""}, {"settle:gate", "settle:gate", ""}, {"pause:charts",
			"pause:charts", ""},
		{"tokens", "tokens", ""}, {"tokens:charts", "tokens:charts", ""}, {"tokens:gate", "tokens:gate", ""}} {
		made, err := h.store.NewToken(ctx, one.name, []api.Right{api.Right(one.right)}, one.host)
		require.NoError(t, err)
		callers = append(callers, kind{one.name, made.Secret})
	}
	callers = append(callers, kind{"all", h.token})
	doc, err := service.OpenAPI()
	require.NoError(t, err)
	var open struct {
		Paths map[string]map[string]struct{ OperationID string }
	}
	require.NoError(t, json.Unmarshal(doc, &open))
	var rows []string
	names := strings.NewReplacer("{host}", "charts-01", "{number}", "999", "{id}", "999999", "{network}", "nothing")
	type operation struct{ id, method, path string }
	var all []operation
	for path, ways := range open.Paths {
		for method, o := range ways {
			all = append(all, operation{o.OperationID, strings.ToUpper(method), names.Replace(path)})
		}
	}
	slices.SortFunc(all, func(a, b operation) int { return strings.Compare(a.id, b.id) })
	for _, o := range all {
		row := fmt.Sprintf("%-16s", o.id)
		for _, c := range callers {
			row += fmt.Sprintf(" %*s", max(3, len(c.name)), h.may(o.method, o.path, bodies[o.id], c.secret))
		}
		rows = append(rows, row)
	}
	head := fmt.Sprintf("%-16s", "operation")
	for _, c := range callers {
		head += fmt.Sprintf(" %3s", c.name)
	}
	const golden = "testdata/who-may-do-what.txt"
	text := head + "\n" + strings.Join(rows, "\n") + "\n"
	if *update {
		require.NoError(t, os.WriteFile(golden, []byte(text), 0o644))
	}
	want, err := os.ReadFile(golden)
	require.NoError(t, err)
	require.Equal(t, string(want), text, "run the test with -update, and read what it writes")
}

// may says whether somebody is let in for a request, and may do it.
func (h *harbour) may(method, path, body, secret string) string {
	patience, waits := time.Minute, strings.HasSuffix(path, "/probes") // these wait for a host
	if waits {
		patience = time.Second
	}
	ctx, cancel := context.WithTimeout(context.Background(), patience)
	defer cancel()
	req, err := http.NewRequestWithContext(ctx, method, h.url+path, strings.NewReader(body))
	require.NoError(h.t, err)
	req.Header.Set("Content-Type", "application/json")
	if secret != "" {
		req.Header.Set("Authorization", "Bearer "+secret)
	}
	res, err := http.DefaultClient.Do(req)
	if waits && errors.Is(err, context.DeadlineExceeded) {
		return "yes"
	}
	require.NoError(h.t, err, "%s %s", method, path)
	defer func() { _ = res.Body.Close() }()
	if res.StatusCode == http.StatusOK && res.Header.Get("Content-Type") == "text/event-stream" { // it never ends
		return "yes"
	}
	said, err := io.ReadAll(res.Body)
	require.NoError(h.t, err)
	switch {
	case res.StatusCode == http.StatusUnauthorized && strings.Contains(string(said), "token"):
		return "."
	case res.StatusCode == http.StatusForbidden:
		require.Contains(h.t, string(said), "it takes the right ", "%s %s", method, path)
		return "no"
	}
	require.Less(h.t, res.StatusCode, 500, "%s %s: %s", method, path, said)
	return "yes"
}
