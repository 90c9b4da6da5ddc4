package inventory

import (
	"context"
	"net/netip"
	"os"
	"path/filepath"
	"slices"
	"testing"

	"github.com/stretchr/testify/require"

	"yellowfence.example/yfence/api"
	"yellowfence.example/yfence/core/listeners"
	"yellowfence.example/yfence/core/packet"
)

// TestListeners: which sockets are taken for listeners, and what is told of each.
func TestListeners(t *testing.T) {
	const plain = " 0 128 0.0.0.0:22 0.0.0.0:* "
	for _, c := range []struct {
		name, text, without string
		want                []listeners.Listener
	}{
		{"nothing listens", "", "", []listeners.Listener{}},
		{"a process in a unit's control group", "tcp " +
			"LISTEN" + plain + `users:(("sshd",pid=999999999,fd=3)) cgroup:/system.slice/ssh.service`, "",
			[]listeners.Listener{{Protocol: "tcp", Address: "0.0.0.0", Port: 22, Process: "sshd", Unit: "ssh.service"}}},
		{"a socket that its unit holds", "tcp LISTEN" + plain + "cgroup:/system.slice/tide.socket", "",
			[]listeners.Listener{{Protocol: "tcp", Address: "0.0.0.0", Port: 22, Unit: "tide.socket"}}},
		{"both families", "tcp LISTEN 0 1 *:443 *:*", "", []listeners.Listener{{Protocol: "tcp", Port: 443}}},
		{"IPv6 alone", "tcp LISTEN 0 1 *:443 *:* v6only:1", "", []listeners.Listener{{Protocol: "tcp", Address: "::", Port: 443}}},
		{"an address with its link", "udp UNCONN 0 0 [fe80::1]%eth0:546 [::]:*", "",
			[]listeners.Listener{{Protocol: "udp", Address: "fe80::1", Interface: "eth0", Port: 546}}},
		{"the link within the brackets", "udp UNCONN 0 0 [fe80::1%eth0]:546 [::]:*", "",
			[]listeners.Listener{{Protocol: "udp", Address: "fe80::1", Interface: "eth0", Port: 546}}},
		{"an address of IPv4 by one link", "udp UNCONN 0 0 192.0.2.7%eth1:68 0.0.0.0:*", "",
			[]listeners.Listener{{Protocol: "udp", Address: "192.0.2.7", Interface: "eth1", Port: 68}}},
		{"UDP that speaks with one peer", "udp ESTAB 0 0 192.0.2.7:123 198.51.100.7:123", "", []listeners.Listener{}},
		{"the same one twice, as a server of many processes has it",
			"tcp LISTEN 0 1 *:80 *:* users:((\"lamp\",pid=1,fd=3))\ntcp LISTEN 0 1 *:80 *:* users:((\"lamp\",pid=1,fd=3))", "",
			[]listeners.Listener{{Protocol: "tcp", Port: 80, Process: "lamp", Unit: unitOf("1")}}},
		{"a port that is none", "tcp LISTEN 0 1 *:65536 *:*\ntcp LISTEN 0 1 *:x *:*\ntcp LISTEN 0 1 here *:*", "", []listeners.Listener{}},
		{"an address that is none", "tcp LISTEN 0 1 pier:80 *:*", "", []listeners.Listener{}},
		{"another protocol", "sctp LISTEN 0 1 *:80 *:*", "", []listeners.Listener{}},
		{"a process that calls itself a socket", "tcp LISTEN 0 1 *:80 *:* users:((\"x\ntcp LISTEN 0 1 *:6666 *:* y\",pid=1,fd=3))",
			"tcp LISTEN 0 1 *:80 *:*", []listeners.Listener{{Protocol: "tcp", Port: 80}}},
		{"it has closed since", "tcp LISTEN 0 1 *:80 *:*\ntcp LISTEN 0 1 *:81 *:*", "tcp LISTEN 0 1 *:81 *:*",
			[]listeners.Listener{{Protocol: "tcp", Port: 81}}},
	} {
		if c.without == "" {
			c.without = c.text
		}
		require.Equal(t, c.want, readListeners(c.text, c.without), c.name)
	}
}

// TestUnitIn: the innermost unit of a control group's path.
func TestUnitIn(t *testing.T) {
	for path, want := range map[string]string{
		"/system.slice/ssh.service":                                        "ssh.service",
		"/user.slice/user-1.slice/user@1.service/app.slice/charts.service": "charts.service",
		"/system.slice/tide.socket":                                        "tide.socket",
		"/user.slice/session-3.scope":                                      "",
		"/":                                                                "",
		"":                                                                 "",
		"/system.slice/berth.service/worker":                               "berth.service",
	} {
		require.Equal(t, want, unitIn(path), path)
	}
}

// TestReadTracked: lines of the tracker, and what is no connection of ours to look at.
func TestReadTracked(t *testing.T) {
	at := netip.MustParseAddr
	ssh := tuple{at("198.51.100.7"), at("192.0.2.7"), 50000, 22}
	for _, c := range []struct {
		name, line string
		want       []tracked
	}{
		{"TCP", "tcp 6 431999 ESTABLISHED src=198.51.100.7 dst=192.0.2.7 sport=50000 dport=22 src=192.0.2.7 dst=198.51.100.7 sport=22 " +
			"dport=50000 [ASSURED] mark=0 use=1", []tracked{{"tcp", "ESTABLISHED", ssh, ssh.turned()}}},
		{"UDP that nobody answered", "udp 17 29 src=198.51.100.7 dst=192.0.2.7 sport=50000 dport=22 [UNREPLIED] src=192.0.2.7 " +
			"dst=198.51.100.7 " +
			"sport=22 dport=50000 mark=0 use=1", []tracked{{"udp", "", ssh, ssh.turned()}}},
		{"translated", "tcp 6 1 ESTABLISHED src=198.51.100.7 dst=203.0.113.1 sport=50000 dport=80 src=192.0.2.7 dst=198.51.100.7 " +
			"sport=8080 " +
			"dport=50000", []tracked{{"tcp", "ESTABLISHED", tuple{at("198.51.100.7"), at("203.0.113.1"), 50000, 80},
			tuple{at("192.0.2.7"), at("198.51.100.7"), 8080, 50000}}}},
		{"ICMP", "icmp 1 29 src=198.51.100.7 dst=192.0.2.7 type=8 code=0 id=1 src=192.0.2.7 dst=198.51.100.7 type=0 code=0 id=1", nil},
		{"one direction alone", "tcp 6 1 ESTABLISHED src=198.51.100.7 dst=192.0.2.7 sport=50000 dport=22", nil},
		{"a port beyond all", "udp 17 29 src=198.51.100.7 dst=192.0.2.7 sport=65536 dport=22 src=192.0.2.7 dst=198.51.100.7 sport=22 " +
			"dport=1", nil},
		{"an address that is none", "udp 17 29 src=pier dst=192.0.2.7 sport=1 dport=22 src=192.0.2.7 dst=198.51.100.7 sport=22 dport=1",
			nil},
		{"cut short", "tcp 6", nil},
		{"nothing", "", nil},
	} {
		require.Equal(t, c.want, readTracked(c.line+"\n"), c.name)
	}
}

// TestTracked: which connections are open, whose they are, and which two are one.
func TestTracked(t *testing.T) {
	at := netip.MustParseAddr
	here := map[netip.Addr]string{at("192.0.2.7"): "eth0", at("10.40.0.1"): "eth1", at("127.0.0.1"): "lo"}
	in := tuple{at("198.51.100.7"), at("192.0.2.7"), 50000, 22}
	through := tuple{at("198.51.100.7"), at("10.40.0.9"), 50000, 80}
	one := tracked{"tcp", "ESTABLISHED", in, in.turned()}
	require.False(t, one.forwarded(here))
	require.True(t, tracked{"tcp", "ESTABLISHED", through, through.turned()}.forwarded(here))
	for state, over := range map[string]bool{"ESTABLISHED": false, "CLOSE_WAIT": false, "TIME_WAIT": true, "SYN_SENT": true, "": false} {
		require.Equal(t, over, tracked{state: state}.over(), state)
	}
	require.True(t, one.same(tracked{"tcp", "", in.turned(), in}), "the kernel took the other side for the one that opened it")
	require.True(t, one.same(tracked{"tcp", "TIME_WAIT", in, in.turned()}))
	require.False(t, one.same(tracked{"udp", "", in, in.turned()}))
	require.False(t, one.same(tracked{"tcp", "ESTABLISHED", through, through.turned()}))
	require.Equal(t, "192.0.2.7:22 from 198.51.100.7:50000", Connection{in.turned().connection().Local, in.connection().Local}.String())
}

// TestAsNew: how the filter would see a connection that is opened now.
func TestAsNew(t *testing.T) {
	at := netip.MustParseAddr
	here := map[netip.Addr]string{at("192.0.2.7"): "eth0", at("10.40.0.1"): "eth1", at("127.0.0.1"): "lo"}
	near := []netip.Prefix{netip.MustParsePrefix("10.40.0.1/16"), netip.MustParsePrefix("192.0.2.7/31")}
	for _, c := range []struct {
		name, from, to string // to is who answers
		want           []string
	}{
		{"to this host", "198.51.100.7", "192.0.2.7", []string{"in by eth0"}},
		{"from this host", "10.40.0.1", "198.51.100.7", []string{"out by eth1"}},
		{"through it, by whichever interfaces", "198.51.100.7", "10.40.0.9",
			[]string{"in by eth0 out by eth0", "in by eth0 out by eth1", "in by eth1 out by eth0", "in by eth1 out by eth1"}},
		{"to all of a network", "198.51.100.7", "10.40.255.255", []string{"in by eth0", "in by eth1", "in by lo"}},
		{"to a group", "198.51.100.7", "224.0.0.251", []string{"in by eth0", "in by eth1", "in by lo"}},
		{"a network of two has no address for all", "198.51.100.7", "192.0.2.6",
			[]string{"in by eth0 out by eth0", "in by eth0 out by eth1", "in by eth1 out by eth0", "in by eth1 out by eth1"}},
	} {
		asked := tuple{at(c.from), at("203.0.113.1"), 50000, 80} // translated on its way
		var got []string
		for _, p := range (tracked{"tcp", "ESTABLISHED", asked, tuple{at(c.to), at(c.from), 8080, 50000}}).asNew(here, near) {
			require.Equal(t, []any{at(c.from), at(c.to), 50000, 8080, "new"}, []any{p.Src, p.Dst, *p.SrcPort, *p.DstPort, p.State}, c.name)
			hook := map[bool]int{true: packet.Through}[p.In != "" && p.Out != ""]
			if p.In == "" {
				hook = packet.Out
			} else if p.Out == "" {
				hook = packet.In
			}
			require.Equal(t, hook, p.Hook, c.name)
			by := ""
			if p.In != "" {
				by = "in by " + p.In
			}
			if p.Out != "" {
				by += map[bool]string{true: " "}[by != ""] + "out by " + p.Out
			}
			got = append(got, by)
		}
		slices.Sort(got)
		require.Equal(t, c.want, got, c.name)
	}
}

// TestReadInterfaces: what is told of a host's interfaces, and what is not.
func TestReadInterfaces(t *testing.T) {
	got, err := readInterfaces([]byte(`[
	 {"ifname": "lo", "flags": ["LOOPBACK", "UP"], "addr_info": [{"local": "127.0.0.1", "prefixlen": 8, "scope": "host"}]},
	 {"ifname": "eth0", "flags": ["BROADCAST", "UP"], "addr_info": [
	  {"local": "192.0.2.7", "prefixlen": 24, "scope": "global"}, {"local": "fe80::1", "prefixlen": 64, "scope": "link"},
	  {"local": "2001:db8::7", "prefixlen": 64, "scope": "global"}, {"local": "10.0.0.1", "prefixlen": 99, "scope": "global"},
	  {"local": "pier", "prefixlen": 24, "scope": "global"}]},
	 {"ifname": "eth1", "flags": ["BROADCAST"]}]`))
	require.NoError(t, err)
	require.Equal(t, []api.SeenInterface{
		{Name: "eth0", Up: true, Addresses: []netip.Prefix{netip.MustParsePrefix("192.0.2.7/24"), netip.MustParsePrefix("2001:db8::7/64")}},
		{Name: "eth1", Addresses: []netip.Prefix{}},
	}, got)
	_, err = readInterfaces([]byte(`{"ifname": "eth0"`))
	require.ErrorContains(t, err, "what ip -j addr prints cannot be read")
}

// TestHexAddrPort: ends of sockets as the kernel writes them, in the machine's own order of bytes.
func TestHexAddrPort(t *testing.T) {
	for text, want := range map[string]string{
		"070200C0:0016":                         "192.0.2.7:22",
		"00000000:1F90":                         "0.0.0.0:8080",
		"B80D0120000000000000000007000000:01BB": "[2001:db8::7]:443",
		"0000000000000000FFFF0000070200C0:0016": "192.0.2.7:22", // of IPv4, as a socket of IPv6 has it
		"070200C0:10000":                        "",
		"070200:0016":                           "",
		"070200C0070200C0:0016":                 "",
		"pier:0016":                             "",
		"":                                      "",
	} {
		got, ok := hexAddrPort(text)
		require.Equal(t, want != "", ok, text)
		if ok {
			require.Equal(t, want, got.String(), text)
		}
	}
}

// TestCounts: what counters stand at, and which statement a rule of ours carries out.
func TestCounts(t *testing.T) {
	require.Equal(t, []api.Count{
		{At: "inet yellowfence/inbound handle 4", Packets: 3, Bytes: 180, By: "allow chart-web", Chain: "inbound",
			Of: "inet yellowfence 7"},
		{At: "ip other/input handle 9", Packets: 1, Bytes: 60},
		{At: "ip other counter visitors", Packets: 5, Bytes: 300},
	}, countsOf([]byte(`{"nftables": [{"metainfo": {"version": "1"}}, {"table": {"family": "inet", "name": "yellowfence", "handle": 7}},
	 {"rule": {"family": "inet", "table": "yellowfence", "chain": "inbound", "handle": 4, "comment": "allow chart-web", "expr": [
	  {"match": {}}, {"counter": {"packets": 3, "bytes": 180}}, {"accept": null}]}},
	 {"rule": {"family": "ip", "table": "other", "chain": "input", "handle": 9, "comment": "mine", "expr": [
	  {"counter": {"packets": 1, "bytes": 60}}, {"counter": {"packets": 8, "bytes": 8}}]}},
	 {"rule": {"family": "ip", "table": "other", "chain": "input", "handle": 10, "expr": [{"counter": "visitors"}, {"accept": null}]}},
	 {"rule": {"family": "ip", "table": "other", "chain": "input", "handle": 11, "expr": [{"accept": null}]}},
	 {"counter": {"family": "ip", "name": "visitors", "table": "other", "packets": 5, "bytes": 300}}]}`)))
	require.Nil(t, countsOf([]byte(`{"nftables": []}`)))
	require.Nil(t, countsOf([]byte(`"counter" and no JSON`)))

	text, counts := uncounted("iptables-save", "*filter\n:INPUT DROP [7:420]\n[3:180] -A yf-inbound -p tcp -m comment --comment \"allow "+
		"chart-web\" "+
		"-j ACCEPT\n[2:120] -A yf-inbound -p tcp -m comment --comment \"allow chart-web\" -j yf-more\n[1:60] -A INPUT -j ACCEPT\n-A "+
		"INPUT -j DROP\nCOMMIT\n")
	require.Equal(t, "*filter\n:INPUT DROP [7:420]\n-A yf-inbound -p tcp -m comment --comment \"allow chart-web\" -j ACCEPT\n"+
		"-A yf-inbound -p tcp -m comment --comment \"allow chart-web\" -j yf-more\n-A INPUT -j ACCEPT\n-A INPUT -j DROP\nCOMMIT\n", text)
	require.Equal(t, []api.Count{
		{At: "iptables-save:3", Packets: 3, Bytes: 180, By: "allow chart-web", Chain: "inbound"},
		{At: "iptables-save:4", Packets: 2, Bytes: 120}, // it only hands on
		{At: "iptables-save:5", Packets: 1, Bytes: 60},
	}, counts)
}

// TestBoot: who loads which rules when a host starts, by what is linked below its root.
func TestBoot(t *testing.T) {
	root := t.TempDir()
	put := func(name, text string) {
		path := filepath.Join(root, name)
		require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o755))
		require.NoError(t, os.WriteFile(path, []byte(text), 0o644))
	}
	require.Equal(t, &api.Boot{Unknown: "systemd does not run here: who loads rules when the host starts is not known"}, boot(root))
	put("run/systemd/system/x", "")
	put("etc/nftables.conf", "flush ruleset\n")
	require.Equal(t, &api.Boot{}, boot(root), "the unit that would load it does not start")
	put("etc/systemd/system/sysinit.target.wants/nftables.service", "")
	put("lib/systemd/system/multi-user.target.wants/netfilter-persistent.service", "")
	put("etc/iptables/rules.v6", "*filter\nCOMMIT\n")
	put("etc/systemd/system/sysinit.target.wants/yfence-boot.service", "")
	require.Equal(t, &api.Boot{Ours: true, Loads: []api.BootFile{
		{By: "netfilter-persistent.service", File: "/etc/iptables/rules.v6", Kind: "ip6tables-save",
			Hash: Sum([]byte("*filter\nCOMMIT\n"))},
		{By: "nftables.service", File: "/etc/nftables.conf", Kind: "nft-text", Hash: Sum([]byte("flush ruleset\n"))},
	}}, boot(root))
}

// TestUnits: what a host's units say of where the program and its state are, and after whom ours come.
func TestUnits(t *testing.T) {
	for state, want := range map[string]string{
		"/var/lib/yfence": "StateDirectory=yfence\nStateDirectoryMode=0700\n",
		"/srv/fence":      "ReadWritePaths=/srv/fence\n",
	} {
		units := Units("/usr/bin/yfence", state)
		require.Len(t, units, 2)
		require.Contains(t, units[AttendUnit], want)
		require.Contains(t, units[AttendUnit], "ExecStart=/usr/bin/yfence attend --state "+state+"\n")
		require.Contains(t, units[BootUnit], "ExecStart=/usr/bin/yfence boot --state "+state+"\n")
		require.Contains(t, units[BootUnit], "ConditionPathExists="+state+"/kept.json\n")
		for _, l := range loaders {
			require.Contains(t, units[BootUnit], l.unit)
		}
	}
}

// TestRun: a tool's output, and what is said where it is missing, fails, or does not end.
func TestRun(t *testing.T) {
	ctx := context.Background()
	out, err := Run(ctx, []byte("tide\n"), "cat")
	require.NoError(t, err)
	require.Equal(t, "tide\n", string(out))
	_, err = Run(ctx, nil, "sh", "-c", "echo the pier is shut >&2; exit 3")
	require.EqualError(t, err, "sh -c echo the pier is shut >&2; exit 3 failed: exit status 3: the pier is shut")
	out, err = Run(ctx, nil, "sh", "-c", "echo $TZ")
	require.NoError(t, err)
	require.Equal(t, "UTC\n", string(out))
	t.Setenv("PATH", t.TempDir())
	for name, in := range map[string]string{"nft": "nftables", "ss": "iproute2", "iptables-save": "iptables"} {
		_, err = Run(ctx, nil, name)
		require.EqualError(t, err, name+" is not installed on this host (Debian's package "+in+")")
	}
}
