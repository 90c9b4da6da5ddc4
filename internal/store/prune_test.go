package store_test

import (
	"context"
	"crypto/ed25519"
	"fmt"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"yellowfence.example/yfence/api"
	"yellowfence.example/yfence/internal/store"
	"yellowfence.example/yfence/internal/testbed"
)

// TestPruning removes what is over and what nothing refers to, and nothing else.
func TestPruning(t *testing.T) {
	t.Parallel()
	ctx := context.Background()
	dsn := testbed.Database(t)
	st, db := open(t, dsn), raw(t, dsn)
	_, key, _ := ed25519.GenerateKey(nil)
	pair, err := st.Publish(ctx, store.Publication{Base: store.Pair{}, Author: "pat", Why: "kept", Files: []byte("files")})
	require.NoError(t, err)
	for n := range 3 {
		h, err := st.Report(ctx, "charts-01", time.Now(), fmt.Appendf(nil, "dump %d", n), 1<<20)
		require.NoError(t, err)
		require.NoError(t, st.PutFindings(ctx, "charts-01", h.Dump, pair.Number, 0, fmt.Appendf(nil, "result %d", n)))
		_, err = st.NewTask(ctx, api.Task{Host: "charts-01", Do: "report", Until: time.Now().Add(time.Minute)}, key)
		require.NoError(t, err)
		_, err = st.NewEnrolment(ctx, fmt.Sprint("host-", n), time.Hour)
		require.NoError(t, err)
		_, err = st.NewSession(ctx, api.Token{ID: 1}, time.Hour)
		require.NoError(t, err)
	}
	counts := func() (all []int) {
		for _, table := range []string{"reports", "findings", "content", "tasks", "enrolments", "sessions", "revisions"} {
			var n int
			require.NoError(t, db.QueryRow("SELECT COUNT(*) FROM "+table).Scan(&n))
			all = append(all, n)
		}
		return all
	}
	require.Equal(t, []int{3, 3, 7, 3, 3, 3, 1}, counts())
	_, err = st.Prune(ctx, store.DefaultKeeping)
	require.NoError(t, err)
	require.Equal(t, []int{3, 3, 7, 3, 3, 3, 1}, counts(), "all of it is young")

	for _, q := range []string{"UPDATE reports SET received_at = received_at - INTERVAL 100 DAY",
		"UPDATE content SET created_at = created_at - INTERVAL 100 DAY",
		"UPDATE tasks SET until = until - INTERVAL 8 DAY LIMIT 2", "UPDATE enrolments SET until = until - INTERVAL 9 DAY LIMIT 1",
		"UPDATE sessions SET expires_at = expires_at - INTERVAL 2 HOUR LIMIT 2"} {
		_, err := db.Exec(q)
		require.NoError(t, err)
	}
	_, err = st.Prune(ctx, store.DefaultKeeping)
	require.NoError(t, err)
	require.Equal(t, []int{1, 1, 3, 1, 2, 1, 1}, counts(), "the newest report, its dump, its result and the policy stay")
	_, err = st.Prune(ctx, store.DefaultKeeping)
	require.NoError(t, err)
	require.Equal(t, []int{1, 1, 3, 1, 2, 1, 1}, counts())
	heard, err := st.LastReports(ctx, "charts-01")
	require.NoError(t, err)
	body, err := st.Content(ctx, heard["charts-01"].Dump)
	require.NoError(t, err)
	require.Equal(t, "dump 2", string(body))

	// Whoever refers to an old content at the same moment finds it.
	for round := range 20 {
		host := fmt.Sprint("host-", round)
		_, err := st.Report(ctx, "before", time.Now(), []byte("shared"), 1<<20)
		require.NoError(t, err)
		_, err = st.Report(ctx, "before", time.Now(), []byte("another"), 1<<20)
		require.NoError(t, err)
		_, err = db.Exec("DELETE FROM reports WHERE host <> 'before' OR id NOT IN (SELECT report FROM newest)")
		require.NoError(t, err)
		_, err = db.Exec("UPDATE content SET created_at = NOW(6) - INTERVAL 100 DAY")
		require.NoError(t, err)
		var both sync.WaitGroup
		both.Go(func() {
			_, err := st.Prune(ctx, store.DefaultKeeping)
			require.NoError(t, err)
		})
		both.Go(func() {
			h, err := st.Report(ctx, host, time.Now(), []byte("shared"), 1<<20)
			require.NoError(t, err)
			both.Go(func() {
				body, err := st.Content(ctx, h.Dump)
				require.NoError(t, err)
				require.Equal(t, "shared", string(body))
			})
		})
		both.Wait()
	}
}

// TestCompaction: of each day that is old the last report of each host stays, until it is very old; hosts that
// report meanwhile do not wait.
func TestCompaction(t *testing.T) {
	t.Parallel()
	ctx := context.Background()
	dsn := testbed.Database(t)
	st, db := open(t, dsn), raw(t, dsn)
	_, err := db.Exec("INSERT INTO reports (host, taken_at, began_at, received_at, hash, size) SELECT CONCAT('h', h.seq), t.at, t.at, " +
		"t.at, " +
		"UNHEX(SHA2(CONCAT(h.seq, ' ', t.at), 256)), 1 FROM seq_1_to_40 h JOIN (SELECT UTC_DATE() - INTERVAL seq * 6 HOUR + INTERVAL 1 " +
		"HOUR " +
		"AS at FROM seq_1_to_400) t ORDER BY t.at") // four a day, for a hundred days
	require.NoError(t, err)
	count := func(where string) (n int) {
		require.NoError(t, db.QueryRow("SELECT COUNT(*) FROM reports WHERE "+where).Scan(&n))
		return n
	}
	young := "received_at >= UTC_DATE() - INTERVAL 10 DAY"
	before := count(young)
	working, done := context.WithCancel(ctx)
	var hosts sync.WaitGroup
	slowest := time.Duration(0)
	hosts.Go(func() {
		for n := 0; working.Err() == nil; n++ {
			began := time.Now()
			_, err := st.Report(ctx, "busy", time.Now(), fmt.Appendf(nil, "dump %d", n), 1<<20)
			require.NoError(t, err)
			slowest = max(slowest, time.Since(began))
		}
	})
	today := time.Since(time.Now().UTC().Truncate(24 * time.Hour)) // forty whole days, at whatever hour this runs
	keep := store.Keeping{Reports: 10 * 24 * time.Hour, Daily: 50*24*time.Hour + today, Done: time.Hour}
	_, err = st.Prune(ctx, keep)
	require.NoError(t, err)
	done()
	hosts.Wait()
	require.Equal(t, before, count(young+" AND host <> 'busy'"), "what is young stays whole")
	require.Equal(t, 40*40, count("NOT "+young), "the last of each of forty days, of each of forty hosts")
	require.Zero(t, count("NOT "+young+" AND HOUR(received_at) <> 19"), "the last, at seven in the evening")
	require.Less(t, slowest, 2*time.Second, "nobody waited for it")
	first, err := st.ReportAt(ctx, "h7", time.Now().Add(-20*24*time.Hour))
	require.NoError(t, err)
	require.Equal(t, "h7", first.Host)

	// A day is gone through once: what comes with an older date stays until it is very old.
	_, err = db.Exec("INSERT INTO reports (host, taken_at, began_at, received_at, hash, size) SELECT 'late', at, at, at, REPEAT('x', " +
		"32), 1 FROM " +
		"(SELECT UTC_DATE() " +
		"- INTERVAL 30 DAY + INTERVAL seq HOUR AS at FROM seq_1_to_5) t")
	require.NoError(t, err)
	_, err = st.Prune(ctx, keep)
	require.NoError(t, err)
	require.Equal(t, 5, count("host = 'late'"))
}
