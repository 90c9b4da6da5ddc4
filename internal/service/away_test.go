package service_test

import (
	"context"
	"encoding/json"
	"io"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yellowfence.example/yfence/api"
	"yellowfence.example/yfence/client"
	"yellowfence.example/yfence/core/check"
	"yellowfence.example/yfence/internal/service"
	"yellowfence.example/yfence/internal/store"
	"yellowfence.example/yfence/internal/testbed"
)

// TestTheDatabaseHangs: while it does, the process lives and is not ready, and whoever asks
// is told to come again. Nothing that was begun is lost when it goes on.
func TestTheDatabaseHangs(t *testing.T) {
	t.Parallel()
	ctx := context.Background()
	db, err := testbed.StartMariaDB(t.TempDir())
	require.NoError(t, err)
	defer func() { require.NoError(t, db.Stop()) }()
	require.NoError(t, db.Create("yfence"))
	st, err := store.Open(ctx, db.DSN("yfence"))
	require.NoError(t, err)
	defer func() { _ = st.Close() }()
	svc := service.New(service.Options{Store: st, Log: slog.New(slog.DiscardHandler)})
	server := httptest.NewServer(svc.Handler())
	defer server.Close()
	token, err := st.NewToken(ctx, "pat", api.Rights, "")
	require.NoError(t, err)
	pat := client.New(server.URL, token.Secret)
	_, err = pat.Import(ctx, api.ImportRequest{File: "fleet.json", Text: smallFleet()})
	require.NoError(t, err)

	require.Equal(t, 200, status(t, server.URL+"/livez").StatusCode)
	require.Equal(t, 200, status(t, server.URL+"/readyz").StatusCode)
	require.NoError(t, db.Signal(syscall.SIGSTOP))
	var all sync.WaitGroup
	begin := time.Now()
	all.Go(func() {
		res := status(t, server.URL+"/readyz")
		require.Equal(t, []any{503, "5"}, []any{res.StatusCode, res.Header.Get("Retry-After")})
		require.Less(t, time.Since(begin), 10*time.Second)
	})
	all.Go(func() {
		req, err := http.NewRequest(http.MethodGet, server.URL+"/api/v1/fleet", nil)
		require.NoError(t, err)
		req.Header.Set("Authorization", "Bearer "+token.Secret)
		res, err := http.DefaultClient.Do(req)
		require.NoError(t, err)
		body, err := io.ReadAll(res.Body)
		require.NoError(t, err)
		require.Equal(t, []any{503, "5"}, []any{res.StatusCode, res.Header.Get("Retry-After")}, string(body))
		var p client.Problem
		require.NoError(t, json.Unmarshal(body, &p))
		require.Contains(t, p.Detail, "the database does not answer")
	})
	for range 20 {
		begin := time.Now()
		require.Equal(t, 200, status(t, server.URL+"/livez").StatusCode)
		require.Less(t, time.Since(begin), 4*time.Second, "it waits for no database")
		time.Sleep(50 * time.Millisecond)
	}
	all.Wait()
	published := make(chan error, 1)
	go func() {
		_, err := pat.Publish(ctx, api.PublishRequest{Files: []check.Source{{Name: "p.fence", Text: smallPolicy}}, Why: "while it hangs"})
		published <- err
	}()
	time.Sleep(time.Second)
	require.NoError(t, db.Signal(syscall.SIGCONT))
	require.NoError(t, <-published, "it is done as soon as it can be")
	require.Equal(t, 200, status(t, server.URL+"/readyz").StatusCode)
}

func status(t *testing.T, url string) *http.Response {
	t.Helper()
	res, err := http.Get(url)
	require.NoError(t, err)
	_, _ = io.Copy(io.Discard, res.Body)
	require.NoError(t, res.Body.Close())
	return res
}
