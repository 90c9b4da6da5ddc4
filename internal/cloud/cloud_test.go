package cloud_test

import (
	"context"
	"fmt"
	"math/rand/v2"
	"net/http/httptest"
	"net/netip"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yellowfence.example/yfence/core/dialect/group"
	"yellowfence.example/yfence/core/fleet"
	"yellowfence.example/yfence/core/packet"
	"yellowfence.example/yfence/internal/cloud"
	"yellowfence.example/yfence/internal/dunlin"
)

// sky is a cloud with three instances, whose clock is ours.
type sky struct {
	*testing.T
	*dunlin.Cloud
	*dunlin.Account
	now atomic.Int64 // nanoseconds since 1970
}

func newSky(t *testing.T, rng *rand.Rand, o dunlin.Options) *sky {
	s := &sky{T: t}
	s.now.Store(1_800_000_000_000_000_000)
	o.Name, o.Account, o.Token, o.SoonAfter, o.LateAfter, o.Rand = "dunlin", "saltmarsh", "secret", 2*time.Second, 10*time.Second, rng
	o.Clock = func() time.Time { return time.Unix(0, s.now.Load()) }
	s.Cloud = dunlin.New(o)
	server := httptest.NewServer(s.Handler())
	t.Cleanup(server.Close)
	s.Account = &dunlin.Account{URL: server.URL, Token: "secret", Timeout: 60 * time.Millisecond, Pause: time.Millisecond}
	for i := range 3 {
		s.Start(dunlin.Instance{ID: fmt.Sprintf("p-%d", i),
			Addresses: []netip.Addr{netip.AddrFrom4([4]byte{198, 51, 100, byte(200 + i)})}, Groups: []string{}})
	}
	return s
}

// admitted is what every instance admits now.
func (s *sky) admitted(sp *packet.Space, d *group.Document) map[string]packet.Set {
	out := map[string]packet.Set{}
	for _, m := range d.Members {
		rs, err := group.Read(sp, &fleet.Host{Name: m.Instance, Instance: &fleet.Instance{Cloud: "dunlin", ID: m.Instance}},
			&fleet.Fleet{}, d)
		require.NoError(s, err)
		out[m.Instance] = sp.Where(rs.Decision(sp), func(o packet.Outcome) bool { return o.Verdict == packet.Admit })
	}
	return out
}

// wanted is what the instances are to have: two share a group.
func wanted(ports ...int) *group.Document {
	d := &group.Document{Version: 1, Kind: group.Kind, Cloud: "dunlin", Groups: []group.Group{}}
	for i, port := range ports {
		name := fmt.Sprintf("yf-g%d", i)
		d.Groups = append(d.Groups, group.Group{Name: name,
			Inbound: []group.Rule{{Service: group.Service{Protocol: "tcp", Ports: fmt.Sprint(port)},
				Peers: []group.Peer{{Prefix: netip.MustParsePrefix("0.0.0.0/0")}}}},
			Outbound: []group.Rule{{Service: group.Service{Protocol: "any"},
				Peers: []group.Peer{{Prefix: netip.MustParsePrefix("0.0.0.0/0")}, {Prefix: netip.MustParsePrefix("::/0")}}}}})
		d.Members = append(d.Members, group.Member{Instance: fmt.Sprintf("p-%d", i), Groups: []string{name}})
	}
	d.Members = append(d.Members, group.Member{Instance: "p-2", Groups: []string{"yf-g0"}})
	return group.ByContent(d)
}

// faults are what may go wrong with which requests.
var faults = []string{"GET /v1/abilities", "GET /v1/instances", "GET /v1/groups", "PUT /v1/groups/*", "PUT /v1/instances/*/groups",
	"DELETE /v1/groups/*"}

// TestWhateverGoesWrong: requests fail, are done in part, hang, have their answers lost, cut
// or replaced by nonsense, and are too many, at random; a person changes a group by
// hand. At no time does an instance admit what neither what it had nor what it is to have admits,
// nor refuse what both admit; and in the end all is as it is to be.
func TestWhateverGoesWrong(t *testing.T) {
	ctx := context.Background()
	for seed := range uint64(25) {
		t.Run(fmt.Sprint(seed), func(t *testing.T) {
			t.Parallel()
			rng := rand.New(rand.NewPCG(seed, 7))
			s := newSky(t, rng, dunlin.Options{Abilities: group.Abilities{GroupsPerInstance: 3}})
			sp := packet.NewSpace()
			for _, want := range []*group.Document{wanted(22, 443), wanted(22, 8080), wanted(5432, 443)} {
				before, after := s.admitted(sp, s.Document()), s.admitted(sp, want)
				done := false
				for round := 0; !done; round++ {
					require.Less(t, round, 200, "it comes to an end")
					if rng.IntN(3) == 0 && round < 60 {
						s.Fail(dunlin.Fault{Of: faults[rng.IntN(len(faults))],
							Kind: []string{"fails", "partly", "hangs", "lost", "nonsense", "half"}[rng.IntN(6)], Times: 1 + rng.IntN(5)})
					}
					have, err := cloud.Read(ctx, s.Account)
					if err == nil {
						var p cloud.Progress
						if p, err = cloud.Advance(ctx, s.Account, have, want); err == nil {
							done = p.Done
						}
					}
					for range 1 + rng.IntN(3) {
						s.now.Add(int64(time.Second))
						for id, now := range s.admitted(sp, s.Document()) {
							require.True(t, sp.Within(now, sp.Or(before[id], after[id])), "round %d opens a gap at %s", round, id)
							require.True(t, sp.Within(sp.And(before[id], after[id]), now), "round %d shuts a way in at %s", round, id)
						}
					}
				}
				require.Equal(t, after, s.admitted(sp, s.Document()))
				for _, g := range s.Document().Groups {
					require.Contains(t, g.Name, "yf-g")
				}
			}
		})
	}
}

// TestWhatIsNotBelieved: half an answer, nonsense, and lists that do not fit together.
func TestWhatIsNotBelieved(t *testing.T) {
	ctx := context.Background()
	for _, of := range faults[:3] {
		for kind, want := range map[string]string{"nonsense": "is not what its API promises", "half": "is not what its API promises",
			"fails": "the cloud answers 503: the cloud is not well", "hangs": "the cloud does not answer",
			"lost": "the cloud does not answer"} {
			s := newSky(t, rand.New(rand.NewPCG(1, 1)), dunlin.Options{})
			s.Fail(dunlin.Fault{Of: of, Kind: kind, Times: 1000})
			_, err := cloud.Read(ctx, s.Account)
			require.ErrorContains(t, err, want, "%s %s", of, kind)
		}
	}
	s := newSky(t, rand.New(rand.NewPCG(1, 1)), dunlin.Options{})
	_, err := cloud.Read(ctx, s.Account)
	require.NoError(t, err)
	s.Token = "another"
	_, err = cloud.Read(ctx, s.Account)
	require.EqualError(t, err, "the cloud answers 401: this is no token of an account")
}

// TestTooManyRequests are made again after as long as the cloud says.
func TestTooManyRequests(t *testing.T) {
	s := newSky(t, rand.New(rand.NewPCG(1, 1)), dunlin.Options{PerSecond: 3})
	s.Timeout = time.Second
	go func() {
		for range 40 {
			time.Sleep(50 * time.Millisecond)
			s.now.Add(int64(50 * time.Millisecond))
		}
	}()
	_, err := cloud.Read(context.Background(), s.Account)
	require.NoError(t, err, "four requests are one too many for a second")
}
