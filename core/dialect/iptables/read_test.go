package iptables_test

import (
	"cmp"
	"net/netip"
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"yellowfence.example/yfence/core/dialect/iptables"
	"yellowfence.example/yfence/core/packet"
)

func tcp(src string, port int) packet.Packet {
	sport := 50000
	return packet.Packet{Hook: packet.In, In: "eth0", Family: "ipv4", Protocol: "tcp", State: "new", Src: netip.MustParseAddr(src),
		Dst: netip.MustParseAddr("203.0.113.9"), SrcPort: &sport, DstPort: &port}
}

// fares says what surely becomes of a packet, while no rate is exceeded.
func fares(sp *packet.Space, d packet.Decision, p packet.Packet) string {
	of := sp.Outcomes(sp.WithinLimits(sp.Only(d, sp.Exactly(p))))
	if len(of) != 1 {
		return "uncertain"
	}
	text := of[0].Verdict.String()
	if how := cmp.Or(string(of[0].Reply), of[0].Translated.String()); how != "" {
		text += " with " + how
	}
	if of[0].Logged {
		text += " and logged"
	}
	return text
}

// TestReadAMailServer asks of a dump what becomes of packets.
func TestReadAMailServer(t *testing.T) {
	text, err := os.ReadFile("testdata/mail.save")
	require.NoError(t, err)
	family, ok := iptables.IsSave(string(text))
	require.True(t, ok)
	require.Equal(t, packet.IPv4, family)
	sp := packet.NewSpace()
	rs, err := iptables.Read(sp, family, "mail.save", string(text), iptables.Host{Users: map[int]string{34: "backup"}})
	require.NoError(t, err)
	require.Equal(t, [2]bool{true, false}, rs.Tracks)
	d := rs.Decision(sp)
	with := func(p packet.Packet, f func(*packet.Packet)) packet.Packet { f(&p); return p }
	eight, zero, six := 8, 0, netip.MustParseAddr("2001:db8::1")
	for _, c := range []struct {
		what   string
		packet packet.Packet
		want   string
	}{
		{"log-in from the office", tcp("203.0.113.7", 22), "admitted"},
		{"and from elsewhere", tcp("10.9.9.9", 22), "rejected with host-prohibited and logged"},
		{"mail", tcp("198.51.100.7", 587), "admitted"},
		{"what the far side is asked", tcp("10.9.9.9", 113), "rejected with tcp-reset"},
		{"a mark written in another table", tcp("10.0.0.5", 1500), "admitted"},
		{"which other ports do not get", tcp("10.0.0.5", 2001), "rejected with host-prohibited and logged"},
		{"nor other interfaces", with(tcp("10.0.0.5", 1500), func(p *packet.Packet) { p.In = "eth1" }),
			"rejected with host-prohibited and logged"},
		{"a set that is not in the dump", tcp("198.51.100.7", 80), "uncertain"},
		{"what a chain returns", tcp("198.51.100.7", 8080), "rejected with host-prohibited and logged"},
		{"a port that is excepted", tcp("198.51.100.7", 9000), "rejected with host-prohibited and logged"},
		{"an answer", with(tcp("198.51.100.7", 9000), func(p *packet.Packet) { p.State = "established" }), "admitted"},
		{"an echo request within the rate", with(tcp("198.51.100.7", 0), func(p *packet.Packet) {
			p.Protocol, p.SrcPort, p.DstPort, p.ICMPType, p.ICMPCode = "icmp", nil, nil, &eight, &zero
		}), "admitted"},
		{"the other family, which has no rules",
			with(tcp("198.51.100.7", 9000), func(p *packet.Packet) { p.Family, p.Src, p.Dst = "ipv6", six, six }), "admitted"},
		{"mail that the mail server sends", with(tcp("203.0.113.9", 25),
			func(p *packet.Packet) { p.Hook, p.In, p.Out, p.User = packet.Out, "", "eth0", "backup" }), "admitted"},
		{"and others", with(tcp("203.0.113.9", 25),
			func(p *packet.Packet) { p.Hook, p.In, p.Out, p.User = packet.Out, "", "eth0", "www" }), "dropped"},
	} {
		require.Equal(t, c.want, fares(sp, d, c.packet), "%s: %s", c.what, c.packet)
	}
	require.Equal(t, []string{"-m set --match-set friends src"},
		sp.UnknownsOf(sp.Where(d, func(o packet.Outcome) bool { return o.Verdict == packet.Admit })))
	require.Equal(t, "log in \"now\"", rs.Chains[5].Rules[3].Comment)
	require.Equal(t, "mail.save:20", rs.Chains[5].Rules[3].At)
}

// TestAGateway reads a dump with translation: a proxy that intercepts, and sources that are changed.
func TestAGateway(t *testing.T) {
	const dump = "*nat\n:PREROUTING ACCEPT [0:0]\n:POSTROUTING ACCEPT [0:0]\n-A PREROUTING -i eth0 -p tcp -m tcp --dport 80 -j REDIRECT " +
		"--to-ports 49500\n-A POSTROUTING -o wan0 -j MASQUERADE\nCOMMIT\n" +
		"*filter\n:INPUT DROP [0:0]\n:FORWARD DROP [0:0]\n-A INPUT -p tcp -m tcp --dport 49500 -j ACCEPT\n-A FORWARD -i eth0 -o wan0 -m " +
		"conntrack --ctstate NEW -j ACCEPT\nCOMMIT\n"
	sp := packet.NewSpace()
	rs, err := iptables.Read(sp, packet.IPv4, "f", dump, iptables.Host{})
	require.NoError(t, err)
	d := rs.Decision(sp)
	for _, c := range []struct {
		in, out string
		port    int
		want    string
	}{{"eth0", "wan0", 80, "admitted with redirected to port 49500"}, {"eth0", "wan0", 443, "admitted with masqueraded"},
		{"eth1", "wan0", 80, "dropped"}, {"eth0", "eth1", 80, "admitted with redirected to port 49500"}, {"eth0", "eth1", 443, "dropped"}} {
		p := tcp("10.0.0.5", c.port)
		p.Hook, p.In, p.Out = packet.Through, c.in, c.out
		require.Equal(t, c.want, fares(sp, d, p), p.String())
	}
	require.Empty(t, sp.UnknownsOf(sp.And(sp.Value(packet.State, packet.New),
		sp.Where(d, func(o packet.Outcome) bool { return o.Verdict == packet.Admit }))))
}

// TestMasks: a mask is a prefix or nothing that is read.
func TestMasks(t *testing.T) {
	for source, want := range map[string]string{
		"10.0.0.0/8": "admitted", "10.0.0.0/255.0.0.0": "admitted", "10.9.0.0/255.255.0.0": "admitted", "10.9.9.9": "admitted",
		"0.0.0.0/0.0.0.0":    "admitted",
		"11.0.0.0/255.0.0.0": "dropped", "10.0.9.0/255.0.255.0": "uncertain", "10.0.0.0/0.0.0.255": "uncertain",
		"10.0.0.0/ff00::": "uncertain", "10.0.0.0/33": "uncertain",
	} {
		sp := packet.NewSpace()
		rs, err := iptables.Read(sp, packet.IPv4, "f", "*filter\n:INPUT DROP [0:0]\n-A INPUT -s "+source+" -j ACCEPT\nCOMMIT\n",
			iptables.Host{})
		require.NoError(t, err)
		require.Equal(t, want, fares(sp, rs.Decision(sp), tcp("10.9.9.9", 80)), source)
	}
}

func TestBrokenDumps(t *testing.T) {
	for text, want := range map[string]string{
		"":                                    "line 1: there is no table: this is not what iptables-save prints",
		"*filter\n:INPUT DROP [0:0]\n":        "line 3: the dump ends in the middle of table filter",
		"*filter\n:INPUT DROP [0:0]\n-A IN":   "line 3: the dump ends in the middle of table filter",
		"*filter\n*nat\n:INPUT DROP\n":        "line 2: table nat begins before table filter has ended with COMMIT",
		"*broute\nCOMMIT\n":                   `line 1: there is no table "broute": expected raw, mangle, nat, filter or security`,
		"-A INPUT -j DROP\n":                  `line 1: expected a table, as in *filter, found "-A"`,
		"*filter\n:INPUT\nCOMMIT\n":           "line 2: expected a chain and its policy, as in :INPUT DROP [0:0]",
		"*filter\n-A INPUT -j DROP\nCOMMIT\n": "line 2: there is no chain INPUT in table filter",
		"*filter\n:INPUT DROP\n-I INPUT -j DROP\nCOMMIT\n":                       `line 3: expected a rule, as in -A INPUT …, found "-I"`,
		"*filter\n:INPUT DROP\n-A INPUT -m comment --comment \"x -j A\nCOMMIT\n": "line 3: a quoted text does not end",
	} {
		_, err := iptables.Read(packet.NewSpace(), packet.IPv4, "f", text, iptables.Host{})
		require.EqualError(t, err, want)
	}
	_, ok := iptables.IsSave("table inet t {\n}\n")
	require.False(t, ok)
	family, ok := iptables.IsSave("# Generated by ip6tables-nft-save v1.8.9 (nf_tables) on Wed Nov 25 23:16:25 2026\n*filter\n")
	require.True(t, ok)
	require.Equal(t, packet.IPv6, family)
}

// FuzzRead: whatever a dump holds, it is read or refused.
func FuzzRead(f *testing.F) {
	mail, err := os.ReadFile("testdata/mail.save")
	require.NoError(f, err)
	f.Add(string(mail))
	for _, rule := range []string{"-m mark", "-p tcp -m tcp --tcp-flags", "-s 1.2.3.4/255.0.255.0", "-m limit --limit 0/sec", "-j", "-g",
		"! !", "-m connmark --mark 5/", "-p tcp --dport 9:1"} {
		f.Add("*filter\n:INPUT DROP\n-A INPUT " + rule + "\nCOMMIT\n")
	}
	for _, set := range []string{"x hash:ip\nadd x 1.2.3.4-1.2.3.9", "x hash:net,port\nadd x 1.2.0.0/16,udp:53", "x list:set\nadd x x",
		"x bitmap:port\nadd x 5-9", "x hash:net\nadd x ::/0 nomatch"} {
		f.Add("*filter\n:INPUT DROP\n-A INPUT -m set --match-set x src,dst -j ACCEPT\nCOMMIT\ncreate " + set + "\n")
	}
	f.Fuzz(func(t *testing.T, text string) {
		sp := packet.NewSpace()
		sp.Bound(1_000_000)
		rules, saved, _ := strings.Cut(text, "create ")
		sets, _ := iptables.ReadSets("create " + saved)
		_ = packet.Try(func() {
			if rs, err := iptables.Read(sp, packet.IPv4, "f", rules, iptables.Host{Sets: sets}); err == nil &&
				strings.Count(text, "\n") < 200 {
				rs.Decision(sp)
			}
		})
	})
}

// TestSets: what a rule asks of sets is what ipset saves of them, unless the kernel
// or a rule changes it.
func TestSets(t *testing.T) {
	const saved = "create friends hash:ip family inet counters comment\nadd friends 198.51.100.7 packets 0 bytes 0 comment \"x y\"\n" +
		"create nets hash:net family inet\nadd nets 10.1.2.0/24\nadd nets 10.0.0.0/8\nadd nets 10.1.0.0/16 nomatch\n" +
		"create some hash:ip,port family inet\nadd some 198.51.100.7,tcp:80\nadd some 198.51.100.7,icmp:echo-request\n" +
		"create short hash:ip family inet timeout 60\nadd short 198.51.100.7\n" +
		"create shut hash:ip family inet timeout 60\nadd shut 198.51.100.7\n" +
		"create all list:set size 8\nadd all friends\nadd all nets\ncreate loop list:set size 8\nadd loop loop\n"
	require.True(t, iptables.IsSets(saved))
	sets, err := iptables.ReadSets(saved)
	require.NoError(t, err)
	for _, c := range []struct{ match, src, want string }{
		{"friends src", "198.51.100.7", "admitted"},
		{"friends src", "198.51.100.8", "dropped"},
		{"friends dst", "198.51.100.7", "dropped"},
		{"nets src", "10.9.9.9", "admitted"},
		{"nets src", "10.1.9.9", "dropped"},
		{"nets src", "10.1.2.9", "admitted"},
		{"all src", "10.9.9.9", "admitted"},
		{"all src", "198.51.100.7", "admitted"},
		{"some src,dst", "198.51.100.7", "admitted"},
		{"some src,dst", "198.51.100.8", "dropped"}, // whatever the set has of ICMP
		{"some src", "198.51.100.7", "uncertain"},
		{"short src", "198.51.100.7", "admitted"},  // as it was listed
		{"short src", "198.51.100.8", "uncertain"}, // who may come to be in it
		{"shut src", "198.51.100.7", "dropped"},
		{"shut src", "198.51.100.8", "admitted"}, // until he comes to be in it
		{"! shut src", "198.51.100.8", "uncertain"},
		{"loop src", "198.51.100.7", "uncertain"},
		{"filled src", "198.51.100.7", "uncertain"},
		{"friends src --packets-gt 5", "198.51.100.7", "uncertain"},
	} {
		sp := packet.NewSpace()
		rules := "-A INPUT -m set --match-set " + c.match + " -j ACCEPT\n"
		if strings.Contains(c.match, "shut") {
			rules = strings.Replace(strings.Replace(rules, "--match-set ! shut", "! --match-set shut", 1), "ACCEPT", "DROP", 1) +
				"-A INPUT -j ACCEPT\n"
		}
		rs, err := iptables.Read(sp, packet.IPv4, "f", "*filter\n:INPUT DROP [0:0]\n"+rules+
			"-A INPUT -j SET --add-set filled src\nCOMMIT\n", iptables.Host{Sets: sets})
		require.NoError(t, err)
		require.Equal(t, c.want, fares(sp, rs.Decision(sp), tcp(c.src, 80)), "%s of %s", c.match, c.src)
	}
	for text, want := range map[string]string{
		"add x 1.2.3.4\n":                        "line 1: there is no set x before its element",
		"create x hash family inet\n":            `line 1: expected a type, as in hash:ip, found "hash"`,
		"create x hash:ip,port\nadd x 1.2.3.4\n": `line 2: set x has elements of 2 parts, found "1.2.3.4"`,
		"create x hash:ip\ndestroy x\n":          `line 2: expected create or add with a set and what it is about, found "destroy"`,
	} {
		_, err := iptables.ReadSets(text)
		require.EqualError(t, err, want)
	}
}

func FuzzReadSets(f *testing.F) {
	f.Add("create a hash:ip,port family inet\nadd a 192.0.2.1,tcp:22\n# x\ncreate b list:set\nadd b a\n")
	f.Fuzz(func(t *testing.T, text string) {
		sets, err := iptables.ReadSets(text)
		if err != nil {
			return
		}
		for name := range sets {
			_, _ = iptables.Read(packet.NewSpace(), packet.IPv4, "f", "*filter\n:INPUT DROP [0:0]\n-A INPUT -m set --match-set \""+
				strings.ReplaceAll(name, `"`, "")+"\" src,dst -j ACCEPT\nCOMMIT\n", iptables.Host{Sets: sets})
		}
	})
}
