package service_test

import (
	"context"
	"fmt"
	"math/rand/v2"
	"net/netip"
	"slices"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yellowfence.example/yfence/api"
	"yellowfence.example/yfence/core/dialect/group"
	"yellowfence.example/yfence/core/fleet"
	"yellowfence.example/yfence/core/packet"
	"yellowfence.example/yfence/internal/dunlin"
)

// A watcher keeps what a cloud had in force, as often as it changed.
type watcher struct {
	sky  *dunlin.Cloud
	stop chan bool
	done sync.WaitGroup
	seen []*group.Document
}

func watch(sky *dunlin.Cloud) *watcher {
	w := &watcher{sky: sky, stop: make(chan bool)}
	w.done.Go(func() {
		last := ""
		for {
			if d := sky.Document(); d.String() != last {
				w.seen, last = append(w.seen, d), d.String()
			}
			select {
			case <-w.stop:
				return
			case <-time.After(2 * time.Millisecond):
			}
		}
	})
	return w
}

// all ends the watch and gives what was seen, in order.
func (w *watcher) all() []*group.Document {
	close(w.stop)
	w.done.Wait()
	return append(w.seen, w.sky.Document())
}

// inForce is what each instance of a cloud admits that is in any group.
func inForce(t *testing.T, sp *packet.Space, d *group.Document) map[string]packet.Set {
	t.Helper()
	out := map[string]packet.Set{}
	for _, m := range d.Members {
		if len(m.Groups) == 0 {
			continue
		}
		h := &fleet.Host{Name: m.Instance, Instance: &fleet.Instance{Cloud: "dunlin", ID: m.Instance}}
		rs, err := group.Read(sp, h, &fleet.Fleet{}, d)
		require.NoError(t, err)
		out[m.Instance] = sp.Where(rs.Decision(sp), func(o packet.Outcome) bool { return o.Verdict == packet.Admit })
	}
	return out
}

// TestPushesUnderFaults: whatever the cloud does wrong while policies are put in force, and whoever
// comes, goes, moves and is labelled anew meanwhile: what it has in force, looked at all the
// time, leaves no gap and never shuts the way in.
func TestPushesUnderFaults(t *testing.T) {
	t.Parallel()
	c := newClouded(t, func(o *dunlin.Options) { o.SoonAfter, o.LateAfter = 10*time.Millisecond, 60*time.Millisecond })
	require.Equal(t, api.WaveDone, c.wave().State)
	rng := rand.New(rand.NewPCG(1, 41))
	pick := func(of ...string) string { return of[rng.IntN(len(of))] }
	sp := packet.NewSpace()
	port, from := func(n int) packet.Set { return sp.Value(packet.DstPort, n) }, func(s string) packet.Set {
		return sp.Addrs(packet.Src, packet.Prefixes(netip.MustParsePrefix(s)))
	}
	begins := sp.AndAll(sp.WellFormed(), sp.Value(packet.Hook, packet.In), sp.Value(packet.State, packet.New),
		sp.Value(packet.Family, packet.IPv4), sp.Value(packet.Protocol, packet.TCP), sp.Value(packet.Fragment, packet.Whole),
		sp.Interfaces(packet.InIface, "nic"))
	wayIn, never := sp.AndAll(begins, port(22), from("203.0.113.65/32")), sp.AndAll(begins, port(5432))
	for round := range 10 {
		more := ""
		for i := range rng.IntN(4) {
			more += fmt.Sprintf("allow more%d: %s -> %s : tcp %s\n", i, pick("crew", "everywhere", "192.0.2.0/24", "192.0.2.0/25, crew"),
				pick("charts", "broker", "charts, broker"), pick("80, 443", "8000-8100", "9100", "8080-9000"))
		}
		if rng.IntN(3) == 0 {
			more += "block shut: 192.0.2.64/26 -> charts, broker : any\n"
		}
		before := inForce(t, sp, c.sky.Document())
		w := watch(c.sky)
		for range rng.IntN(4) {
			c.sky.Fail(dunlin.Fault{Of: pick("PUT /v1/groups/*", "PUT /v1/instances/*/groups", "DELETE /v1/groups/*", "GET /v1/instances",
				"GET /v1/groups"), Kind: pick("fails", "partly", "lost", "nonsense", "half", "hangs"), Times: 1 + rng.IntN(2)})
		}
		c.publish(more)
		switch id := fmt.Sprintf("dunlin-1%d", rng.IntN(3)); rng.IntN(4) {
		case 0:
			c.sky.Start(dunlin.Instance{ID: id, Labels: map[string]string{"role": pick("charts", "broker")},
				Addresses: []netip.Addr{netip.MustParseAddr(fmt.Sprintf("198.51.100.%d", 210+rng.IntN(5)))}})
		case 1:
			c.sky.Stop(id)
		}
		done := func() bool { // others may be under way by themselves, and a fault may end one
			ended, err := c.StartWave(context.Background(),
				api.WaveRequest{Hosts: []string{"charts-01", "broker-01"}, Sizes: []string{"100%"}})
			if err != nil {
				return false
			}
			c.until("the wave ends", func() bool {
				ended, err = c.Wave(context.Background(), ended.Number)
				return err == nil && ended.Ended != nil
			})
			return ended.State == api.WaveDone
		}
		require.Eventually(t, done, time.Minute, 50*time.Millisecond, "round %d", round)
		c.until("both have what was published",
			func() bool { return c.state("charts-01") == api.InStep && c.state("broker-01") == api.InStep })
		seen := w.all()
		after := inForce(t, sp, seen[len(seen)-1])
		for _, d := range seen {
			for id, now := range inForce(t, sp, d) {
				require.Empty(t, sp.And(now, never), "round %d: %s is open to everybody\n%s", round, id, d)
				require.True(t, sp.Within(wayIn, now), "round %d: the way into %s is shut\n%s", round, id, d)
				if !slices.Contains([]string{"dunlin-1", "dunlin-2"}, id) {
					continue // those that come by themselves have changes of their own
				}
				if before[id] == packet.Empty || after[id] == packet.Empty {
					continue
				}
				gap := sp.Minus(now, sp.OrAll(before[id], after[id], port(8883))) // those are whoever came and went
				p, open := sp.Example(gap, nil)
				require.False(t, open, "round %d: %s admits %s, which neither did\n%s", round, id, p, d)
				p, shut := sp.Example(sp.Minus(sp.And(before[id], after[id]), sp.Or(now, port(8883))), nil)
				require.False(t, shut, "round %d: %s refuses %s, which both admit\n%s", round, id, p, d)
			}
		}
	}
	waves, err := c.Waves(context.Background())
	require.NoError(t, err)
	require.GreaterOrEqual(t, len(waves.Waves), 10)
}
