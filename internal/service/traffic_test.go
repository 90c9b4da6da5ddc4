package service_test

import (
	"context"
	"fmt"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yellowfence.example/yfence/core/check"
	"yellowfence.example/yfence/core/traffic"
	"yellowfence.example/yfence/internal/api"
)

// telling is a service with a small policy, and a host that tells it what it counts and sees.
func telling(t *testing.T) *harbour {
	h := newHarbour(t)
	h.now = time.Date(2026, 11, 28, 12, 0, 0, 0, time.UTC)
	_, err := h.Import(context.Background(), api.ImportRequest{File: "fleet.json", Text: smallFleet()})
	require.NoError(t, err)
	_, err = h.Publish(context.Background(), api.PublishRequest{Files: []check.Source{{Name: "p.fence", Text: smallPolicy +
		"allow web: strangers -> charts : tcp 443\n"}}, Why: "first"})
	require.NoError(t, err)
	return h
}

// TestUnused: what hosts count is added up once however often it is told, and it is said of each
// statement how often it decided.
func TestUnused(t *testing.T) {
	ctx := context.Background()
	h := telling(t)
	host := h.as([]api.Right{api.Host}, "charts-01")
	batch := func(n int64, web int64) traffic.Batch {
		return traffic.Batch{Epoch: "e", Number: n, At: h.now.Unix(), InForce: n == 1,
			Hits: []traffic.Hit{{By: "allow hop"}, {By: "allow web", Packets: web, Bytes: 60 * web}}}
	}
	require.Equal(t, 403, problem(t, host.TellTraffic(ctx, "jump-01", batch(1, 1))).Status, "of itself alone")
	for n := range int64(10) {
		var all sync.WaitGroup
		for range 3 { // at once, and again
			all.Go(func() { require.NoError(t, host.TellTraffic(ctx, "charts-01", batch(n+1, 2))) })
		}
		all.Wait()
		h.now = h.now.Add(24 * time.Hour)
	}
	u, err := h.Unused(ctx, 5*24*time.Hour)
	require.NoError(t, err)
	var said []string
	for _, s := range u.Statements {
		said = append(said, fmt.Sprint(s.Statement, " ", s.Hosts, " ", s.Packets, " ", s.Unused()))
	}
	require.Equal(t, []string{"allow in 0 0 false", "allow hop 1 0 true", "allow web 1 10 false"}, said)
	require.Equal(t, []int{2, 1}, []int{u.Hosts, u.Counting})
	require.Equal(t, "p.fence:6:7", u.Statements[2].Place)
	u, err = h.Unused(ctx, 90*24*time.Hour)
	require.NoError(t, err)
	require.EqualValues(t, 20, u.Statements[2].Packets)
}
