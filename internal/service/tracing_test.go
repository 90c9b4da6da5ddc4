package service_test

import (
	"context"
	"encoding/json"
	"net/http"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	sdk "go.opentelemetry.io/otel/sdk/trace"
	"go.opentelemetry.io/otel/sdk/trace/tracetest"

	"yellowfence.example/yfence/api"
	"yellowfence.example/yfence/internal/service"
)

// TestTraces: a request is a span by its route, which goes on with the caller's, with what it waited for inside; nothing
// of what was sent is in it.
func TestTraces(t *testing.T) {
	heard := tracetest.NewSpanRecorder()
	h := newHarbour(t, func(o *service.Options) { o.Traces = sdk.NewTracerProvider(sdk.WithSpanProcessor(heard)) })
	_, err := h.Import(context.Background(), api.ImportRequest{File: "fleet.json", Text: smallFleet(), Why: "a word that is not told"})
	require.NoError(t, err)
	_, err = h.Live(context.Background(), "charts-01")
	require.Error(t, err)
	req, err := http.NewRequest(http.MethodGet, h.url+"/api/v1/fleet", nil)
	require.NoError(t, err)
	req.Header.Set("Authorization", "Bearer "+h.token)
	req.Header.Set("Traceparent", "00-0af7651916cd43dd8448eb211c80319c-b7ad6b7169203331-01")
	res, err := http.DefaultClient.Do(req)
	require.NoError(t, err)
	require.NoError(t, res.Body.Close())

	routes, inside := map[string]string{}, map[string]int{}
	for _, span := range heard.Ended() {
		if route, is := strings.CutPrefix(span.Name(), "PUT "); is || strings.HasPrefix(span.Name(), "GET ") {
			routes[route] = span.SpanContext().TraceID().String()
			continue
		}
		require.True(t, span.Parent().IsValid(), "%s is of no request", span.Name())
		inside[span.Name()]++
	}
	require.Contains(t, routes, "/api/v1/fleet")
	require.Contains(t, routes, "GET /api/v1/hosts/{host}/live", "by its route, not by its address")
	require.Equal(t, "0af7651916cd43dd8448eb211c80319c", routes["GET /api/v1/fleet"])
	require.Greater(t, inside["database"], 3)
	require.Positive(t, inside["reading the fleet file"])
	all, err := json.Marshal(tracetest.SpanStubsFromReadOnlySpans(heard.Ended()))
	require.NoError(t, err)
	require.NotContains(t, string(all), "a word that is not told")
	require.NotContains(t, string(all), h.token)
}
