package testbed

import (
	"fmt"
	"math/rand/v2"
	"net/netip"
	"regexp"
	"slices"
	"strings"

	"yellowfence.example/yfence/core/packet"
)

func pick[T any](rng *rand.Rand, items ...T) T { return items[rng.IntN(len(items))] }

// randomMatch is one condition as people write them, for a table of a family.
func randomMatch(rng *rand.Rand, family, hook string) string {
	options := []func() string{
		func() string { return pick(rng, "tcp", "udp") + " dport " + pick(rng, ports4...) },
		func() string { return pick(rng, "tcp", "udp") + " sport " + pick(rng, ports4...) },
		func() string { return "meta l4proto { tcp, udp } th dport " + pick(rng, ports4...) },
		func() string { return "meta l4proto " + pick(rng, protocols...) },
		func() string {
			return "ct state " + pick(rng, "new", "established,related", "invalid", "{ new, untracked }", "!= invalid", "invalid,untracked")
		},
		func() string {
			return "tcp flags " + pick(rng, "syn", "& (fin|syn|rst|ack) == syn", "& (fin|syn|rst|ack) != syn", "{ syn, rst }", "! syn",
				"!= syn", "syn,rst", "== 0x4")
		},
		func() string {
			return pick(rng, "meta mark ", "meta mark ", "ct mark ") + pick(rng, "0", "1", "!= 1", "{ 1, 5-9 }", "& 0xf == 1",
				"& 0xf0 != 0x10", "> 4", "& 0xf < 5", "@marks")
		},
		func() string { return "meta time " + pick(rng, "< ", ">= ") + pick(rng, "1600000000", "7000000000") },
	}
	if hook == "" || hook == "output" || hook == "postrouting" {
		options = append(options, func() string {
			return pick(rng, "meta skuid ", "meta skgid ") + pick(rng, "0", "!= 0", "33", "!= 33", "{ 0, 34 }")
		})
	}
	if hook != "output" {
		options = append(options, func() string {
			return "iifname " + pick(rng, `"eth0"`, `"eth*"`, `!= "eth1"`, `{ "eth0", "wan0" }`, `!= { "eth0", "lo" }`)
		},
			func() string { return "iif " + pick(rng, `"lo"`, `"eth0"`, `!= "eth0"`) })
	}
	if hook != "input" {
		options = append(options, func() string { return "oifname " + pick(rng, `"eth0"`, `"eth*"`, `!= "wan0"`) })
	}
	if family != "ip6" {
		options = append(options, func() string {
			return "ip " + pick(rng, "saddr ", "daddr ") + strings.Replace(pick(rng, sources4...), "@trusted.4", "@trusted.4", 1)
		},
			func() string { return "ip protocol " + pick(rng, "tcp", "udp", "!= icmp") },
			func() string {
				return "icmp type " + pick(rng, "echo-request", "{ 3, 8 }", "!= echo-request", "destination-unreachable")
			},
			func() string { return "ip saddr . tcp dport { 10.40.3.1 . 22, 10.60.3.1 . 80, 10.40.0.0/16 . 443 }" })
	}
	if family == "inet" && rng.IntN(6) == 0 {
		return pick(rng, "ip frag-off & 0x1fff != 0", "ip frag-off & 0x1fff == 0", "ip frag-off & 0x3fff != 0", "exthdr frag exists",
			"exthdr frag missing")
	}
	if family != "ip" {
		options = append(options, func() string { return "ip6 " + pick(rng, "saddr ", "daddr ") + pick(rng, sources6...) },
			func() string { return "ip6 nexthdr " + pick(rng, "tcp", "!= tcp", "{ tcp, udp }", "icmpv6", "17") },
			func() string {
				return "icmpv6 type " + pick(rng, "echo-request", "{ 1, 2, 3, 128 }", "!= nd-neighbor-solicit")
			})
	}
	if family == "inet" {
		options = append(options, func() string { return "meta nfproto " + pick(rng, "ipv4", "ipv6", "!= ipv4") })
	}
	return pick(rng, options...)()
}

func randomRule(rng *rand.Rand, family, hook string, jumps []string) string {
	var parts []string
	for range pick(rng, 0, 1, 1, 1, 2, 2) {
		parts = append(parts, randomMatch(rng, family, hook))
	}
	if rng.IntN(8) == 0 {
		parts = append(parts, "counter")
	}
	if rng.IntN(8) == 0 {
		parts = append(parts, pick(rng, "meta mark set ", "meta mark set ", "ct mark set ")+pick(rng, "1", "5", "meta mark | 0x10",
			"meta mark & 0xf", "meta mark ^ 0x1", "meta mark & 0xf0 | 0x5", "ct mark", "ct mark & 0x7"))
		for range pick(rng, 0, 0, 1) {
			parts = append(parts, randomMatch(rng, family, hook))
		}
	}
	end := pick(rng, "accept", "accept", "accept", "drop", "return", "log", `log prefix "x: " drop`)
	if slices.Contains([]string{"input", "forward", "output"}, hook) && rng.IntN(5) == 0 {
		end = pick(rng, "reject", "reject with icmp host-unreachable", "reject with icmpv6 admin-prohibited",
			"reject with icmpx port-unreachable", "reject with tcp reset")
		if family == "ip" {
			end = pick(rng, "reject", "reject with tcp reset", "reject with icmp admin-prohibited")
		} else if family == "ip6" {
			end = pick(rng, "reject", "reject with tcp reset", "reject with icmpv6 no-route")
		}
	}
	switch n := rng.IntN(12); {
	case n < 3 && len(jumps) > 0:
		end = pick(rng, "jump ", "jump ", "goto ") + pick(rng, jumps...)
	case n == 3:
		end = "tcp dport vmap { 22 : accept, 80 : drop, 1000-2000 : return }"
	case n == 4:
		end = "meta l4proto vmap { tcp : accept, udp : drop }"
	}
	if strings.Contains(strings.Join(parts, " "), "udp ") && strings.Contains(end, "tcp") || strings.Contains(end, "icmp ") &&
		conflicts(parts) || strings.Contains(end, "icmpv6") && conflicts(parts) {
		end = "accept" // nft refuses what can never match
	}
	parts = append(parts, end)
	return strings.Join(parts, " ")
}

// conflicts says that a family or protocol is asked for already.
func conflicts(parts []string) bool {
	s := strings.Join(parts, " ")
	return strings.Contains(s, "ip") || strings.Contains(s, "icmp") || strings.Contains(s, "exthdr")
}

// compatible says that nft takes the conditions together: they ask for one family and one protocol.
func compatible(rule string) bool {
	families, protos := 0, 0
	for _, words := range [][]string{{"ip saddr", "ip daddr", "ip protocol", "icmp type", "nfproto ipv4", "frag-off"},
		{"ip6 saddr", "ip6 daddr", "ip6 nexthdr", "icmpv6 type", "nfproto ipv6", "exthdr"}, {"nfproto != ipv4"}} {
		if slices.ContainsFunc(words, func(w string) bool { return strings.Contains(rule, w) }) {
			families++
		}
	}
	for _, word := range []string{"tcp dport", "tcp sport", "tcp flags", "udp dport", "udp sport", "icmp type", "icmpv6 type",
		"meta l4proto", "ip protocol", "ip6 nexthdr", "tcp reset"} {
		protos += strings.Count(rule, word)
	}
	same := 0
	for _, word := range []string{"tcp dport", "tcp sport", "tcp flags"} {
		same += strings.Count(rule, word)
	}
	if strings.Contains(rule, "nfproto") && strings.Contains(rule, "tcp reset") {
		return false // nft 1.0.6 leaves the family out when it lists such a rule: no reader can know it
	}
	if strings.Contains(rule, "sport != 22 ") && strings.Contains(rule, "dport != 22 ") {
		return false // read as either of two meanings, which is uncertain
	}
	if strings.Contains(rule, "< ") && strings.Contains(rule, "> ") {
		return false // nft 1.0.6 lists "sport < A dport > B" as one range of the second field
	}
	return families <= 1 && (protos <= 1 || strings.Count(rule, "meta l4proto {") == 1 && protos == 1 || same == protos && protos <= 2)
}

// seldomRule is a rule of a kind that fewer people write.
func seldomRule(rng *rand.Rand, family, hook string) string {
	end := pick(rng, "", "", " accept", " drop")
	options := []string{
		"meta mark set tcp dport map { 22 : 0x1, 80 : 0x5, 1000-2000 : 0x15 }" + end,
		"ct mark set udp dport map { 53 : 0x5, 443 : 0x1 }" + end,
		"tcp dport { 22, 443 } jump {\n\t\t\tct state new accept\n\t\t\ttcp dport 443 return\n\t\t\tdrop\n\t\t}",
		"meta l4proto { tcp, udp } @th,16,16 { 80, 1500 }" + end, "tcp option maxseg size set 1360",
		"meta pkttype { broadcast, multicast } drop",
	}
	if family != "ip6" {
		options = append(options, "ip saddr @banned"+pick(rng, " drop", " log drop"), "meta mark set ip saddr map @classes"+end,
			"ip dscp set cs1"+end, "ip ttl set 64",
			"ip saddr 10.40.0.0/16 goto {\n\t\t\tudp dport 1000-2000 drop\n\t\t\tip saddr 10.40.3.1 accept\n\t\t}")
	}
	if family != "ip" {
		options = append(options, "rt type 0 drop", "exthdr hbh exists drop", "ip6 hoplimit set 64"+end)
	}
	if hook == "input" || hook == "forward" {
		options = append(options, `fib daddr oifname "wan0"`+end, `fib saddr oif "eth0"`+end, "fib daddr . iif type local"+end)
	}
	return pick(rng, options...)
}

var transports = regexp.MustCompile(`port|flags|type`)

func randomRuleset(rng *rand.Rand) string {
	var b strings.Builder
	b.WriteString("flush ruleset\n")
	families := []string{"inet"}
	open := rng.IntN(2) == 0 // everything gets out, so that every answer is heard
	if rng.IntN(2) == 0 {
		families = append(families, pick(rng, "ip", "ip6"))
	}
	for ti, family := range families {
		fmt.Fprintf(&b, "table %s t%d {\n", family, ti)
		b.WriteString("\tset marks { type mark; flags interval; elements = { 1, 4-6 } }\n")
		if family != "ip6" {
			b.WriteString("\tset trusted.4 { type ipv4_addr; flags interval; elements = { 10.40.3.0/24, 198.51.100.7, " +
				"10.60.3.1-10.60.3.5 } }\n")
			b.WriteString("\tset banned { type ipv4_addr; flags dynamic,timeout; timeout 1h; size 99; elements = { 10.40.3.77, 192.0.2.9 " +
				"timeout 2h } }\n")
			b.WriteString("\tmap classes { type ipv4_addr : mark; flags interval; elements = { 10.40.3.0/24 : 0x5, 10.60.0.0/16 : 0x1, " +
				"198.51.100.7 : 0x15 } }\n")
		}
		rules := func(hook string, n int, jumps []string) {
			for range n {
				rule := randomRule(rng, family, hook, jumps)
				for !compatible(rule) {
					rule = randomRule(rng, family, hook, jumps)
				}
				if rng.IntN(6) == 0 {
					fmt.Fprintf(&b, "\t\t%s\n", seldomRule(rng, family, hook))
				}
				fmt.Fprintf(&b, "\t\t%s\n", rule)
			}
			b.WriteString("\t}\n")
		}
		var jumps []string
		for i := range rng.IntN(4) {
			name := fmt.Sprintf("c%d", i)
			fmt.Fprintf(&b, "\tchain %s {\n", name)
			rules("", 1+rng.IntN(4), slices.Clone(jumps))
			jumps = append(jumps, name)
		}
		hooks := []string{"input", "output", "forward"}
		if rng.IntN(3) == 0 {
			hooks = append(hooks, pick(rng, "prerouting", "prerouting", "input", "forward", "postrouting", "postrouting"))
		}
		for i, hook := range hooks {
			// Priorities differ: which of two equal ones runs first is not in a listing.
			policy := pick(rng, "accept", "accept", "drop")
			if hook == "output" && open {
				policy = "accept"
			}
			fmt.Fprintf(&b, "\tchain b%d {\n\t\ttype filter hook %s priority %d; policy %s;\n", i, hook, ti*20+i, policy)
			if hook == "output" && open {
				b.WriteString("\t}\n")
				continue
			}
			rules(hook, rng.IntN(7), slices.Clone(jumps))
		}
		b.WriteString("}\n")
	}
	if rng.IntN(4) == 0 {
		b.WriteString("table inet translation {\n\tchain pre {\n\t\ttype nat hook prerouting priority -100; policy accept;\n")
		for range 1 + rng.IntN(2) {
			to := "redirect" + pick(rng, "", " to :22", " to :8080", " to :1500")
			if rng.IntN(2) == 0 {
				to = "dnat " + pick(rng, "ip to th dport map { 80 : 10.40.3.9, 1000-2000 : 10.60.3.7 }", "ip to 10.40.3.9",
					"ip to 10.60.3.7:8080", "ip to 203.0.113.1:22", "ip6 to [fd60::3:7]:1500", "ip6 to fd40::1",
					"ip to th dport map { 80 : 10.40.3.9, 443 : 10.60.0.1, 1000-2000 : 10.60.3.7 }",
					"ip to th dport map { 80 : 10.40.3.9 . 22, 1500 : 10.60.3.7 . 80 }")
			}
			from := pick(rng, "", "", `iifname "eth0" `, "ip saddr 10.40.0.0/16 ", "fib daddr type local ")
			ports := pick(rng, "80", "443", "1000-2000", "8080")
			if strings.Contains(to, "map") {
				ports = "1-60000"
			}
			if strings.Contains(to, "ip6") {
				from = ""
			}
			fmt.Fprintf(&b, "\t\t%s%s dport %s %s\n", from, pick(rng, "tcp", "udp"), ports, to)
		}
		if rng.IntN(2) == 0 {
			fmt.Fprintf(&b, "\t}\n\tchain out {\n\t\ttype nat hook output priority -100; policy accept;\n\t\t%s dport %s dnat %s\n",
				pick(rng, "tcp", "udp"), pick(rng, "80", "443", "1000-2000"),
				pick(rng, "ip to 10.40.3.9", "ip to 198.51.100.7:8080", "ip6 to fd60::3:7"))
		}
		b.WriteString("\t}\n\tchain post {\n\t\ttype nat hook postrouting priority 100; policy accept;\n")
		fmt.Fprintf(&b, "\t\t%s\n", pick(rng, `oifname "wan0" masquerade`, "ip daddr 198.51.100.0/24 masquerade",
			`meta nfproto ipv4 oifname "eth1" snat ip to 10.60.0.1`))
		b.WriteString("\t}\n}\n")
	}
	if rng.IntN(4) == 0 { // a chain that runs before connections are tracked, or fragments put together
		priority := pick(rng, -300, -450)
		fmt.Fprintf(&b, "table inet early {\n\tset marks { type mark; elements = { 1 }; }\n\tset trusted.4 { type ipv4_addr; elements = "+
			"{ 10.40.3.1 }; }\n\tchain e {\n\t\ttype filter hook prerouting priority %d; policy accept;\n", priority)
		for range 1 + rng.IntN(3) {
			rule := randomRule(rng, "inet", "prerouting", nil)
			if priority == -300 && rng.IntN(3) == 0 {
				fmt.Fprintf(&b, "\t\t%s\n", pick(rng, "udp dport 1000-2000 notrack", "ct zone set 7", `iifname "eth0" notrack`,
					"fib saddr . iif oif missing drop", "fib saddr . iif oif exists accept", "fib daddr type { local, multicast } accept",
					"fib saddr type != unicast drop"))
			}
			for !compatible(rule) || priority == -450 && transports.MatchString(rule) { // which is uncertain for fragments
				rule = randomRule(rng, "inet", "prerouting", nil)
			}
			fmt.Fprintf(&b, "\t\t%s\n", rule)
		}
		b.WriteString("\t}\n}\n")
	}
	return b.String()
}

// randomPacket is a packet that hits the generator's values often, of any state
// that the connection tracker gives; n makes it unlike all others.
func randomPacket(rng *rand.Rand, n int) packet.Packet {
	p := packet.Packet{Hook: rng.IntN(3), Family: "ipv4", State: "new"}
	six := rng.IntN(3) == 0
	if six {
		p.Family = "ipv6"
	}
	peer := func() netip.Addr { return randomPeer(rng, six) }
	host := func() netip.Addr { return Own[2*rng.IntN(3)+map[bool]int{true: 1}[six]] }
	p.Src, p.Dst = peer(), host()
	switch p.Hook {
	case packet.In:
		p.In = pick(rng, Interfaces...)
	case packet.Out:
		p.Src, p.Dst, p.User, p.Group, p.Mark = p.Dst, p.Src, "root", "root", pick[uint32](rng, 0, 0, 1, 5, 0x15)
	case packet.Through:
		p.In = pick(rng, Interfaces...)
		p.Dst = peer()
	}
	if p.Hook != packet.In {
		p.Out = behind(p.Dst)
	}
	number := pick(rng, packet.TCP, packet.TCP, packet.TCP, packet.UDP, packet.UDP, packet.ICMP, 47)
	if number == 47 && (p.Hook == packet.Out || !p.Src.Less(p.Dst) && p.Hook == packet.Through) {
		number = packet.UDP // without ports, one way would be the answer to the other
	}
	if number == packet.ICMP && six {
		number = packet.ICMPv6
	}
	p.Protocol = packet.ProtocolName(number)
	port := func(n int) *int { return &n }
	switch number {
	case packet.TCP, packet.UDP:
		p.DstPort = port(pick(rng, 22, 80, 443, 1000, 1500, 2000, 2001, 5432, 8080))
		p.SrcPort = port(20000 + n%40000)
		if number == packet.TCP && rng.IntN(5) == 0 {
			p.State, p.TCPFlags = "invalid", "rst"
		} else if p.Hook == packet.Through && rng.IntN(5) == 0 {
			p.Fragment = "later"
		} else {
			p.State, p.ConnMark = connection(rng)
		}
	case packet.ICMP:
		p.ICMPType, p.ICMPCode = port(pick(rng, 8, 8, 0, 3, 13)), port(0)
		p.State, p.ConnMark = connection(rng)
		switch {
		case *p.ICMPType == 3: // an error about a connection, or about nothing
			p.ICMPCode, p.State = port(pick(rng, 1, 3, 13)), pick(rng, "related", "related", "invalid")
		case *p.ICMPType == 13:
			p.State = "new"
		case *p.ICMPType == 0 && p.State != "established":
			p.State = "invalid" // an answer to nothing
		}
	case packet.ICMPv6:
		p.ICMPType, p.ICMPCode = port(pick(rng, 128, 128, 129, 1, 200)), port(0)
		p.State, p.ConnMark = connection(rng)
		switch {
		case *p.ICMPType == 1:
			p.ICMPCode, p.State = port(pick(rng, 0, 1, 4)), "related"
		case *p.ICMPType == 200 || *p.ICMPType == 129 && p.State != "established":
			p.State = "invalid"
		}
	}
	if p.State != "established" && p.State != "related" {
		p.ConnMark = 0
	}
	return p
}

// randomPeer is an address of somebody.
func randomPeer(rng *rand.Rand, six bool) netip.Addr {
	if six {
		return netip.MustParseAddr(pick(rng, "fd40::3:1", "fd40::3:8", "fd40::9:9", "fd60::3:1", "2001:db8:5::5", "2001:db8:1::9"))
	}
	return netip.MustParseAddr(pick(rng, "10.40.3.1", "10.40.3.77", "10.40.200.1", "10.60.3.1", "10.60.9.9", "198.51.100.7", "192.0.2.9"))
}

// connection is the state of a packet and the mark of its connection.
func connection(rng *rand.Rand) (state string, mark uint32) {
	return pick(rng, "new", "new", "established", "related"), pick[uint32](rng, 0, 0, 1, 5, 0x12)
}

// behind names the interface whose side an address lies on.
func behind(a netip.Addr) string {
	for i, prefixes := range Beyond {
		for _, s := range strings.Fields(prefixes) {
			if netip.MustParsePrefix(s).Contains(a) {
				return Interfaces[i]
			}
		}
	}
	return ""
}
