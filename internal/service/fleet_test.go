package service_test

import (
	"context"
	"fmt"
	"net/http"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yellowfence.example/yfence/api"
	"yellowfence.example/yfence/core/check"
)

// manyHosts is a harbour of so many hosts, each of which has reported what it should have.
func manyHosts(t testing.TB, hosts int) *harbour {
	t.Helper()
	ctx := context.Background()
	h := newHarbour(t)
	more := make([]string, hosts-2)
	for i := range more {
		more[i] = fmt.Sprintf(`{"name": "charts-%05d", "roles": ["charts"], "dialect": "nft", "interfaces": [{"name": "eth0", `+
			`"addresses": ["10.40.%d.%d/16"]}]}`, i, 100+i/250, i%250+1)
	}
	_, err := h.Import(ctx, api.ImportRequest{File: "fleet.json", Text: smallFleet(more...)})
	require.NoError(t, err)
	_, err = h.Publish(ctx, api.PublishRequest{Files: []check.Source{{Name: "p.fence", Text: smallPolicy}}, Why: "first"})
	require.NoError(t, err)
	rules, err := h.Rules(ctx, "charts-00000")
	require.NoError(t, err)
	r := report("charts-00000", "")
	r.Names = nil // as of a host that has all users whom rules may name
	r.Dumps = []api.Dump{{Kind: "nft-text", Text: strings.Split(rules.Text, "delete table inet yellowfence\n")[1]}}
	d, err := h.Report(ctx, r)
	require.NoError(t, err)
	require.Equal(t, api.InStep, d.State, "%+v", d)
	for _, q := range []string{
		"INSERT INTO reports (host, taken_at, received_at, hash) SELECT CONCAT('charts-', LPAD(seq, 5, '0')), NOW(6), NOW(6), (SELECT " +
			"hash FROM reports WHERE host = 'charts-00000') FROM seq_1_to_20000 WHERE seq < ?",
		"INSERT INTO newest (host, report) SELECT host, id FROM reports WHERE host <> 'charts-00000' AND ? > 0",
		"INSERT INTO attending (host, asked_at) SELECT host, NOW(6) FROM newest WHERE ? > 0",
		"INSERT INTO findings (host, dump, pair, result) SELECT n.host, f.dump, f.pair, f.result FROM newest n JOIN findings f WHERE " +
			"f.host = 'charts-00000' AND n.host <> f.host AND ? > 0",
		"UPDATE newest SET changed_at = NOW(6) - INTERVAL 1 HOUR WHERE ? > 0",
		"UPDATE attending SET changed_at = NOW(6) - INTERVAL 1 HOUR, polled_at = NOW(6) - INTERVAL 1 HOUR WHERE ? > 0",
	} {
		h.exec(q, hosts-2)
	}
	return h
}

// TestTheFleetInParts: filtered, counted and in parts by the service; and whoever has the
// answer already is told so.
func TestTheFleetInParts(t *testing.T) {
	t.Parallel()
	ctx := context.Background()
	h := manyHosts(t, 1200)
	var fl api.Fleet
	require.Eventually(t, func() bool { // some reports are being read while they are put in
		var err error
		fl, err = h.Fleet(ctx)
		return err == nil && fl.Counts[string(api.Unread)] == 0
	}, time.Minute, 100*time.Millisecond)
	require.Len(t, fl.Hosts, 1200)
	require.Equal(t, 1200, fl.Total)
	require.Equal(t, map[string]int{"in step": 1198, "new": 2}, fl.Counts)
	d, err := h.Drift(ctx, "")
	require.NoError(t, err)
	require.Len(t, d.Hosts, 1200)

	get := func(query, etag string) (res *http.Response, o outcome) {
		req, err := http.NewRequest("GET", h.url+"/api/v1/"+query, nil)
		require.NoError(t, err)
		req.Header.Set("Authorization", "Bearer "+h.token)
		if etag != "" {
			req.Header.Set("If-None-Match", etag)
		}
		res, err = http.DefaultClient.Do(req)
		require.NoError(t, err)
		require.NoError(t, res.Body.Close())
		return res, outcome{status: res.StatusCode}
	}
	for _, path := range []string{"fleet?limit=100", "drift?state=new", "fleet?role=jump&name=jump"} {
		first, o := get(path, "")
		require.Equal(t, 200, o.status, path)
		again, o := get(path, first.Header.Get("ETag"))
		require.Equal(t, 304, o.status, path)
		require.NotEmpty(t, again.Header.Get("ETag")+first.Header.Get("ETag"))
	}
	first, _ := get("fleet?name=charts-00007", "")
	r := report("charts-00007", emptyListing)
	_, err = h.as([]api.Right{api.Host}, "charts-00007").Report(ctx, r)
	require.NoError(t, err)
	changed, o := get("fleet?name=charts-00007", first.Header.Get("ETag"))
	require.Equal(t, 200, o.status, "a report is seen at once")
	require.NotEqual(t, first.Header.Get("ETag"), changed.Header.Get("ETag"))
	fl, err = h.Fleet(ctx)
	require.NoError(t, err)
	require.Equal(t, map[string]int{"bare": 1, "in step": 1197, "new": 2}, fl.Counts)
	_, o = get("fleet?after=nobody", "")
	require.Equal(t, 409, o.status)
}

// BenchmarkFleet reads the fleet of 10,000 hosts as the console does.
func BenchmarkFleet(b *testing.B) {
	h := manyHosts(b, 10_000)
	for _, path := range []string{"fleet?limit=100", "fleet?limit=1000", "drift?limit=100", "fleet?state=drifted"} {
		b.Run(path, func(b *testing.B) {
			etag := ""
			for b.Loop() {
				req, err := http.NewRequest("GET", h.url+"/api/v1/"+path, nil)
				require.NoError(b, err)
				req.Header.Set("Authorization", "Bearer "+h.token)
				req.Header.Set("If-None-Match", etag)
				res, err := http.DefaultClient.Do(req)
				require.NoError(b, err)
				require.NoError(b, res.Body.Close())
				if etag == "" {
					etag = res.Header.Get("ETag")
				}
			}
		})
	}
}

// BenchmarkPublished is how long it takes until all of 10,000 hosts that have another revision
// in force are told as behind, from the publication on, and what the first look after it takes.
func BenchmarkPublished(b *testing.B) {
	h := manyHosts(b, 10_000)
	ctx := context.Background()
	h.exec("INSERT INTO asked (host, pair, previous, asked_at) SELECT host, 1, 0, NOW(6) - INTERVAL 1 HOUR FROM newest WHERE ? > 0", 1)
	for n := 0; b.Loop(); n++ {
		text := smallPolicy + fmt.Sprintf("allow extra: 198.51.100.9 -> charts : tcp %d\n", 9000+n)
		_, err := h.Publish(ctx, api.PublishRequest{Files: []check.Source{{Name: "p.fence", Text: text}}, Why: "w"})
		require.NoError(b, err)
		begun := time.Now()
		for first := true; ; first = false {
			fl, err := h.Fleet(ctx)
			require.NoError(b, err)
			if first {
				b.ReportMetric(time.Since(begun).Seconds(), "first-s")
			}
			if fl.Counts["unread"] == 0 {
				require.Greater(b, fl.Counts["behind"], 1000)
				break
			}
			time.Sleep(100 * time.Millisecond)
		}
	}
}
