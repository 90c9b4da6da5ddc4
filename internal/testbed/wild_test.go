package testbed

import (
	"context"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"testing"

	"github.com/stretchr/testify/require"

	"yellowfence.example/yfence/core/dialect"
	"yellowfence.example/yfence/core/packet"
	"yellowfence.example/yfence/internal/api"
	"yellowfence.example/yfence/internal/host"
	"yellowfence.example/yfence/internal/live"
)

// TestFoundInTheKernel loads what administrators wrote by hand into a kernel, and
// judges how it is read, as a host reports it, by random packets.
func TestFoundInTheKernel(t *testing.T) {
	need(t)
	const folder = "../live/testdata/found"
	hosts, err := os.ReadDir(folder)
	require.NoError(t, err)
	require.Len(t, hosts, 10)
	for _, h := range hosts {
		t.Run(h.Name(), func(t *testing.T) {
			j, err := NewJudge(own("yf-found"))
			require.NoError(t, err)
			defer func() { require.NoError(t, j.Close()) }()
			backed := slices.Contains([]string{"container-host", "name-server"}, h.Name())
			if !backed {
				legacyTables(t, j.Host)
			}
			for _, f := range []struct{ file, tool string }{{"sets.ipset", "ipset restore"}, {"rules.iptables", "iptables"}, {"rules.ip6tables", "ip6tables"}, {"rules.nft", "nft -f -"}} {
				text, err := os.ReadFile(filepath.Join(folder, h.Name(), f.file))
				if os.IsNotExist(err) {
					continue
				}
				require.NoError(t, err)
				switch f.tool {
				case "ipset restore":
					_, err = j.Host.Run(text, "ipset", "restore")
				case "nft -f -":
					_, err = j.Host.Run(text, "nft", "-f", "-")
				default:
					_, err = j.Host.Run(text, f.tool+map[bool]string{true: "-nft", false: "-legacy"}[backed]+"-restore")
				}
				require.NoError(t, err)
			}
			var report api.Report
			require.NoError(t, j.Host.Do(func() (err error) {
				report, err = (&host.Machine{}).Report(context.Background(), "h")
				return err
			}))
			sp := packet.NewSpace()
			rs, err := live.Read(sp, report.InForce)
			require.NoError(t, err)
			j.Tracks = rs.Tracks
			decision := sp.Answered(rs.Decision(sp), dialect.LaterPorts, false)
			count := map[string]int{}
			for round := range max(5, *verdicts/2000) {
				rng := rand.New(rand.NewPCG(*seed+99, uint64(round)))
				require.NoError(t, j.forget())
				var packets []packet.Packet
				for i := range 60 {
					p := randomPacket(rng, int(j.tag)+i)
					if len(packet.Buckets(sp, sp.Only(decision, sp.Exactly(p)))) == 0 { // which have tests of their own
						packets = append(packets, p)
					}
				}
				of, packets := translatable(sp, decision, packets)
				if wrong := hold(t, j, sp, of, packets, count); wrong != nil {
					t.Fatalf("seed %d round %d: %s", *seed, round, wrong.what)
				}
			}
			t.Log(count)
			require.Positive(t, count["in admitted"])
		})
	}
}
