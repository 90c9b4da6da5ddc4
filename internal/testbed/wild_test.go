package testbed

import (
	"context"
	"flag"
	"math/rand/v2"
	"net/netip"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"yellowfence.example/yfence/core/dialect/nft"

	"github.com/rogpeppe/go-internal/txtar"
	"github.com/stretchr/testify/require"

	"yellowfence.example/yfence/api"
	"yellowfence.example/yfence/core/kernel"
	"yellowfence.example/yfence/core/packet"
	"yellowfence.example/yfence/internal/host"
	"yellowfence.example/yfence/internal/live"
)

var only = flag.String("only", "*", "which rulesets of people to judge in TestFoundInTheKernel")

// foundTools load the files of a ruleset that somebody wrote, in this order.
var foundTools = []struct{ file, tool string }{
	{"sets.ipset", "ipset restore"},
	{"rules.iptables", "iptables-legacy-restore"}, {"rules.ip6tables", "ip6tables-legacy-restore"},
	{"rules.nft", "nft -f -"},
}

// TestFoundInTheKernel loads what people wrote by hand into a kernel, each by its own tool, and
// judges how it is read, as a host reports it: by random packets, and by some that the
// rules ask for. Of all answers at most one in fifty is uncertain; none is wrong.
func TestFoundInTheKernel(t *testing.T) {
	need(t)
	files, err := filepath.Glob("../live/testdata/found/" + *only + ".txtar")
	require.NoError(t, err)
	if *only == "*" {
		require.GreaterOrEqual(t, len(files), 60)
	}
	all, uncertain := 0, 0
	count := map[string]int{}
	for _, file := range files {
		t.Run(strings.TrimSuffix(filepath.Base(file), ".txtar"), func(t *testing.T) {
			j, err := NewJudge(own("yf-found"))
			require.NoError(t, err)
			defer func() { require.NoError(t, j.Close()) }()
			loadFound(t, j, file)
			var report api.Report
			require.NoError(t, j.Host.Do(func() (err error) {
				report, err = (&host.Machine{}).Report(context.Background(), "h")
				return err
			}))
			here, doubts := 0, map[string]int{}
			text := report.InForce // as people print it
			text.Dumps = slices.DeleteFunc(slices.Clone(report.Dumps), func(d api.Dump) bool { return d.Kind == nft.ListingJSON })
			for _, dumps := range []api.InForce{report.InForce, text} {
				if len(text.Dumps) == 0 {
					continue
				}
				n, unsure := judgeFound(t, j, dumps, doubts, count)
				here, uncertain = here+n, uncertain+unsure
			}
			all += here
			for why, n := range doubts {
				t.Logf("uncertain of %d packets in %d: %s", n, here, why)
			}
		})
	}
	t.Logf("%d answers, uncertain %d (%.1f%%): %v", all, uncertain, 100*float64(uncertain)/float64(all), count)
	require.LessOrEqual(t, 50*uncertain, all, "more than one answer in fifty is uncertain")
	require.Positive(t, count["in admitted"])
}

// judgeFound holds what is read of a host against its kernel. It counts answers, and those that
// are uncertain, with what makes them so.
func judgeFound(t *testing.T, j *Judge, dumps api.InForce, doubts, count map[string]int) (answers, uncertain int) {
	t.Helper()
	sp := packet.NewSpace()
	sp.Since(time.Now().Unix())
	rs, err := live.Read(sp, dumps)
	require.NoError(t, err)
	j.Tracks = rs.Tracks
	decision := sp.Answered(rs.Decision(sp), kernel.LaterPorts, false)
	known := sp.WithinLimits(decision)
	for round := range max(1, *verdicts/4000) {
		rng := rand.New(rand.NewPCG(*seed+99, uint64(round)))
		require.NoError(t, j.forget())
		var packets, certain []packet.Packet
		for i := range 60 {
			if p := randomPacket(rng, int(j.tag)+i); p.Fragment == "" { // which have tests of their own
				packets = append(packets, p)
			}
		}
		packets = append(packets, aimed(rng, sp, rs, int(j.tag)+60)...)
		of, translated := translatable(sp, decision, slices.Clone(packets))
		sure := sp.WithinLimits(of)
		for _, p := range packets {
			judged := slices.ContainsFunc(translated, func(q packet.Packet) bool { return q == p })
			exactly, unsure := sp.Exactly(p), known
			if judged {
				unsure = sure
			}
			answers++
			admitted := sp.Where(sp.Only(unsure, exactly), func(o packet.Outcome) bool { return o.Verdict == packet.Admit })
			if maybe := sp.UnknownsOf(admitted); len(maybe) > 0 {
				uncertain++
				said := map[string]bool{}
				for _, why := range maybe { // a mark has many bits
					said[strings.TrimRight(strings.TrimSuffix(why, ", and its packets pass"), "0123456789")] = true
				}
				for why := range said {
					doubts[why]++
				}
			} else if judged && len(packet.Buckets(sp, sp.Only(decision, exactly))) == 0 {
				certain = append(certain, p)
			}
		}
		if wrong := hold(t, j, sp, of, certain, count); wrong != nil {
			t.Errorf("seed %d round %d: %s", *seed, round, wrong.what)
		}
	}
	return answers, uncertain
}

// loadFound puts a ruleset that somebody wrote in force.
func loadFound(t *testing.T, j *Judge, file string) {
	t.Helper()
	archive, err := txtar.ParseFile(file)
	require.NoError(t, err)
	text := map[string][]byte{}
	for _, f := range archive.Files {
		text[f.Name] = f.Data
	}
	backed := strings.Contains(string(archive.Comment), "nft's tables")
	if !backed {
		legacyTables(t, j.Host)
	}
	for _, f := range foundTools {
		if rules := text[f.file]; rules != nil {
			tool := strings.Fields(f.tool)
			if backed {
				tool[0] = strings.Replace(tool[0], "-legacy-", "-nft-", 1)
			}
			_, err := j.Host.Run(rules, tool[0], tool[1:]...)
			require.NoError(t, err)
		}
	}
}

// aimed are packets that rules ask for, as far as the judge can send them, and their
// neighbours: another port, another sender, another interface.
func aimed(rng *rand.Rand, sp *packet.Space, rs *kernel.Ruleset, n int) (out []packet.Packet) {
	ways := sendable(sp)
	for _, c := range rs.Chains {
		for _, r := range c.Rules {
			for _, way := range ways {
				p, ok := sp.Example(sp.And(r.Match, way), packet.Preferences{packet.SrcPort: {packet.Num(20000 + (n+len(out))%40000)}})
				if !ok {
					continue
				}
				p.User, p.Group = "", ""
				if p.Hook == packet.Out {
					p.User = pick(rng, "root", "root", "www-data", "backup")
					p.Group = p.User
				}
				for variation := range 3 {
					q := p
					switch {
					case variation == 1 && q.DstPort != nil:
						port := min(max(*q.DstPort+pick(rng, -1, 1, 1000), 1), 65535)
						q.DstPort = &port
					case variation == 1 && q.Hook != packet.Out:
						q.In = pick(rng, Interfaces...)
					case variation == 2 && q.Hook != packet.Out:
						q.Src = randomPeer(rng, q.Family == "ipv6")
					case variation > 0:
						continue
					}
					if q.SrcPort != nil && q.State == "new" {
						port := 20000 + (n+len(out))%40000
						q.SrcPort = &port
					}
					if q.Protocol != "gre" && !slices.ContainsFunc(out, func(o packet.Packet) bool { return o == q }) {
						out = append(out, q)
					}
				}
			}
		}
	}
	return out
}

// sendable is the packets of each way that the judge can send: new ones, of protocols that it sees arrive.
func sendable(sp *packet.Space) (ways []packet.Set) {
	addrs := func(field packet.Field, prefixes ...string) packet.Set {
		var of []netip.Prefix
		for _, s := range prefixes {
			of = append(of, netip.MustParsePrefix(s))
		}
		return sp.Addrs(field, packet.Prefixes(of...))
	}
	peers := []string{"10.40.3.0/24", "10.40.200.0/24", "10.60.3.0/24", "198.51.100.0/24", "192.0.2.0/24", "fd40::3:0/112",
		"fd60::3:0/112", "2001:db8:5::/64"}
	var owned []string
	for _, a := range Own {
		owned = append(owned, netip.PrefixFrom(a, a.BitLen()).String())
	}
	tcp := sp.AndAll(sp.Value(packet.Protocol, packet.TCP), sp.Value(packet.TCPFlags, packet.SYN))
	ping := sp.And(sp.Values(packet.Protocol, packet.ICMP, packet.ICMPv6),
		sp.AndAll(sp.Values(packet.ICMPType, 8, 128), sp.Value(packet.ICMPCode, 0)))
	common := sp.AndAll(sp.WellFormed(), sp.Typical(), sp.Value(packet.State, packet.New), sp.Value(packet.Fragment, 0),
		sp.Value(packet.IPsec, 0),
		sp.OrAll(tcp, ping, sp.And(sp.Value(packet.Protocol, packet.UDP), sp.Range(packet.SrcPort, 1024, 65535))))
	arriving := sp.AndAll(common, sp.Interfaces(packet.InIface, Interfaces...), addrs(packet.Src, peers...))
	ways = append(ways, sp.AndAll(arriving, sp.Value(packet.Hook, packet.In), addrs(packet.Dst, owned...)))
	for i := range Interfaces {
		var there []string
		for _, s := range peers {
			if at := netip.MustParsePrefix(s); behind(at.Addr()) == Interfaces[i] {
				there = append(there, s)
			}
		}
		leaving := sp.AndAll(addrs(packet.Dst, there...), sp.Interfaces(packet.OutIface, Interfaces[i]))
		ways = append(ways, sp.AndAll(arriving, sp.Value(packet.Hook, packet.Through), leaving),
			sp.AndAll(common, sp.Value(packet.Hook, packet.Out), addrs(packet.Src, owned...), leaving))
	}
	return ways
}
