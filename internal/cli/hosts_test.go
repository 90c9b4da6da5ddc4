package cli_test

import (
	"context"
	"fmt"
	"net"
	"net/http"
	"net/http/httptest"
	"net/http/httputil"
	"net/url"
	"os"
	"regexp"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yellowfence.example/yfence/api"
)

// TestWaves puts a policy in force over hosts of both dialects, as an operator does.
func TestWaves(t *testing.T) {
	t.Parallel()
	p := newPier(t)
	p.begin()
	kept := p.keepAtConsole("jump-01")
	out, code := p.operate("waves", "start", "--check", "echo checked $YFENCE_HOSTS")
	require.Equal(t, 0, code, out)
	require.Contains(t, <-kept, "revision 1 is kept, from the machine's own console")
	for _, want := range []string{"wave 1, step 1 of 2, revision 1: jump-01, charts-01",
		"  charts-01      kept       jump-01 opened a connection to 10.40.2.1:22", "checked jump-01 charts-01",
		"  7 connections came out as the policy says",
		"proved allow hop (new): jump-01 -> charts-01 (10.40.2.1) : tcp 22 passes\nproved allow hop (new): jump-01 -> charts-01 " +
			"(10.40.2.1) : tcp 23 is refused\n", "not tried: allow way-in, which is new: no connection that must pass could be tried\n",
		"wave 1, step 2 of 2, revision 1: charts-02", "charts-02      kept       jump-01 opened a connection to 10.40.2.2:22",
		"wave 1 is done: 3 kept"} {
		require.Contains(t, out, want)
	}
	for name := range p.hosts {
		p.until(name+" is in step", func() bool { return p.status(name).State == api.InStep })
	}
	require.Contains(t, p.listing("charts-02"), "-A INPUT -j yf-inbound")
}

// TestFaults are what may happen while a host waits for its keep. It goes back by itself,
// and the service learns why as soon as it can.
func TestFaults(t *testing.T) {
	t.Parallel()
	p := newPier(t)
	database := &gate{}
	p.dsn = database.through(t, p.dsn)
	p.stopService()
	p.startService()
	p.begin()
	p.kill("jump-01", syscall.SIGTERM) // nobody can log in anywhere
	before := p.listing("charts-01")
	for _, c := range []struct {
		what         string
		happen, mend func()
	}{
		{"attend is killed", func() { p.kill("charts-01", syscall.SIGKILL) }, func() { p.start("charts-01") }},
		{"the service is gone", func() { p.stopService() }, func() { p.startService() }},
		{"its database is gone", func() { database.set(true) }, func() { database.set(false) }},
		{"the network is gone", func() { require.NoError(t, p.hosts["charts-01"].IP("link set eth1 down")) },
			func() { require.NoError(t, p.hosts["charts-01"].IP("link set eth1 up")) }},
	} {
		t.Run(c.what, func(t *testing.T) {
			begun := time.Now().Add(-time.Second)
			w, err := p.StartWave(context.Background(), api.WaveRequest{Hosts: []string{"charts-01"}, Within: "5s"})
			require.NoError(t, err)
			p.until("it is in force", func() bool { return strings.Contains(p.listing("charts-01"), "table inet yellowfence") })
			c.happen()
			p.until("it went back", func() bool { return p.listing("charts-01") == before })
			c.mend()
			p.until("the service knows", func() bool {
				s := p.status("charts-01")
				return s.Change != nil && s.Change.Phase == api.WentBack && s.Change.Began.After(begun)
			})
			require.Regexp(t, "^(nobody kept it within 5s|the service could no longer be reached|the command that made it ended before "+
				"it was done)", p.status("charts-01").Change.Why)
			p.until("the wave stopped", func() bool {
				now, err := p.Wave(context.Background(), w.Number)
				return err == nil && now.State == api.WaveStopped
			})
		})
	}
}

// TestEachStepWithoutTheService: each request of a settle is lost, or its answer is, or the
// service has lost its database. Whatever was in force before is in force in the end,
// and the service knows it once it is there again.
func TestEachStepWithoutTheService(t *testing.T) {
	t.Parallel()
	p := newPier(t)
	p.begin()
	before := p.listing("charts-01")
	behind, err := url.Parse(p.url)
	require.NoError(t, err)
	forward := httputil.NewSingleHostReverseProxy(behind)
	wire := http.DefaultTransport.(*http.Transport).Clone()
	wire.DialContext = func(ctx context.Context, network, address string) (c net.Conn, err error) {
		_ = p.wire.Do(func() error { c, err = (&net.Dialer{}).DialContext(ctx, network, address); return nil })
		return c, err
	}
	forward.Transport = wire
	var mu sync.Mutex
	var asked []string
	fault, at := "", -1 // what happens to which request, and to all that follow
	proxy := &http.Server{ReadHeaderTimeout: time.Second, Handler: http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		mu.Lock()
		asked = append(asked, r.Method+" "+r.URL.Path)
		struck := fault
		if len(asked)-1 < at {
			struck = ""
		}
		first := len(asked)-1 == at
		mu.Unlock()
		switch {
		case struck == "":
			forward.ServeHTTP(w, r)
			return
		case struck == "the database is gone":
			http.Error(w, `{"title": "Internal Server Error", "detail": "the database does not answer"}`, http.StatusInternalServerError)
			return
		case struck == "the answer is lost" && first:
			forward.ServeHTTP(httptest.NewRecorder(), r)
		}
		c, _, err := w.(http.Hijacker).Hijack()
		if err == nil {
			_ = c.Close()
		}
	})}
	var l net.Listener
	require.NoError(t, p.wire.Do(func() (err error) { l, err = net.Listen("tcp", "10.40.0.5:8481"); return err }))
	go func() { _ = proxy.Serve(l) }()
	defer func() { _ = proxy.Close() }()
	settle := func(what string, request int) error {
		mu.Lock()
		fault, at, asked = what, request, nil
		mu.Unlock()
		out, err := p.run("charts-01", "settle", "--within", "6s", "--server", "http://10.40.0.5:8481")
		if os.Getenv("YFENCE_LOUD") != "" {
			fmt.Fprintf(os.Stderr, "%s, request %d: %s %v\n", what, request, out, err)
		}
		return err
	}
	back := func() {
		p.until("it went back", func() bool { return p.listing("charts-01") == before })
	}
	require.NoError(t, settle("", -1))
	mu.Lock()
	steps := asked
	mu.Unlock()
	require.Equal(t, []string{"GET /api/v1/keys", "POST /api/v1/hosts/charts-01/settle", "POST /api/v1/hosts/charts-01/change",
		"POST /api/v1/hosts/charts-01/reports"}, steps)
	back()
	for i, step := range steps {
		for _, what := range []string{"the request is lost", "the answer is lost", "the database is gone"} {
			t.Run(fmt.Sprintf("%s, %s", step, what), func(t *testing.T) {
				require.Error(t, settle(what, i))
				back()
				p.until("the service knows", func() bool {
					s := p.status("charts-01")
					return s.State != api.InStep && (s.Change == nil || s.Change.Phase == api.WentBack)
				})
			})
		}
	}
}

// TestAPolicyThatCutsAHostOff is refused on the host; tried even so, it goes back.
func TestAPolicyThatCutsAHostOff(t *testing.T) {
	t.Parallel()
	p := newPier(t)
	p.begin()
	// whose answers do not get out
	p.publish(strings.Replace(pierPolicy, "role charts\n", "role charts { outbound closed }\nground { service off  replies off }\n", 1),
		"guard-refused")
	out, err := p.run("charts-01", "settle")
	require.ErrorContains(t, err, "these rules would cut off what this host sends to the service at 10.40.0.5:8480", out)
	require.NotContains(t, p.listing("charts-01"), "yellowfence")
	p.until("the service was told", func() bool {
		return strings.Contains(p.status("charts-01").Why,
			"would cut off what this host sends")
	})
	require.Equal(t, api.Failed, p.status("charts-01").State)

	out, err = p.run("charts-01", "settle", "--force", "--within", "3s")
	require.NoError(t, err)
	require.Contains(t, out, "charts-01: revision 2 is in force, and is undone at ")
	require.Contains(t, p.listing("charts-01"), "yellowfence")
	p.until("it went back", func() bool { return !strings.Contains(p.listing("charts-01"), "yellowfence") })
	p.until("the service knows", func() bool { return p.status("charts-01").State == api.WentBackState })
	require.Equal(t, "nobody kept it within 3s", p.status("charts-01").Why)
}

// TestAWayInThatIsShut stops a wave: rules of another table stand in the way of whoever logs in.
func TestAWayInThatIsShut(t *testing.T) {
	t.Parallel()
	p := newPier(t)
	p.begin()
	require.NoError(t, p.hosts["charts-01"].Load("table ip theirs {\n\tchain c {\n\t\ttype filter hook input priority 5; policy "+
		"accept;\n\t\ttcp dport 22 drop\n\t}\n}\n"))
	out, code := p.operate("waves", "start", "charts", "--steps", "1")
	require.Equal(t, 1, code, out)
	require.Contains(t, out, "the way in is shut: a new connection from jump-01 to 10.40.2.1:22 was silent")
	require.Contains(t, out, "wave 1 is stopped: 1 failed, 1 due")
	p.until("it went back", func() bool { return !strings.Contains(p.listing("charts-01"), "yellowfence") })
	require.NotContains(t, p.listing("charts-02"), "yf-")
}

// TestWhatIsExpectedIsTried after each step, and what the operator asks for: a wave that
// breaks it stops.
func TestWhatIsExpectedIsTried(t *testing.T) {
	t.Parallel()
	p := newPier(t)
	p.begin()
	const shut = "table ip theirs {\n\tchain c {\n\t\ttype filter hook input priority 5; policy accept;\n\t\ttcp dport 8095 drop\n\t}\n}\n"
	require.NoError(t, p.hosts["charts-01"].Load(shut))
	p.keepAtConsole("jump-01")
	out, code := p.operate("waves", "start")
	require.Equal(t, 1, code, out)
	require.Contains(t, out, "it stopped because allow site, which is new: jump-01 -> charts-01 (10.40.2.1) : tcp 8095 was silent, and "+
		"the policy admits it\nwhat is kept stays; yfence waves undo 1")
	require.NotContains(t, p.listing("charts-02"), "yf-", "the second step never began")
	require.NoError(t, p.hosts["charts-01"].Load("delete table ip theirs"))

	// What arrives elsewhere than it was sent to is nobody's to try.
	p.publish(pierPolicy + "allow tls-in: jump -> charts : tcp 443\nredirect tls: jump -> charts : tcp 443 to tcp 8096\nexpect " +
		"tls-comes: always jump -> charts : tcp 443\n")
	p.keepAtConsole("jump-01")
	out, code = p.operate("waves", "start")
	require.Equal(t, 0, code, out)
	var status atomic.Int64
	status.Store(http.StatusServiceUnavailable)
	site := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) { w.WriteHeader(int(status.Load())) }))
	defer site.Close()
	out, code = p.operate("waves", "start", "charts", "--check", site.URL)
	require.Equal(t, 1, code, out)
	require.Contains(t, out, "the check after step 1 does not hold: "+site.URL+" answered 503 Service Unavailable")
	status.Store(http.StatusNoContent)
	out, code = p.operate("waves", "start", "charts", "--check", site.URL)
	require.Equal(t, 0, code, out)
	require.Contains(t, out, "the check after step 2 holds\nwave 4 is done: 2 kept")

	// What a check that fails finds kept goes back where that was asked for.
	p.publish(strings.Replace(pierPolicy, "expect site-is-there: always", "block noise: jump -> charts : tcp 8095\nexpect quiet: never", 1))
	status.Store(http.StatusServiceUnavailable)
	out, code = p.operate("waves", "start", "charts", "--check", site.URL, "--roll-back")
	require.Equal(t, 1, code, out)
	for _, want := range []string{"proved block noise (new): jump-01 -> charts-01 (10.40.2.1) : tcp 8095 is refused\n",
		"wave 6 puts back what wave 5 has kept\n", "wave 6 is done\n"} {
		require.Contains(t, out, want)
	}
	require.NotContains(t, p.listing("charts-01"), "noise")
}

// rulesOf is a listing without what passes.
func rulesOf(listing string) string {
	return regexp.MustCompile(`(?m)^#.*\n|\[\d+:\d+\]|counter packets \d+ bytes \d+`).ReplaceAllString(listing, "")
}
