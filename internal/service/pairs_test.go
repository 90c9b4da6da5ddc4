package service_test

import (
	"context"
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"log/slog"
	"net/http/httptest"
	"net/netip"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yellowfence.example/yfence/api"
	"yellowfence.example/yfence/client"
	"yellowfence.example/yfence/core/check"
	"yellowfence.example/yfence/core/fleet"
	"yellowfence.example/yfence/internal/service"
	"yellowfence.example/yfence/internal/store"
	"yellowfence.example/yfence/internal/testbed"
)

var rounds = flag.Int("rounds", 15, "how often changes of policy and fleet race one another")

// quay is one of several services on one database.
type quay struct {
	store  *store.Store
	server *httptest.Server
}

func openQuay(t *testing.T, dsn string) *quay {
	t.Helper()
	st, err := store.Open(context.Background(), dsn)
	require.NoError(t, err)
	svc := service.New(service.Options{Store: st, Log: slog.New(slog.DiscardHandler), ReportEvery: time.Minute})
	return &quay{st, httptest.NewServer(svc.Handler())}
}

func (q *quay) close(t *testing.T) {
	q.server.Close()
	require.NoError(t, q.store.Close())
}

const smallPolicy = "policy p \"\" language 1\nrole jump\nrole charts\nallow in: 198.51.100.0/25 -> jump : ssh  guard\nallow hop: jump " +
	"-> fleet : ssh  guard\n"

func smallFleet(more ...string) string {
	all := append([]string{
		`{"name": "jump-01", "roles": ["jump"], "dialect": "nft", "interfaces": [{"name": "eth0", "addresses": ["203.0.113.10/28"]}]}`,
		`{"name": "charts-01", "roles": ["charts"], "dialect": "nft", "interfaces": [{"name": "eth0", "dynamic": true, "addresses": ` +
			`["10.40.2.10/16"]}]}`,
	}, more...)
	return `{"hosts": [` + strings.Join(all, ",\n") + `]}`
}

// TestChangesRaceInSomeOrder: of publishes, imports and reports of a moved address that
// come at the same moment to two services, one of which is started anew, none is lost and
// none undoes another: what is stored is what some order of them would have left.
func TestChangesRaceInSomeOrder(t *testing.T) {
	t.Parallel()
	ctx := context.Background()
	dsn := testbed.Database(t)
	quays := []*quay{openQuay(t, dsn), openQuay(t, dsn)}
	defer func() {
		for _, q := range quays {
			q.close(t)
		}
	}()
	token, err := quays[0].store.NewToken(ctx, "pat", api.Rights, "")
	require.NoError(t, err)
	hostToken, err := quays[0].store.NewToken(ctx, "charts-01", []api.Right{api.Host}, "charts-01")
	require.NoError(t, err)
	pat := func(n int) *client.Client { return client.New(quays[n].server.URL, token.Secret) }
	_, err = pat(0).Import(ctx, api.ImportRequest{File: "fleet.json", Text: smallFleet()})
	require.NoError(t, err)
	_, err = pat(0).Publish(ctx, api.PublishRequest{Files: []check.Source{{Name: "p.fence", Text: smallPolicy}}, Why: "first"})
	require.NoError(t, err)

	var mu sync.Mutex
	published, imported := map[int64]string{}, map[int64]string{} // what was acknowledged, by its number
	addresses := map[string]bool{}
	for round := range *rounds {
		var all sync.WaitGroup
		failures := make(chan error, 20)
		for n := range 2 {
			all.Go(func() {
				text := fmt.Sprintf("%s# round %d of %d\n", smallPolicy, round, n)
				done, err := pat(n).Publish(ctx, api.PublishRequest{Files: []check.Source{{Name: "p.fence", Text: text}}, Why: "race"})
				if err != nil {
					failures <- fmt.Errorf("publish: %w", err)
					return
				}
				mu.Lock()
				defer mu.Unlock()
				published[done.Revision] = text
			})
			all.Go(func() {
				text := smallFleet(fmt.Sprintf(`{"name": "charts-%d-%d", "roles": ["charts"], "dialect": "nft", "interfaces": [{"name": `+
					`"eth0", "addresses": ["10.40.%d.%d/16"]}]}`, round, n, 100+n, round%250+1))
				done, err := pat(n).Import(ctx, api.ImportRequest{File: "fleet.json", Text: text})
				if err != nil {
					failures <- fmt.Errorf("import: %w", err)
					return
				}
				mu.Lock()
				defer mu.Unlock()
				imported[done.Generation] = text
			})
		}
		all.Go(func() {
			now := fmt.Sprintf("10.40.9.%d/16", round%250+1)
			r := report("charts-01", emptyListing)
			r.Around = &api.HostFacts{Interfaces: []api.SeenInterface{{Name: "eth0", Up: true,
				Addresses: []netip.Prefix{netip.MustParsePrefix(now)}}}}
			if _, err := client.New(quays[0].server.URL, hostToken.Secret).Report(ctx, r); err != nil {
				failures <- fmt.Errorf("report: %w", err)
			}
			mu.Lock()
			defer mu.Unlock()
			addresses[now] = true
		})
		all.Wait()
		close(failures)
		for err := range failures {
			require.NoError(t, err, "round %d", round)
		}
		if round%5 == 4 {
			quays[1].close(t)
			quays[1] = openQuay(t, dsn)
		}
	}
	st := quays[1].store
	newest, err := st.Newest(ctx)
	require.NoError(t, err)
	require.EqualValues(t, 2**rounds+1, newest.Revision, "every publish has a revision of its own")
	before, err := st.Pair(ctx, 1)
	require.NoError(t, err)
	for n := int64(2); n <= newest.Number; n++ {
		p, err := st.Pair(ctx, n)
		require.NoError(t, err)
		steps := []int64{p.Revision - before.Revision, p.Generation - before.Generation}
		require.Contains(t, [][]int64{{1, 0}, {0, 1}}, steps, "pair %d is the one before with one half newer", n)
		if steps[1] == 1 && imported[p.Generation] == "" { // nobody imported it: an address moved, and nothing else
			was, is := fleetOf(t, st, before.Generation), fleetOf(t, st, p.Generation)
			moved := is.Host("charts-01")
			require.True(t, addresses[moved.Interfaces[0].Addresses[0].String()])
			moved.Interfaces[0].Addresses = was.Host("charts-01").Interfaces[0].Addresses
			require.Empty(t, fleet.Changes(was, is), "generation %d", p.Generation)
		}
		before = p
	}
	for number, text := range published {
		_, h, err := st.Revision(ctx, number)
		require.NoError(t, err)
		body, err := st.Content(ctx, h)
		require.NoError(t, err)
		require.Contains(t, string(body), text[len(smallPolicy):len(text)-1])
	}
	for number, text := range imported {
		want, _ := fleet.Read("fleet.json", []byte(text))
		require.Empty(t, fleet.Changes(want, fleetOf(t, st, number)), "generation %d", number)
	}
}

const emptyListing = `{"nftables": [{"metainfo": {"json_schema_version": 1}}]}`

func fleetOf(t *testing.T, st *store.Store, generation int64) *fleet.Fleet {
	t.Helper()
	ctx := context.Background()
	h, err := st.Generation(ctx, generation)
	require.NoError(t, err)
	body, err := st.Content(ctx, h)
	require.NoError(t, err)
	var file check.Source
	require.NoError(t, json.Unmarshal(body, &file))
	f, problems := fleet.Read(file.Name, []byte(file.Text))
	require.Empty(t, problems)
	return f
}

// TestALateChangeUndoesNothing: whoever worked a change out before another was stored must
// work it out again, however long he was away, and a database in which halves came apart
// takes changes again.
func TestALateChangeUndoesNothing(t *testing.T) {
	t.Parallel()
	ctx := context.Background()
	h := newSaltmarsh(t)
	frozen, err := h.store.Newest(ctx) // what a service knew before it was stopped for a minute
	require.NoError(t, err)
	_, err = h.Import(ctx, api.ImportRequest{File: "fleet.json", Text: fleetFile(t), Why: "meanwhile"})
	require.NoError(t, err)
	_, err = h.store.Publish(ctx, store.Publication{Base: frozen, Author: "pat", Why: "thawed", Files: []byte("[]")})
	require.ErrorIs(t, err, store.ErrConflict)
	_, err = h.Publish(ctx, api.PublishRequest{Files: policyFiles(t), Why: "second"})
	require.NoError(t, err)
	_, err = h.store.Publish(ctx, store.Publication{Base: frozen, Author: "pat", Why: "thawed", Fleet: []byte("{}")})
	require.ErrorIs(t, err, store.ErrConflict)

	// An older version left pairs (2,1) and (1,2) when a publish met an import.
	h.exec("INSERT INTO pairs (number, revision, generation, made_at) VALUES (4, 1, 2, NOW(6))")
	h.exec("UPDATE counters SET value = 4 WHERE name = 'pairs'")
	done, err := h.Publish(ctx, api.PublishRequest{Files: policyFiles(t), Why: "the way out"})
	require.NoError(t, err)
	require.EqualValues(t, 3, done.Revision)
	done, err = h.Import(ctx, api.ImportRequest{File: "fleet.json", Text: fleetFile(t), Why: "the way out"})
	require.NoError(t, err)
	require.EqualValues(t, 3, done.Generation)
	var conflict *client.Problem
	_, err = h.Publish(ctx, api.PublishRequest{Files: policyFiles(t), Why: "late", After: new(int64(2))})
	require.True(t, errors.As(err, &conflict))
	require.Contains(t, conflict.Detail, "revision 3 is published, not 2")
}
