package store_test

import (
	"context"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yellowfence.example/yfence/api"
	"yellowfence.example/yfence/internal/store"
	"yellowfence.example/yfence/internal/testbed"
)

func open(t *testing.T, dsn string) *store.Store {
	t.Helper()
	st, err := store.Open(context.Background(), dsn)
	require.NoError(t, err)
	t.Cleanup(func() { require.NoError(t, st.Close()) })
	return st
}

func TestRevisionsGenerationsAndPairs(t *testing.T) {
	t.Parallel()
	ctx := context.Background()
	dsn := testbed.Database(t)
	st := open(t, dsn)
	pair, err := st.Newest(ctx)
	require.NoError(t, err)
	require.Equal(t, store.Pair{}, pair, "nothing is published")

	pair, err = st.Publish(ctx, store.Publication{Base: store.Pair{}, Author: "pat", Why: "", Fleet: []byte("fleet 1")})
	require.NoError(t, err)
	require.Equal(t, store.Pair{Generation: 1}, pair, "a fleet without a policy is no pair")

	pair, err = st.Publish(ctx, store.Publication{Base: pair, Author: "pat", Why: "first", Files: []byte("files 1")})
	require.NoError(t, err)
	require.Equal(t, store.Pair{Number: 1, Revision: 1, Generation: 1}, pair)

	_, err = st.Publish(ctx, store.Publication{Base: store.Pair{Generation: 1}, Author: "kim", Why: "too late", Files: []byte("files 2")})
	require.ErrorIs(t, err, store.ErrConflict, "revision 1 is there")
	pair, err = st.Publish(ctx, store.Publication{Base: pair, Author: "kim", Why: "second", Files: []byte("files 2")})
	require.NoError(t, err)
	require.EqualValues(t, 2, pair.Number)
	pair, err = st.Publish(ctx, store.Publication{Base: pair, Author: "pat", Why: "a new host", Fleet: []byte("fleet 2")})
	require.NoError(t, err)
	require.Equal(t, store.Pair{Number: 3, Revision: 2, Generation: 2}, pair)

	_, err = st.Publish(ctx, store.Publication{Base: store.Pair{Number: 2, Revision: 2, Generation: 1}, Author: "kim", Why: "too late",
		Files: []byte("files 3"), Fleet: []byte("fleet 3")})
	require.ErrorIs(t, err, store.ErrConflict, "a fleet came since")
	accepted := api.Accepted{Code: "no-guard", Message: "nobody guards it"}
	pair, err = st.Publish(ctx, store.Publication{Base: pair, Author: "kim", Why: "both", Files: []byte("files 3"),
		Fleet: []byte("fleet 3"), Accepted: []api.Accepted{accepted}})
	require.NoError(t, err)
	require.Equal(t, store.Pair{Number: 4, Revision: 3, Generation: 3}, pair, "what came too late took no number")

	// Opened again, it is all still there.
	again := open(t, dsn)
	newest, err := again.Newest(ctx)
	require.NoError(t, err)
	require.Equal(t, pair, newest)
	list, err := again.Revisions(ctx, 0, 10)
	require.NoError(t, err)
	require.Equal(t, []string{"both", "second", "first"}, []string{list[0].Why, list[1].Why, list[2].Why})
	require.Equal(t, []api.Accepted{accepted}, list[0].Accepted)
	file, err := again.Generation(ctx, 3)
	require.NoError(t, err)
	body, err := again.Content(ctx, file)
	require.NoError(t, err)
	require.Equal(t, "fleet 3", string(body))
	r, hash, err := again.Revision(ctx, 1)
	require.NoError(t, err)
	require.Equal(t, "pat", r.Author)
	body, err = again.Content(ctx, hash)
	require.NoError(t, err)
	require.Equal(t, "files 1", string(body))
	_, _, err = again.Revision(ctx, 9)
	require.ErrorIs(t, err, store.ErrNotFound)
}

// TestNumbersHaveNoGap: of many who publish at once after the same revision one
// succeeds, and the numbers stay without a gap.
func TestNumbersHaveNoGap(t *testing.T) {
	ctx := context.Background()
	st := open(t, testbed.Database(t))
	var base store.Pair
	for round := range int64(5) {
		var wg sync.WaitGroup
		done := make(chan error, 8)
		for range 8 {
			wg.Add(1)
			go func() {
				defer wg.Done()
				_, err := st.Publish(ctx, store.Publication{Base: base, Author: "pat", Why: "race", Files: []byte("files")})
				done <- err
			}()
		}
		wg.Wait()
		close(done)
		won := 0
		for err := range done {
			if err == nil {
				won++
			} else {
				require.ErrorIs(t, err, store.ErrConflict)
			}
		}
		require.Equal(t, 1, won, "round %d", round)
		var err error
		base, err = st.Newest(ctx)
		require.NoError(t, err)
	}
	list, err := st.Revisions(ctx, 0, 10)
	require.NoError(t, err)
	require.Len(t, list, 5)
	for i, r := range list {
		require.EqualValues(t, 5-i, r.Number)
	}
}

func TestReportsAndWhatWasAsked(t *testing.T) {
	ctx := context.Background()
	st := open(t, testbed.Database(t))
	taken := time.Date(2026, 11, 25, 8, 0, 0, 0, time.UTC)
	require.NoError(t, st.Ask(ctx, "charts-01", 1))
	first, err := st.Report(ctx, "charts-01", taken, []byte("dump 1"), 1<<20)
	require.NoError(t, err)
	second, err := st.Report(ctx, "charts-01", taken.Add(time.Minute), []byte("dump 1"), 1<<20)
	require.NoError(t, err)
	require.Equal(t, first.Dump, second.Dump, "the same dump is stored once")
	require.NoError(t, st.Ask(ctx, "charts-01", 2))
	require.NoError(t, st.Ask(ctx, "charts-01", 2), "asked again")
	require.NoError(t, st.Ask(ctx, "charts-02", 2))

	heard, err := st.LastReports(ctx)
	require.NoError(t, err)
	h := heard["charts-01"]
	require.Equal(t, []int64{2, 1}, []int64{h.Pair, h.Previous})
	require.Equal(t, taken.Add(time.Minute), h.TakenAt)
	require.True(t, heard["charts-02"].ReceivedAt.IsZero(), "asked and never heard of")
	require.Len(t, heard, 2)
	for name := range heard {
		one, err := st.LastReports(ctx, name)
		require.NoError(t, err)
		require.Equal(t, map[string]store.LastReport{name: heard[name]}, one)
	}

	_, err = st.Findings(ctx, "charts-01", h.Dump, 2, 0)
	require.ErrorIs(t, err, store.ErrNotFound)
	require.NoError(t, st.PutFindings(ctx, "charts-01", h.Dump, 2, 0, []byte("{}")))
	require.NoError(t, st.PutFindings(ctx, "charts-01", h.Dump, 2, 0, []byte("{}")), "judged twice")
	found, err := st.Findings(ctx, "charts-01", h.Dump, 2, 0)
	require.NoError(t, err)
	require.Equal(t, "{}", string(found))
}

func TestTokensAndSessions(t *testing.T) {
	ctx := context.Background()
	st := open(t, testbed.Database(t))
	made, err := st.NewToken(ctx, "pat", []api.Right{api.Read, api.Publish}, "")
	require.NoError(t, err)
	found, err := st.TokenBySecret(ctx, made.Secret)
	require.NoError(t, err)
	require.Equal(t, made.Rights, found.Rights)
	_, err = st.TokenBySecret(ctx, made.Secret+"x")
	require.ErrorIs(t, err, store.ErrNotFound)

	session, err := st.NewSession(ctx, made.Token, time.Hour)
	require.NoError(t, err)
	found, err = st.TokenBySession(ctx, session)
	require.NoError(t, err)
	require.Equal(t, "pat", found.Name)
	short, err := st.NewSession(ctx, made.Token, -time.Second)
	require.NoError(t, err)
	_, err = st.TokenBySession(ctx, short)
	require.ErrorIs(t, err, store.ErrNotFound, "it has ended")

	require.NoError(t, st.RevokeToken(ctx, made.ID))
	require.NoError(t, st.RevokeToken(ctx, made.ID), "revoked twice")
	require.ErrorIs(t, st.RevokeToken(ctx, 99), store.ErrNotFound)
	found, err = st.TokenBySecret(ctx, made.Secret)
	require.NoError(t, err)
	require.NotNil(t, found.RevokedAt, "it says so")
	_, err = st.TokenBySession(ctx, session)
	require.ErrorIs(t, err, store.ErrNotFound, "its sessions end with it")
}

func TestADatabaseThatIsNone(t *testing.T) {
	t.Parallel()
	_, err := store.Open(context.Background(), "nonsense")
	require.ErrorContains(t, err, "the database's address is not understood")
	_, err = store.Open(context.Background(), "root@tcp(127.0.0.1:1)/x")
	require.ErrorContains(t, err, "the database cannot be used")
}

// TestLateWordsAboutAChange change nothing: a request that hung while the database was away
// may come after the one that was sent later.
func TestLateWordsAboutAChange(t *testing.T) {
	ctx := context.Background()
	st := open(t, testbed.Database(t))
	began := time.Date(2026, 11, 25, 8, 0, 0, 0, time.UTC)
	change := func(id string, phase api.Phase, after time.Duration) *api.HostChange {
		return &api.HostChange{ID: id, Phase: phase, Began: began.Add(after)}
	}
	for _, c := range []struct {
		told *api.HostChange
		want string
	}{
		{change("a", api.InForceYet, 0), "a in force"},
		{change("a", api.WentBack, 0), "a went back"},
		{change("a", api.InForceYet, 0), "a went back"},
		{change("b", api.Changing, time.Minute), "b changing"},
		{change("a", api.WentBack, 0), "b changing"},
		{change("b", api.Kept, time.Minute), "b kept"},
		{nil, ""},
		{change("c", api.InForceYet, 2*time.Minute), "c in force"},
	} {
		require.NoError(t, st.PutChange(ctx, "charts-01", 1, c.told, ""))
		all, err := st.AgentStatuses(ctx, "charts-01")
		require.NoError(t, err)
		got := ""
		if now := all["charts-01"].Change; now != nil {
			got = now.ID + " " + string(now.Phase)
		}
		require.Equal(t, c.want, got)
	}
}
