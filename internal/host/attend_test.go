package host_test

import (
	"context"
	"crypto/ed25519"
	"crypto/rand"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yellowfence.example/yfence/api"
	"yellowfence.example/yfence/internal/host"
	"yellowfence.example/yfence/internal/host/agent"
)

// office is a service that hands out what it is told to, and notes what it hears.
type office struct {
	mu      sync.Mutex
	key     ed25519.PrivateKey
	tasks   []api.Task
	results map[int64]api.TaskResult
	away    bool
}

func newOffice(t *testing.T) *office {
	_, key, err := ed25519.GenerateKey(rand.Reader)
	require.NoError(t, err)
	return &office{key: key, results: map[int64]api.TaskResult{}}
}

func (o *office) keys() api.Keys {
	k := api.Keys{Keys: []api.Key{api.KeyOf(o.key)}}
	k.Sign(o.key)
	return k
}

func (o *office) Tasks(ctx context.Context, _ string, _ time.Duration) (api.Tasks, error) {
	for {
		o.mu.Lock()
		open := slices.DeleteFunc(slices.Clone(o.tasks), func(t api.Task) bool { _, done := o.results[t.ID]; return done })
		away := o.away
		o.mu.Unlock()
		if away {
			return api.Tasks{}, errors.New("the service does not answer")
		}
		if len(open) > 0 {
			return api.Tasks{Tasks: open, Keys: o.keys()}, nil
		}
		select {
		case <-ctx.Done():
			return api.Tasks{}, ctx.Err()
		case <-time.After(10 * time.Millisecond):
		}
	}
}

func (o *office) FinishTask(_ context.Context, _ string, id int64, r api.TaskResult) error {
	o.mu.Lock()
	defer o.mu.Unlock()
	o.results[id] = r
	return nil
}

func (o *office) TellChange(context.Context, string, int64, *api.HostChange, string) error {
	return nil
}
func (o *office) PutCopies(context.Context, api.Copies) error { return nil }

func (o *office) result(t *testing.T, id int64) api.TaskResult {
	t.Helper()
	for deadline := time.Now().Add(10 * time.Second); ; time.Sleep(10 * time.Millisecond) {
		o.mu.Lock()
		r, ok := o.results[id]
		o.mu.Unlock()
		if ok {
			return r
		}
		require.True(t, time.Now().Before(deadline), "nothing became of task %d", id)
	}
}

// ran are commands of our own program that an attendant had run.
type ran struct {
	mu        sync.Mutex
	all, said []string
}

// say takes what the attendant says of its work.
func (r *ran) say(format string, args ...any) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.said = append(r.said, fmt.Sprintf(format, args...))
}

// says waits until the attendant has said something.
func (r *ran) says(t *testing.T, what string) {
	t.Helper()
	require.Eventually(t, func() bool {
		r.mu.Lock()
		defer r.mu.Unlock()
		return strings.Contains(strings.Join(r.said, "\n"), what)
	}, 10*time.Second, 10*time.Millisecond)
}

func (r *ran) run(_ context.Context, args ...string) ([]byte, error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.all = append(r.all, strings.Join(args, " "))
	return []byte("{}"), nil
}

func (r *ran) has(command string) bool {
	r.mu.Lock()
	defer r.mu.Unlock()
	return slices.ContainsFunc(r.all, func(s string) bool { return strings.HasPrefix(s, command) })
}

func attend(t *testing.T, dir string, o *office) (r *ran, stop func()) {
	r = &ran{}
	a := &agent.Agent{Machine: host.Machine{Dir: dir}, Host: "charts-01", Service: o, Run: r.run, Every: time.Hour, Look: time.Hour,
		Say: r.say}
	ctx, cancel := context.WithCancel(context.Background())
	done := make(chan error, 1)
	go func() { done <- a.Attend(ctx) }()
	stop = sync.OnceFunc(func() { cancel(); require.NoError(t, <-done) })
	t.Cleanup(stop)
	return r, stop
}

// TestAnAttendantDoesWhatItsServiceSigned, once, and nothing else.
func TestAnAttendantDoesWhatItsServiceSigned(t *testing.T) {
	dir, err := os.MkdirTemp("", "yfa") // a socket's path is short
	require.NoError(t, err)
	t.Cleanup(func() { _ = os.RemoveAll(dir) })
	o, forger := newOffice(t), newOffice(t)
	m := host.Machine{Dir: dir}
	fresh, err := m.Trust(o.keys())
	require.NoError(t, err)
	require.True(t, fresh)
	task := func(id int64, name, do string, key ed25519.PrivateKey) (out api.Task) {
		out = api.Task{ID: id, Host: name, Do: api.TaskKind(do), Until: time.Now().Add(time.Minute).UTC().Truncate(time.Second)}
		out.Sign(key)
		return out
	}
	altered := task(3, "charts-01", "report", o.key)
	altered.Do = "settle"
	o.tasks = []api.Task{task(1, "charts-01", "settle", forger.key), task(2, "charts-02", "settle", o.key), altered,
		task(4, "charts-01", "dance", o.key), task(5, "charts-01", "report", o.key), task(6, "charts-01", "keep", o.key)}
	r, stop := attend(t, dir, o)
	for id, want := range map[int64]string{1: "the task was not done: ", 2: "the task is for charts-02", 3: "the task was not done: ",
		4: "this version does not know how to dance", 6: "a keep by the service needs proof that somebody came in"} {
		require.Contains(t, o.result(t, id).Failed, want)
	}
	require.Empty(t, o.result(t, 5).Failed)
	require.False(t, r.has("settle"))
	require.True(t, r.has("report --spool"))

	stop() // as if it was killed before the answer came through
	delete(o.results, 5)
	_, stop = attend(t, dir, o)
	require.Equal(t, "it was done before, and how it went could not be told", o.result(t, 5).Failed)
	stop()

	o.key, o.results = forger.key, map[int64]api.TaskResult{} // a service that nobody here knows
	r, stop = attend(t, dir, o)
	r.says(t, "the service signs with a key that this host does not know")
	stop()
	require.Empty(t, o.results)
	require.False(t, r.has("settle"))
	_, err = m.Trust(o.keys())
	require.ErrorContains(t, err, "the service signs with a key that this host does not know")
}

// TestAnAttendantHasRulesFollowUnits that start anew.
func TestAnAttendantHasRulesFollowUnits(t *testing.T) {
	dir, err := os.MkdirTemp("", "yfa")
	require.NoError(t, err)
	t.Cleanup(func() { _ = os.RemoveAll(dir) })
	unit := fmt.Sprintf("follow%d.service", os.Getpid())
	root := controlGroups()
	group := filepath.Join(root, unit)
	require.NoError(t, os.MkdirAll(group, 0o755))
	t.Cleanup(func() { _ = os.Remove(group) })
	_, stop := attend(t, dir, newOffice(t)) // which makes the folder
	stop()
	kept := fmt.Sprintf(`{"change": {}, "files": [{"kind": "nft", "text": "\tset s {\n\t\ttypeof socket cgroupv2 level 1\n\t\tcomment `+
		`\"unit %s\"\n\t}\n"}]}`, unit)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "kept.json"), []byte(kept), 0o600))
	r, _ := attend(t, dir, newOffice(t))
	refills := func() (n int) {
		r.mu.Lock()
		defer r.mu.Unlock()
		for _, s := range r.all {
			if s == "refill" {
				n++
			}
		}
		return n
	}
	require.Eventually(t, func() bool { return refills() == 1 }, 10*time.Second, 50*time.Millisecond, "at the beginning")
	require.NoError(t, os.Remove(group))
	require.NoError(t, os.MkdirAll(group, 0o755))
	require.Eventually(t, func() bool { return refills() >= 2 }, 10*time.Second, 50*time.Millisecond, "when it started anew")
}

// TestReportsWaitForTheService: on disk, in their order, and shorter where it knows what they say.
func TestReportsWaitForTheService(t *testing.T) {
	m := host.Machine{Dir: t.TempDir()}
	begin := time.Now().UTC().Truncate(time.Second)
	report := func(n int, text string) api.Report {
		return api.Report{Version: 1, Host: "h", TakenAt: begin.Add(time.Duration(n) * time.Second),
			InForce: api.InForce{Dumps: []api.Dump{{Kind: "nft-json", Text: text}}}, Around: &api.HostFacts{Routes: []string{"ipv4"}}}
	}
	for i, text := range []string{"a", "a", "b", "c"} {
		require.NoError(t, m.Spool(report(i, text)))
	}
	require.NoError(t, os.WriteFile(filepath.Join(m.Dir, "spool", fmt.Sprintf("%020d.json", begin.Add(90*time.Minute).UnixNano())),
		[]byte(`{"half`), 0o600))
	var sent []string
	away := errors.New("away")
	send := func(r api.Report) error {
		if len(sent) == 2 {
			return away
		}
		sent = append(sent, r.Dumps[0].Text)
		return nil
	}
	require.ErrorIs(t, m.Unspool(send), away)
	require.Equal(t, []string{"a", "b"}, sent, "what says the same twice waits once")
	sent = nil
	require.NoError(t, m.Unspool(send))
	require.Equal(t, []string{"c"}, sent, "nothing is sent twice, and what nobody can read is left out")
	for i := range 300 {
		require.NoError(t, m.Spool(report(i, fmt.Sprint(i))))
	}
	sent = nil
	require.NoError(t, m.Unspool(func(r api.Report) error { sent = append(sent, r.Dumps[0].Text); return nil }))
	require.Len(t, sent, 200)
	require.Equal(t, []string{"0", "101", "299"}, []string{sent[0], sent[1], sent[199]}, "the first tells when it began")

	r := report(1, "x")
	_, ok := m.Short(r)
	require.False(t, ok)
	m.Reported(r, "abc")
	short, ok := m.Short(report(2, "x"))
	require.True(t, ok)
	require.Equal(t, []any{"abc", 0, true}, []any{short.Same, len(short.Dumps), short.Around == nil})
	counts := func(n ...int64) (out []api.Count) {
		for i, packets := range n {
			out = append(out, api.Count{At: fmt.Sprint("rule ", i), Packets: packets, By: "allow a", Of: "7"})
		}
		return out
	}
	counting := report(3, "x")
	counting.Counts = counts(5, 6, 7)
	m.Reported(counting, "abc")
	counting.Counts = counts(5, 8, 7, 1)
	short, ok = m.Short(counting)
	require.True(t, ok)
	require.Equal(t, counts(5, 8, 7, 1)[1:2], short.Counts[:1], "what counters stand at is told where that is otherwise than before")
	require.Len(t, short.Counts, 2)
	require.Len(t, counting.Counts, 4)
	short, ok = m.Short(report(2, "y"))
	require.True(t, ok)
	require.Equal(t, []any{"", 1, true}, []any{short.Same, len(short.Dumps), short.Around == nil})
}
