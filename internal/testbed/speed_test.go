package testbed

import (
	"fmt"
	"net/netip"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"

	"yellowfence.example/yfence/core/compile"
	"yellowfence.example/yfence/core/dialect/nft/nfttest"
	"yellowfence.example/yfence/core/packet"
	"yellowfence.example/yfence/core/policy/policytest"
)

// peered is a policy by which a role has so many peers in so many rules, each with
// its own port; the packets of BenchmarkRulesInTheKernel are the last one's.
func peered(peers, rules int) string {
	var b strings.Builder
	b.WriteString("policy p language 1\nrole red\nrole blue\nrole green\n")
	first := netip.MustParseAddr("10.40.4.1")
	for i := range rules {
		var addrs []string
		for range peers / rules {
			addrs = append(addrs, first.String())
			first = first.Next().Next()
		}
		fmt.Fprintf(&b, "network n%02d = %s\nallow a%02d: n%02d -> red : udp %d\n", i, strings.Join(addrs, ", "), i, i, 2000+i)
	}
	return b.String()
}

// BenchmarkRulesInTheKernel sends packets to a host over one veth pair, through what
// it has in force: one rule on the connection's state and one that accepts, and a
// policy's rules for 100, 1,000 and 10,000 peers in 50 rules. No answer comes, so that
// every packet is a new connection's to the filter and goes down to the last rule; and
// once they are of a connection that was answered.
// The ratio is to the two rules, of packets per second in one run.
func BenchmarkRulesInTheKernel(b *testing.B) {
	if err := Available(); err != nil {
		b.Skip("NOT MEASURED IN A KERNEL: ", err)
	}
	j, err := NewJudge(own("yf-speed"))
	require.NoError(b, err)
	defer func() { require.NoError(b, j.Close()) }()
	const baseline = "flush ruleset\ntable inet t {\n\tchain c {\n\t\ttype filter hook input priority filter; policy drop;\n\t\tct state " +
		"established,related accept\n\t\taccept\n\t}\n}\n"
	for _, c := range []struct {
		kind, peers int
		state       string
	}{{0, 1000, "established"}, {0, 100, "new"}, {0, 1000, "new"}, {0, 10000, "new"}, {2, 1000, "established"}, {2, 100, "new"},
		{2, 1000, "new"}, {2, 10000, "new"}} {
		b.Run(fmt.Sprintf("%s, %d peers, %s", hostKinds[c.kind].name, c.peers, c.state), func(b *testing.B) {
			pol := policytest.Resolve(b, policytest.Fleet, peered(c.peers, 50))
			last := netip.MustParseAddr("10.40.4.1")
			for range c.peers - 1 {
				last = last.Next().Next()
			}
			sport, port := 50000, 2049
			p := packet.Packet{Hook: packet.In, Family: "ipv4", Protocol: "udp", State: c.state, In: "eth0", Src: last, Dst: Own[0],
				SrcPort: &sport, DstPort: &port}
			data := append(append(append([]byte{}, j.macs[0]...), 2, 0, 0, 0, 0, 1, 8, 0), frame(p, 1, false)[0]...)
			fd := 0
			require.NoError(b, j.Outside.Do(func() (err error) {
				fd, err = unix.Socket(unix.AF_PACKET, unix.SOCK_RAW, 0) // hears nothing
				return err
			}))
			defer func() { _ = unix.Close(fd) }()
			to := &unix.SockaddrLinklayer{Ifindex: j.indexes[0], Halen: 6}
			// The quickest counts: what others do on the machine only adds to it.
			var two, ours nfttest.Quickest
			measure := func(q *nfttest.Quickest) {
				got, err := j.Verdicts([]packet.Packet{p})
				require.NoError(b, err)
				require.Equal(b, packet.Admit, got[0])
				for range 5 {
					q.Of(time.Now, func() {
						for range many {
							if err := unix.Sendto(fd, data, 0, to); err != nil {
								b.Fatal(err)
							}
						}
					})
				}
			}
			sp := packet.NewSpace()
			plan := compile.ForHost(sp, pol, pol.Fleet.Host("h1"), 0)
			b.ResetTimer()
			for range b.N { // one after the other, so that both meet the same machine
				require.NoError(b, j.Host.Load(baseline))
				measure(&two)
				require.NoError(b, j.Host.Load("flush ruleset\n"))
				settle(b, j.Host, hostKinds[c.kind].form, sp, plan)
				measure(&ours)
			}
			b.ReportMetric(many/time.Duration(ours).Seconds(), "packets/s")
			b.ReportMetric(float64(two)/float64(ours), "ratio")
		})
	}
}

// many packets are sent at a time.
const many = 10000
