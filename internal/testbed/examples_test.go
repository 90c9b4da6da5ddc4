package testbed

import (
	"math/rand/v2"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yellowfence.example/yfence/core/check"
	"yellowfence.example/yfence/core/compile"
	"yellowfence.example/yfence/core/fleet"
	"yellowfence.example/yfence/core/packet"
	"yellowfence.example/yfence/core/policy"
	"yellowfence.example/yfence/core/policy/policytest"
	"yellowfence.example/yfence/core/source"
)

// TestExamplesInTheKernel puts the rules of each example's hosts in force, one for each set of roles,
// in each form that rules are written in, and holds the kernel's verdicts against the policy's decision: of packets
// at random, and of such as its rules speak of.
func TestExamplesInTheKernel(t *testing.T) {
	need(t)
	fleets, err := filepath.Glob("../../examples/*/fleet.csv")
	require.NoError(t, err)
	require.NotEmpty(t, fleets)
	now := time.Now().Unix()
	for _, kind := range hostKinds {
		t.Run(kind.name, func(t *testing.T) {
			j, err := NewJudge(own("yf-example"))
			require.NoError(t, err)
			defer func() { require.NoError(t, j.Close()) }()
			if kind.legacy {
				legacyTables(t, j.Host)
			}
			j.Tracks = [2]bool{true, true}
			count := map[string]int{}
			for _, file := range fleets {
				pol := example(t, file, now)
				seen := map[string]bool{}
				for _, h := range pol.Fleet.Hosts {
					roles := h.Roles[0]
					if h.Others() || seen[roles] || translates(pol, h) { // whose tables stay
						continue
					}
					seen[roles] = true
					sp := packet.NewSpace()
					sp.Since(now)
					plan := compile.ForHost(sp, pol, h, now)
					rules, absent := settle(t, j.Host, kind.form, sp, plan)
					for _, who := range absent { // and to the host nobody is who it does not have
						kind, name, _ := strings.Cut(who, " ")
						sp.Without(packet.SenderKind(kind).Field(), name)
					}
					require.NoError(t, j.forget())
					decision := plan.Decision(sp)
					rng := rand.New(rand.NewPCG(3, *seed))
					var packets []packet.Packet
					for i := range 60 {
						p := randomPacket(rng, int(j.tag)+i)
						if i%2 == 0 {
							p = spokenOf(rng, pol, h, p)
						}
						if len(packet.Buckets(sp, sp.Only(decision, sp.Exactly(p)))) == 0 { // which have a test of their own
							packets = append(packets, p)
						}
					}
					wrong := hold(t, j, sp, decision, packets, count)
					require.Nil(t, wrong, "%s %s\n%s", file, h.Name, rules)
				}
			}
			t.Logf("verdicts of the kernel, by direction: %v", count)
			require.Greater(t, count["in admitted"], 200)
			require.Greater(t, count["in dropped"], 200)
		})
	}
}

// example is a policy of a folder with its fleet.
func example(t *testing.T, file string, now int64) *policy.Policy {
	t.Helper()
	sources, fl := policytest.Folder(t, filepath.Dir(file))
	pol, problems := check.Policy(sources, fl, now)
	require.False(t, source.HasErrors(problems), "%v", problems)
	return pol
}

// translates says that a host changes where packets go, or whose they seem.
func translates(pol *policy.Policy, h *fleet.Host) bool {
	for _, q := range pol.Redirects {
		if q.On(h) {
			return true
		}
	}
	for _, m := range pol.Masquerades {
		if m.On(h) {
			return true
		}
	}
	return false
}

// spokenOf is a packet that comes in, new, as one that some rule speaks of, or nearly.
func spokenOf(rng *rand.Rand, pol *policy.Policy, h *fleet.Host, p packet.Packet) packet.Packet {
	r := pol.Rules[rng.IntN(len(pol.Rules))]
	ranges, term := r.From.Addrs.Ranges(), r.Terms[rng.IntN(len(r.Terms))]
	if !r.To.Names(h) || !term.HasPorts() || p.Hook != packet.In || p.DstPort == nil || p.State != "new" || len(ranges) == 0 {
		return p
	}
	src := ranges[rng.IntN(len(ranges))].From()
	if src.Is4() != p.Dst.Is4() || !fleet.Unicast(src) {
		return p
	}
	port := term.Ports.Lo
	p.Src, p.Protocol, p.DstPort, p.ConnMark = src, packet.ProtocolName(term.Protocol), &port, 0
	return p
}
