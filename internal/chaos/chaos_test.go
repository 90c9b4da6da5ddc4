// Package chaos tries the whole of Yellow Fence while its parts are killed and frozen:
// services, the database, host agents, watchdogs and commands. What was acknowledged is held
// against what is there afterwards.
package chaos

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"math"
	"math/rand/v2"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yellowfence.example/yfence/api"
	"yellowfence.example/yfence/client"
	"yellowfence.example/yfence/core/check"
	"yellowfence.example/yfence/core/record"
	"yellowfence.example/yfence/internal/host"
	"yellowfence.example/yfence/internal/testbed"
)

var (
	rounds = flag.Int("rounds", 10, "how many rounds of disturbance")
	seed   = flag.Uint64("seed", 1, "which")
	kills  = flag.Int("kills", 0, "instead of rounds: so many kills of services while all clients write, every tenth with the database")
)

func TestChaos(t *testing.T) {
	testbed.Needed(t, "NOT TRIED, THE KERNEL IS NEEDED")
	h := newHarbour(t)
	rng := rand.New(rand.NewPCG(*seed, 17))
	disturb := h.disturb
	if *kills > 0 {
		*rounds, disturb = (*kills+1)/2, h.killService
	}
	for round := range *rounds {
		h.round(round, rng, disturb)
	}
	h.calm()
	h.judge()
	t.Logf("%d rounds, in which services were killed %d times and the database %d times: %d calls, %d of them not acknowledged; "+
		"%d revisions, %d generations, %d tokens", *rounds, h.killed.services, h.killed.databases, h.model.calls,
		h.model.failed, len(h.model.published), len(h.model.imported), len(h.model.tokens))
}

// socket is a listening socket to be handed to services, however often they are started.
func socket(address string) (*os.File, error) {
	l, err := net.Listen("tcp", address)
	if err != nil {
		return nil, err
	}
	defer func() { _ = l.Close() }()
	return l.(*net.TCPListener).File()
}

// round has all clients at work while things are killed and frozen.
func (h *harbour) round(round int, rng *rand.Rand, disturb func(*rand.Rand)) {
	ctx, cancel := context.WithTimeout(context.Background(), 60*time.Second)
	defer cancel()
	var work sync.WaitGroup
	for n := range clients {
		mine := rand.New(rand.NewPCG(rng.Uint64(), uint64(n)))
		work.Go(func() {
			for step := range 3 {
				h.act(ctx, n, fmt.Sprintf("%d-%d-%d", round, n, step), mine)
				time.Sleep(time.Duration(mine.IntN(300)) * time.Millisecond)
			}
		})
	}
	for range 2 {
		time.Sleep(time.Duration(rng.IntN(700)) * time.Millisecond)
		disturb(rng)
	}
	work.Wait()
	h.ready()
}

// killService kills a service with whatever it writes at the moment, every tenth time with the database.
func (h *harbour) killService(rng *rand.Rand) {
	n := rng.IntN(2)
	_ = h.services[n].cmd.Process.Kill()
	_ = h.services[n].cmd.Wait()
	h.serve(n)
	if h.killed.services++; h.killed.services%10 == 0 {
		h.killDatabase()
	}
}

// killDatabase kills the database and starts it again.
func (h *harbour) killDatabase() {
	h.killed.databases++
	require.NoError(h, h.db.Kill())
	require.NoError(h, h.db.Start())
}

// disturb kills or freezes something, and starts again what nothing else would.
func (h *harbour) disturb(rng *rand.Rand) {
	freeze := func(signal func(syscall.Signal) error) {
		_ = signal(syscall.SIGSTOP)
		time.Sleep(time.Duration(500+rng.IntN(2500)) * time.Millisecond)
		_ = signal(syscall.SIGCONT)
	}
	names := []string{"jump-01", "charts-01", "charts-02"}
	switch n := rng.IntN(2); rng.IntN(7) {
	case 0:
		h.killService(rng)
	case 1:
		freeze(h.services[n].signal)
	case 2:
		h.killDatabase()
	case 3:
		freeze(h.db.Signal)
	case 4: // an agent, with the commands that it runs
		name := names[rng.IntN(len(names))]
		_ = syscall.Kill(-h.agents[name].Process.Pid, syscall.SIGKILL)
		_ = h.agents[name].Wait()
		h.attend(name)
	case 5:
		for _, pid := range processes(h.state(names[rng.IntN(len(names))]), "watchdog", "settle") {
			if rng.IntN(2) == 0 {
				_ = syscall.Kill(pid, syscall.SIGKILL)
			}
		}
	case 6:
		pids := processes(h.state(names[rng.IntN(len(names))]), "watchdog", "settle", "attend")
		freeze(func(s syscall.Signal) error {
			for _, pid := range pids {
				_ = syscall.Kill(pid, s)
			}
			return nil
		})
	}
}

// act does something as a client, and notes what was acknowledged.
func (h *harbour) act(ctx context.Context, n int, id string, rng *rand.Rand) {
	c := h.client(rng.IntN(2))
	if n%2 == 0 { // half of them send again what was not answered, with its key: it must not be done twice
		c.Insist(4)
	}
	m := &h.model
	note := func(err error, done func()) {
		m.mu.Lock()
		defer m.mu.Unlock()
		if m.calls++; err != nil {
			m.failed++
			return
		}
		done()
	}
	ctx, cancel := context.WithTimeout(ctx, 30*time.Second)
	defer cancel()
	switch rng.IntN(9) {
	case 0, 1:
		done, err := c.Publish(ctx, api.PublishRequest{Files: []check.Source{{Name: "p.fence",
			Text: policyText(20001 + rng.IntN(10000))}}, Why: id})
		note(err, func() { m.published[id] = done.Revision })
	case 2:
		done, err := c.Import(ctx, api.ImportRequest{File: "fleet.json", Text: fleetText(rng.IntN(250)), Why: id})
		note(err, func() { m.imported[id] = done.Generation })
	case 3:
		name := fmt.Sprint("load-", n)
		r := api.Report{Version: 1, Host: name, TakenAt: time.Now().UTC(),
			InForce: api.InForce{Dumps: []api.Dump{{Kind: "nft-text", Text: "table ip t" + strings.ReplaceAll(id, "-", "") + " {\n}\n"}}}}
		d, err := c.Report(ctx, r)
		note(err, func() { m.reported[id] = name + " " + d.Hash })
	case 4:
		t, err := c.NewToken(ctx, api.TokenRequest{Name: id, Rights: []api.Right{api.Read}})
		note(err, func() { m.tokens[t.Secret] = true })
		if err == nil && rng.IntN(2) == 0 {
			err := c.RevokeToken(ctx, t.ID)
			note(err, func() { m.tokens[t.Secret] = false })
			if err != nil {
				m.mu.Lock()
				m.unsure[t.Secret] = true
				m.mu.Unlock()
			}
		}
	case 5:
		e, err := c.NewEnrolment(ctx, fmt.Sprint("load-", n))
		note(err, func() {})
		if err == nil {
			mine, err := client.New(c.URL(), "").Enrol(ctx, api.EnrolRequest{Token: e.Token})
			note(err, func() {})
			if err == nil {
				_, err = client.New(c.URL(), "").Enrol(ctx, api.EnrolRequest{Token: e.Token})
				var p *client.Problem
				if err == nil || errors.As(err, &p) && p.Status < 400 {
					h.Errorf("a one-time token of %s worked twice", mine.Host)
				}
			}
		}
	case 6:
		w, err := c.StartWave(ctx, api.WaveRequest{Within: "6s", SkipProbes: rng.IntN(2) == 0, Why: id})
		note(err, func() {})
		if err == nil && rng.IntN(3) == 0 {
			time.Sleep(time.Duration(rng.IntN(2000)) * time.Millisecond)
			_, err := c.StopWave(ctx, w.Number, "the test")
			note(err, func() {})
		}
	case 7:
		p, err := c.Propose(ctx, 0, api.ProposalRequest{Files: []check.Source{{Name: "p.fence", Text: policyText(20001 + rng.IntN(10000))}},
			Why: id})
		note(err, func() {})
		if err == nil {
			done, err := c.PublishProposal(ctx, p.Number)
			note(err, func() { m.published[id] = done.Revision })
		}
	case 8: // by hand, on a host
		for name, ns := range h.hosts {
			_ = ns.Do(func() error {
				command, leave := context.WithTimeout(ctx, 20*time.Second)
				defer leave()
				_ = exec.CommandContext(command, h.program, "settle", "--within", "2s", "--state", h.state(name)).Run()
				if name == "jump-01" && rng.IntN(2) == 0 {
					_ = exec.CommandContext(command, h.program, "keep", "--at-console", "--state", h.state(name)).Run()
				}
				return nil
			})
			break
		}
	}
}

// calm has everything run that should, and waits for what was begun.
func (h *harbour) calm() {
	_ = h.db.Signal(syscall.SIGCONT)
	h.ready()
	pat := h.client(0)
	ctx := context.Background()
	h.until("no wave runs", func() bool {
		all, err := pat.Waves(ctx)
		if err != nil {
			return false
		}
		for _, w := range all.Waves {
			if w.State == api.WaveRunning || w.State == api.WaveWaiting {
				// jump-01 waits for a person: nobody else may log in there.
				_, _ = pat.StopWave(ctx, w.Number, "the test is over")
				return false
			}
		}
		return true
	})
	for name := range h.hosts {
		m := host.Machine{Dir: h.state(name)}
		h.until("no change waits on "+name, func() bool {
			left, _ := filepath.Glob(filepath.Join(m.Dir, "waiting-*"))
			c, err := m.Change()
			return err == nil && len(left) == 0 && (c.Phase == "" || c.Phase == api.Kept || c.Phase == api.WentBack)
		})
	}
}

// judgeRecord: every change has its entry, no entry is without its change, nothing of it was lost or
// changed, and each event reached who is told of them, more than once only where nobody heard his answer.
func (h *harbour) judgeRecord(one func(string, ...any) int64) {
	ctx := context.Background()
	pat := h.client(0)
	var v *record.Verifier
	for after, more := int64(0), true; more; {
		part, err := pat.RecordRows(ctx, after)
		require.NoError(h, err)
		if v == nil {
			v, err = record.Verify(part.Key)
			require.NoError(h, err)
		}
		for _, r := range part.Rows {
			if wrong := v.Add(r); wrong != nil {
				require.NoError(h, wrong)
			}
			after = r.Number
		}
		if more = part.More; !more {
			require.GreaterOrEqual(h, v.Size(), part.Size)
		}
	}
	for deed, changes := range map[string]string{record.Published: "SELECT COUNT(*) FROM revisions",
		record.ImportedFleet: "SELECT COUNT(*) FROM " +
			"generations", record.RevokedToken: "SELECT COUNT(*) FROM tokens WHERE revoked_at IS NOT NULL AND host = ''",
		record.MadeToken: "SELECT COUNT(*) FROM tokens WHERE host = ''", record.BeganWave: "SELECT COUNT(*) FROM waves",
		record.Enrolled: "SELECT COUNT(*) FROM enrolments WHERE used_at IS NOT NULL"} {
		require.Equal(h, one(changes), one("SELECT COUNT(*) FROM record WHERE deed = ?", deed), "entries of %s", deed)
		require.Equal(h, one(changes), one("SELECT COUNT(DISTINCT subject, number) FROM record WHERE deed = ?", deed))
	}
	// Many about one subject take long, since each waits for the one before it, which may have been refused.
	for left := int64(math.MaxInt64); left > 0; {
		h.until(fmt.Sprintf("more events are delivered: %d are left", left), func() bool {
			now := one("SELECT COUNT(*) FROM deliveries WHERE state <> 'done'")
			less := now < left || now == 0
			left = now
			return less
		})
	}
	h.told.mu.Lock()
	defer h.told.mu.Unlock()
	// What was done before the services knew whom to tell is nobody's to hear.
	require.GreaterOrEqual(h, int64(len(h.told.times)), one("SELECT COUNT(*) FROM deliveries"))
	again := 0
	for _, n := range h.told.times {
		again += n - 1
	}
	h.Logf("%d entries; %d events delivered, %d of them again", v.Size(), len(h.told.times), again)
}

// judge compares what is there with what was acknowledged.
func (h *harbour) judge() {
	ctx := context.Background()
	pat := h.client(1)
	db, err := sql.Open("mysql", h.db.DSN("yfence"))
	require.NoError(h, err)
	defer func() { _ = db.Close() }()
	one := func(query string, args ...any) (n int64) {
		require.NoError(h, db.QueryRow(query, args...).Scan(&n), query)
		return n
	}
	for table, acknowledged := range map[string]map[string]int64{"revisions": h.model.published, "generations": h.model.imported} {
		for why, number := range acknowledged {
			require.Equal(h, number, one("SELECT number FROM "+table+" WHERE why = ?", why), "%s of %s was acknowledged", table, why)
		}
		require.Zero(h, one("SELECT COUNT(*) FROM (SELECT why FROM "+table+" WHERE author = 'pat' GROUP BY why HAVING COUNT(*) > 1) x"),
			"nothing is there twice")
		require.Equal(h, one("SELECT MAX(number) FROM "+table), one("SELECT COUNT(*) FROM "+table), "no number is missing")
	}
	rows, err := db.Query("SELECT revision, generation FROM pairs ORDER BY number")
	require.NoError(h, err)
	var revision, generation, beforeR, beforeG int64
	for n := 0; rows.Next(); n++ {
		require.NoError(h, rows.Scan(&revision, &generation))
		if n > 0 {
			require.EqualValues(h, 1, revision-beforeR+generation-beforeG, "each pair is the one before with one half newer")
		}
		beforeR, beforeG = revision, generation
	}
	require.NoError(h, rows.Err())
	require.Equal(h, one("SELECT MAX(number) FROM revisions"), revision)
	require.Equal(h, one("SELECT MAX(number) FROM generations"), generation)
	for secret, inForce := range h.model.tokens {
		if h.model.unsure[secret] {
			continue
		}
		_, err := client.New(h.services[0].url, secret).Revisions(ctx)
		require.Equal(h, inForce, err == nil, "%v", err)
	}
	for id, report := range h.model.reported {
		name, hash, _ := strings.Cut(report, " ")
		require.Positive(h, one("SELECT COUNT(*) FROM reports WHERE host = ? AND hash = UNHEX(?)", name, hash),
			"the report %s was acknowledged", id)
		require.Positive(h, one("SELECT COUNT(*) FROM content WHERE hash = UNHEX(?)", hash))
	}
	h.judgeRecord(one)
	require.Zero(h, one("SELECT COUNT(*) FROM wave_hosts"), "no wave holds a host")
	require.Zero(h, one("SELECT COUNT(*) FROM tasks WHERE done_at IS NULL AND until < NOW(6) - INTERVAL 1 HOUR"))

	for name, ns := range h.hosts {
		m := host.Machine{Dir: h.state(name)}
		c, err := m.Change()
		require.NoError(h, err)
		kept, err := m.Kept()
		require.NoError(h, err)
		rules, err := ns.Run(nil, "sh", "-c", "nft list ruleset; iptables-save 2>/dev/null")
		require.NoError(h, err)
		mark := func(files []api.File) string { // the port that a policy of its own admits
			for _, f := range files {
				for _, word := range strings.FieldsFunc(f.Text, func(r rune) bool { return r < '0' || r > '9' }) {
					if n, _ := strconv.Atoi(word); n >= 20000 && n <= 30001 && f.Kind != "ipset" {
						return word
					}
				}
			}
			return ""
		}
		switch {
		case kept != nil:
			require.Contains(h, string(rules), mark(kept.Files), "%s has in force what it kept last; the last change %s: %s", name,
				c.Phase, c.Why)
		default:
			require.NotContains(h, string(rules), "tcp dport 2", "%s never kept anything", name)
		}
		if c.Phase == api.Kept {
			require.Equal(h, c.ID, kept.Change.ID)
		}
	}

	// Whatever was, all of it can be put in force now, and everybody says so.
	stop := make(chan struct{})
	var console sync.WaitGroup
	console.Go(func() {
		for {
			select {
			case <-stop:
				return
			case <-time.After(200 * time.Millisecond):
				_, _ = h.hosts["jump-01"].Run(nil, h.program, "keep", "--at-console", "--state", h.state("jump-01"))
			}
		}
	})
	var w api.Wave
	h.until("a last wave begins", func() bool {
		w, err = pat.StartWave(ctx, api.WaveRequest{Within: "20s", SkipProbes: true, Why: "the last"})
		return err == nil && w.Counts[api.HostAbsent] == clients+1 || err == nil && len(w.Hosts) == realHosts+clients+1
	})
	h.until("the last wave is done", func() bool {
		now, err := pat.Wave(ctx, w.Number)
		if err == nil && now.State == api.WaveStopped {
			body, _ := json.MarshalIndent(now, "", " ")
			require.Fail(h, "the last wave stopped", "%s", body)
		}
		return err == nil && now.State == api.WaveDone
	})
	close(stop)
	console.Wait()
	for name := range h.hosts {
		h.until(name+" is in step", func() bool {
			d, err := pat.Drift(ctx, name)
			return err == nil && d.Hosts[0].State == api.InStep
		})
	}
	require.EqualValues(h, realHosts, len(h.hosts))
}
