package host_test

import (
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"

	"yellowfence.example/yfence/core/dialect"
	"yellowfence.example/yfence/core/dialect/iptables"
	"yellowfence.example/yfence/core/dialect/nft"

	"github.com/stretchr/testify/require"

	"yellowfence.example/yfence/api"
	"yellowfence.example/yfence/core/kernel"
	"yellowfence.example/yfence/core/packet"
	"yellowfence.example/yfence/internal/host"
	"yellowfence.example/yfence/internal/host/apply"
	"yellowfence.example/yfence/internal/live"
	"yellowfence.example/yfence/internal/testbed"
)

// fake makes a path with a program named nft, and others that say nothing: the
// machine that the tests run on may have tables of legacy iptables.
func fake(t *testing.T, script string) {
	dir := t.TempDir()
	for _, name := range []string{"iptables-legacy-save", "ip6tables-legacy-save"} {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte("#!/bin/sh\n"), 0o755))
	}
	if script != "" {
		require.NoError(t, os.WriteFile(filepath.Join(dir, "nft"), []byte("#!/bin/sh\n"+script), 0o755))
	}
	t.Setenv("PATH", dir)
}

// TestAToolThatFailsIsNoHostWithoutRules: missing, failing and empty are told apart.
func TestAToolThatFailsIsNoHostWithoutRules(t *testing.T) {
	for _, c := range []struct{ what, script, want string }{
		{"missing", "", "nft is not installed on this host (Debian's package nftables)"},
		{"failing", "echo 'Operation not permitted' >&2; exit 1", "nft -j list ruleset failed: exit status 1: Operation not permitted"},
	} {
		t.Run(c.what, func(t *testing.T) {
			fake(t, c.script)
			_, err := (&host.Machine{}).Report(context.Background(), "charts-01")
			require.EqualError(t, err, c.want)
		})
	}
	fake(t, `[ "$1" = --version ] && echo "nftables v1.0.6" || echo '{"nftables": []}'`)
	r, err := (&host.Machine{}).Report(context.Background(), "charts-01")
	require.NoError(t, err)
	require.Equal(t, "{\"nftables\": []}\n", r.Dumps[0].Text)
	require.Equal(t, []any{"charts-01", 1, "nftables v1.0.6"}, []any{r.Host, r.Version, r.Tools["nft"]})
	require.NotEmpty(t, r.Tools["kernel"])
}

// TestWhatListens is told as ss prints it; where ss is missing or fails that is told.
func TestWhatListens(t *testing.T) {
	const nft = `[ "$1" = --version ] && echo "nftables v1.0.6" || echo '{"nftables": []}'`
	around := func(ss string) *api.HostFacts {
		fake(t, nft)
		if ss != "" {
			require.NoError(t, os.WriteFile(filepath.Join(os.Getenv("PATH"), "ss"), []byte("#!/bin/sh\n"+ss), 0o755))
		}
		r, err := (&host.Machine{}).Report(context.Background(), "h")
		require.NoError(t, err)
		return r.Around
	}
	s := around(`/bin/cat <<'E'
udp UNCONN 0 0 127.0.0.53%lo:53 0.0.0.0:* users:(("resolver",pid=0,fd=13)) uid:101 ino:1 sk:1 cgroup:/system.slice/resolver.service <->
udp UNCONN 0 0 [::]:5353 [::]:* ino:2 sk:2 cgroup:/system.slice/names.service v6only:1 <->
udp ESTAB 0 0 10.0.0.1:40000 10.0.0.2:53 users:(("client",pid=0,fd=3)) ino:3 sk:3
tcp LISTEN 0 128 *:443 *:* users:(("web \"x\"",pid=0,fd=6),("web",pid=0,fd=6)) ino:4 sk:4 cgroup:/system.slice/web.service/worker v6only:0 <->
tcp LISTEN 0 128 [::1]:631 [::]:* ino:5 sk:5 cgroup:/user.slice/session-3.scope v6only:1 <->
tcp LISTEN 0 128 [fe80::1]%eth0:22 [::]:* users:(("sshd",pid=0,fd=3)) ino:6 sk:6
tcp LISTEN 0 128 somewhere:http *:*
raw UNCONN 0 0 *:icmp *:*
half a li
E`)
	var got []string
	for _, l := range s.Listeners {
		got = append(got, fmt.Sprintf("%s %q %q %d %q", l.Protocol, l.Address, l.Interface, l.Port, l.Unit))
	}
	require.Equal(t, []string{`udp "127.0.0.53" "lo" 53 "resolver.service"`, `udp "::" "" 5353 "names.service"`,
		`tcp "" "" 443 "web.service"`, `tcp "::1" "" 631 ""`, `tcp "fe80::1" "eth0" 22 ""`}, got)
	require.Equal(t, `web \"x\"`, s.Listeners[2].Process)
	require.Equal(t, "ip is not installed on this host (Debian's package iproute2)", s.Untold["interfaces"])
	require.Contains(t, around("").Untold["listeners"], "ss is not installed on this host (Debian's package iproute2)")
	s = around("echo 'not today' >&2; exit 3")
	require.Equal(t, "ss -H -ltunpe failed: exit status 3: not today", s.Untold["listeners"])
	require.Nil(t, s.Listeners)
	s = around("exit 0")
	require.NotNil(t, s.Listeners, "nothing listens, which is not the same as nothing known")
}

func TestRulesAreCheckedBeforeTheyAreLoaded(t *testing.T) {
	log := filepath.Join(t.TempDir(), "calls")
	fake(t, `echo "$*" >>`+log+`; [ "$1" = -c ] && { echo "syntax error" >&2; exit 1; }; exit 0`)
	_, err := apply.Load(context.Background(), nftFile("nonsense"))
	require.EqualError(t, err, "nft -c -f - failed: exit status 1: syntax error")
	calls, err := os.ReadFile(log)
	require.NoError(t, err)
	require.Equal(t, "-c -f -\n", string(calls), "nothing was loaded")
}

func nftFile(text string) []api.File { return []api.File{{Kind: "nft", Text: text}} }

var kernels atomic.Int64

// kernel gives a namespace to try rules in, or skips.
func newNamespace(t *testing.T, name string) *testbed.Namespace {
	t.Helper()
	testbed.Needed(t, "NOT TRIED ON A KERNEL")
	ns, err := testbed.NewNamespace(fmt.Sprintf("%s-%d-%d", name, os.Getpid(), kernels.Add(1)))
	require.NoError(t, err)
	t.Cleanup(func() { require.NoError(t, ns.Close()) })
	return ns
}

// controlGroups is the folder of control groups of version 2, wherever it is mounted.
func controlGroups() string {
	root := "/sys/fs/cgroup"
	if _, err := os.Stat(root + "/cgroup.controllers"); err != nil {
		root += "/unified"
	}
	return root
}

// TestSendersOfAHost: settling fills in whom the host has, whatever the depth of
// a unit's control group, and tells whom it has not; reports say who is who.
func TestSendersOfAHost(t *testing.T) {
	ns := newNamespace(t, "yf-senders")
	root := controlGroups()
	slice := fmt.Sprintf("%s/yfhost%d.slice", root, os.Getpid())
	deep := slice + "/yfhost-inner.slice"
	shallowUnit, deepUnit := fmt.Sprintf("shallow%d.service", os.Getpid()), fmt.Sprintf("deep%d.service", os.Getpid())
	require.NoError(t, os.MkdirAll(slice+"/"+shallowUnit, 0o755))
	require.NoError(t, os.MkdirAll(deep+"/"+deepUnit, 0o755))
	borrowed := slice + "/runner.service" // whoever runs there names groups as he likes
	require.NoError(t, os.MkdirAll(borrowed+"/gone.service", 0o755))
	remove := func(paths ...string) {
		for _, p := range paths {
			require.NoError(t, os.Remove(p))
		}
	}
	sets, rules := "", ""
	for i, s := range []string{"user backup", "user nobody-by-that-name", "unit " + shallowUnit, "unit " + deepUnit, "unit gone.service"} {
		ask := "meta skuid"
		if strings.HasPrefix(s, "unit") {
			ask = "socket cgroupv2 level 2"
		}
		sets += fmt.Sprintf("\tset s%d {\n\t\ttypeof %s\n\t\tcomment %q\n\t}\n\n", i, ask, s)
		rules += fmt.Sprintf("\t\t%s @s%d accept\n", ask, i)
	}
	text := "table inet yellowfence\ndelete table inet yellowfence\n\ntable inet yellowfence {\n" + sets +
		"\tchain outbound {\n\t\ttype filter hook output priority filter; policy drop;\n" + rules + "\t}\n}\n"
	var report api.Report
	require.NoError(t, ns.Do(func() error {
		absent, err := apply.Load(context.Background(), nftFile(text))
		require.Equal(t, []string{"user nobody-by-that-name", "unit gone.service"}, absent)
		if err == nil {
			report, err = (&host.Machine{}).Report(context.Background(), "h")
		}
		return err
	}))
	require.Equal(t, &kernel.Names{Users: map[string]int{"backup": 34},
		Absent: []string{"user nobody-by-that-name", "unit gone.service"}}, report.Names)
	listing, err := ns.Run(nil, "nft", "list", "table", "inet", "yellowfence")
	require.NoError(t, err)
	for _, want := range []string{"elements = { 34 }", "yfhost-inner.slice/" + deepUnit + `" }`, "socket cgroupv2 level 2 @s2",
		"socket cgroupv2 level 3 @s3"} {
		require.Contains(t, string(listing), want)
	}

	remove(deep+"/"+deepUnit, deep)
	require.NoError(t, ns.Do(func() (err error) {
		report, err = (&host.Machine{}).Report(context.Background(), "h")
		return err
	}))
	require.Len(t, report.Names.Gone, 1, "its control group is listed by a number that nothing has any more")
	require.Contains(t, report.Names.Absent, "unit "+deepUnit)
	remove(slice+"/"+shallowUnit, borrowed+"/gone.service", borrowed, slice)
}

// TestReportOfSeveralTools: what nft does not list is reported too, and what users
// its rules speak of.
func TestReportOfSeveralTools(t *testing.T) {
	ns := newNamespace(t, "yf-tools")
	reported := func() (kinds []dialect.Kind, r api.Report) {
		t.Helper()
		require.NoError(t, ns.Do(func() (err error) {
			r, err = (&host.Machine{}).Report(context.Background(), "h")
			return err
		}))
		for _, d := range r.Dumps {
			kinds = append(kinds, d.Kind)
		}
		return kinds, r
	}
	require.NoError(t, ns.Load("table ip t {\n}\n"))
	kinds, _ := reported()
	require.Equal(t, []dialect.Kind{nft.ListingJSON, nft.ListingText}, kinds)

	if _, err := ns.Run([]byte("*filter\nCOMMIT\n"), "iptables-legacy-restore"); err != nil { // kernels may be built without
		if os.Getenv("CI") != "" {
			t.Fatal("legacy iptables must be there in CI: ", err)
		}
		t.Skip("NOT TRIED ON A KERNEL: ", err)
	}
	_, err := ns.Run([]byte("create friends hash:ip\nadd friends 198.51.100.7\n"), "ipset", "restore")
	require.NoError(t, err)
	_, err = ns.Run([]byte("*filter\n:INPUT ACCEPT [0:0]\n:OUTPUT ACCEPT [0:0]\n-A INPUT -m set --match-set friends src -j DROP\n-A "+
		"OUTPUT -m owner --uid-owner 34 -j DROP\nCOMMIT\n"), "iptables-legacy-restore")
	require.NoError(t, err)
	_, err = ns.Run([]byte("*filter\n:INPUT ACCEPT [0:0]\n-A INPUT -m iprange --src-range fd00::1-fd00::9 -j DROP\nCOMMIT\n"),
		"ip6tables-nft-restore")
	require.NoError(t, err)
	kinds, r := reported()
	require.Equal(t, []dialect.Kind{nft.ListingJSON, nft.ListingText, iptables.Listing4, iptables.Listing6, iptables.ListingSets}, kinds)
	require.Equal(t, map[string]int{"backup": 34}, r.Names.Users)
	_, err = ns.Run([]byte("*nat\n:PREROUTING ACCEPT [0:0]\nCOMMIT\n*filter\n:INPUT ACCEPT [5:500]\n:OUTPUT ACCEPT [7:700]\n[11:1100] -A "+
		"INPUT -m set --match-set friends src -j DROP\n-A OUTPUT -m owner --uid-owner 34 -j DROP\nCOMMIT\n"), "iptables-legacy-restore",
		"--counters")
	require.NoError(t, err)
	require.NoError(t, ns.Load("add counter ip t seen { packets 3 bytes 300 }\nadd chain ip t c\nadd rule ip t c counter packets 5 bytes "+
		"500 accept\nadd rule ip t c counter name seen\n"))
	_, again := reported()
	require.Equal(t, []api.Count{{At: "ip t counter seen", Packets: 3, Bytes: 300}, {At: "ip t/c handle 3", Packets: 5, Bytes: 500}},
		again.Counts[:2])
	require.Regexp(t, `^iptables-save:\d+$`, again.Counts[3].At)
	require.Equal(t, "[11 1100]", fmt.Sprint([]int64{again.Counts[3].Packets, again.Counts[3].Bytes}))
	for i, d := range again.Dumps[1:] {
		require.NotRegexp(t, ` on \w+ |\[\d+:\d+\]`, d.Text)
		require.NotRegexp(t, `packets [1-9]`, d.Text)
		if d.Kind == iptables.Listing6 || d.Kind == iptables.ListingSets {
			require.Equal(t, r.Dumps[i+1], d, "what did not change is said in the same words")
		}
	}
	sp := packet.NewSpace()
	rs, err := live.Read(sp, r.InForce)
	require.NoError(t, err)
	d := rs.Decision(sp)
	require.Empty(t, sp.UnknownsOf(sp.Where(sp.Answered(d, kernel.LaterPorts, false),
		func(o packet.Outcome) bool { return o.Verdict == packet.Admit })), "all of it is read")
	require.NotEqual(t, packet.Empty, sp.Where(d, func(o packet.Outcome) bool { return o.Verdict == packet.Drop }))
	_, err = ns.Run([]byte("*nat\n-A PREROUTING -m addrtype --dst-type LOCAL -p tcp --dport 80 -j DNAT --to-destination "+
		"10.0.0.2\nCOMMIT\n"), "iptables-legacy-restore")
	require.NoError(t, err)
	kinds, r = reported()
	require.Equal(t, []dialect.Kind{nft.ListingJSON, nft.ListingText, iptables.Listing4, iptables.Listing6, iptables.ListingSets,
		dialect.ListingRoutes}, kinds, "what rules say of addresses by their kind needs the routes")
	require.Contains(t, r.Dumps[5].Text, "local 127.0.0.1 dev lo table local")
}

// TestSettleInAKernel loads real rules: all of them, or none.
func TestSettleInAKernel(t *testing.T) {
	ns := newNamespace(t, "yf-settle")
	// The tools run as children of a thread that is in the namespace.
	in := func(f func() error) error { return ns.Do(f) }
	const rules = "table inet yellowfence\ndelete table inet yellowfence\ntable inet yellowfence {\n\tchain inbound {\n\t\ttype filter " +
		"hook input priority filter; policy drop;\n\t\ttcp dport 22 accept\n\t}\n}\n"
	require.NoError(t, in(func() error { _, err := apply.Load(context.Background(), nftFile(rules)); return err }))
	before, err := ns.ListJSON()
	require.NoError(t, err)
	require.Contains(t, string(before), `"policy": "drop"`)

	broken := rules + "table inet other {\n\tchain c {\n\t\ttcp dport 70000 accept\n\t}\n}\n"
	require.Error(t, in(func() error { _, err := apply.Load(context.Background(), nftFile(broken)); return err }))
	after, err := ns.ListJSON()
	require.NoError(t, err)
	require.Equal(t, string(before), string(after), "nothing half-done")

	require.NoError(t, in(func() error {
		r, err := (&host.Machine{}).Report(context.Background(), "charts-01")
		if err == nil {
			require.JSONEq(t, string(before), r.Dumps[0].Text)
		}
		return err
	}))
	_, err = exec.LookPath("nft")
	require.NoError(t, err)
}
