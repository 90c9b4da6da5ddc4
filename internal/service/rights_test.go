package service_test

import (
	"context"
	"io"
	"net/http"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yellowfence.example/yfence/api"
	"yellowfence.example/yfence/client"
)

func TestRights(t *testing.T) {
	t.Parallel()
	h := newSaltmarsh(t)
	ctx := context.Background()
	reader, own := h.as([]api.Right{api.Read}, ""), h.as([]api.Right{api.Host}, "charts-01")
	calls := map[string]func(*client.Client) error{
		"read": func(c *client.Client) error { _, err := c.Fleet(ctx); return err },
		"publish": func(c *client.Client) error {
			_, err := c.Publish(ctx, api.PublishRequest{Files: policyFiles(t), Why: "w"})
			return err
		},
		"tokens": func(c *client.Client) error { _, err := c.Tokens(ctx); return err },
		"settle": func(c *client.Client) error { _, err := c.Settle(ctx, "charts-01"); return err },
		"report": func(c *client.Client) error {
			_, err := c.Report(ctx, report("charts-01", recorded(t, "charts-01")))
			return err
		},
		"others": func(c *client.Client) error {
			_, err := c.Report(ctx, report("charts-02", recorded(t, "charts-02")))
			return err
		},
		"other rules": func(c *client.Client) error { _, err := c.Rules(ctx, "charts-02"); return err },
	}
	for name, call := range calls {
		for who, c := range map[string]*client.Client{"reader": reader, "charts-01 itself": own, "nobody": client.New(h.url, "yft_wrong")} {
			allowed := map[string]string{"reader": "read, other rules", "charts-01 itself": "settle, report", "nobody": ""}[who]
			err := call(c)
			if strings.Contains(allowed, name) {
				require.NoError(t, err, "%s: %s", who, name)
				continue
			}
			want := http.StatusForbidden
			if who == "nobody" {
				want = http.StatusUnauthorized
			}
			require.Equal(t, want, problem(t, err).Status, "%s: %s", who, name)
		}
	}
	_, err := own.Report(ctx, api.Report{Version: 1, Host: "charts-01", TakenAt: time.Now()})
	require.Equal(t, http.StatusUnprocessableEntity, problem(t, err).Status, "a report without a dump is no host without rules")

	late := report("charts-01", recorded(t, "charts-01"))
	late.TakenAt = time.Date(2300, 1, 1, 0, 0, 0, 0, time.UTC)
	_, err = own.Report(ctx, late)
	require.Equal(t, http.StatusUnprocessableEntity, problem(t, err).Status, "a clock that is centuries off")

	made, err := h.NewToken(ctx, api.TokenRequest{Name: "kim", Rights: []api.Right{api.Read}})
	require.NoError(t, err)
	kim := client.New(h.url, made.Secret)
	_, err = kim.Fleet(ctx)
	require.NoError(t, err)
	require.NoError(t, h.RevokeToken(ctx, made.ID))
	_, err = kim.Fleet(ctx)
	require.Equal(t, http.StatusUnauthorized, problem(t, err).Status)
	weak := h.as([]api.Right{api.Tokens}, "")
	_, err = weak.NewToken(ctx, api.TokenRequest{Name: "more", Rights: []api.Right{api.Publish}})
	require.Equal(t, http.StatusForbidden, problem(t, err).Status, "nobody gives what he does not have")
}

// TestRightsForRoles: a right for some roles is for hosts that have no others.
func TestRightsForRoles(t *testing.T) {
	t.Parallel()
	ctx := context.Background()
	h := newSaltmarsh(t)
	for _, host := range []string{"charts-01", "logbook-01"} {
		_, err := h.as([]api.Right{api.Host}, host).Tasks(ctx, host, 0) // it attends
		require.NoError(t, err)
	}
	some := h.as([]api.Right{"read:charts", "settle:charts", "tokens:charts"}, "")
	fleet, err := some.Fleet(ctx)
	require.NoError(t, err)
	for _, one := range fleet.Hosts {
		require.Equal(t, []string{"charts"}, one.Roles)
	}
	drift, err := some.Drift(ctx, "")
	require.NoError(t, err)
	require.Len(t, drift.Hosts, len(fleet.Hosts))
	require.Less(t, len(fleet.Hosts), 15)
	listening, err := some.Listeners(ctx, "")
	require.NoError(t, err)
	require.Len(t, listening.Hosts, len(fleet.Hosts))
	w, err := some.StartWave(ctx, api.WaveRequest{Hosts: []string{"charts-01"}})
	require.NoError(t, err)
	_, err = some.StopWave(ctx, w.Number, "enough")
	require.NoError(t, err)
	others, err := h.StartWave(ctx, api.WaveRequest{Hosts: []string{"logbook-01", "charts-01"}})
	require.NoError(t, err)
	for what, call := range map[string]func() error{
		"drift of another":     func() error { _, err := some.Drift(ctx, "logbook-01"); return err },
		"listeners of another": func() error { _, err := some.Listeners(ctx, "logbook-01"); return err },
		"a time before":        func() error { _, err := some.DriftAt(ctx, "charts-01", time.Now()); return err },
		"a wave over all":      func() error { _, err := some.StartWave(ctx, api.WaveRequest{}); return err },
		"a wave with another":  func() error { _, err := some.StopWave(ctx, others.Number, ""); return err },
		"a probe to another": func() error {
			_, err := some.Probe(ctx, api.ProbeRequest{Question: "charts-01 -> logbook-01 : ssh"})
			return err
		},
		"every expectation": func() error { _, err := some.Probe(ctx, api.ProbeRequest{Expectations: true}); return err },
		"a token of another": func() error {
			_, err := some.NewToken(ctx, api.TokenRequest{Name: "t", Host: "logbook-01"})
			return err
		},
		"another's enrolment": func() error { _, err := some.NewEnrolment(ctx, "logbook-01"); return err },
		"a token for all": func() error {
			_, err := some.NewToken(ctx, api.TokenRequest{Name: "t", Rights: []api.Right{"settle"}})
			return err
		},
		"a token for more": func() error {
			_, err := some.NewToken(ctx, api.TokenRequest{Name: "t", Rights: []api.Right{"read:gate"}})
			return err
		},
		"publishing": func() error {
			_, err := some.Publish(ctx, api.PublishRequest{Files: policyFiles(t), Why: "w"})
			return err
		},
		"settling another host": func() error { _, err := some.Settle(ctx, "logbook-01"); return err },
	} {
		require.Equal(t, http.StatusForbidden, problem(t, call()).Status, what)
	}
	_, err = some.Settle(ctx, "logbook-01")
	require.Equal(t, `the token "somebody" may not do this: it takes the right settle for all roles of logbook-01; ask pat`,
		err.Error())
	_, err = some.NewToken(ctx, api.TokenRequest{Name: "less", Rights: []api.Right{"settle:charts"}, For: "the charts' build"})
	require.NoError(t, err)

	for right, says := range map[api.Right]string{"fly": `"fly" is not a right; the rights are read, propose,`,
		"read:":     `"read:" names no roles`,
		"read:a,,b": "names no roles", "read:A b": "names no roles"} {
		_, err := h.NewToken(ctx, api.TokenRequest{Name: "t", Rights: []api.Right{right}})
		require.ErrorContains(t, err, says)
	}
}

// TestTokensEnd: a token ends when it was said, and says so; nobody makes one for ever.
func TestTokensEnd(t *testing.T) {
	t.Parallel()
	ctx := context.Background()
	h := newHarbour(t)
	h.turnTo(time.Date(2027, 1, 1, 12, 0, 0, 0, time.UTC))
	made, err := h.NewToken(ctx, api.TokenRequest{Name: "ci", Rights: []api.Right{api.Read}})
	require.NoError(t, err)
	require.Equal(t, h.now().AddDate(0, 0, 90), *made.Until)
	ci := client.New(h.url, made.Secret)
	_, err = ci.Fleet(ctx)
	require.NoError(t, err)
	list, err := h.Tokens(ctx)
	require.NoError(t, err)
	require.NotNil(t, list.Tokens[0].UsedAt)
	h.turnTo(h.now().AddDate(0, 0, 90))
	_, err = ci.Fleet(ctx)
	require.Equal(t, `the token "ci" ended at 2027-04-01 12:00:00; whoever has the right tokens makes another`, err.Error())
	for end, says := range map[time.Time]string{h.now().Add(-time.Second): "would have ended already", h.now().AddDate(2, 0,
		0): "a token lasts a year at most"} {
		_, err := h.NewToken(ctx, api.TokenRequest{Name: "t", Rights: []api.Right{api.Read}, Until: &end})
		require.ErrorContains(t, err, says)
	}
}

// browser is a request as a browser makes it, or a program without a client.
func (h *harbour) browser(method, path, body string, header map[string]string) *http.Response {
	req, err := http.NewRequest(method, h.url+path, strings.NewReader(body))
	require.NoError(h.t, err)
	req.Header.Set("Content-Type", "application/json")
	for k, v := range header {
		req.Header.Set(k, v)
	}
	res, err := http.DefaultClient.Do(req)
	require.NoError(h.t, err)
	h.t.Cleanup(func() { _ = res.Body.Close() })
	return res
}

// TestSession plays a browser: the cookie, who may use it, and what pages may load.
func TestSession(t *testing.T) {
	t.Parallel()
	h := newSaltmarsh(t)
	call := h.browser
	res := call("POST", "/api/v1/session", `{"token": "`+h.token+`"}`, nil)
	require.Equal(t, http.StatusOK, res.StatusCode)
	cookie := res.Header.Get("Set-Cookie")
	for _, want := range []string{"HttpOnly", "SameSite=Strict", "Path=/"} {
		require.Contains(t, cookie, want)
	}
	signedIn := map[string]string{"Cookie": strings.Split(cookie, ";")[0]}
	require.Equal(t, http.StatusOK, call("GET", "/api/v1/fleet", "", signedIn).StatusCode)

	elsewhere := map[string]string{"Cookie": signedIn["Cookie"], "Sec-Fetch-Site": "cross-site", "Origin": "https://elsewhere.example"}
	require.Equal(t, http.StatusForbidden, call("POST", "/api/v1/hosts/charts-01/settle", "", elsewhere).StatusCode, "another site's page")
	ours := map[string]string{"Cookie": signedIn["Cookie"], "Sec-Fetch-Site": "same-origin"}
	require.Equal(t, http.StatusOK, call("POST", "/api/v1/hosts/charts-01/settle", "", ours).StatusCode)

	require.Equal(t, http.StatusNoContent, call("DELETE", "/api/v1/session", "", ours).StatusCode)
	require.Equal(t, http.StatusUnauthorized, call("GET", "/api/v1/fleet", "", signedIn).StatusCode, "signed out")

	page := call("GET", "/hosts/charts-01", "", nil)
	require.Contains(t, page.Header.Get("Content-Security-Policy"), "default-src 'none'; script-src 'self'")
	require.Equal(t, "nosniff", page.Header.Get("X-Content-Type-Options"))
	require.Equal(t, http.StatusOK, call("GET", "/healthz", "", nil).StatusCode)

	lost := call("GET", "/api/v1/nothing", "", nil)
	require.Equal(t, []any{http.StatusNotFound, "application/problem+json"}, []any{lost.StatusCode, lost.Header.Get("Content-Type")})
	doc := call("GET", "/api/v1/openapi.json", "", nil)
	body, err := io.ReadAll(doc.Body)
	require.NoError(t, err)
	require.Contains(t, string(body), `"openapi":"3.1.0"`)
	require.Equal(t, http.StatusUnprocessableEntity,
		call("POST", "/api/v1/revisions", `{"fils": []}`, map[string]string{"Authorization": "Bearer " + h.token}).StatusCode)
	require.Equal(t, http.StatusRequestEntityTooLarge,
		call("POST", "/api/v1/session", `{"token": "`+strings.Repeat("x", 1<<20)+`"}`, nil).StatusCode)
}
