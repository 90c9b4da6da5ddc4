package host_test

import (
	"context"
	"fmt"
	"io"
	"net"
	"net/netip"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yellowfence.example/yfence/api"
	"yellowfence.example/yfence/internal/host/inventory"
	"yellowfence.example/yfence/internal/testbed"
)

// line is an open connection between two kernels: what is said at one end is heard at the other.
type line struct{ opener, answerer net.Conn }

// flows says whether data still gets from each end to the other.
func (l line) flows(t *testing.T) bool {
	t.Helper()
	heard := func(from, to net.Conn, says string) bool {
		_ = from.SetWriteDeadline(time.Now().Add(time.Second))
		if _, err := io.WriteString(from, says); err != nil {
			return false
		}
		_ = to.SetReadDeadline(time.Now().Add(1500 * time.Millisecond))
		b := make([]byte, len(says))
		_, err := io.ReadFull(to, b)
		return err == nil && string(b) == says
	}
	// The end that answers speaks first: what it says after a cut is what the kernel may take
	// for a connection of its own.
	return heard(l.answerer, l.opener, "ahoy") && heard(l.opener, l.answerer, "aye")
}

// dialled opens a connection from one kernel to a listener in another.
func dialled(t *testing.T, from *testbed.Namespace, at *testbed.Namespace, listen, to string) (l line) {
	t.Helper()
	var listener net.Listener
	require.NoError(t, at.Do(func() (err error) { listener, err = net.Listen("tcp", listen); return err }))
	t.Cleanup(func() { _ = listener.Close() })
	require.NoError(t, from.Do(func() (err error) { l.opener, err = net.DialTimeout("tcp", to, 3*time.Second); return err }))
	var err error
	l.answerer, err = listener.Accept()
	require.NoError(t, err)
	t.Cleanup(func() { _ = l.opener.Close(); _ = l.answerer.Close() })
	return l
}

// TestCut: of connections that the rules in force would not let be opened, no data flows any
// more once they are cut: what came in, what went out, what is forwarded, what came by a
// redirect, and what nobody tracked. What is admitted flows on, and the way to the service.
func TestCut(t *testing.T) {
	m := newMachine(t)
	left, right := newNamespace(t, "yf-cl"), newNamespace(t, "yf-cr")
	for i, side := range []*testbed.Namespace{left, right} {
		name := []string{"eth1", "eth2"}[i]
		require.NoError(t, m.ns.IP(fmt.Sprintf("link add %s type veth peer name eth0 netns %s", name, side.Name),
			fmt.Sprintf("addr add 10.40.%d.1/24 dev %s", i+1, name), "link set "+name+" up"))
		require.NoError(t, side.IP(fmt.Sprintf("addr add 10.40.%d.9/24 dev eth0", i+1), "link set eth0 up",
			fmt.Sprintf("route add default via 10.40.%d.1", i+1)))
	}
	require.NoError(t, m.ns.Sysctl("ipv4/ip_forward=1"))
	const redirect = "table ip nat {\n\tchain pre {\n\t\ttype nat hook prerouting priority dstnat; policy accept;\n\t\ttcp dport 8443 " +
		"redirect to :9443\n\t}\n}\n"
	const admits = "table inet yellowfence {\n\tchain inbound {\n\t\ttype filter hook input priority filter; policy drop;\n\t\tct state " +
		"established,related accept\n\t\ttcp dport 7000 accept\n%s\t}\n" +
		"\tchain outbound {\n\t\ttype filter hook output priority filter; policy drop;\n\t\tct state established,related accept\n%s\t}\n" +
		"\tchain forward {\n\t\ttype filter hook forward priority filter; policy drop;\n\t\tct state established,related accept\n%s\t}\n}\n"

	before := map[string]line{
		"from before the first rules, in":  dialled(t, left, m.ns, "10.40.1.1:7101", "10.40.1.1:7101"),
		"from before the first rules, out": dialled(t, m.ns, right, "10.40.2.9:7102", "10.40.2.9:7102"),
	}
	require.NoError(t, m.ns.Load(redirect+fmt.Sprintf(admits, "\t\ttcp dport { 7001, 9443 } accept\n",
		"\t\ttcp dport { 7002, 8480 } accept\n", "\t\ttcp dport 7003 accept\n")))
	lines := map[string]line{
		"inbound":            dialled(t, left, m.ns, "10.40.1.1:7001", "10.40.1.1:7001"),
		"outbound":           dialled(t, m.ns, right, "10.40.2.9:7002", "10.40.2.9:7002"),
		"forwarded":          dialled(t, left, right, "10.40.2.9:7003", "10.40.2.9:7003"),
		"through a redirect": dialled(t, left, m.ns, ":9443", "10.40.1.1:8443"),
	}
	admitted, service := dialled(t, left, m.ns, "10.40.1.1:7000", "10.40.1.1:7000"),
		dialled(t, m.ns, right, "10.40.2.9:8480", "10.40.2.9:8480")
	require.NoError(t, m.ns.Load("delete table inet yellowfence\n"+fmt.Sprintf(admits, "", "", "")))
	for what, l := range lines {
		require.True(t, l.flows(t), "%s: what is established goes on", what)
	}

	found := func(cut bool) (out []api.OpenConnection) {
		require.NoError(t, m.ns.Do(func() (err error) {
			out, err = inventory.Unadmitted(context.Background(), []netip.AddrPort{netip.MustParseAddrPort("10.40.2.9:8480")}, cut)
			return err
		}))
		return out
	}
	tos := func(all []api.OpenConnection) (out []string) {
		for _, o := range all {
			out = append(out, o.To)
		}
		return out
	}
	want := []string{"10.40.1.1:7001", "10.40.2.9:7002", "10.40.2.9:7003", "10.40.1.1:9443", "10.40.1.1:7101", "10.40.2.9:7102"}
	require.ElementsMatch(t, want, tos(found(false)), "and nothing else")
	cut := found(true)
	require.ElementsMatch(t, want, tos(cut))
	for _, o := range cut {
		require.True(t, o.Cut, "%+v", o)
	}
	for _, all := range []map[string]line{before, lines} {
		for what, l := range all {
			require.False(t, l.flows(t), what)
		}
	}
	// Where the far end may open connections of its own, nothing that a router does ends one.
	require.NoError(t, m.ns.Load("delete table inet yellowfence\n"+
		fmt.Sprintf(admits, "", "", "\t\tip saddr 10.40.2.9 accept\n\t\ttcp dport 7004 accept\n")))
	lasting := dialled(t, left, right, "10.40.2.9:7004", "10.40.2.9:7004")
	require.NoError(t, m.ns.Load("delete table inet yellowfence\n"+fmt.Sprintf(admits, "", "", "\t\tip saddr 10.40.2.9 accept\n")))
	cut = found(true)
	require.Equal(t, []any{1, false, "what answers would be admitted as a connection of its own: end it at one of its ends"},
		[]any{len(cut), cut[0].Cut, cut[0].Why})
	require.True(t, lasting.flows(t), "and it is not said to be cut")
	require.NoError(t, m.ns.Load("delete table inet yellowfence\n"+fmt.Sprintf(admits, "", "", "")))
	require.True(t, found(true)[0].Cut)
	require.False(t, lasting.flows(t))
	require.True(t, admitted.flows(t))
	require.True(t, service.flows(t))
	require.Empty(t, found(false))
}

// TestToAll: what is for everybody on a network is not what the host forwards.
func TestToAll(t *testing.T) {
	m := newMachine(t)
	require.NoError(t, m.ns.IP("link add eth1 type veth peer name eth1p", "addr add 10.40.1.1/24 dev eth1", "link set eth1 up",
		"link set eth1p up"))
	require.NoError(t, m.ns.Load("table inet yellowfence {\n\tchain inbound {\n\t\ttype filter hook input priority filter; policy "+
		"drop;\n\t\tct state established,related accept\n\t\tudp dport 9 accept\n\t}\n\tchain forward {\n\t\ttype filter hook forward "+
		"priority filter; policy drop;\n\t}\n}\n"))
	require.NoError(t, m.ns.Do(func() error {
		c, err := net.Dial("udp", "10.40.1.255:9")
		if err == nil {
			_, err = io.WriteString(c, "all hands")
			_ = c.Close()
		}
		return err
	}))
	require.NoError(t, m.ns.Do(func() error {
		all, err := inventory.Unadmitted(context.Background(), nil, false)
		require.Empty(t, all, "a broadcast is not forwarded")
		return err
	}))
}
