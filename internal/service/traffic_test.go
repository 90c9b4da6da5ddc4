package service_test

import (
	"context"
	"fmt"
	"net/netip"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yellowfence.example/yfence/api"
	"yellowfence.example/yfence/core/check"
	"yellowfence.example/yfence/core/traffic"
	"yellowfence.example/yfence/internal/service"
)

// whole is a single address.
func whole(addr string) netip.Prefix {
	at := netip.MustParseAddr(addr)
	return netip.PrefixFrom(at, at.BitLen())
}

// telling is a service with a small policy, and a host that tells it what it counts and sees.
func telling(t *testing.T) *harbour {
	h := newHarbour(t)
	h.turnTo(time.Date(2026, 11, 28, 12, 0, 0, 0, time.UTC))
	_, err := h.Import(context.Background(), api.ImportRequest{File: "fleet.json", Text: smallFleet()})
	require.NoError(t, err)
	_, err = h.Publish(context.Background(), api.PublishRequest{Files: []check.Source{{Name: "p.fence", Text: smallPolicy +
		"allow web: strangers -> charts : tcp 443\n"}}, Why: "first"})
	require.NoError(t, err)
	return h
}

// TestUnused: what hosts count is added up once however often it is told, and it is said of each
// statement how often it decided.
func TestUnused(t *testing.T) {
	t.Parallel()
	ctx := context.Background()
	h := telling(t)
	host := h.as([]api.Right{api.Host}, "charts-01")
	batch := func(n int64, web int64) traffic.Batch {
		return traffic.Batch{Epoch: "e", Number: n, At: h.now().Unix(), InForce: n == 1,
			Hits: []traffic.Hit{{By: "allow hop"}, {By: "allow web", Packets: web, Bytes: 60 * web}}}
	}
	require.Equal(t, 403, problem(t, host.TellTraffic(ctx, "jump-01", batch(1, 1))).Status, "of itself alone")
	for n := range int64(10) {
		var all sync.WaitGroup
		for range 3 { // at once, and again
			all.Go(func() { require.NoError(t, host.TellTraffic(ctx, "charts-01", batch(n+1, 2))) })
		}
		all.Wait()
		h.turnTo(h.now().Add(24 * time.Hour))
	}
	u, err := h.Unused(ctx, 5*24*time.Hour)
	require.NoError(t, err)
	var said []string
	for _, s := range u.Statements {
		said = append(said, fmt.Sprint(s.Statement, " ", s.Hosts, " ", s.Packets, " ", s.Unused()))
	}
	require.Equal(t, []string{"allow in 0 0 false", "allow hop 1 0 true", "allow web 1 10 false"}, said)
	require.Equal(t, []int{2, 1}, []int{u.Hosts, u.Counting})
	require.Equal(t, "p.fence:6:7", u.Statements[2].Place)
	u, err = h.Unused(ctx, 90*24*time.Hour)
	require.NoError(t, err)
	require.EqualValues(t, 20, u.Statements[2].Packets)
}

// TestRefusedAndSeen: what hosts tell of packets comes back by reason, strangers of whom nothing was
// refused are kept as prefixes, and a change is told which connections in use it would refuse.
func TestRefusedAndSeen(t *testing.T) {
	t.Parallel()
	ctx := context.Background()
	h := telling(t)
	at := h.now().Unix()
	flow := func(by, direction, src, dst string, port int) traffic.Flow {
		return traffic.Flow{By: by, Direction: direction, Src: whole(src), Dst: whole(dst), Protocol: 6, Port: port}
	}
	refused, seen := traffic.NewSums(9), traffic.NewSums(9)
	refused.Add(flow("stance inbound closed", "in", "203.0.113.10", "10.40.2.10", 443), 6, at)
	refused.Add(flow("stance inbound closed", "in", "192.0.2.7", "10.40.2.10", 25), 4, at)
	seen.Add(flow("", "in", "192.0.2.7", "10.40.2.10", 443), 30, at)
	seen.Add(flow("", "in", "203.0.113.10", "10.40.2.10", 22), 2, at)
	host := h.as([]api.Right{api.Host}, "charts-01")
	b := traffic.Batch{Epoch: "e", Number: 1, At: at, Refused: refused.Told(), Seen: seen.Told(), Watches: true, Lost: 1}
	require.NoError(t, host.TellTraffic(ctx, "charts-01", b))
	require.NoError(t, host.TellTraffic(ctx, "charts-01", b), "again")

	r, err := h.Refused(ctx, time.Hour, 10)
	require.NoError(t, err)
	var said []string
	for _, one := range r.Refused {
		said = append(said, fmt.Sprint(one.From.Name, " ", one.Service, " ", one.Times, " ", one.Senders[0].Address, " ", one.Rule))
	}
	require.Equal(t, []string{"jump https 6 203.0.113.10/32 allow jump-to-charts-https: jump -> charts : https",
		"strangers smtp 4 192.0.2.7/32 allow strangers-to-charts-smtp: 192.0.2.7 -> charts : smtp"}, said)
	require.Equal(t, []any{1, int64(1)}, []any{r.Telling, r.Lost})

	c, err := h.Seen(ctx, time.Hour, 10)
	require.NoError(t, err)
	said = nil
	for _, one := range c.Seen {
		said = append(said, fmt.Sprint(one.From.Name, " ", one.Service, " ", one.Times, " ", one.Senders[0].Address, " by ", one.By))
	}
	require.Equal(t, []string{"strangers https 30 192.0.2.0/24 by allow web", "jump ssh 2 203.0.113.10/32 by allow hop"}, said)
	var stored string
	require.NoError(t, h.row("SELECT seen FROM traffic").Scan(&stored))
	require.NotContains(t, stored, "192.0.2.7", "it is not even kept")

	n, err := h.Narrower(ctx, time.Hour)
	require.NoError(t, err)
	require.Equal(t, 1, n.Watching)
	require.Empty(t, n.Narrower, "a guard stays, and each part of the other was used")
	against, err := h.Against(ctx, api.Side{Files: []check.Source{{Name: "p.fence", Text: smallPolicy +
		"expect quiet: never strangers -> charts : https\nexpect works: always jump -> charts : ssh\n"}}}, time.Hour)
	require.NoError(t, err)
	require.Len(t, against.Against, 1)
	require.Equal(t, []any{"quiet", "p.fence:6:8", int64(30)},
		[]any{against.Against[0].Expectation, against.Against[0].Place, against.Against[0].Times})
	change, err := h.Compare(ctx, api.CompareRequest{To: api.Side{Files: []check.Source{{Name: "p.fence", Text: smallPolicy}}}})
	require.NoError(t, err)
	require.Equal(t, 1, change.Cuts.Watching)
	require.Len(t, change.Cuts.Cut, 1)
	cut := change.Cuts.Cut[0]
	require.Equal(t, []any{"strangers", "https", int64(30), "stance inbound closed", "allow web"},
		[]any{cut.From.Name, cut.Service, cut.Times, cut.By, cut.Was})
}

// BenchmarkTraffic asks what 10,000 hosts counted and saw: each 30 statements, 20 kinds of refusals and
// 20 of connections, a third of them strangers'.
func BenchmarkTraffic(b *testing.B) {
	h := manyHosts(b, 10_000)
	fl, err := h.Fleet(context.Background())
	require.NoError(b, err)
	at := time.Now().Unix()
	own := fl.Hosts[0].Interfaces[0].Addresses[0].Addr()
	for i, one := range fl.Hosts {
		to := one.Interfaces[0].Addresses[0].Addr()
		refused, seen := traffic.NewSums(100), traffic.NewSums(100)
		batch := traffic.Batch{Epoch: "e", Number: 1, At: at, InForce: true, Watches: true}
		for n := range 30 {
			batch.Hits = append(batch.Hits, traffic.Hit{By: fmt.Sprint("allow a", n), Way: "in", Packets: int64(n)})
		}
		for n := range 20 {
			from := own
			if n%3 == 0 {
				from = netip.AddrFrom4([4]byte{198, 51, byte(i % 250), byte(n)})
			}
			f := traffic.Flow{Direction: "in", Src: netip.PrefixFrom(from, from.BitLen()), Dst: netip.PrefixFrom(to, to.BitLen()),
				Protocol: 6,
				Port:     1000 + n}
			seen.Add(f, 3, at)
			f.By = "stance inbound closed"
			refused.Add(f, 3, at)
		}
		batch.Refused, batch.Seen = refused.Told(), seen.Told()
		require.NoError(b, h.store.TakeTraffic(context.Background(), one.Name, func(r *traffic.Record) bool {
			return r.Take(batch, at, func(f traffic.Flow) traffic.Flow { return f })
		}))
	}
	for _, path := range []string{"traffic/unused", "traffic/refused?most=50", "traffic/seen?most=50", "traffic/narrower"} {
		b.Run(path, func(b *testing.B) {
			for b.Loop() {
				require.Equal(b, 200, h.call("GET", "/"+path, nil).status)
			}
		})
	}
}

// TestWholeStrangers: a service that is told to keeps the addresses of strangers who were seen.
func TestWholeStrangers(t *testing.T) {
	t.Parallel()
	ctx := context.Background()
	h := newHarbour(t, func(o *service.Options) { o.Settings.WholeStrangers = true })
	_, err := h.Import(ctx, api.ImportRequest{File: "fleet.json", Text: smallFleet()})
	require.NoError(t, err)
	_, err = h.Publish(ctx, api.PublishRequest{Files: []check.Source{{Name: "p.fence", Text: smallPolicy}}, Why: "first"})
	require.NoError(t, err)
	seen := traffic.NewSums(9)
	seen.Add(traffic.Flow{Direction: "in", Src: whole("192.0.2.7"), Dst: whole("10.40.2.10"), Protocol: 6, Port: 443}, 1, time.Now().Unix())
	require.NoError(t, h.as([]api.Right{api.Host}, "charts-01").TellTraffic(ctx, "charts-01",
		traffic.Batch{Epoch: "e", Number: 1, At: time.Now().Unix(), Seen: seen.Told(), Watches: true}))
	c, err := h.Seen(ctx, time.Hour, 10)
	require.NoError(t, err)
	require.Equal(t, "192.0.2.7/32", c.Seen[0].Senders[0].Address.String())
}
