package host_test

import (
	"crypto/ed25519"
	"crypto/rand"
	"os"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yellowfence.example/yfence/api"
	"yellowfence.example/yfence/internal/host"
)

// TestRulesAreThoseThatWereAskedFor: whatever a service ever signed is not taken for it.
func TestRulesAreThoseThatWereAskedFor(t *testing.T) {
	_, key, err := ed25519.GenerateKey(rand.Reader)
	require.NoError(t, err)
	m := host.Machine{Dir: t.TempDir()}
	require.NoError(t, m.Enrol(host.Identity{Host: "charts-01"}, []api.Key{api.KeyOf(key)}))
	signed := func(hostName, kind string, pair int64) api.Rules {
		r := api.Rules{Host: hostName, Kind: kind, Pair: pair, Files: []api.File{{Kind: "nft", Text: "x"}}}
		r.Sign(key)
		return r
	}
	changed := signed("charts-01", "", 5)
	changed.Files = []api.File{{Kind: "nft", Text: "y"}}
	require.NoError(t, m.Settled(5))
	require.NoError(t, m.Settled(3), "of the pairs that were settled the newest counts")
	for _, c := range []struct {
		rules api.Rules
		kind  string
		pair  int64
		want  string // "" is taken
	}{
		{signed("charts-01", "", 5), "", 0, ""},
		{signed("charts-01", "", 6), "", 0, ""},
		{signed("charts-01", "pause", 6), "pause", 0, ""},
		{signed("charts-01", "", 2), "", 2, ""}, // a signed task asks for a return to it
		{signed("logbook-01", "", 5), "", 0, "these rules are logbook-01's and not charts-01's"},
		{signed("charts-01", "pause", 5), "", 0, "these are a pause's rules, and the policy's were asked for"},
		{signed("charts-01", "pause", 5), "ground", 0, "these are a pause's rules, and the ground's were asked for"},
		{signed("charts-01", "", 5), "pause", 0, "these are the policy's rules, and a pause's were asked for"},
		{signed("charts-01", "", 4), "", 0, "these are the rules of pair 4, and pair 5 was settled here already: this is an old answer"},
		{signed("charts-01", "", 5), "", 7, "these are the rules of pair 5, and those of pair 7 were asked for"},
		{changed, "", 0, "the rules are not to be trusted"},
	} {
		err := m.Accept(c.rules, "charts-01", c.kind, c.pair)
		if c.want == "" {
			require.NoError(t, err)
		} else {
			require.ErrorContains(t, err, c.want)
		}
	}
	require.NoError(t, m.Enrol(host.Identity{Host: "charts-01"}, []api.Key{api.KeyOf(key)}))
	require.NoError(t, m.Accept(signed("charts-01", "", 1), "charts-01", "", 0), "a service that was set up anew begins anew")
}

// TestForgedAndLateTasks: numbers that somebody made up keep no genuine task from being done,
// what is past its end is not done, and another enrolment begins anew.
func TestForgedAndLateTasks(t *testing.T) {
	dir := t.TempDir()
	o := newOffice(t)
	_, stranger, err := ed25519.GenerateKey(rand.Reader)
	require.NoError(t, err)
	m := host.Machine{Dir: dir}
	require.NoError(t, m.Enrol(host.Identity{Host: "charts-01"}, o.keys().Keys))
	task := func(id int64, key ed25519.PrivateKey, until time.Duration) api.Task {
		t := api.Task{ID: id, Host: "charts-01", Do: "settle", Pair: id, Within: "1m", Until: time.Now().Add(until)}
		t.Sign(key)
		return t
	}
	o.tasks = []api.Task{task(1, stranger, time.Minute), task(2, stranger, time.Minute), task(3, o.key, -24*time.Second)}
	ran, stop := attend(t, dir, o)
	require.Contains(t, o.result(t, 1).Failed, "the task was not done: ")
	require.Contains(t, o.result(t, 2).Failed, "the task was not done: ")
	require.Contains(t, o.result(t, 3).Failed, "nobody waits for it since")
	o.mu.Lock()
	o.results = map[int64]api.TaskResult{}
	o.tasks = []api.Task{task(1, o.key, time.Minute), task(2, o.key, time.Minute)}
	o.mu.Unlock()
	require.Empty(t, o.result(t, 2).Failed, "the genuine one is done")
	require.True(t, ran.has("settle --output json --within 1m --pair 1"))
	require.False(t, ran.has("settle --output json --within 1m --pair 3"))
	stop()

	require.NoError(t, m.Enrol(host.Identity{Host: "charts-01"}, o.keys().Keys))
	_, err = os.Stat(dir + "/done.json")
	require.ErrorIs(t, err, os.ErrNotExist)
	require.NoError(t, os.Chmod(dir, 0o755))
	require.NoError(t, m.Enrol(host.Identity{Host: "charts-01"}, o.keys().Keys))
	info, err := os.Stat(dir)
	require.NoError(t, err)
	require.Equal(t, os.FileMode(0o700), info.Mode().Perm(), "a folder that was there is closed to others")
}
