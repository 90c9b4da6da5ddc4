package tap_test

import (
	"encoding/binary"
	"fmt"
	"net"
	"net/netip"
	"os"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"

	"yellowfence.example/yfence/internal/testbed"
)

// flood is a socket that sends datagrams from whatever address and port, as quickly as it goes.
type flood struct {
	t      testing.TB
	fd     int
	packet []byte
	next   uint32 // tells connections apart
}

// newFlood makes one in a namespace, towards a port of 10.40.4.1.
func newFlood(t testing.TB, from *testbed.Namespace, port int) *flood {
	f := &flood{t: t, next: 1}
	require.NoError(t, from.Do(func() (err error) {
		f.fd, err = unix.Socket(unix.AF_INET, unix.SOCK_RAW, unix.IPPROTO_RAW)
		return err
	}))
	t.Cleanup(func() { _ = unix.Close(f.fd) })
	f.packet = make([]byte, 32)
	f.packet[0], f.packet[8], f.packet[9] = 0x45, 64, unix.IPPROTO_UDP
	binary.BigEndian.PutUint16(f.packet[2:], 32)
	copy(f.packet[16:], net.IPv4(10, 40, 4, 1).To4())
	binary.BigEndian.PutUint16(f.packet[22:], uint16(port))
	binary.BigEndian.PutUint16(f.packet[24:], 12)
	return f
}

// send sends one datagram: of a connection of its own, or of the one that all others are of.
func (f *flood) send(fresh bool) {
	of := uint32(0)
	if fresh {
		of, f.next = f.next, f.next+1
	}
	src := [4]byte{10, 41, byte(of >> 20), byte(of >> 14 & 63)}
	copy(f.packet[12:], src[:])
	binary.BigEndian.PutUint16(f.packet[20:], uint16(1024+of&0x3fff))
	if err := unix.Sendto(f.fd, f.packet, 0, &unix.SockaddrInet4{Addr: netip.MustParseAddr("10.40.4.1").As4()}); err != nil {
		f.t.Fatal(err)
	}
}

// mixed is how many packets there are to each new connection: at the 240,000 packets a second that
// go over such a wire here, that is 20,000 new connections a second.
const mixed = 12

// BenchmarkTap tells what listening costs. The ratio is of the quickest time for the same packets with
// a listener and without, in turns: one packet of twelve begins a connection, or is refused. The share
// of a core is what the listener takes at 1,000 of these a second, and rss its largest memory, after
// half a million connections that are all different.
func BenchmarkTap(b *testing.B) {
	for _, c := range []struct {
		what, rules string
		args        []string
	}{
		{"connections", "\t\tudp dport 2009 accept\n", []string{"connections"}},
		{"refused", "\t\tip saddr 10.41.0.0 accept\n\t\t" + note("stance inbound closed") + "\n", nil},
	} {
		b.Run(c.what, func(b *testing.B) {
			host, peer := pair(b, fmt.Sprintf(filter, c.rules, ""))
			require.NoError(b, host.Sysctl("ipv4/conf/all/rp_filter=0", "ipv4/conf/eth0/rp_filter=0"))
			f := newFlood(b, peer, 2009)
			burst := func() time.Duration {
				begun := time.Now()
				for n := range 20_000 * mixed / 4 {
					f.send(n%mixed == 0)
				}
				return time.Since(begun)
			}
			var with, without time.Duration
			for range b.N {
				for range 3 {
					took := burst()
					if without == 0 || took < without {
						without = took
					}
					l := listen(b, host, c.args...)
					took = burst()
					if with == 0 || took < with {
						with = took
					}
					l.end()
				}
			}
			b.ReportMetric(without.Seconds()/with.Seconds(), "ratio")
			b.ReportMetric(0, "ns/op")

			l := listen(b, host, c.args...)
			defer l.end()
			used, begun := l.used(), time.Now()
			for n := range 4000 {
				f.send(true)
				if wait := time.Duration(n)*time.Millisecond - time.Since(begun); wait > 0 {
					time.Sleep(wait)
				}
			}
			b.ReportMetric((l.used()-used).Seconds()/time.Since(begun).Seconds()*100, "%core")
			for range 500_000 {
				f.send(true)
			}
			l.drain()
			b.ReportMetric(float64(l.largest())/(1<<20), "MB-rss")
		})
	}
}

// end ends a listener.
func (l *listener) end() {
	_ = l.cmd.Process.Kill()
}

// used is how much time of the processor a listener took so far.
func (l *listener) used() time.Duration {
	stat, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", l.cmd.Process.Pid))
	require.NoError(l.t, err)
	fields := strings.Fields(string(stat[strings.LastIndexByte(string(stat), ')')+1:]))
	user, err := strconv.Atoi(fields[11]) // utime and stime, in hundredths of a second: proc(5)
	require.NoError(l.t, err)
	system, err := strconv.Atoi(fields[12])
	require.NoError(l.t, err)
	return time.Duration(user+system) * 10 * time.Millisecond
}

// largest is the largest memory of a listener, in bytes.
func (l *listener) largest() int {
	status, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", l.cmd.Process.Pid))
	require.NoError(l.t, err)
	_, rest, found := strings.Cut(string(status), "VmHWM:")
	require.True(l.t, found)
	kb, err := strconv.Atoi(strings.Fields(rest)[0])
	require.NoError(l.t, err)
	return kb << 10
}
