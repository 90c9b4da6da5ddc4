package cli_test

import (
	"context"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yellowfence.example/yfence/api"
	"yellowfence.example/yfence/client"
)

// TestPauseReturnAndCopies on hosts of both dialects, as an operator has them.
func TestPauseReturnAndCopies(t *testing.T) {
	t.Parallel()
	p := newPier(t)
	p.begin()
	settle := func() {
		out, code := p.operate("waves", "start", "charts")
		require.Equal(t, 0, code, out)
	}
	settle()
	for _, host := range []string{"charts-01", "charts-02"} {
		was := p.listing(host)
		out, code := p.operate("pause", host, "--for", "2h", "--because", "is it the filter?")
		require.Equal(t, 0, code, out)
		require.Contains(t, p.listing(host), "would refuse")
		require.Equal(t, api.Paused, p.status(host).State)
		require.Regexp(t, `^until .*: is it the filter\? \(pat\)$`, p.status(host).Why)
		out, _ = p.operate("drift", host)
		require.Contains(t, out, "whatever the policy refuses gets in: the filter is paused.")
		require.Contains(t, out, "to do     resuming "+host+" ends that")
		require.NotContains(t, out, "somebody changed")
		out, code = p.operate("waves", "start", host)
		require.Equal(t, 1, code, out)
		require.Contains(t, out, "end the pause first (yfence resume)")
		out, code = p.operate("resume", host)
		require.Equal(t, 0, code, out)
		require.Contains(t, out, host+": the pause has ended, resumed by pat")
		require.Equal(t, rulesOf(was), rulesOf(p.listing(host)))
		p.until("the service knows", func() bool { return p.status(host).State == api.InStep })
	}
	out, code := p.operate("pause", "charts-01", "--for", "30h", "--because", "holidays")
	require.Equal(t, 2, code)
	require.Contains(t, out, "a pause may last 24h0m0s at most")

	p.publish(pierPolicy + "allow more: everywhere -> charts : tcp 9001 knowingly wide-open \"a test\"\n")
	settle()
	require.Contains(t, p.listing("charts-01"), "9001")
	out, code = p.operate("waves", "undo", "3")
	require.Equal(t, 2, code, out)
	require.Contains(t, out, "wave 3 has kept nothing that could go back")
	waves, err := p.Waves(context.Background())
	require.NoError(t, err)
	out, code = p.operate("waves", "undo", fmt.Sprint(waves.Waves[0].Number))
	require.Equal(t, 0, code, out)
	for _, host := range []string{"charts-01", "charts-02"} {
		require.NotContains(t, p.listing(host), "9001")
		p.until(host+" has what was before", func() bool { s := p.status(host); return s.State == api.Behind && s.InForce == 1 })
	}

	out, code = p.operate("copies", "charts-02")
	require.Equal(t, 0, code, out)
	require.Regexp(t, `(?m)^1 .* 0 +revision 1$`, out, "there was nothing before us")
	out, code = p.operate("copies", "restore", "charts-02", "1", "--within", "8s") // to make the change takes of that time too
	require.Equal(t, 0, code, out)
	require.NotContains(t, p.listing("charts-02"), "yf-")
	p.until("it goes back", func() bool { return strings.Contains(p.listing("charts-02"), "yf-inbound") })
}

// TestHostsAreAmongThemselves: what one host's token is good for, and what is not.
func TestHostsAreAmongThemselves(t *testing.T) {
	t.Parallel()
	ctx := context.Background()
	p := newPier(t)
	_, err := p.Import(ctx, api.ImportRequest{File: "fleet.json", Text: pierFleet})
	require.NoError(t, err)
	p.publish(pierPolicy)
	once, err := p.NewEnrolment(ctx, "charts-01")
	require.NoError(t, err)
	nobody := client.New(p.Client.URL(), "")
	e, err := nobody.Enrol(ctx, api.EnrolRequest{Token: once.Token})
	require.NoError(t, err)
	require.Equal(t, "charts-01", e.Host)
	_, err = nobody.Enrol(ctx, api.EnrolRequest{Token: once.Token})
	require.ErrorContains(t, err, "this is no one-time token that still works")
	mine := client.New(p.Client.URL(), e.Secret)
	_, err = mine.Tasks(ctx, "charts-01", 0)
	require.NoError(t, err)
	for what, call := range map[string]func() error{
		"another's tasks":  func() error { _, err := mine.Tasks(ctx, "charts-02", 0); return err },
		"another's rules":  func() error { _, err := mine.Rules(ctx, "charts-02"); return err },
		"another's change": func() error { return mine.TellChange(ctx, "charts-02", 1, nil, "x") },
		"another's copies": func() error {
			return mine.PutCopies(ctx, api.Copies{Version: 1, Host: "charts-02", Copies: []api.CopyNote{}})
		},
		"another's report": func() error {
			_, err := mine.Report(ctx, api.Report{Version: 1, Host: "charts-02", TakenAt: time.Now(),
				InForce: api.InForce{Dumps: []api.Dump{{Kind: "nft-text"}}}})
			return err
		},
		"the fleet":      func() error { _, err := mine.Fleet(ctx); return err },
		"its own copies": func() error { _, err := mine.Copies(ctx, "charts-01"); return err },
		"a wave":         func() error { _, err := mine.StartWave(ctx, api.WaveRequest{}); return err },
		"a probe": func() error {
			_, err := mine.Probe(ctx, api.ProbeRequest{Question: "charts-01 -> charts-02 : ssh"})
			return err
		},
		"an enrolment": func() error { _, err := mine.NewEnrolment(ctx, "charts-02"); return err },
		"a pause": func() error {
			_, err := mine.AskHost(ctx, "charts-01", api.Task{Do: "pause", Within: "1h", Why: "x"})
			return err
		},
		"a signing key":        func() error { _, err := mine.NewKey(ctx); return err },
		"another's tasks done": func() error { return mine.FinishTask(ctx, "charts-02", 1, api.TaskResult{}) },
	} {
		var refused *client.Problem
		require.ErrorAs(t, call(), &refused, what)
		require.Equal(t, http.StatusForbidden, refused.Status, what)
	}
	again, err := p.NewEnrolment(ctx, "charts-01")
	require.NoError(t, err)
	_, err = nobody.Enrol(ctx, api.EnrolRequest{Token: again.Token})
	require.NoError(t, err)
	_, err = mine.Tasks(ctx, "charts-01", 0)
	require.ErrorContains(t, err, `the token "charts-01" was revoked at`, "whoever enrols anew takes the place of whoever did before")
}

// TestKeysChange: hosts take over a new key that the one they trust has signed.
func TestKeysChange(t *testing.T) {
	t.Parallel()
	ctx := context.Background()
	p := newPier(t)
	p.begin()
	_, err := p.RetireKey(ctx)
	require.ErrorContains(t, err, "there is no other key to follow this one")
	keys, err := p.NewKey(ctx)
	require.NoError(t, err)
	require.Len(t, keys.Keys, 2)
	pins := func() string {
		b, err := os.ReadFile(filepath.Join(p.state("charts-01"), "pins.json"))
		require.NoError(t, err)
		return string(b)
	}
	_, err = p.AskHost(ctx, "charts-01", api.Task{Do: "report"}) // it asks anew
	require.NoError(t, err)
	p.until("both keys are pinned", func() bool { return strings.Contains(pins(), string(keys.Keys[1])) })
	_, err = p.RetireKey(ctx)
	require.NoError(t, err)
	status, err := p.AskHost(ctx, "charts-01", api.Task{Do: "report"})
	require.NoError(t, err)
	require.Empty(t, status.Result.Failed, "what the new key signs is done")
	p.until("the old key is forgotten", func() bool { return !strings.Contains(pins(), string(keys.Keys[0])) })

	require.NoError(t, os.WriteFile(filepath.Join(p.state("charts-01"), "pins.json"), []byte(`["`+strings.Repeat("A", 43)+`="]`), 0o600))
	out, err := p.run("charts-01", "settle")
	require.ErrorContains(t, err, "the service signs with a key that this host does not know", out)
	require.NotContains(t, p.listing("charts-01"), "yellowfence")
}

// TestListenersConnectionsAndAddresses on a host in a kernel of its own.
func TestListenersConnectionsAndAddresses(t *testing.T) {
	t.Parallel()
	ctx := context.Background()
	p := newPier(t)
	dynamic := strings.Replace(pierFleet, `"addresses": ["10.40.2.2/16"]`, `"addresses": ["10.40.2.2/16"], "dynamic": true`, 1)
	_, err := p.Import(ctx, api.ImportRequest{File: "fleet.json", Text: dynamic})
	require.NoError(t, err)
	p.publish(strings.Replace(pierPolicy, "allow site", "allow feed: charts -> charts : tcp 9100\nallow site", 1))
	var open []net.Listener
	require.NoError(t, p.hosts["charts-01"].Do(func() error {
		for _, at := range []string{"10.40.2.1:8095", "10.40.2.1:7000", "127.0.0.1:7001", "10.40.2.1:6000"} {
			l, err := net.Listen("tcp", at)
			if err != nil {
				return err
			}
			open = append(open, l)
		}
		return nil
	}))
	defer func() {
		for _, l := range open {
			_ = l.Close()
		}
	}()
	var conn net.Conn
	require.NoError(t, p.wire.Do(func() (err error) { conn, err = net.Dial("tcp", "10.40.2.1:6000"); return err }))
	defer func() { _ = conn.Close() }()
	served, err := open[3].Accept()
	require.NoError(t, err)
	defer func() { _ = served.Close() }()
	for name := range p.hosts {
		p.attend(name)
	}
	out, code := p.operate("waves", "start", "charts", "--force") // the test's own connection counts as a log-in
	require.Equal(t, 0, code, out)

	out, code = p.operate("listeners", "charts-01")
	require.Equal(t, 1, code, out)
	for _, want := range []string{
		`(?m)^    shut            tcp 7000 on 10\.40\.2\.1 \(.*\) listens, and by the policy nobody may come to it$`,
		`(?m)^    nobody listens  tcp 9100 is admitted by allow feed, and nothing listens there  \(pier\.fence:\d+:7\)$`,
		`(?m)^    nobody listens  tcp 22 is admitted by allow hop`} {
		require.Regexp(t, want, out)
	}
	require.NotContains(t, out, "8095")
	require.NotContains(t, out, "7001")

	// The connection of before was made when nobody tracked: what it says next is new.
	require.NoError(t, p.hosts["charts-01"].Load("table ip theirs {\n\tchain c {\n\t\ttype filter hook input priority -5; policy "+
		"accept;\n\t\tct state new tcp dport 6000 accept\n\t}\n}\n"))
	require.NoError(t, p.hosts["charts-01"].Load("insert rule inet yellowfence inbound tcp dport 6000 accept"))
	_, err = conn.Write([]byte("hello"))
	require.NoError(t, err)
	b := make([]byte, 5)
	_, err = io.ReadFull(served, b)
	require.NoError(t, err)
	out, code = p.operate("connections", "charts-01")
	require.Equal(t, 0, code, "it is admitted by what somebody inserted: %s", out)
	listing, err := p.hosts["charts-01"].Run(nil, "nft", "-a", "list", "chain", "inet", "yellowfence", "inbound")
	require.NoError(t, err)
	handle := regexp.MustCompile(`tcp dport 6000 accept # handle (\d+)`).FindStringSubmatch(string(listing))
	require.NotNil(t, handle)
	require.NoError(t, p.hosts["charts-01"].Load("delete rule inet yellowfence inbound handle "+handle[1]))
	out, code = p.operate("connections", "charts-01")
	require.Equal(t, 1, code, out)
	require.Regexp(t, `^charts-01: tcp from 10\.40\.0\.5:\d+ to 10\.40\.2\.1:6000\n$`, out)
	out, code = p.operate("connections", "charts-01", "--cut")
	require.Equal(t, 1, code, out)
	require.Contains(t, out, "cut")
	_, err = conn.Write([]byte("again"))
	require.Error(t, err, "it is cut")

	// charts-02 gets another address; its peers' rules follow by themselves.
	require.NoError(t, p.hosts["charts-02"].IP("addr del 10.40.2.2/16 dev eth1", "addr add 10.40.2.99/16 dev eth1"))
	p.until("a new generation of the fleet", func() bool {
		fl, err := p.Fleet(ctx)
		require.NoError(t, err)
		return fl.Generation == 2
	})
	require.Equal(t, "10.40.2.99/16", p.status("charts-02").Interfaces[0].Addresses[0].String())
	p.until("its peers follow", func() bool {
		return strings.Contains(p.listing("charts-01"), "10.40.2.99") && p.status("charts-01").State == api.InStep
	})
	require.NotContains(t, p.listing("charts-01"), "10.40.2.2,")
	p.until("the wave is over", func() bool { out, _ = p.operate("waves", "show", "2"); return !strings.Contains(out, "running") })
	require.Contains(t, out, "proved allow feed (changed): charts-02 -> charts-01 (10.40.2.1) : tcp 9100 passes")

	// What is not dynamic is told.
	require.NoError(t, p.hosts["charts-01"].IP("addr add 10.40.2.77/16 dev eth1"))
	out, err = p.run("charts-01", "report")
	require.NoError(t, err, out)
	require.Equal(t, []string{"eth1 has 10.40.2.77/16, which the fleet file does not say"}, p.status("charts-01").Differs)
}
