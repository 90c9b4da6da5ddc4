package testbed

import (
	"fmt"
	"math/rand/v2"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"yellowfence.example/yfence/core/dialect/iptables"
	"yellowfence.example/yfence/core/kernel"
	"yellowfence.example/yfence/core/packet"
)

// iptablesKinds are what a rule of a dump can be made of.
var iptablesKinds = []struct {
	name string
	text *regexp.Regexp
}{
	{"a source", regexp.MustCompile(`-s \d|-s [0-9a-f]+:`)}, {"a destination", regexp.MustCompile(`-d `)},
	{"a negation", regexp.MustCompile(`! -|! --`)}, {"an interface", regexp.MustCompile(`-[io] \w+ `)},
	{"a pattern of names", regexp.MustCompile(`eth\+`)}, {"a protocol", regexp.MustCompile(`-p `)},
	{"a port", regexp.MustCompile(`--[sd]port \d`)}, {"several ports", regexp.MustCompile(`multiport`)},
	{"TCP flags", regexp.MustCompile(`--tcp-flags`)}, {"ICMP", regexp.MustCompile(`--icmp-type`)},
	{"ICMPv6", regexp.MustCompile(`--icmpv6-type`)}, {"a state", regexp.MustCompile(`--(ct)?state`)},
	{"a mark", regexp.MustCompile(`-m mark`)}, {"a connection's mark", regexp.MustCompile(`-m connmark`)},
	{"a user", regexp.MustCompile(`--uid-owner`)}, {"a group", regexp.MustCompile(`--gid-owner`)},
	{"a set", regexp.MustCompile(`--match-set`)}, {"a range", regexp.MustCompile(`iprange`)}, {"a fragment", regexp.MustCompile(`-f `)},
	{"a comment", regexp.MustCompile(`--comment`)}, {"a jump", regexp.MustCompile(`-j c\d`)}, {"a goto", regexp.MustCompile(`-g c\d`)},
	{"a return", regexp.MustCompile(`-j RETURN`)}, {"a reject", regexp.MustCompile(`-j REJECT`)}, {"a log", regexp.MustCompile(`-j LOG`)},
	{"a mark that is set", regexp.MustCompile(`-j MARK`)},
	{"another destination", regexp.MustCompile(`-j DNAT`)}, {"a redirect", regexp.MustCompile(`-j REDIRECT`)},
	{"another source", regexp.MustCompile(`-j MASQUERADE`)}, {"a kind of address", regexp.MustCompile(`-m addrtype`)},
	{"no tracking", regexp.MustCompile(`--notrack`)}, {"a way back", regexp.MustCompile(`-m rpfilter`)},
	{"a connection's mark that is set", regexp.MustCompile(`-j CONNMARK`)},
}

// TestIptablesInTheKernel judges dumps of iptables-save and ip6tables-save, of the
// legacy and the nft-backed tools, as TestKernelAgrees judges those of nft.
func TestIptablesInTheKernel(t *testing.T) {
	need(t)
	// A kernel whose tables have once translated has these for good: so two hosts.
	var judges [2]*Judge
	for i := range judges {
		j, err := NewJudge(own(fmt.Sprintf("yf-ipt%d", i)))
		require.NoError(t, err)
		defer func() { require.NoError(t, j.Close()) }()
		legacyTables(t, j.Host)
		_, err = j.Host.Run([]byte(kernelSets), "ipset", "restore")
		require.NoError(t, err)
		judges[i] = j
	}
	saved, err := judges[0].Host.Run(nil, "ipset", "save")
	require.NoError(t, err)
	require.True(t, iptables.IsSets(string(saved)))
	sets, err := iptables.ReadSets(string(saved))
	require.NoError(t, err)
	routes := routesOf(t, judges[0])
	const perRuleset = 50
	count, hits, judged := map[string]int{}, map[string]int{}, 0
	for round := 0; judged < max(2000, *verdicts/5); round++ {
		rng := rand.New(rand.NewPCG(*seed+31, uint64(round)))
		nat := round%6 >= 4
		j := judges[map[bool]int{true: 1}[nat]]
		tool := []string{"legacy", "nft"}[round%2]
		sp := packet.NewSpace()
		rs, dumps := &kernel.Ruleset{}, ""
		if _, err := j.Host.Run(nil, "nft", "flush", "ruleset"); err != nil {
			t.Fatal(err)
		}
		for family, prefix := range []string{packet.IPv4: "iptables", packet.IPv6: "ip6tables"} {
			if round%2 == 1 { // what the other tool left
				_, err := j.Host.Run([]byte(emptyTables+map[bool]string{true: "*nat\nCOMMIT\n"}[nat]), prefix+"-legacy-restore")
				require.NoError(t, err)
			}
			script := randomTables(rng, family, nat)
			_, err := j.Host.Run([]byte(script), prefix+"-"+tool+"-restore")
			require.NoError(t, err, "%s refuses what the generator wrote:\n%s", prefix, script)
			dump, err := j.Host.Run(nil, prefix+"-"+tool+"-save", []string{"-c", "-t"}[:1]...)
			require.NoError(t, err)
			detected, ok := iptables.IsSave(string(dump))
			require.True(t, ok)
			require.Equal(t, family, detected)
			read, err := iptables.Read(sp, family, "dump", string(dump),
				iptables.Host{Users: map[int]string{34: "backup"}, Groups: map[int]string{}, Sets: sets, Routes: routes})
			require.NoError(t, err)
			rs.Add(read)
			dumps += string(dump)
		}
		j.Tracks = rs.Tracks
		require.NoError(t, j.forget())
		packets := make([]packet.Packet, perRuleset)
		for i := range packets {
			packets[i] = randomPacket(rng, int(j.tag)+i)
			if p := &packets[i]; tool == "nft" && !j.Tracks[map[string]int{"ipv4": packet.IPv4, "ipv6": packet.IPv6}[p.Family]] {
				p.Fragment = "" // which is uncertain
			}
		}
		for _, c := range rs.Chains {
			for _, r := range c.Rules {
				for _, k := range iptablesKinds {
					if !k.text.MatchString(r.Text.String() + " ") {
						continue
					}
					for _, p := range packets {
						if sp.Has(r.Match, p) {
							hits[k.name]++
						}
					}
				}
			}
		}
		decision := sp.Answered(rs.Decision(sp), kernel.LaterPorts, false)
		if nat {
			decision, packets = translatable(sp, decision, packets)
		}
		if wrong := hold(t, j, sp, decision, packets, count); wrong != nil {
			t.Fatalf("seed %d round %d (%s): %s\n%s", *seed, round, tool, wrong.what, dumps)
		}
		judged += len(packets)
		require.True(t, nat || len(sp.UnknownsOf(sp.Where(decision,
			func(o packet.Outcome) bool { return o.Verdict == packet.Admit }))) == 0, "uncertain about what it claims to read:\n%s", dumps)
	}
	t.Logf("%d verdicts of the kernel: %v", judged, count)
	t.Logf("packets that a rule of each kind matched: %v", hits)
	for _, k := range iptablesKinds {
		require.Positive(t, hits[k.name], "no packet met a rule with %s: the generator is too narrow", k.name)
	}
}

// kernelSets are of the types that are read, one of each family where it has one.
const kernelSets = "create ips4 hash:ip counters comment\nadd ips4 10.40.3.1 comment \"x y\"\nadd ips4 198.51.100.7\n" +
	"create ips6 hash:ip family inet6\nadd ips6 fd40::3:1\n" +
	"create nets4 hash:net\nadd nets4 10.0.0.0/8\nadd nets4 10.60.0.0/16 nomatch\nadd nets4 10.60.3.0/24\n" +
	"create nets6 hash:net family inet6\nadd nets6 fd00::/8\nadd nets6 fd60::/64 nomatch\n" +
	"create ipport4 hash:ip,port\nadd ipport4 10.40.3.1,tcp:22\nadd ipport4 10.40.3.77,80\nadd ipport4 198.51.100.7,udp:1000-1010\n" +
	"create ipport6 hash:ip,port family inet6\nadd ipport6 fd40::3:1,tcp:22\nadd ipport6 2001:db8:5::5,udp:80\n" +
	"create netport4 hash:net,port\nadd netport4 10.40.0.0/16,udp:1500\nadd netport4 10.60.0.0/16,tcp:443\n" +
	"create netif4 hash:net,iface\nadd netif4 10.40.0.0/16,eth0\nadd netif4 10.60.0.0/16,eth1\n" +
	"create ports bitmap:port range 0-2047\nadd ports 20-22\nadd ports 1000-1500\n" +
	"create both4 list:set\nadd both4 ips4\nadd both4 nets4\n"

const emptyTables = "*raw\nCOMMIT\n*mangle\n:PREROUTING ACCEPT\n:INPUT ACCEPT\n:FORWARD ACCEPT\n:OUTPUT ACCEPT\n:POSTROUTING " +
	"ACCEPT\nCOMMIT\n*filter\n:INPUT ACCEPT\n:FORWARD ACCEPT\n:OUTPUT ACCEPT\nCOMMIT\n"

// randomTables is a script for a -restore tool as people write them.
func randomTables(rng *rand.Rand, family int, nat bool) string {
	var b strings.Builder
	b.WriteString("*raw\n")
	if rng.IntN(4) == 0 {
		fmt.Fprintf(&b, "-A PREROUTING %s\n",
			pick(rng, tablesMatch(rng, family, "PREROUTING")+" -j CT --notrack", "-m rpfilter -j ACCEPT", "-m rpfilter --invert -j DROP"))
	}
	if nat {
		b.WriteString("COMMIT\n*nat\n")
		targets := []string{"10.40.3.9", "10.60.3.7:8080", "203.0.113.1:22", "198.51.100.7:1500"}
		if family == packet.IPv6 {
			targets = []string{"fd40::3:9", "[fd60::3:7]:8080", "[2001:db8:1::1]:22"}
		}
		for range 1 + rng.IntN(3) {
			chain := pick(rng, "PREROUTING", "PREROUTING", "OUTPUT")
			ends := []string{"DNAT --to-destination " + pick(rng, targets...), "DNAT --to-destination " + pick(rng, targets...),
				"REDIRECT --to-ports 22", "RETURN"}
			if chain == "OUTPUT" { // what the host sends to itself is another packet when it arrives
				ends = []string{"DNAT --to-destination " + pick(rng, targets[:2]...), "RETURN"}
			}
			fmt.Fprintf(&b, "-A %s -p %s --dport %s %s-j %s\n", chain, pick(rng, "tcp", "udp"),
				pick(rng, "80", "443", "1000:2000", "1:60000"),
				pick(rng, "", "-m addrtype --dst-type LOCAL ", "-m addrtype ! --dst-type LOCAL,MULTICAST "), pick(rng, ends...))
		}
		fmt.Fprintf(&b, "-A POSTROUTING %s -j MASQUERADE\n", pick(rng, "-o wan0", "-o eth0", "-p tcp"))
	}
	b.WriteString("COMMIT\n*mangle\n:PREROUTING ACCEPT\n:INPUT ACCEPT\n:FORWARD ACCEPT\n:OUTPUT ACCEPT\n:POSTROUTING ACCEPT\n")
	for range rng.IntN(3) {
		fmt.Fprintf(&b, "-A PREROUTING %s -j %s\n", tablesMatch(rng, family, "PREROUTING"),
			pick(rng, "MARK --set-mark 5", "MARK --set-xmark 0x10/0xf0", "CONNMARK --restore-mark", "CONNMARK --save-mark",
				"CONNMARK --set-mark 1", "MARK --and-mark 0xf"))
	}
	open := rng.IntN(2) == 0
	b.WriteString("COMMIT\n*filter\n")
	fmt.Fprintf(&b, ":INPUT %s\n:FORWARD %s\n:OUTPUT %s\n", pick(rng, "ACCEPT", "DROP"), pick(rng, "ACCEPT", "ACCEPT", "DROP"),
		map[bool]string{true: "ACCEPT", false: pick(rng, "ACCEPT", "DROP")}[open])
	jumps := rng.IntN(3)
	for i := range jumps {
		fmt.Fprintf(&b, ":c%d -\n", i)
	}
	rules := func(chain string, n, below int) {
		for range n {
			end := "-j " + pick(rng, "ACCEPT", "ACCEPT", "ACCEPT", "DROP", "RETURN", `LOG --log-prefix "x: "`, "REJECT",
				"MARK --set-mark 5", "CONNMARK --set-mark 5")
			if below > 0 && rng.IntN(3) == 0 {
				end = pick(rng, "-j ", "-j ", "-g ") + fmt.Sprintf("c%d", rng.IntN(below))
			}
			match := tablesMatch(rng, family, chain)
			if strings.Contains(match, "-p tcp ") && !strings.Contains(match, "! -p") && rng.IntN(8) == 0 {
				end = "-j REJECT --reject-with tcp-reset"
			}
			if strings.Contains(end, "MARK") {
				end = "-j ACCEPT" // only mangle may set them
			}
			fmt.Fprintf(&b, "-A %s %s %s\n", chain, match, end)
		}
	}
	for i := range jumps {
		rules(fmt.Sprintf("c%d", i), 1+rng.IntN(4), i)
	}
	rules("INPUT", rng.IntN(7), jumps)
	rules("FORWARD", rng.IntN(7), jumps)
	if !open {
		rules("OUTPUT", rng.IntN(7), jumps)
	}
	b.WriteString("COMMIT\n")
	return b.String()
}

// tablesMatch is up to three matches that the tools take together.
func tablesMatch(rng *rand.Rand, family int, chain string) string {
	not := func() string { return pick(rng, "", "", "! ") }
	four := family == packet.IPv4
	options := []func() string{
		func() string {
			if four {
				return not() + pick(rng, "-s ", "-d ") + pick(rng, "10.40.3.0/24", "10.40.0.0/16", "198.51.100.7",
					"10.60.0.0/255.255.0.0", "203.0.113.0/24")
			}
			return not() + pick(rng, "-s ", "-d ") + pick(rng, "fd40::/48", "fd40::3:1", "fd60::/64", "2001:db8::/32")
		},
		func() string {
			if four {
				return "-m iprange " + not() + pick(rng, "--src-range 10.40.3.1-10.40.3.9", "--dst-range 10.0.0.0-10.60.3.5")
			}
			return "-m iprange " + not() + "--src-range fd40::3:1-fd40::3:9"
		},
		func() string {
			return "-m " + pick(rng, "conntrack "+not()+"--ctstate ", "state "+not()+"--state ") + pick(rng, "NEW", "ESTABLISHED,RELATED",
				"INVALID", "RELATED", "UNTRACKED,NEW")
		},
		func() string { return "-m mark " + not() + "--mark " + pick(rng, "5", "0x1/0xf", "0x10/0xf0", "0") },
		func() string { return "-m connmark " + not() + "--mark " + pick(rng, "5", "0x1/0xf", "0") },
		func() string {
			name := pick(rng, "ips4 src", "ips4 dst", "nets4 src", "nets4 dst", "ipport4 src,dst", "ipport4 dst,dst", "netport4 src,dst",
				"ports dst", "both4 src", "netif4 src,src")
			if !four {
				name = pick(rng, "ips6 src", "nets6 src", "nets6 dst", "ipport6 src,dst", "ports dst")
			}
			if chain == "OUTPUT" && strings.HasPrefix(name, "netif") {
				name = "nets4 src"
			}
			return "-m set " + not() + "--match-set " + name
		},
		func() string { return `-m comment --comment "a \"comment\""` },
	}
	if chain == "INPUT" || chain == "FORWARD" || chain == "PREROUTING" {
		options = append(options, func() string { return not() + "-i " + pick(rng, "eth0", "eth+", "wan0", "lo") })
	}
	if chain == "OUTPUT" || chain == "FORWARD" {
		options = append(options, func() string { return not() + "-o " + pick(rng, "eth0", "eth+", "wan0") })
	}
	if chain == "OUTPUT" {
		options = append(options, func() string {
			return "-m owner " + not() + pick(rng, "--uid-owner ", "--gid-owner ") + pick(rng, "0", "33", "34")
		})
	}
	if four && chain == "FORWARD" {
		options = append(options, func() string { return not() + "-f" })
	}
	var parts []string
	switch ports := pick(rng, "22", "80", "1000:2000", ":1024", "443"); rng.IntN(8) {
	case 0, 1:
		protocol := pick(rng, "tcp", "udp")
		parts = append(parts, fmt.Sprintf("-p %s -m %[1]s %s%s %s", protocol, not(), pick(rng, "--dport", "--dport", "--sport"), ports))
	case 2:
		parts = append(parts, "-p "+pick(rng, "tcp", "udp")+" -m multiport "+not()+pick(rng, "--dports", "--ports")+" 22,1000:1999,5432")
	case 3:
		parts = append(parts, "-p tcp -m tcp "+
			not()+pick(rng, "--syn", "--tcp-flags SYN,ACK SYN", "--tcp-flags ALL NONE", "--tcp-flags RST RST"))
	case 4:
		if four {
			parts = append(parts, "-p icmp -m icmp "+not()+"--icmp-type "+pick(rng, "8", "3", "3/1", "echo-reply", "any"))
		} else {
			parts = append(parts, "-p ipv6-icmp -m icmp6 "+not()+"--icmpv6-type "+pick(rng, "128", "1", "1/4", "129"))
		}
	case 5:
		parts = append(parts, not()+"-p "+pick(rng, "tcp", "udp", "47"))
	}
	used := map[string]bool{}
	for range rng.IntN(3) {
		option := pick(rng, options...)()
		kind := strings.Fields(strings.TrimPrefix(option, "! "))[0]
		if strings.HasPrefix(option, "-m ") {
			kind = strings.Fields(option)[1]
		}
		if used[kind] || used["conntrack"] && kind == "state" || used["state"] && kind == "conntrack" || strings.Contains(option, "any") {
			continue
		}
		used[kind] = true
		parts = append(parts, option)
	}
	match := strings.Join(parts, " ")
	if strings.Contains(match, "! --icmp-type any") {
		return ""
	}
	if strings.Contains(" "+match+" ", " -f ") && strings.Contains(match, "-m ") && !strings.Contains(match, "! -f") {
		return "-f" // the tool takes no ports with it
	}
	return match
}
