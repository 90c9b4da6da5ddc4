package service_test

import (
	"context"
	"crypto/ed25519"
	"net/http"
	"net/netip"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yellowfence.example/yfence/api"
	"yellowfence.example/yfence/client"
	"yellowfence.example/yfence/core/fleet"
	"yellowfence.example/yfence/core/listeners"
)

const extraRule = `, {"rule": {"family": "inet", "table": "yellowfence", "chain": "inbound", "handle": 999, "expr": [{"match": {"left": ` +
	`{"payload": {"protocol": "tcp", "field": "dport"}}, "op": "==", "right": 8096}}, {"counter": {"packets": 0, "bytes": 0}}, ` +
	`{"accept": null}]}}]}`

// withRule is a recorded report with a rule more.
func withRule(r api.Report) api.Report {
	r.Dumps = append([]api.Dump{}, r.Dumps...)
	r.Dumps[0].Text = strings.TrimSuffix(strings.TrimSpace(r.Dumps[0].Text), "]}") + extraRule
	return r
}

// TestAfterAReboot: what is loaded at the start is held against the policy too.
func TestAfterAReboot(t *testing.T) {
	t.Parallel()
	h := newSaltmarsh(t)
	kept := &api.HostChange{What: "revision 1", Kind: "settle", Phase: api.Kept, Pair: 1}
	running := recordedReport(t, "pilotage-01")
	open := withRule(running)
	open.TakenAt = time.Now().UTC()
	told, err := h.Report(context.Background(), open)
	require.NoError(t, err)
	conf := []api.BootFile{{By: "nftables.service", File: "/etc/nftables.conf", Kind: "nft-text"}}
	const toPeople = "tcp 8096 from everywhere except pests gets in; nothing in the policy admits it."
	for _, c := range []struct {
		what    string
		running api.Report
		boot    api.Boot
		state   api.State
		says    []string
		hint    string
	}{
		{"it is not known", running, api.Boot{Unknown: "systemd does not run here"}, api.InStep, nil, ""},
		{"it is what runs", running, api.Boot{Kept: kept, Ours: true, Same: true}, api.InStep, nil, ""},
		{"nothing was kept", running, api.Boot{Ours: true}, api.Drifted,
			[]string{"Nothing was ever kept here: after a reboot none of these rules are in force."}, "settle the host, and keep it"},
		{"nothing loads it", running, api.Boot{Kept: kept, Loads: conf}, api.Drifted,
			[]string{"The unit yfence-boot.service is not enabled: after a reboot what nftables.service loads from /etc/nftables.conf is " +
				"in force."}, "systemctl enable yfence-boot.service"},
		{"another rule is loaded", running, api.Boot{Kept: kept, Ours: true, Loads: conf, InForce: &open.InForce}, api.Drifted,
			[]string{"After a reboot: " + toPeople},
			"settle the host, and keep it; besides what is ours, /etc/nftables.conf is loaded then"},
		{"the host names what is stored", running, api.Boot{Kept: kept, Ours: true, Dump: told.Hash}, api.InStep, nil, ""},
		{"another rule is gone after it", open, api.Boot{Kept: kept, Ours: true, InForce: &running.InForce}, api.Drifted,
			[]string{toPeople}, ""},
		{"the same wrong rule is loaded", open, api.Boot{Kept: kept, Ours: true, Loads: conf, InForce: &open.InForce}, api.Drifted,
			[]string{toPeople}, ""},
	} {
		t.Run(c.what, func(t *testing.T) {
			r := c.running
			r.TakenAt, r.Around = time.Now().UTC(), &api.HostFacts{Boot: &c.boot}
			d, err := h.Report(context.Background(), r)
			require.NoError(t, err)
			require.Equal(t, c.state, d.State)
			var says []string
			for _, f := range d.Findings {
				says = append(says, f.Sentence)
			}
			require.Equal(t, c.says, says)
			if c.hint != "" {
				require.Equal(t, c.hint, d.Findings[0].Hint)
			}
			r.Around = nil // what is as before is not sent again
			again, err := h.Report(context.Background(), r)
			require.NoError(t, err)
			require.Equal(t, d.Findings, again.Findings)
		})
	}
}

// TestCountsAndListenersOfAReport are told where somebody asks.
func TestCountsAndListenersOfAReport(t *testing.T) {
	t.Parallel()
	h := newSaltmarsh(t)
	ctx := context.Background()
	all, err := h.Listeners(ctx, "logbook-01")
	require.NoError(t, err)
	require.Equal(t, "it never reported", all.Hosts[0].Untold)
	r := withRule(recordedReport(t, "logbook-01"))
	r.TakenAt = time.Now().UTC()
	r.Counts = []api.Count{{At: "inet yellowfence/inbound handle 999", Packets: 17, Bytes: 1700}}
	r.Around = &api.HostFacts{Listeners: []listeners.Listener{{Protocol: "tcp", Port: 8096, Process: "someprogram"}}}
	_, err = h.Report(ctx, r)
	require.NoError(t, err)
	live, err := h.Live(ctx, "logbook-01")
	require.NoError(t, err)
	for _, c := range live.Chains {
		for _, rule := range c.Rules {
			if rule.At == "inet yellowfence/inbound handle 999" {
				require.EqualValues(t, 17, *rule.Packets)
			} else {
				require.Nil(t, rule.Packets)
			}
		}
	}
	all, err = h.Listeners(ctx, "logbook-01")
	require.NoError(t, err)
	require.Equal(t, "tcp 8096 on all addresses (someprogram) listens, and by the policy nobody may come to it", all.Hosts[0].Notes[0].Says)
	r.Around = &api.HostFacts{Untold: map[string]string{"listeners": "ss is not installed"}}
	_, err = h.Report(ctx, r)
	require.NoError(t, err)
	all, err = h.Listeners(ctx, "logbook-01")
	require.NoError(t, err)
	require.Equal(t, []any{"ss is not installed", 0}, []any{all.Hosts[0].Untold, len(all.Hosts[0].Notes)})
}

// TestEnrolling trades a one-time token once, however many try at the same time.
func TestEnrolling(t *testing.T) {
	t.Parallel()
	h := newSaltmarsh(t)
	ctx := context.Background()
	_, err := h.NewEnrolment(ctx, "nobody-01")
	require.Equal(t, http.StatusNotFound, problem(t, err).Status)
	first, err := h.NewEnrolment(ctx, "charts-01")
	require.NoError(t, err)
	again, err := h.NewEnrolment(ctx, "charts-01")
	require.NoError(t, err)
	_, err = h.Enrol(ctx, api.EnrolRequest{Token: first.Token})
	require.Equal(t, http.StatusUnauthorized, problem(t, err).Status, "the newer one is the one that works")
	var all sync.WaitGroup
	got := make(chan api.Enrolled, 8)
	for range 8 {
		all.Go(func() {
			if e, err := h.Enrol(ctx, api.EnrolRequest{Token: again.Token}); err == nil {
				got <- e
			}
		})
	}
	all.Wait()
	close(got)
	require.Len(t, got, 1)
	e := <-got
	keys, err := h.Keys(ctx)
	require.NoError(t, err)
	require.Equal(t, []any{"charts-01", keys.Keys}, []any{e.Host, e.Keys})
	host := client.New(h.url, e.Secret)
	_, err = host.Tasks(ctx, "charts-01", 0)
	require.NoError(t, err)
	_, err = host.Tasks(ctx, "charts-02", 0)
	require.Equal(t, http.StatusForbidden, problem(t, err).Status)
	next, err := h.NewEnrolment(ctx, "charts-01")
	require.NoError(t, err)
	_, err = h.Enrol(ctx, api.EnrolRequest{Token: next.Token})
	require.NoError(t, err)
	_, err = host.Tasks(ctx, "charts-01", 0)
	require.Equal(t, http.StatusUnauthorized, problem(t, err).Status, "whoever enrolled before is out")
}

// TestTasks reach the host that they are for, at once, and are done once.
func TestTasks(t *testing.T) {
	t.Parallel()
	h := newSaltmarsh(t)
	ctx := context.Background()
	key, err := h.Keys(ctx)
	require.NoError(t, err)
	host, other := h.as([]api.Right{api.Host}, "charts-01"), h.as([]api.Right{api.Host}, "charts-02")
	_, err = h.AskHost(ctx, "charts-01", api.Task{Do: "report"})
	require.Equal(t, "charts-01 does not poll the service: is `yfence attend` running there?", problem(t, err).Detail)
	_, err = host.Tasks(ctx, "charts-01", 0)
	require.NoError(t, err)
	waiting := make(chan api.Tasks, 1)
	begin := time.Now()
	go func() {
		tasks, err := host.Tasks(ctx, "charts-01", 20*time.Second)
		require.NoError(t, err)
		waiting <- tasks
	}()
	answer := make(chan api.TaskStatus, 1)
	go func() {
		status, err := h.AskHost(ctx, "charts-01", api.Task{Do: "report"})
		require.NoError(t, err)
		answer <- status
	}()
	tasks := <-waiting
	require.Less(t, time.Since(begin), 10*time.Second, "whoever waits is woken")
	require.Len(t, tasks.Tasks, 1)
	task := tasks.Tasks[0]
	require.NoError(t, task.Verify([]ed25519.PublicKey{key.Keys[0].Public()}))
	require.Equal(t, http.StatusNotFound, problem(t, other.FinishTask(ctx, "charts-02", task.ID, api.TaskResult{})).Status)
	require.NoError(t, host.FinishTask(ctx, "charts-01", task.ID, api.TaskResult{Said: []string{"done"}}))
	require.Equal(t, []string{"done"}, (<-answer).Result.Said)
	require.NoError(t, host.FinishTask(ctx, "charts-01", task.ID, api.TaskResult{Said: []string{"again"}}), "its answer may have been lost")
	tasks, err = host.Tasks(ctx, "charts-01", 0)
	require.NoError(t, err)
	require.Empty(t, tasks.Tasks)
	for _, c := range []struct {
		task api.Task
		want string
	}{
		{api.Task{Do: "pause", Within: "1h"}, "a pause needs a reason: others will see it, and ask"},
		{api.Task{Do: "pause", Within: "48h", Why: "w"}, "a pause may last 24h0m0s at most, so that nobody forgets it (serve --max-pause)"},
		{api.Task{Do: "pause", Within: "soon", Why: "w"}, `a pause needs its length, as 30m or 2h, not "soon"`},
		{api.Task{Do: "resume"}, "charts-01 is not paused"},
	} {
		_, err := h.AskHost(ctx, "charts-01", c.task)
		require.Equal(t, c.want, problem(t, err).Detail)
	}
}

// TestAWaveOfNobody is refused, with what is to be done.
func TestAWaveOfNobody(t *testing.T) {
	t.Parallel()
	h := newSaltmarsh(t)
	ctx := context.Background()
	require.Equal(t, "none of these hosts polls the service: is yfence attend running there?",
		problem(t, wave(h, api.WaveRequest{})).Detail)
	for _, name := range []string{"charts-01", "charts-02", "logbook-01"} {
		_, err := h.as([]api.Right{api.Host}, name).Tasks(ctx, name, 0)
		require.NoError(t, err)
	}
	for _, c := range []struct {
		req  api.WaveRequest
		want string
	}{
		{api.WaveRequest{Hosts: []string{"nobody"}}, `no host and no role is named "nobody"`},
		{api.WaveRequest{Sizes: []string{"some"}}, `"some" is no size of a step: say a number of hosts, or a share as 10%`},
		{api.WaveRequest{Revision: 9}, "there is no revision 9"},
		{api.WaveRequest{Within: "1s"}, `the time for a keep is from 5s to 24h, not "1s"`},
	} {
		require.Equal(t, c.want, problem(t, wave(h, c.req)).Detail)
	}
	plan, err := h.StartWave(ctx, api.WaveRequest{Hosts: []string{"charts", "logbook"}, Plan: true})
	require.NoError(t, err)
	_, err = h.Wave(ctx, 1)
	require.Equal(t, http.StatusNotFound, problem(t, err).Status, "it was asked about, and did not begin")
	w, err := h.StartWave(ctx, api.WaveRequest{Hosts: []string{"charts", "logbook"}})
	require.NoError(t, err)
	require.Equal(t, []any{api.WavePlanned, w.Steps, w.Hosts}, []any{plan.State, plan.Steps, plan.Hosts})
	steps := map[string]int{}
	for _, host := range w.Hosts {
		steps[host.Name+" "+host.Phase] = host.Step
	}
	require.Equal(t, map[string]int{"charts-01 due": 1, "logbook-01 due": 1, "charts-02 due": 2, "charts-03 absent": 0}, steps)
	require.Equal(t, "wave 1 is at charts-01; wait for it, or stop it first",
		problem(t, wave(h, api.WaveRequest{Hosts: []string{"charts"}})).Detail)
	w, err = h.StopWave(ctx, w.Number, "lunch")
	require.NoError(t, err)
	require.Equal(t, []string{api.WaveStopped, "stopped by pat: lunch"}, []string{w.State, w.Stopped})
	_, err = h.GoOn(ctx, w.Number)
	require.Equal(t, "wave 1 is stopped, and does not wait for a word", problem(t, err).Detail)
	_, err = h.ReturnWave(ctx, w.Number)
	require.Equal(t, "wave 1 has kept nothing that could go back", problem(t, err).Detail)
	_, err = h.Wave(ctx, 2)
	require.Equal(t, http.StatusNotFound, problem(t, err).Status)
}

func wave(h *harbour, req api.WaveRequest) error {
	_, err := h.StartWave(context.Background(), req)
	return err
}

// TestStrangeAddresses: a dynamic interface's are taken over, unless the policy no longer holds with them.
func TestStrangeAddresses(t *testing.T) {
	t.Parallel()
	h := newHarbour(t)
	ctx := context.Background()
	_, err := h.Import(ctx, api.ImportRequest{File: "fleet.json",
		Text: strings.Replace(fleetFile(t), `"addresses": ["10.40.3.40/16"`, `"dynamic": true, "addresses": ["10.40.3.40/16"`, 1)})
	require.NoError(t, err)
	_, err = h.Publish(ctx, api.PublishRequest{Files: policyFiles(t), Why: "first"})
	require.NoError(t, err)
	var differs []string
	seen := func() []fleet.Interface {
		fl, err := h.Fleet(ctx)
		require.NoError(t, err)
		for _, host := range fl.Hosts {
			if host.Name == "logbook-01" {
				differs = host.Differs
				return host.Interfaces
			}
		}
		return nil
	}
	report := func(addresses ...string) {
		r := recordedReport(t, "logbook-01")
		r.TakenAt, r.Around = time.Now().UTC(),
			&api.HostFacts{Interfaces: []api.SeenInterface{{Name: "eth1", Addresses: []netip.Prefix{}},
				{Name: "eth2", Addresses: seen()[1].Addresses}}}
		for _, a := range addresses {
			r.Around.Interfaces[0].Addresses = append(r.Around.Interfaces[0].Addresses, netip.MustParsePrefix(a))
		}
		_, err := h.Report(ctx, r)
		require.NoError(t, err)
	}
	report("10.40.3.41/16", "fd40::3:41/64")
	require.Equal(t, []netip.Prefix{netip.MustParsePrefix("10.40.3.41/16"), netip.MustParsePrefix("fd40::3:41/64")}, seen()[0].Addresses)
	report()
	require.Len(t, seen()[0].Addresses, 2, "an interface that is down for a while keeps what it had")
	report("10.40.6.60/16") // which is another host's
	require.Equal(t, "10.40.3.41/16", seen()[0].Addresses[0].String())
	require.Contains(t, differs, "eth1 has 10.40.6.60/16, which the fleet file does not say")
	report("192.0.2.50/24", "10.40.3.44/16") // the one is on no segment of the interface
	require.Equal(t, []netip.Prefix{netip.MustParsePrefix("10.40.3.44/16")}, seen()[0].Addresses, "a host is not believed whatever it says")
	require.Contains(t, differs, "eth1 has 192.0.2.50/24, which the fleet file does not say")
	r := recordedReport(t, "logbook-01")
	r.TakenAt, r.Around = time.Now().UTC(),
		&api.HostFacts{Interfaces: []api.SeenInterface{{Name: "+", Addresses: seen()[0].Addresses},
			{Name: "eth\r", Addresses: seen()[0].Addresses}}}
	_, err = h.Report(ctx, r)
	require.NoError(t, err)
	seen()
	require.NotContains(t, strings.Join(differs, ";"), "+", "nobody's interface is called that")
}

// TestAnInterfaceThatIsNotThere is told first, and its host is not in step: nothing that the
// policy admits over it passes.
func TestAnInterfaceThatIsNotThere(t *testing.T) {
	t.Parallel()
	h := newSaltmarsh(t)
	ctx := context.Background()
	_, err := h.Settle(ctx, "watch-01")
	require.NoError(t, err)
	r := recordedReport(t, "watch-01")
	r.TakenAt, r.Around = time.Now().UTC(),
		&api.HostFacts{Interfaces: []api.SeenInterface{{Name: "eth1", Addresses: []netip.Prefix{}},
			{Name: "eth7", Addresses: []netip.Prefix{}}}}
	d, err := h.Report(ctx, r)
	require.NoError(t, err)
	require.Equal(t, []any{api.Drifted, "The host has no interface eth2, which the fleet file says: what the policy admits over it " +
		"passes nowhere."}, []any{d.State, d.Findings[0].Sentence})
}
