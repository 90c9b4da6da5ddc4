package service_test

import (
	"bytes"
	"context"
	"io"
	"net/http"
	"os"
	"os/exec"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yellowfence.example/yfence/api"
)

// figures are what is told with a token, a line each.
func (h *harbour) figures(secret string) (status int, text string) {
	res := h.browser("GET", "/metrics", "", map[string]string{"Authorization": "Bearer " + secret})
	body, err := io.ReadAll(res.Body)
	require.NoError(h.t, err)
	return res.StatusCode, string(body)
}

// TestFigures: what is told is what is, whoever has no right is told nothing, and what alerts and the
// dashboard ask for is told.
func TestFigures(t *testing.T) {
	t.Parallel()
	ctx := context.Background()
	h := newSaltmarsh(t)
	_, err := h.Report(ctx, report("logbook-01", recorded(t, "logbook-01"))) // as after its mishap
	require.NoError(t, err)
	_, err = h.NewToken(ctx, api.TokenRequest{Name: "t", Rights: []api.Right{api.Settle}})
	require.NoError(t, err)
	for _, secret := range []string{"", "yft_wrong", h.as([]api.Right{api.Settle}, "").Token()} {
		status, text := h.figures(secret)
		require.Equal(t, http.StatusUnauthorized, status)
		require.Contains(t, text, "figures take a token with the right read")
	}
	var status int
	var text string
	require.Eventually(t, func() bool { // a slow machine compares the report later
		status, text = h.figures(h.token)
		return strings.Contains(text, `yfence_hosts{state="drifted"} 1`)
	}, 60*time.Second, 200*time.Millisecond, "%d", status)
	require.Equal(t, http.StatusOK, status)
	for _, line := range []string{`yfence_hosts{state="drifted"} 1`, `yfence_hosts{state="new"} 14`, `yfence_hosts{state="went-back"} 0`,
		`yfence_findings{kind="opened"} 1`, "yfence_database_up 1", "yfence_published_revision 1", "yfence_reports_total 1",
		"yfence_proposals_open 0", "yfence_judging_waiting 0"} {
		require.Contains(t, text, line+"\n")
	}
	require.Regexp(t, `yfence_request_seconds_count\{method="POST",route="/api/v1/hosts/\{host\}/reports",status="2xx"\} 1`, text)

	told := map[string]bool{}
	for _, name := range regexp.MustCompile(`(?m)^# TYPE (yfence_\w+)`).FindAllStringSubmatch(text, -1) {
		told[name[1]] = true
	}
	told["yfence_deliveries"] = true // of destinations, which are none here
	for _, file := range []string{"alerts.yaml", "dashboard.json"} {
		asks, err := os.ReadFile("../../docs/monitoring/" + file)
		require.NoError(t, err)
		names := regexp.MustCompile(`yfence_[a-z_]+`).FindAllString(string(asks), -1)
		require.Greater(t, len(names), 8)
		for _, name := range names {
			require.True(t, told[strings.TrimSuffix(name, "_bucket")], "%s asks for %s, which nobody tells", file, name)
		}
	}
	promtool, err := exec.LookPath("promtool")
	if err != nil {
		require.Empty(t, os.Getenv("CI"), "promtool must be there in CI")
		t.Skip("NOT TESTED, promtool is not installed: ", err)
	}
	out, err := exec.Command(promtool, "check", "rules", "../../docs/monitoring/alerts.yaml").CombinedOutput()
	require.NoError(t, err, "%s", out)
	lint := exec.Command(promtool, "check", "metrics")
	lint.Stdin = bytes.NewReader([]byte(text))
	out, err = lint.CombinedOutput()
	require.NoError(t, err, "%s", out)
}
