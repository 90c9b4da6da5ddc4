package traffic_test

import (
	"encoding/hex"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"net/netip"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"yellowfence.example/yfence/core/policy/policytest"
	"yellowfence.example/yfence/core/traffic"
)

func whole(addr string) netip.Prefix {
	at := netip.MustParseAddr(addr)
	return netip.PrefixFrom(at, at.BitLen())
}

func flow(by, src string, port int) traffic.Flow {
	return traffic.Flow{By: by, Direction: "in", Src: whole(src), Dst: whole("10.40.4.1"), Protocol: 6, Port: port}
}

// told is flows in a line each.
func told(s *traffic.Sums) string {
	var b strings.Builder
	for _, f := range s.All() {
		fmt.Fprintf(&b, "%s %s port %d: %d, %d to %d\n", f.By, f.Src, f.Port, f.Since(0), f.First, f.Last)
	}
	if s.Over > 0 {
		fmt.Fprintf(&b, "over %d\n", s.Over)
	}
	return b.String()
}

func TestSums(t *testing.T) {
	for _, c := range []struct {
		what, want string
		most       int
		add        func(s *traffic.Sums)
	}{
		{"the same flow is one", "block b 192.0.2.1/32 port 22: 5, 100 to 300\n", 9, func(s *traffic.Sums) {
			s.Add(flow("block b", "192.0.2.1", 22), 2, 300)
			s.Add(flow("block b", "192.0.2.1", 22), 3, 100)
		}},
		{"what does not fit is counted, and what is there goes on",
			"block b 192.0.2.1/32 port 22: 3, 100 to 400\nblock b 192.0.2.2/32 port 22: 1, 200 to 200\nover 7\n", 2, func(s *traffic.Sums) {
				s.Add(flow("block b", "192.0.2.1", 22), 1, 100)
				s.Add(flow("block b", "192.0.2.2", 22), 1, 200)
				s.Add(flow("block b", "192.0.2.3", 22), 7, 300)
				s.Add(flow("block b", "192.0.2.1", 22), 2, 400)
			}},
		{"many ports of one sender are a search, and few are not", "block b 192.0.2.1/32 port -1: 300, 1 to 300\n" +
			"block b 192.0.2.9/32 port 22: 1, 7 to 7\nblock b 192.0.2.9/32 port 25: 1, 7 to 7\n", 40,
			func(s *traffic.Sums) {
				for port := 1; port <= 300; port++ {
					s.Add(flow("block b", "192.0.2.1", port), 1, int64(port))
				}
				s.Add(flow("block b", "192.0.2.9", 22), 1, 7)
				s.Add(flow("block b", "192.0.2.9", 25), 1, 7)
			}},
		{"connections to many ports are no search", "20 flows", 40, func(s *traffic.Sums) {
			for port := 1; port <= 20; port++ {
				s.Add(flow("", "192.0.2.1", port), 1, 5)
			}
		}},
		{"the latest stay where room is made", " 192.0.2.1/32 port 3: 1, 3 to 3\nover 2\n", 3, func(s *traffic.Sums) {
			for port := 1; port <= 3; port++ {
				s.Add(flow("", "192.0.2.1", port), 1, int64(port))
			}
			s.Room(2)
		}},
		{"days that are long gone are left out", " 192.0.2.1/32 port 2: 4, 100 to 864001\n", 3, func(s *traffic.Sums) {
			s.Add(flow("", "192.0.2.1", 1), 3, 100)
			s.Add(flow("", "192.0.2.1", 2), 3, 100)
			s.Add(flow("", "192.0.2.1", 2), 4, 864001)
			s.Forget(5)
		}},
	} {
		s := traffic.NewSums(c.most)
		c.add(s)
		if c.want == "20 flows" {
			require.Equal(t, 20, s.Len(), c.what)
			continue
		}
		require.Equal(t, c.want, told(s), c.what)
		again := traffic.NewSums(c.most)
		text, err := json.Marshal(s.Told())
		require.NoError(t, err)
		var back traffic.Told
		require.NoError(t, json.Unmarshal(text, &back))
		again.Take(&back)
		require.Equal(t, c.want, told(again), "%s: told and taken", c.what)
	}
}

func TestWhoIsKept(t *testing.T) {
	pol := policytest.Resolve(t, policytest.Fleet, "policy p language 1\nrole red\nrole blue\nrole green\nnetwork office = 192.0.2.0/24\n")
	for _, c := range []struct{ src, kept string }{
		{"10.40.0.1", "10.40.0.1/32"}, // a host's
		{"192.0.2.77", "192.0.2.77/32"},
		{"198.51.100.77", "198.51.100.0/24"},
		{"2001:db8:1:2:3::4", "2001:db8:1::/48"},
	} {
		require.Equal(t, c.kept, flow("", c.src, 22).Kept(pol.Strangers).Src.String())
	}
	require.Equal(t, "10.40.0.0/24", flow("", "10.40.0.1", 22).Kept(nil).Src.String(), "everybody is a stranger where nobody is known")
}

func TestMoved(t *testing.T) {
	one := func(of, at, by string, n int64) traffic.Counter {
		return traffic.Counter{Of: of, At: at, By: by, Packets: n, Bytes: 10 * n}
	}
	for _, c := range []struct {
		what        string
		before, now []traffic.Counter
		want        string
	}{
		{"nothing was counted before", nil,
			[]traffic.Counter{one("t 1", "r 1", "allow a", 4), one("t 1", "r 2", "allow a", 2)}, "allow a 6"},
		{"what came since", []traffic.Counter{one("t 1", "r 1", "allow a", 4), one("t 1", "r 2", "block b", 2)},
			[]traffic.Counter{one("t 1", "r 1", "allow a", 9), one("t 1", "r 2", "block b", 2)}, "allow a 5, block b 0"},
		{"rules that were loaded anew count from nothing, though they stand higher", []traffic.Counter{one("t 1", "r 1", "allow a", 4)},
			[]traffic.Counter{one("t 2", "r 1", "allow a", 9)}, "allow a 9"},
		{"where loads have no names one that went back tells of all",
			[]traffic.Counter{one("", "4:1", "allow a", 4), one("", "4:2", "allow b", 4)},
			[]traffic.Counter{one("", "4:1", "allow a", 9), one("", "4:2", "allow b", 1)}, "allow a 9, allow b 1"},
		{"so does another statement in its place", []traffic.Counter{one("", "4:1", "allow a", 4)},
			[]traffic.Counter{one("", "4:1", "allow z", 9)}, "allow z 9"},
	} {
		var said []string
		for _, h := range traffic.Moved(c.before, c.now) {
			require.Equal(t, 10*h.Packets, h.Bytes)
			said = append(said, fmt.Sprintf("%s %d", h.By, h.Packets))
		}
		require.Equal(t, c.want, strings.Join(said, ", "), c.what)
	}
}

// TestNothingTwice sends batches as a bad network does: some are lost on the way, of some the
// answer is, and all are told again until they are taken.
func TestNothingTwice(t *testing.T) {
	for seed := range uint64(30) {
		rng := rand.New(rand.NewPCG(seed, 1))
		record, at := traffic.NewRecord(), int64(1_800_000_000)
		want, wantFlows := int64(0), int64(0)
		var waiting traffic.Batch
		var sending *traffic.Batch
		number := int64(0)
		for range 200 {
			at += rng.Int64N(4000) - 500 // clocks are set now and then
			n := rng.Int64N(5)
			want, wantFlows = want+n, wantFlows+1
			s := traffic.NewSums(10)
			s.Add(flow("block b", "192.0.2.1", rng.IntN(3)), 1, at)
			waiting.Add(traffic.Batch{At: at, Hits: []traffic.Hit{{By: "allow a", Packets: n}}, Refused: s.Told()})
			if sending == nil && rng.IntN(2) == 0 {
				number++
				next := waiting
				next.Epoch, next.Number = "e", number
				sending, waiting = &next, traffic.Batch{}
			}
			if sending != nil {
				switch rng.IntN(3) {
				case 0: // it is lost
				case 1: // the answer is
					record.Take(*sending, at, func(f traffic.Flow) traffic.Flow { return f })
				case 2:
					record.Take(*sending, at, func(f traffic.Flow) traffic.Flow { return f })
					sending = nil
				}
			}
		}
		number++
		if sending != nil {
			record.Take(*sending, at, func(f traffic.Flow) traffic.Flow { return f })
		}
		waiting.Epoch, waiting.Number = "e", number
		record.Take(waiting, at, func(f traffic.Flow) traffic.Flow { return f })
		got, flows := int64(0), int64(0)
		for _, n := range record.Hits["allow a"].Days {
			got += n[0]
		}
		for _, f := range record.Refused.All() {
			flows += f.Since(0)
		}
		require.Equal(t, [2]int64{want, wantFlows}, [2]int64{got, flows}, "seed %d", seed)
	}
}

// TestHostileBatch: what a host makes up takes no more room than what it may, and no day that is not.
func TestHostileBatch(t *testing.T) {
	r, at := traffic.NewRecord(), int64(1_800_000_000)
	same := func(f traffic.Flow) traffic.Flow { return f }
	for n := range 20 {
		b := traffic.Batch{Epoch: "e", Number: int64(n + 1), At: at + 1e9, Refused: &traffic.Told{}}
		for i := range 3000 {
			b.Hits = append(b.Hits, traffic.Hit{By: fmt.Sprintf("allow a%d-%d", n, i), Packets: 1},
				traffic.Hit{By: "rubbish", Packets: 1}, traffic.Hit{By: "allow negative", Packets: -1},
				traffic.Hit{By: "allow " + strings.Repeat("x", 1000), Packets: 1})
			f := flow("block b", fmt.Sprintf("192.0.%d.%d", i/250, i%250), n*100+i%3)
			days := map[int]int64{1e6 * n: 1, -5: -7}
			b.Refused.Flows = append(b.Refused.Flows, traffic.Sum{Flow: f, First: at, Last: at + 1e9, Days: days},
				traffic.Sum{Days: map[int]int64{0: 1}}, traffic.Sum{Flow: traffic.Flow{Direction: "up"}})
		}
		r.Take(b, at, same)
	}
	require.LessOrEqual(t, len(r.Hits), traffic.Statements)
	require.LessOrEqual(t, r.Refused.Len(), traffic.RecordFlows)
	require.NotZero(t, r.Refused.Over)
	require.Equal(t, at, r.At)
	for _, f := range r.Refused.All() {
		require.LessOrEqual(t, f.Last, at)
		for day, n := range f.Days {
			require.Positive(t, n)
			require.InDelta(t, traffic.Day(at), day, traffic.FlowDays)
		}
	}
	require.NotContains(t, r.Hits, "allow negative")
	require.NotContains(t, r.Hits, "rubbish")
}

func TestUsages(t *testing.T) {
	pol := policytest.Resolve(t, policytest.Fleet, `policy p language 1
role red
role blue
role green
network office = 192.0.2.0/24
block b: strangers -> fleet : any
allow ops: office -> fleet : ssh  guard
allow web: office -> red, blue : tcp 443
allow push: blue -> blue, red : tcp 8443
allow old: office -> red : tcp 80  until 2020-01-01
`)
	const now = 1_800_000_000
	const aDay = 86400
	record := func(since int64, hits map[string]int64) *traffic.Record {
		r := traffic.NewRecord()
		for by, last := range hits {
			name := strings.TrimSuffix(strings.TrimSuffix(by, " in"), " out")
			s := &traffic.Statement{By: name, Way: strings.TrimSpace(strings.TrimPrefix(by, name)), Since: since, Until: now, Last: last,
				Days: map[int][]int64{}}
			if last != 0 {
				s.Days[traffic.Day(last)] = []int64{3, 100}
			}
			r.Hits[by] = s
		}
		return r
	}
	usages := traffic.Usages(pol, map[string]*traffic.Record{
		"h1": record(now-50*aDay, map[string]int64{"allow web in": now - aDay, "allow web out": now - 2*aDay, "block b in": now - 40*aDay,
			"allow gone in": now}),
		"h2": record(now-9*aDay, map[string]int64{"allow web in": 0, "block b in": 0, "allow web out": now - aDay}),
		"h3": record(now-9*aDay, map[string]int64{"allow push out": now, "allow push in": 0}),
		"xx": record(now-9*aDay, map[string]int64{"allow ops in": now}),
	}, now-30*aDay, now)
	var said []string
	for _, u := range usages {
		said = append(said, fmt.Sprintf("%s %t: %d of %d, %d packets, last %d, since %d and %d", u.Statement, u.Unused(), u.HitOn, u.Hosts,
			u.Packets, (now-u.Last)/aDay*min(u.Last, 1), (now-u.First)/aDay*min(u.First, 1), (now-u.All)/aDay*min(u.All, 1)))
		for _, e := range u.Ends {
			said = append(said, fmt.Sprintf("  %s %s %t: %d of %d", e.Way, e.Role, e.Unused(), e.HitOn, e.Hosts))
		}
	}
	require.Equal(t, []string{
		"block b true: 0 of 2, 0 packets, last 40, since 50 and 9",
		"allow ops false: 0 of 0, 0 packets, last 0, since 0 and 0",
		"allow web false: 2 of 2, 9 packets, last 1, since 50 and 9",
		"  in red false: 1 of 2", "  in blue true: 0 of 1",
		"allow push false: 1 of 1, 3 packets, last 0, since 9 and 9",
		"  in red false: 0 of 0", "  out blue false: 1 of 1", "  in blue true: 0 of 1",
	}, said)
}

// beginning is the beginning of a packet, in hexadecimal with spaces.
func beginning(t testing.TB, text string) []byte {
	data, err := hex.DecodeString(strings.ReplaceAll(text, " ", ""))
	require.NoError(t, err)
	return data
}

// A header of either family, for a packet from 192.0.2.1 to 10.40.4.1 and from fd40::2 to fd40::1: the
// protocol is to be filled in.
const (
	header4 = "45000028 00010000 40%02x0000 c0000201 0a280401"
	header6 = "60000000 0014%02x40 fd400000000000000000000000000002 fd400000000000000000000000000001"
)

func TestRead(t *testing.T) {
	for _, c := range []struct{ what, data, want string }{
		{"tcp", fmt.Sprintf(header4, 6) + "c001 01bb", "192.0.2.1/32 10.40.4.1/32 6 443"},
		{"tcp that begins", fmt.Sprintf(header4, 6) + "c001 01bb 00000001 00000000 5002 ffff", "192.0.2.1/32 10.40.4.1/32 6 443"},
		{"tcp that answers", fmt.Sprintf(header4, 6) + "c001 01bb 00000001 00000000 5012 ffff", ""},
		{"tcp that goes on", fmt.Sprintf(header4, 6) + "c001 01bb 00000001 00000000 5010 ffff", ""},
		{"udp, of IPv6", fmt.Sprintf(header6, 17) + "c001 0035", "fd40::2/128 fd40::1/128 17 53"},
		{"an echo", fmt.Sprintf(header4, 1) + "0800", "192.0.2.1/32 10.40.4.1/32 1 8"},
		{"a protocol without ports", fmt.Sprintf(header4, 47) + "c001 01bb", "192.0.2.1/32 10.40.4.1/32 47 0"},
		{"cut off before its ports", fmt.Sprintf(header4, 6) + "c001 01", "192.0.2.1/32 10.40.4.1/32 6 0"},
		{"options of IPv4", strings.Replace(fmt.Sprintf(header4, 6), "45", "46", 1) + "01010100 c001 01bb",
			"192.0.2.1/32 10.40.4.1/32 6 443"},
		{"a later piece has no ports", strings.Replace(fmt.Sprintf(header4, 6), "00010000", "00010010", 1) + "c001 01bb",
			"192.0.2.1/32 10.40.4.1/32 6 0"},
		{"options of IPv6, then a first piece", fmt.Sprintf(header6, 0) + "2c00010400000000" + "1100000100000000" + "c001 0035",
			"fd40::2/128 fd40::1/128 17 53"},
		{"a later piece of IPv6", fmt.Sprintf(header6, 44) + "1100000800000000" + "c001 0035", "fd40::2/128 fd40::1/128 17 0"},
		{"cut off in an option", fmt.Sprintf(header6, 0) + "2c02010400000000", ""},
		{"half a header", "45000028 0001", ""},
		{"no IP", "15000028 0001", ""},
		{"nothing", "", ""},
	} {
		f, ok := traffic.Read(beginning(t, c.data))
		require.Equal(t, c.want != "", ok, c.what)
		if ok {
			require.Equal(t, c.want, fmt.Sprintf("%s %s %d %d", f.Src, f.Dst, f.Protocol, f.Port), c.what)
		}
	}
}

// FuzzRead: no beginning of a packet does any harm.
func FuzzRead(f *testing.F) {
	f.Add(beginning(f, fmt.Sprintf(header4, 6)+"c001 01bb"))
	f.Add(beginning(f, fmt.Sprintf(header6, 0)+"2c00010400000000"+"1100000100000000"+"c001 0035"))
	f.Fuzz(func(t *testing.T, data []byte) {
		if flow, ok := traffic.Read(data); ok {
			require.True(t, flow.Src.IsValid() && flow.Dst.IsValid() && flow.Port >= 0 && flow.Port < 65536)
		}
	})
}
