package service_test

import (
	"context"
	"fmt"
	"net/netip"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yellowfence.example/yfence/api"
	"yellowfence.example/yfence/client"
	"yellowfence.example/yfence/core/traffic"
	"yellowfence.example/yfence/internal/service"
)

// TestFleetInOrder: hosts come in the order that is asked for, a part at a time, and nobody is lost between parts.
func TestFleetInOrder(t *testing.T) {
	t.Parallel()
	ctx := context.Background()
	h := newSaltmarsh(t)
	for _, host := range []string{"logbook-01", "charts-01"} {
		_, err := h.Settle(ctx, host)
		require.NoError(t, err)
		_, err = h.Report(ctx, report(host, recorded(t, host)))
		require.NoError(t, err)
	}
	names := func(q client.HostsQuery) (out []string) {
		for q.Limit = 4; ; q.From += q.Limit {
			f, err := h.FleetPart(ctx, q)
			require.NoError(t, err)
			require.Equal(t, 15, f.Total)
			for _, one := range f.Hosts {
				out = append(out, one.Name)
			}
			if f.Next == "" {
				return out
			}
		}
	}
	byName := names(client.HostsQuery{Sort: "name"})
	require.Len(t, byName, 15)
	require.IsIncreasing(t, byName)
	turned := names(client.HostsQuery{Sort: "name", Turn: true})
	require.IsDecreasing(t, turned)
	byState := names(client.HostsQuery{Sort: "state"})
	require.Equal(t, "logbook-01", byState[0], "what drifted comes first")
	require.ElementsMatch(t, byName, byState)
	require.Equal(t, "logbook-01", names(client.HostsQuery{Sort: "findings"})[0])
	heard := names(client.HostsQuery{Sort: "heard"})
	require.ElementsMatch(t, []string{"logbook-01", "charts-01"}, heard[13:], "who was heard of last comes last")

	_, err := h.FleetPart(ctx, client.HostsQuery{Sort: "state", After: "charts-01"})
	require.Contains(t, problem(t, err).Detail, "after goes by the fleet file's order")
	far, err := h.FleetPart(ctx, client.HostsQuery{From: 4000})
	require.NoError(t, err)
	require.Empty(t, far.Hosts)
	require.Empty(t, far.Next)
}

// TestOverview: what needs a person comes first where it is most urgent, once for all hosts where it is the same;
// whoever may see some roles sees those.
func TestOverview(t *testing.T) {
	t.Parallel()
	ctx := context.Background()
	h := newSaltmarsh(t)
	quiet, err := h.Attention(ctx)
	require.NoError(t, err)
	require.Empty(t, quiet.Concerns, "nobody has reported yet: nothing is known")
	for _, host := range []string{"broker-02", "logbook-01", "charts-01", "watch-01"} {
		_, err := h.Settle(ctx, host)
		require.NoError(t, err)
		_, err = h.Report(ctx, report(host, recorded(t, host)))
		require.NoError(t, err)
	}
	_, err = h.Publish(ctx, api.PublishRequest{Files: narrower(t), Why: "another port"})
	require.NoError(t, err)
	h.allRead()
	needs, err := h.Attention(ctx)
	require.NoError(t, err)
	require.NotEmpty(t, needs.Concerns)
	first := needs.Concerns[0]
	require.Equal(t, api.ConcernOpened, first.Kind, "an opening before anything else: %+v", needs.Concerns)
	require.Contains(t, first.Says, "tcp 5432 from hill-lan (IPv4) gets in")
	require.Equal(t, []string{"logbook-01"}, first.Hosts)
	kinds := map[string]int{}
	for _, c := range needs.Concerns {
		kinds[c.Kind] += c.Count
	}
	require.Positive(t, kinds[api.ConcernShut], kinds)

	all, err := h.Outline(ctx, "")
	require.NoError(t, err)
	require.Len(t, all.Hosts, 15)
	some := h.as([]api.Right{"read:charts"}, "")
	part, err := some.Outline(ctx, "")
	require.NoError(t, err)
	require.NotEmpty(t, part.Hosts)
	for _, host := range part.Hosts {
		require.Equal(t, []string{"charts"}, host.Roles)
	}
	theirs, err := some.Attention(ctx)
	require.NoError(t, err)
	for _, c := range theirs.Concerns {
		require.NotContains(t, c.Hosts, "logbook-01")
	}
	charts, err := h.Outline(ctx, "charts")
	require.NoError(t, err)
	require.Equal(t, part.Hosts, charts.Hosts)
}

// TestHistory: how the fleet stands is noted every ten minutes, and what blocks refused is counted by day.
func TestHistory(t *testing.T) {
	t.Parallel()
	ctx := context.Background()
	h := newHarbour(t, func(o *service.Options) { o.EventsLook = 20 * time.Millisecond })
	_, err := h.Import(ctx, api.ImportRequest{File: "fleet.json", Text: fleetFile(t)})
	require.NoError(t, err)
	_, err = h.Publish(ctx, api.PublishRequest{Files: policyFiles(t), Why: "first"})
	require.NoError(t, err)
	now := time.Now().UTC().Truncate(10 * time.Minute)
	for n := range 3 {
		h.turnTo(now.Add(time.Duration(n) * 10 * time.Minute))
		require.Eventually(t, func() bool {
			past, err := h.History(ctx, 24*time.Hour)
			return err == nil && len(past.Stood) == n+1
		}, 10*time.Second, 20*time.Millisecond)
	}
	at := h.now().Unix()
	told := func(by string, times int64) traffic.Sum {
		return traffic.Sum{Flow: traffic.Flow{By: by, Direction: "in", Src: netip.MustParsePrefix("192.0.2.9/32"),
			Dst: netip.MustParsePrefix("10.40.2.11/32"), Protocol: 6, Port: 22}, First: at, Last: at,
			Days: map[int]int64{traffic.Day(at): times}}
	}
	require.NoError(t, h.as([]api.Right{api.Host}, "charts-01").TellTraffic(ctx, "charts-01", traffic.Batch{Epoch: "e", Number: 1, At: at,
		Refused: &traffic.Told{Flows: []traffic.Sum{told("block pests", 7), told("stance inbound closed", 5)}}}))
	past, err := h.History(ctx, 24*time.Hour)
	require.NoError(t, err)
	require.Equal(t, map[string]int{"new": 15}, past.Stood[2].Counts)
	require.EqualValues(t, 1, past.Stood[2].Revision)
	require.Equal(t, "[{"+fmt.Sprint(h.now().Truncate(24*time.Hour))+" 12}]", fmt.Sprint(past.Refused))
}
