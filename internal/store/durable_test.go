package store_test

import (
	"bytes"
	"context"
	"crypto/ed25519"
	"database/sql"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"net"
	"os"
	"os/exec"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yellowfence.example/yfence/api"
	"yellowfence.example/yfence/internal/store"
	"yellowfence.example/yfence/internal/testbed"
	"yellowfence.example/yfence/internal/wave"
)

// TestMain lets the test's own program open a database, to be killed meanwhile.
func TestMain(m *testing.M) {
	if len(os.Args) > 2 && os.Args[1] == "open" {
		if _, err := store.Open(context.Background(), os.Args[2]); err != nil {
			fmt.Fprintln(os.Stderr, err)
			os.Exit(1)
		}
		os.Exit(0)
	}
	os.Exit(testbed.Main(m))
}

func raw(t *testing.T, dsn string) *sql.DB {
	db, err := sql.Open("mysql", dsn)
	require.NoError(t, err)
	t.Cleanup(func() { _ = db.Close() })
	return db
}

// TestMigrationsAreInterrupted at any moment, by kill -9: the next start goes on, also where
// several start at once.
func TestMigrationsAreInterrupted(t *testing.T) {
	t.Parallel()
	rng := rand.New(rand.NewPCG(1, 3))
	var rounds sync.WaitGroup
	for range 12 {
		dsn := testbed.Database(t)
		waits := []int{rng.IntN(400), rng.IntN(400), rng.IntN(400)}
		rounds.Go(func() { interrupt(t, dsn, waits) })
	}
	rounds.Wait()
}

func interrupt(t *testing.T, dsn string, waits []int) {
	for _, wait := range waits {
		cmd := exec.Command("/proc/self/exe", "open", dsn)
		require.NoError(t, cmd.Start())
		time.Sleep(time.Duration(wait) * time.Millisecond)
		_ = cmd.Process.Kill()
		_ = cmd.Wait()
	}
	var all sync.WaitGroup
	for range 3 {
		all.Go(func() {
			cmd := exec.Command("/proc/self/exe", "open", dsn)
			out, err := cmd.CombinedOutput()
			require.NoError(t, err, string(out))
		})
	}
	all.Wait()
	st := open(t, dsn)
	require.NoError(t, st.Ready(context.Background()))
	keys, err := st.SigningKeys(context.Background())
	require.NoError(t, err)
	require.Len(t, keys, 1)
}

func TestANewerDatabaseIsRefused(t *testing.T) {
	t.Parallel()
	dsn := testbed.Database(t)
	open(t, dsn)
	_, err := raw(t, dsn).Exec("INSERT INTO goose_db_version (version_id, is_applied) VALUES (9999, TRUE)")
	require.NoError(t, err)
	_, err = store.Open(context.Background(), dsn)
	require.ErrorContains(t, err, "the database is of a newer version of Yellow Fence (its tables are of version 9999")
}

// TestOneKeyForAll: services that start at once on an empty database sign with one key, and
// of two that retire the last but one does.
func TestOneKeyForAll(t *testing.T) {
	t.Parallel()
	ctx := context.Background()
	dsn := testbed.Database(t)
	stores := []*store.Store{open(t, dsn), open(t, dsn)}
	both := func(do func(st *store.Store) error) (failed int) {
		var all sync.WaitGroup
		var n atomic.Int64
		for _, st := range stores {
			all.Go(func() {
				if err := do(st); err != nil {
					require.ErrorIs(t, err, store.ErrConflict)
					n.Add(1)
				}
			})
		}
		all.Wait()
		return int(n.Load())
	}
	for range 10 {
		require.Zero(t, both(func(st *store.Store) error { _, err := st.SigningKeys(ctx); return err }))
		keys, err := stores[0].SigningKeys(ctx)
		require.NoError(t, err)
		require.Len(t, keys, 1)
		require.NoError(t, stores[0].NewSigningKey(ctx))
		require.Equal(t, 1, both(func(st *store.Store) error { return st.RetireSigningKey(ctx) }))
	}
}

// TestLargeContents are kept in pieces that any server takes, and short.
func TestLargeContents(t *testing.T) {
	t.Parallel()
	ctx := context.Background()
	dsn := testbed.Database(t)
	st := open(t, dsn)
	noise := make([]byte, 5<<20)
	rng := rand.NewChaCha8([32]byte{1})
	_, _ = rng.Read(noise)
	for _, body := range [][]byte{noise, bytes.Repeat([]byte("the same line\n"), 1<<20), {}, []byte("x")} {
		h, err := st.Report(ctx, "charts-01", time.Now(), body, 1<<30)
		require.NoError(t, err)
		got, err := st.Content(ctx, h.Dump)
		require.NoError(t, err)
		require.True(t, bytes.Equal(body, got))
	}
	var largest int
	require.NoError(t, raw(
		t, dsn).QueryRow("SELECT MAX(LENGTH(body)) FROM (SELECT body FROM content UNION ALL SELECT body FROM pieces) x").Scan(&largest))
	require.LessOrEqual(t, largest, 1<<20)
	_, err := st.Report(ctx, "charts-01", time.Now(), noise[1:], 20<<20)
	require.ErrorIs(t, err, store.ErrQuota, "that is too much for a day")
}

// forgetful is a way to the database that loses the answer to a commit now and then.
type forgetful struct {
	net.Listener
	lose atomic.Bool
	lost atomic.Int64
}

func newForgetful(t *testing.T, to string) *forgetful {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	f := &forgetful{Listener: l}
	t.Cleanup(func() { _ = l.Close() })
	go func() {
		for {
			client, err := l.Accept()
			if err != nil {
				return
			}
			server, err := net.Dial("tcp", to)
			if err != nil {
				_ = client.Close()
				continue
			}
			go func() { _, _ = io.Copy(client, server); _ = client.Close() }()
			go func() {
				defer func() { _ = server.Close() }()
				b := make([]byte, 64<<10)
				for {
					n, err := client.Read(b)
					if err != nil {
						return
					}
					if bytes.Contains(b[:n], []byte("COMMIT")) && f.lose.CompareAndSwap(true, false) {
						f.lost.Add(1)
						_ = client.Close() // the server hears it, and nobody hears the server
					}
					if _, err := server.Write(b[:n]); err != nil {
						return
					}
				}
			}()
		}
	}()
	return f
}

// TestACommitThatIsNotHeard was made, once: what was acknowledged is there, and nothing twice.
func TestACommitThatIsNotHeard(t *testing.T) {
	t.Parallel()
	ctx := context.Background()
	dsn := testbed.Database(t)
	direct := open(t, dsn)
	_, rest, _ := strings.Cut(dsn, "tcp(")
	address, name, _ := strings.Cut(rest, ")")
	f := newForgetful(t, address)
	st := open(t, "root@tcp("+f.Addr().String()+")"+name)
	_, key, _ := ed25519.GenerateKey(nil)
	base := store.Pair{}
	for n := int64(1); n <= 5; n++ {
		f.lose.Store(true)
		pair, err := st.Publish(ctx, store.Publication{Base: base, Author: "pat", Why: "once", Files: []byte("files")})
		require.NoError(t, err)
		require.Equal(t, store.Pair{Number: n, Revision: n}, pair)
		base = pair
		f.lose.Store(true)
		task, err := st.NewTask(ctx, api.Task{Host: "charts-01", Do: "report", Until: time.Now().Add(time.Minute)}, key)
		require.NoError(t, err)
		f.lose.Store(true)
		token, err := st.NewToken(ctx, "pat", []api.Right{api.Read}, "")
		require.NoError(t, err)
		found, err := direct.TokenBySecret(ctx, token.Secret)
		require.NoError(t, err)
		require.Equal(t, token.ID, found.ID)
		open, err := direct.OpenTasks(ctx, "charts-01")
		require.NoError(t, err)
		require.Len(t, open, int(n))
		require.Equal(t, task.ID, open[n-1].ID)
		f.lose.Store(true)
		w, err := st.NewWave(ctx, api.Wave{State: api.WaveRunning, Hosts: []api.WaveHost{{Name: fmt.Sprint("host-", n)}}})
		require.NoError(t, err)
		require.Equal(t, n, w.Number)
	}
	require.EqualValues(t, 20, f.lost.Load())
	list, err := direct.Revisions(ctx, 0, 100)
	require.NoError(t, err)
	require.Len(t, list, 5)
	tokens, err := direct.Tokens(ctx, 0, 100)
	require.NoError(t, err)
	require.Len(t, tokens, 5)
}

// TestAFrozenDatabase keeps nobody for long, is told as what it is, and answers again when
// it thaws. A transaction of a service that is frozen is ended by the server.
func TestAFrozenDatabase(t *testing.T) {
	t.Parallel()
	ctx := context.Background()
	db, err := testbed.StartMariaDB(t.TempDir())
	require.NoError(t, err)
	defer func() { require.NoError(t, db.Stop()) }()
	require.NoError(t, db.Create("yfence"))
	st := open(t, db.DSN("yfence"))

	other := raw(t, db.DSN("yfence")+"?idle_transaction_timeout=5") // as each of ours has it
	tx, err := other.Begin()
	require.NoError(t, err)
	_, err = tx.Exec("UPDATE counters SET value = value WHERE name IN ('pairs', 'revisions')")
	require.NoError(t, err)
	begin := time.Now()
	_, err = st.Publish(ctx, store.Publication{Base: store.Pair{}, Author: "pat", Why: "waits for one that hangs", Files: []byte("files")})
	require.NoError(t, err)
	require.Less(t, time.Since(begin), 8*time.Second)
	_ = tx.Rollback()

	require.NoError(t, db.Signal(syscall.SIGSTOP))
	begin = time.Now()
	_, err = st.Newest(ctx)
	require.True(t, store.Unavailable(err), "%v", err)
	require.ErrorIs(t, err, store.ErrAway)
	require.Less(t, time.Since(begin), 16*time.Second)
	leave, cancel := context.WithTimeout(ctx, 100*time.Millisecond)
	defer cancel()
	begin = time.Now()
	require.Error(t, st.Ready(leave))
	require.Less(t, time.Since(begin), 4*time.Second, "whoever leaves is not kept")
	require.NoError(t, db.Signal(syscall.SIGCONT))
	require.Eventually(t, func() bool { return st.Ready(ctx) == nil }, 10*time.Second, 100*time.Millisecond)
	pair, err := st.Newest(ctx)
	require.NoError(t, err)
	require.EqualValues(t, 1, pair.Revision)
}

// TestAHostIsInOneWave, however many begin at once.
func TestAHostIsInOneWave(t *testing.T) {
	t.Parallel()
	ctx := context.Background()
	dsn := testbed.Database(t)
	stores := []*store.Store{open(t, dsn), open(t, dsn)}
	for round := range 10 {
		var all sync.WaitGroup
		begun := make(chan int64, 4)
		for n := range 4 {
			all.Go(func() {
				hosts := []api.WaveHost{{Name: fmt.Sprint("a", round)}, {Name: fmt.Sprint("b", round, n%2)},
					{Name: "absent", Phase: api.HostAbsent}}
				w, err := stores[n%2].NewWave(ctx, api.Wave{State: api.WaveRunning, Hosts: hosts})
				var taken *store.Taken
				if errors.As(err, &taken) {
					require.Equal(t, hosts[0].Name, taken.Host)
					return
				}
				require.NoError(t, err)
				begun <- w.Number
			})
		}
		all.Wait()
		require.Len(t, begun, 1)
		number := <-begun
		_, err := stores[0].StepWave(ctx, number, nil, 3, func(w api.Wave) (api.Wave, wave.Commands, error) {
			w.State = api.WaveDone
			return w, wave.Commands{}, nil
		})
		require.NoError(t, err)
		w, err := stores[1].NewWave(ctx, api.Wave{State: api.WaveDone, Hosts: []api.WaveHost{{Name: fmt.Sprint("a", round)}}})
		require.NoError(t, err, "the hosts of a wave that has ended are free")
		_, err = stores[1].StepWave(ctx, w.Number, nil, 3,
			func(w api.Wave) (api.Wave, wave.Commands, error) { w.Why = "x"; return w, wave.Commands{}, nil })
		require.NoError(t, err)
	}
	list, err := stores[0].Waves(ctx, 0, 3)
	require.NoError(t, err)
	require.Len(t, list, 3)
	require.Empty(t, list[0].Hosts)
	require.Equal(t, 1, list[0].Size())
}

// TestSealedKeys: the seeds lie in the database encrypted, also those that were there before,
// and whoever has another key, or none, signs nothing.
func TestSealedKeys(t *testing.T) {
	t.Parallel()
	ctx := context.Background()
	dsn := testbed.Database(t)
	st := open(t, dsn)
	before, err := st.SigningKeys(ctx)
	require.NoError(t, err)
	key := bytes.Repeat([]byte{7}, store.SealKeySize)
	require.NoError(t, st.Seal(ctx, key))
	require.NoError(t, st.NewSigningKey(ctx))
	keys, err := st.SigningKeys(ctx)
	require.NoError(t, err)
	require.Len(t, keys, 2)
	require.Equal(t, before[0], keys[0])
	for _, k := range keys {
		var n int
		require.NoError(t, raw(t, dsn).QueryRow("SELECT COUNT(*) FROM signing_keys WHERE LOCATE(?, seed) > 0", k.Seed()).Scan(&n))
		require.Zero(t, n)
	}
	_, err = open(t, dsn).SigningKeys(ctx)
	require.ErrorIs(t, err, store.ErrSealed)
	other := open(t, dsn)
	require.NoError(t, other.Seal(ctx, bytes.Repeat([]byte{8}, store.SealKeySize)))
	_, err = other.SigningKeys(ctx)
	require.ErrorIs(t, err, store.ErrSealed)
	same := open(t, dsn)
	require.NoError(t, same.Seal(ctx, key))
	again, err := same.SigningKeys(ctx)
	require.NoError(t, err)
	require.Equal(t, keys, again)
	require.ErrorContains(t, st.Seal(ctx, []byte("short")), "a key that seals has 32 bytes")
}
