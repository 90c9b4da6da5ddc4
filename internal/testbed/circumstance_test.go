package testbed

import (
	"encoding/hex"
	"errors"
	"fmt"
	"net/netip"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"

	"yellowfence.example/yfence/core/compile"
	"yellowfence.example/yfence/core/packet"
	"yellowfence.example/yfence/core/policy/policytest"
)

const circumstances = `policy p language 1
network office = 198.51.100.0/24, 2001:db8:5::/48
network bad = 198.51.100.64/26
role red { %s }
role blue
role green
%s
`

// ofEachKind runs a test with a judge whose host is of each kind; settled puts the
// rules of a policy for h1 in force there, in place of all others.
func ofEachKind(t *testing.T, name string, test func(t *testing.T, j *Judge, settled func(stances, rules string))) {
	need(t)
	for _, kind := range hostKinds {
		t.Run(kind.name, func(t *testing.T) {
			j, err := NewJudge(own(name))
			require.NoError(t, err)
			defer func() { require.NoError(t, j.Close()) }()
			test(t, j, func(stances, rules string) {
				t.Helper()
				pol := policytest.Resolve(t, policytest.Fleet, fmt.Sprintf(circumstances, stances, rules))
				sp := packet.NewSpace()
				require.NoError(t, j.Host.Load("flush ruleset\n")) // a bucket that is asked for all the time stays as it is
				if kind.legacy {
					legacyTables(t, j.Host)
				}
				settle(t, j.Host, kind.form, sp, compile.ForHost(sp, pol, pol.Fleet.Host("h1"), 0))
			})
		})
	}
}

// arriving makes new TCP packets to the host, each from the source and to the port that "SOURCE:PORT" says.
func arriving(j *Judge, what ...string) (out []packet.Packet) {
	for i, s := range what {
		ap := netip.MustParseAddrPort(s)
		sport, dport := 20000+(int(j.tag)+i)%40000, int(ap.Port())
		p := packet.Packet{Hook: packet.In, Family: "ipv4", Protocol: "tcp", State: "new", In: "wan0", Src: ap.Addr(), Dst: Own[4],
			SrcPort: &sport, DstPort: &dport}
		if ap.Addr().Is6() {
			p.Family, p.Dst = "ipv6", Own[5]
		}
		out = append(out, p)
	}
	return out
}

// TestBucketsInTheKernel: of packets sent at once, as many are admitted as the
// policy's bucket holds, by whom and from where the policy says.
func TestBucketsInTheKernel(t *testing.T) {
	ofEachKind(t, "yf-bucket", buckets)
}

func buckets(t *testing.T, j *Judge, settled func(stances, rules string)) {
	repeat := func(s string, n int) (out []string) {
		for range n {
			out = append(out, s)
		}
		return out
	}
	const a, b, bad, six, near, far = "198.51.100.9:22", "198.51.100.10:22", "198.51.100.70:22", "[2001:db8:5::9]:22",
		"[2001:db8:5::a]:22", "[2001:db8:5:1::9]:22"
	for _, c := range []struct {
		what, stances, rules string
		packets              []string
		want                 string // A admitted, d dropped, r rejected
	}{
		{"a bucket of three", "", "allow x: office -> red : ssh at most 3 per 1h", repeat(a, 5), "AAAdd"},
		{"shared by all sources", "", "allow x: office -> red : ssh at most 3 per 1h", []string{a, b, a, b, a}, "AAAdd"},
		{"and not by families", "", "allow x: office -> red : ssh at most 2 per 1h", []string{a, six, a, six, a, six}, "AAAAdd"},
		{"shared by all lines of one rule", "", "allow x: office -> red : ssh, https at most 2 per 1h",
			[]string{a, "198.51.100.9:443", a, "198.51.100.9:443"}, "AAdd"},
		{"per source", "", "allow x: office -> red : ssh at most 2 per 1h per source", []string{a, a, a, b, b, b}, "AAdAAd"},
		{"which is a /64 of IPv6", "", "allow x: office -> red : ssh at most 2 per 1h per source",
			[]string{six, near, near, far, far, far}, "AAdAAd"},
		{"refused as the role refuses", "refuse by reject", "allow x: office -> red : ssh at most 2 per 1h", repeat(a, 3), "AAr"},
		{"though the stance is open", "inbound open", "allow x: office -> red : ssh at most 2 per 1h", repeat(a, 3), "AAd"},
		{"which spares what a free allow admits", "inbound open",
			"allow x: office -> red : ssh at most 2 per 1h\nallow y: bad -> red : ssh", []string{a, a, a, bad, bad, bad}, "AAdAAA"},
		{"the larger of two decides", "", "allow x: office -> red : ssh at most 1 per 1h\nallow y: bad -> red : ssh at most 2 per 1h",
			[]string{a, a, bad, bad, bad}, "AdAAd"},
		{"an exception is slowed, the block stays", "",
			"allow x: office -> red : tcp 22 over no at most 1 per 1h\nblock no: bad -> red : any",
			[]string{bad, bad, "198.51.100.70:443"}, "Add"},
		{"a log has a bucket of its own and slows nothing", "", "allow x: office -> red : ssh log up to 1 per 1h", repeat(a, 3), "AAA"},
		{"beside the rule's", "log refused up to 1 per 1h", "allow x: office -> red : ssh at most 2 per 1h log up to 1 per 1h",
			repeat(a, 4), "AAdd"},
		{"a second gives a token back", "", "allow x: office -> red : ssh at most 1 per 1s", repeat(a, 2), "Ad"},
	} {
		settled(c.stances, c.rules)
		got, err := j.Verdicts(arriving(j, c.packets...))
		require.NoError(t, err)
		require.Equal(t, c.want, letters(got), "%s: %v", c.what, c.packets)
	}
	time.Sleep(1100 * time.Millisecond) // of the last rule's
	got, err := j.Verdicts(arriving(j, a, a))
	require.NoError(t, err)
	require.Equal(t, "Ad", letters(got))
}

func letters(verdicts []packet.Verdict) string {
	var b strings.Builder
	for _, v := range verdicts {
		b.WriteString(map[packet.Verdict]string{packet.Admit: "A", packet.Drop: "d", packet.Reject: "r"}[v])
	}
	return b.String()
}

// TestUntilInTheKernel: the kernel itself stops honouring a rule when its end comes.
func TestUntilInTheKernel(t *testing.T) {
	ofEachKind(t, "yf-until", ending)
}

func ending(t *testing.T, j *Judge, settled func(stances, rules string)) {
	var end time.Time
	for in := 3 * time.Second; ; in *= 2 { // a busy machine may need longer than that to ask
		end = time.Now().UTC().Add(in).Truncate(time.Second)
		settled("", "allow x: office -> red : ssh until "+end.Format("2006-01-02T15:04:05Z")+
			"\nallow y: office -> red : https from 2026-01-01 until 2037-12-31\nallow z: office -> red : smtp from "+
			end.Format("2006-01-02T15:04:05Z")+" until 2037-12-31")
		got, err := j.Verdicts(arriving(j, "198.51.100.9:22", "[2001:db8:5::9]:22", "198.51.100.9:443", "198.51.100.9:25"))
		require.NoError(t, err)
		if time.Now().Before(end) || in > time.Minute {
			require.Equal(t, "AAAd", letters(got))
			break
		}
	}
	time.Sleep(time.Until(end) + 10*time.Millisecond)
	got, err := j.Verdicts(arriving(j, "198.51.100.9:22", "[2001:db8:5::9]:22", "198.51.100.9:443", "198.51.100.9:25"))
	require.NoError(t, err)
	require.Equal(t, "ddAA", letters(got))
	settled("", "allow x: office -> red : ssh until 2026-01-01") // made before its end, loaded after it
	got, err = j.Verdicts(arriving(j, "198.51.100.9:22"))
	require.NoError(t, err)
	require.Equal(t, "d", letters(got))
}

// TestSendersInTheKernel: who sends decides, by his user and by his unit.
func TestSendersInTheKernel(t *testing.T) {
	ofEachKind(t, "yf-sender", senders)
}

func senders(t *testing.T, j *Judge, settled func(stances, rules string)) {
	backup, web := unit(t, "mirror.service"), unit(t, "web.service")
	for _, c := range []struct {
		rules string
		user  int
		unit  string // the folder of its control group
		want  string
	}{
		{"allow x: red -> office : udp 9 from user backup", 34, "", "A"},
		{"allow x: red -> office : udp 9 from user backup", 0, "", "d"},
		{"allow x: red -> office : udp 9 from user nobody-here", 34, "", "d"},
		{"allow x: red -> office : udp 9 from unit mirror.service", 0, backup.Element, "A"},
		{"allow x: red -> office : udp 9 from unit mirror.service", 0, web.Element, "d"},
		{"allow x: red -> office : udp 9 from unit mirror.service", 0, "", "d"},
		{"allow x: red -> office : udp 9 from unit web.service, mirror.service from user backup", 34, web.Element, "A"},
		{"allow x: red -> office : udp 9 from unit web.service, mirror.service from user backup", 33, web.Element, "d"},
		{"allow x: red -> office : udp 9\nblock y: red -> office : udp 9 from user backup", 34, "", "d"},
		{"allow x: red -> office : udp 9\nblock y: red -> office : udp 9 from user backup", 33, "", "A"},
	} {
		settled("outbound closed", c.rules)
		require.Equal(t, c.want, send(t, j, c.user, c.unit), "%s: user %d, unit %s", c.rules, c.user, c.unit)
	}
}

// send has a process of a user and a control group send one packet out of the
// host, and says whether it was heard outside.
func send(t *testing.T, j *Judge, user int, unit string) string {
	t.Helper()
	j.tag++
	payload := hex.EncodeToString(frame(packet.Packet{Protocol: "47", Src: netip.MustParseAddr("192.0.2.1"),
		Dst: netip.MustParseAddr("192.0.2.2")}, j.tag, false)[0][20:])
	cmd := exec.Command(os.Args[0], "-test.run=none")
	cmd.Env = append(os.Environ(), "YF_SEND="+payload, fmt.Sprintf("YF_USER=%d", user), "YF_UNIT="+strings.Trim(unit, `"`))
	require.NoError(t, j.Host.Do(func() error {
		out, err := cmd.CombinedOutput()
		if err != nil {
			return fmt.Errorf("%w: %s", err, out)
		}
		return nil
	}))
	heard := "d"
	for range 3 {
		time.Sleep(time.Millisecond)
		j.drain(func(tag uint32, v packet.Verdict) {
			if tag == j.tag && v == packet.Admit {
				heard = "A"
			}
		})
	}
	return heard
}

// TestMain is also the process that send starts.
func TestMain(m *testing.M) {
	payload := os.Getenv("YF_SEND")
	if payload == "" {
		os.Exit(m.Run())
	}
	// which is to be refused
	if err := sendOne(payload, os.Getenv("YF_UNIT"), os.Getenv("YF_USER")); err != nil && !errors.Is(err, unix.EPERM) {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
}

func sendOne(payload, group, user string) error {
	if group != "" {
		if err := os.WriteFile(filepath.Join("/sys/fs/cgroup", group, "cgroup.procs"), []byte("0"), 0); err != nil {
			return err
		}
	}
	data, err := hex.DecodeString(payload)
	if err != nil {
		return err
	}
	id, err := strconv.Atoi(user)
	if err != nil {
		return err
	}
	if err := unix.Setuid(id); err != nil {
		return err
	}
	fd, err := unix.Socket(unix.AF_INET, unix.SOCK_DGRAM, 0)
	if err != nil {
		return err
	}
	return unix.Sendto(fd, data, 0, &unix.SockaddrInet4{Port: 9, Addr: [4]byte{198, 51, 100, 9}})
}
