package service_test

import (
	"context"
	"io"
	"net/http"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yellowfence.example/yfence/internal/api"
	"yellowfence.example/yfence/internal/client"
)

func TestRights(t *testing.T) {
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

// TestSession plays a browser: the cookie, who may use it, and what pages may load.
func TestSession(t *testing.T) {
	h := newSaltmarsh(t)
	call := func(method, path, body string, header map[string]string) *http.Response {
		req, err := http.NewRequest(method, h.url+path, strings.NewReader(body))
		require.NoError(t, err)
		req.Header.Set("Content-Type", "application/json")
		for k, v := range header {
			req.Header.Set(k, v)
		}
		res, err := http.DefaultClient.Do(req)
		require.NoError(t, err)
		t.Cleanup(func() { _ = res.Body.Close() })
		return res
	}
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
