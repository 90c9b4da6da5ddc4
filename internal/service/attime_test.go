package service_test

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yellowfence.example/yfence/api"
	"yellowfence.example/yfence/core/ask"
	"yellowfence.example/yfence/core/check"
)

// TestAtATime: a question, a host's rules and its drift are answered by what was in force before a
// mishap, after it, and once it was put right.
func TestAtATime(t *testing.T) {
	t.Parallel()
	ctx := context.Background()
	h := newHarbour(t)
	_, err := h.Import(ctx, api.ImportRequest{File: "fleet.json", Text: smallFleet()})
	require.NoError(t, err)
	before := justNow()
	_, err = h.Publish(ctx, api.PublishRequest{Files: []check.Source{{Name: "p.fence", Text: smallPolicy}}, Why: "first"})
	require.NoError(t, err)
	rules, err := h.Rules(ctx, "charts-01")
	require.NoError(t, err)
	sound := strings.Split(rules.Text, "delete table inet yellowfence\n")[1]
	host := h.as([]api.Right{api.Host}, "charts-01")
	say := func(text string) time.Time {
		for range 2 { // the second says the same, which leaves a time
			r := report("charts-01", "")
			r.Names, r.Dumps = nil, []api.Dump{{Kind: "nft-text", Text: text}}
			_, err := host.Report(ctx, r)
			require.NoError(t, err)
		}
		return justNow()
	}
	inStep := say(sound)
	opened := say(strings.Replace(sound, "chain inbound {", "chain inbound {\n\t\ttcp dport 5432 accept", 1))
	// The policy says it now, and an address of the host has moved.
	_, err = h.Publish(ctx, api.PublishRequest{Files: []check.Source{{Name: "p.fence", Text: smallPolicy +
		"allow db: 203.0.113.99 -> charts : tcp 5432\n"}}, Why: "second"})
	require.NoError(t, err)
	again := say(sound)

	for _, c := range []struct {
		what           string
		at             time.Time
		verdict, state string
		revision       int64
	}{
		{"before the mishap", inStep, "dropped", "in step", 1},
		{"after it", opened, "admitted", "drifted", 1},
		{"put right, which is not what is published by then", again, "dropped", "drifted", 2},
	} {
		answer, err := h.AskAt(ctx, "203.0.113.99 -> charts-01 : tcp 5432", c.at)
		require.NoError(t, err)
		require.Equal(t, c.verdict, answer.Verdict, c.what)
		require.Equal(t, "charts-01 inbound", answer.Steps[0].Where)
		require.WithinDuration(t, c.at, *answer.At, time.Second)
		d, err := h.DriftAt(ctx, "charts-01", c.at)
		require.NoError(t, err)
		reach, err := h.ReachAt(ctx, c.at)
		require.NoError(t, err)
		require.EqualValues(t, c.revision, reach.Revision)
		said := fmt.Sprint(reach.Cells)
		require.Equal(t, c.revision == 2, strings.Contains(said, "tcp 5432"), said)
		require.Equal(t, []any{c.revision, c.state}, []any{d.Revision, string(d.Hosts[0].State)}, c.what)
		live, err := h.LiveAt(ctx, "charts-01", c.at)
		require.NoError(t, err)
		found := false
		for _, chain := range live.Chains {
			for _, r := range chain.Rules {
				found = found || strings.Contains(r.Text, "5432")
			}
		}
		require.Equal(t, c.verdict == "admitted", found, c.what)
	}

	past, err := h.Past(ctx, "charts-01", 0)
	require.NoError(t, err)
	require.Len(t, past.Changes, 3)
	for i, want := range []struct {
		published      int64
		added, removed int
		plus, minus    []string
		first          bool
	}{
		{published: 2, removed: 1, minus: []string{"inet yellowfence/inbound: tcp dport 5432 accept"}},
		{published: 1, added: 1, plus: []string{"inet yellowfence/inbound: tcp dport 5432 accept"}},
		{published: 1, first: true},
	} {
		c := past.Changes[i]
		require.Equal(t, want.published, c.Published)
		require.Equal(t, []any{want.added, want.removed, want.plus, want.minus, want.first}, []any{c.Added, c.Removed, c.Plus, c.Minus,
			c.First})
		require.True(t, c.Began.Before(c.Until), "the second report of each says the same")
	}
	require.Equal(t, past.Changes[0].Sum, past.Changes[2].Sum)
	require.NotEqual(t, past.Changes[0].Sum, past.Changes[1].Sum)
	earlier, err := h.Past(ctx, "charts-01", past.Changes[1].Number)
	require.NoError(t, err)
	require.Equal(t, past.Changes[2:], earlier.Changes)
	_, err = h.Past(ctx, "pier-77", 0)
	require.ErrorContains(t, err, `no host is named "pier-77"`)

	for _, c := range []struct {
		what string
		ask  func() error
		says string
	}{
		{"nothing was published", func() error { _, err := h.DriftAt(ctx, "charts-01", before); return err }, "nothing was published at"},
		{"a host that never reported", func() error { _, err := h.LiveAt(ctx, "jump-01", inStep); return err },
			"jump-01 had reported nothing at"},
		{"a host that was not there", func() error { _, err := h.LiveAt(ctx, "pier-77", inStep); return err },
			`no host was named "pier-77" then`},
		{"no host at either end", func() error { _, err := h.AskAt(ctx, "192.0.2.1 -> 192.0.2.2 : ssh", inStep); return err },
			"name a host of the fleet at one end at least"},
		{"the future", func() error { _, err := h.LiveAt(ctx, "charts-01", again.Add(time.Hour)); return err }, "still to come"},
		{"the reach before anything was published", func() error { _, err := h.ReachAt(ctx, before); return err },
			"nothing was published at"},
		{"the whole fleet", func() error { _, err := h.DriftAt(ctx, "", inStep); return err }, "at a time one host is looked at"},
	} {
		err := c.ask()
		require.ErrorContains(t, err, c.says, c.what)
	}
}

// justNow is an instant that what was done before it, and what is done after it, are apart from.
func justNow() time.Time {
	time.Sleep(2 * time.Millisecond)
	at := time.Now()
	time.Sleep(2 * time.Millisecond)
	return at
}

// TestTheReachTurns: what was worked out before a rule begins or ends is not shown after it.
func TestTheReachTurns(t *testing.T) {
	t.Parallel()
	ctx := context.Background()
	h := newHarbour(t)
	_, err := h.Import(ctx, api.ImportRequest{File: "fleet.json", Text: smallFleet()})
	require.NoError(t, err)
	begins := time.Date(2027, 3, 1, 0, 0, 0, 0, time.UTC)
	h.turnTo(begins.Add(-time.Hour))
	_, err = h.Publish(ctx, api.PublishRequest{Files: []check.Source{{Name: "p.fence", Text: smallPolicy +
		"network pilots = 203.0.113.96/28\nallow db: pilots -> charts : tcp 5432  from 2027-03-01 until 2027-03-02\n"}}, Why: "two days"})
	require.NoError(t, err)
	for _, c := range []struct {
		at     time.Time
		passes bool
	}{{begins.Add(-time.Second), false}, {begins, true}, {begins.Add(48*time.Hour - time.Second), true}, {begins.Add(48 * time.Hour),
		false}} {
		h.turnTo(c.at)
		all, err := h.Reach(ctx, 0)
		require.NoError(t, err)
		require.Equal(t, c.at, all.At)
		passes := slices.ContainsFunc(all.Cells, func(cell ask.ReachCell) bool { return cell.From == "pilots" && cell.To == "charts" })
		require.Equal(t, c.passes, passes, c.at)
	}
}

// TestThePastStaysThePast: a host that lacked a rule while it was in force had drifted then, also once the rule has ended
// and its absence is as the policy wants it.
func TestThePastStaysThePast(t *testing.T) {
	t.Parallel()
	ctx := context.Background()
	h := newHarbour(t)
	_, err := h.Import(ctx, api.ImportRequest{File: "fleet.json", Text: smallFleet()})
	require.NoError(t, err)
	ends := time.Now().UTC().Add(2 * time.Hour).Truncate(time.Minute)
	_, err = h.Publish(ctx, api.PublishRequest{Files: []check.Source{{Name: "p.fence", Text: smallPolicy +
		"allow db: 203.0.113.99 -> charts : tcp 5432  until " + ends.Format("2006-01-02T15:04Z") + "\n"}}, Why: "for two hours"})
	require.NoError(t, err)
	rules, err := h.Rules(ctx, "charts-01")
	require.NoError(t, err)
	var without []string
	for line := range strings.Lines(strings.Split(rules.Text, "delete table inet yellowfence\n")[1]) {
		if !strings.Contains(line, "allow db") {
			without = append(without, line)
		}
	}
	r := report("charts-01", "")
	r.Names, r.Dumps = nil, []api.Dump{{Kind: "nft-text", Text: strings.Join(without, "")}}
	_, err = h.as([]api.Right{api.Host}, "charts-01").Report(ctx, r)
	require.NoError(t, err)
	then := justNow()
	state := func(d api.Drift, err error) api.State {
		t.Helper()
		require.NoError(t, err)
		require.Len(t, d.Hosts, 1)
		return d.Hosts[0].State
	}
	require.Equal(t, api.Drifted, state(h.DriftAt(ctx, "charts-01", then)))
	h.turnTo(ends.Add(time.Hour))
	require.Equal(t, api.InStep, state(h.DriftAt(ctx, "charts-01", h.now())))
	require.Equal(t, api.Drifted, state(h.DriftAt(ctx, "charts-01", then)))
	require.Equal(t, api.InStep, state(h.DriftAt(ctx, "charts-01", h.now())))
}
