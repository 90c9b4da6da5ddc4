package tap_test

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"os/exec"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/net/icmp"
	"golang.org/x/net/ipv4"

	"yellowfence.example/yfence/core/traffic"
	"yellowfence.example/yfence/internal/host/tap"
	"yellowfence.example/yfence/internal/testbed"
)

// TestMain lets the test's own program be a host agent that listens in a namespace: it prints what
// was told for each line it reads.
func TestMain(m *testing.M) {
	if len(os.Args) > 1 && os.Args[1] == "listen" {
		t, refused, begun := tap.Open(context.Background(), len(os.Args) > 2)
		if err := errors.Join(refused, begun); err != nil {
			fmt.Println(err)
			os.Exit(1)
		}
		fmt.Println("listening")
		for lines := bufio.NewScanner(os.Stdin); lines.Scan(); {
			_ = json.NewEncoder(os.Stdout).Encode(t.Drain())
		}
		os.Exit(0)
	}
	os.Exit(m.Run())
}

// listener is such a program.
type listener struct {
	t     testing.TB
	lines *bufio.Scanner
	asks  io.Writer
	sums  traffic.Batch // all that was told so far
	cmd   *exec.Cmd
}

func listen(t testing.TB, ns *testbed.Namespace, args ...string) *listener {
	cmd := exec.Command("/proc/self/exe", append([]string{"listen"}, args...)...)
	out, err := cmd.StdoutPipe()
	require.NoError(t, err)
	in, err := cmd.StdinPipe()
	require.NoError(t, err)
	done, err := ns.Start(cmd)
	require.NoError(t, err)
	l := &listener{t: t, lines: bufio.NewScanner(out), asks: in, cmd: cmd}
	l.lines.Buffer(nil, 16<<20)
	require.True(t, l.lines.Scan())
	require.Equal(t, "listening", l.lines.Text())
	t.Cleanup(func() { _ = in.Close(); <-done })
	return l
}

// drain asks what was told since it was last asked.
func (l *listener) drain() traffic.Batch {
	_, err := fmt.Fprintln(l.asks)
	require.NoError(l.t, err)
	require.True(l.t, l.lines.Scan())
	var b traffic.Batch
	require.NoError(l.t, json.Unmarshal(l.lines.Bytes(), &b))
	l.sums.Add(b)
	return b
}

// told waits until what was told is so, a line for each flow.
func (l *listener) told(of func(b traffic.Batch) *traffic.Told, want ...string) {
	l.t.Helper()
	require.EventuallyWithT(l.t, func(c *assert.CollectT) {
		l.drain()
		var got []string
		if t := of(l.sums); t != nil {
			for _, f := range t.Flows {
				got = append(got, strings.TrimSpace(fmt.Sprintf("%s %s %s%s %s -> %s %d:%d x%d", f.By, f.Direction, f.In, f.Out,
					f.Src.Addr(),
					f.Dst.Addr(), f.Protocol, f.Port, f.Since(0))))
			}
		}
		assert.ElementsMatch(c, want, got)
	}, 10*time.Second, 20*time.Millisecond)
}

// pair is two hosts on a wire, the first with rules.
func pair(t testing.TB, rules string) (host, peer *testbed.Namespace) {
	testbed.Needed(t, "NOT TRIED ON A KERNEL")
	name := fmt.Sprintf("yf-tap-%d", os.Getpid())
	wire, err := testbed.NewNamespace(name + "-w")
	require.NoError(t, err)
	t.Cleanup(func() { require.NoError(t, wire.Close()) })
	require.NoError(t, wire.Bridge("quay"))
	for i, ns := range []**testbed.Namespace{&host, &peer} {
		*ns, err = testbed.NewNamespace(fmt.Sprintf("%s-%d", name, i))
		require.NoError(t, err)
		t.Cleanup(func() { require.NoError(t, (*ns).Close()) })
		require.NoError(t, (*ns).Attach(wire, "quay", "eth0", fmt.Sprintf("10.40.4.%d/24", i+1), fmt.Sprintf("fd40::%d/64", i+1)))
		require.NoError(t, (*ns).IP("link set lo up"))
	}
	require.NoError(t, host.Load(rules))
	return host, peer
}

// note is the end of a line that tells of a refusal, as ours are written.
func note(by string) string {
	return fmt.Sprintf("limit rate 100/second burst 100 packets log prefix \"yf %s\" group 8480 snaplen 96", by)
}

// send sends datagrams to ports.
func send(t testing.TB, from *testbed.Namespace, to string, times int, ports ...int) {
	require.NoError(t, from.Do(func() error {
		for _, port := range ports {
			c, err := net.Dial("udp", net.JoinHostPort(to, fmt.Sprint(port)))
			if err != nil {
				return err
			}
			for range times {
				_, _ = c.Write([]byte("x"))
			}
			_ = c.Close()
		}
		return nil
	}))
}

const filter = "table inet yellowfence {\n\tchain inbound {\n\t\ttype filter hook input priority filter; policy drop;\n" +
	"\t\tct state established,related accept\n\t\tmeta l4proto { icmp, ipv6-icmp } accept\n\t\tiif lo accept\n%s\t}\n" +
	"\tchain outbound {\n\t\ttype filter hook output priority filter; policy accept;\n%s\t}\n}\n"

// TestWhatIsRefusedIsHeard: what our rules refuse is told by whose refusal it was, as often as it was.
func TestWhatIsRefusedIsHeard(t *testing.T) {
	host, peer := pair(t, fmt.Sprintf(filter, "\t\tudp dport 2009 "+note("block b")+
		"\n\t\tudp dport 2009 drop\n\t\tudp dport 53 accept\n\t\t"+
		"log prefix \"theirs\" group 8480\n\t\t"+note("stance inbound closed")+"\n", "\t\tudp dport 25 "+note("block no-mail")+"\n"+
		"\t\tudp dport 25 drop\n"))
	l := listen(t, host)
	send(t, peer, "10.40.4.1", 3, 2009, 53, 7000)
	send(t, peer, "fd40::1", 2, 7000)
	send(t, host, "10.40.4.2", 1, 25)
	refused := func(b traffic.Batch) *traffic.Told { return b.Refused }
	want := []string{"block b in eth0 10.40.4.2 -> 10.40.4.1 17:2009 x3", "stance inbound closed in eth0 10.40.4.2 -> 10.40.4.1 17:7000 x3",
		"stance inbound closed in eth0 fd40::2 -> fd40::1 17:7000 x2", "block no-mail out eth0 10.40.4.1 -> 10.40.4.2 17:25 x1"}
	l.told(refused, want...)
	require.Nil(t, l.sums.Seen)

	// Whoever tries port after port is one flow, however many there are.
	var ports []int
	for port := 20000; port < 20060; port++ {
		ports = append(ports, port)
	}
	send(t, peer, "10.40.4.1", 1, ports...)
	require.Eventually(t, func() bool {
		l.drain()
		for _, f := range l.sums.Refused.Flows {
			if f.Port == traffic.ManyPorts {
				return f.Since(0) >= 60
			}
		}
		return false
	}, 10*time.Second, 20*time.Millisecond)
	require.Less(t, len(l.sums.Refused.Flows), 10)
}

// TestConnectionsThatBegin: each is told once, whichever way, with the ends that filters see.
func TestConnectionsThatBegin(t *testing.T) {
	host, peer := pair(t, fmt.Sprintf(filter, "\t\tudp dport { 53, 8053 } accept\n", "")+
		"table ip nat {\n\tchain pre {\n\t\ttype nat hook prerouting priority dstnat;\n\t\tudp dport 54 redirect to :8053\n\t}\n}\n")
	l := listen(t, host, "connections")
	send(t, peer, "10.40.4.1", 2, 53, 54, 7000) // the last is refused, and is none
	send(t, peer, "fd40::1", 2, 53)
	send(t, host, "10.40.4.2", 3, 123)
	send(t, host, "127.0.0.1", 1, 9999)
	require.NoError(t, host.Do(func() error {
		c, err := icmp.ListenPacket("ip4:icmp", "0.0.0.0")
		if err != nil {
			return err
		}
		echo, _ := (&icmp.Message{Type: ipv4.ICMPTypeEcho, Body: &icmp.Echo{ID: 7, Seq: 1}}).Marshal(nil)
		_, err = c.WriteTo(echo, &net.IPAddr{IP: net.IPv4(10, 40, 4, 2)})
		return errors.Join(err, c.Close())
	}))
	l.told(func(b traffic.Batch) *traffic.Told { return b.Seen },
		"in  10.40.4.2 -> 10.40.4.1 17:53 x1", "in  10.40.4.2 -> 10.40.4.1 17:8053 x1", "in  fd40::2 -> fd40::1 17:53 x1",
		"out  10.40.4.1 -> 10.40.4.2 17:123 x1", "out  10.40.4.1 -> 10.40.4.2 1:8 x1")
	require.True(t, l.sums.Watches)
}
