package testbed

import (
	"flag"
	"fmt"
	"math/rand/v2"
	"net/netip"
	"os"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yellowfence.example/yfence/core/dialect/nft"
	"yellowfence.example/yfence/core/kernel"
	"yellowfence.example/yfence/core/packet"
)

var (
	verdicts = flag.Int("verdicts", 3000, "how many verdicts of the kernel to compare in TestKernelAgrees")
	seed     = flag.Uint64("seed", 1, "seed of the random rulesets and packets")
)

// need skips where namespaces cannot be had; in CI that is a failure.
func need(t *testing.T) {
	t.Helper()
	if err := Available(); err != nil {
		if os.Getenv("CI") != "" {
			t.Fatal("the kernel must judge in CI: ", err)
		}
		t.Skip("NOT JUDGED BY THE KERNEL: ", err)
	}
}

// own makes a namespace's name this run's own.
func own(name string) string { return fmt.Sprintf("%s-%d", name, os.Getpid()) }

// TestKernelAgrees loads random rulesets of the kinds people write, sends
// random packets through them, and holds every verdict against the decision
// that core reads out of the kernel's own listing.
func TestKernelAgrees(t *testing.T) {
	need(t)
	const perRuleset = 60
	judged, count, hits := 0, map[string]int{}, map[string]int{}
	j, err := NewJudge(own("yf-judge"))
	require.NoError(t, err)
	defer func() { require.NoError(t, j.Close()) }()
	// A rare kind of rule may come late: it is waited for, but not without end.
	late := func() bool {
		return slices.ContainsFunc(ruleKinds, func(k ruleKind) bool { return hits[k.name] == 0 })
	}
	for round := uint64(0); judged < *verdicts || judged < 4**verdicts && late(); round++ {
		require.NoError(t, j.forget()) // connections with ports that are used again
		rng := rand.New(rand.NewPCG(*seed, round))
		script := randomRuleset(rng)
		require.NoError(t, j.Host.Load(script), "nft refuses what the generator wrote:\n%s", script)
		sp, rs := inForce(t, j)
		decision := fullyRead(sp, rs)
		listed, err := j.Host.Run(nil, "nft", pick(rng, "-a", "-s", "-y"), "list", "ruleset")
		require.NoError(t, err)
		fromText, err := nft.ReadText(sp, "listing", listed, &kernel.Names{Users: map[string]int{"backup": 34}, Routes: rs.Routes})
		require.NoError(t, err)
		translated := strings.Contains(script, "type nat") // where what is uncertain is named by its place
		require.True(t, translated || decision == fullyRead(sp, fromText), "the text form means something else:\n%s", listed)

		packets := make([]packet.Packet, perRuleset)
		for i := range packets {
			packets[i] = randomPacket(rng, int(j.tag)+i)
			if p := &packets[i]; p.Fragment != "" && p.Family == "ipv6" && !j.Tracks[packet.IPv6] {
				// The kernel then takes the whole packet for the transport header.
				*p.SrcPort, *p.DstPort, p.TCPFlags = 6<<12, 0, packet.FormatTCPFlags(int(p.Src.As16()[13-8]))
			}
		}
		if strings.Contains(script, "zone set") { // our connections are not of that zone
			packets = slices.DeleteFunc(packets, func(p packet.Packet) bool {
				return p.State == "established" || p.State == "related" || len(sp.Outcomes(sp.Only(decision, sp.Exactly(p)))) != 1
			})
		}
		if translated { // which of the host's addresses a redirect gives is uncertain, where a rule asks for it
			decision, packets = translatable(sp, decision, packets)
		}
		cover(sp, rs, packets, hits)
		if wrong := hold(t, j, sp, decision, packets, count); wrong != nil {
			t.Fatalf("seed %d round %d: %s\n%s", *seed, round, wrong.what, smallest(t, j, script, wrong.packet))
		}
		judged += len(packets)
		require.True(t, translated || strings.Contains(script, "zone set") || len(sp.UnknownsOf(sp.Where(decision, func(o packet.Outcome) bool { return o.Verdict == packet.Admit }))) == 0, "uncertain about what it claims to read: %s\n%s", sp.UnknownsOf(packet.Set(decision)), script)
	}
	t.Logf("%d verdicts of the kernel, by direction and by state: %v", judged, count)
	t.Logf("packets that a rule of each kind matched: %v", hits)
	t.Log("not carried by this kernel, and so not judged: IPsec, flowtables, queues")
	for _, k := range ruleKinds {
		require.Positive(t, hits[k.name], "no packet met a rule with %s: the generator is too narrow", k.name)
	}
	for _, seen := range []string{"in admitted", "in dropped", "in rejected", "out admitted", "out dropped", "through admitted", "through dropped", "through rejected",
		"new admitted", "new dropped", "established admitted", "established dropped", "related admitted", "related dropped", "invalid admitted", "invalid dropped",
		"a fragment admitted", "a fragment dropped"} {
		require.Positive(t, count[seen], "no packet was %s: the generator is too narrow", seen)
	}
}

// translatable is a decision with what is known of our own connections, and those
// of some packets that it is certain about and the kernel is not asked too much of.
func translatable(sp *packet.Space, decision packet.Decision, packets []packet.Packet) (packet.Decision, []packet.Packet) {
	for _, unknown := range sp.UnknownsOf(sp.Where(decision, func(o packet.Outcome) bool { return o.Verdict == packet.Admit })) {
		if strings.HasPrefix(unknown, "whether chain ") || unknown == kernel.Translated { // no: our connections were made without
			decision = sp.Answered(decision, unknown, false)
		}
	}
	return decision, slices.DeleteFunc(packets, func(p packet.Packet) bool {
		// The kernel gives no translation to what was put into its tracker as
		// announced, nor a second one to what has no ports.
		if p.State == "related" || p.SrcPort == nil && p.ICMPType == nil {
			return true
		}
		return len(sp.Outcomes(sp.Only(decision, sp.Exactly(p)))) != 1
	})
}

// inForce is what a judge's host lists.
func inForce(t *testing.T, j *Judge) (*packet.Space, *kernel.Ruleset) {
	t.Helper()
	listing, err := j.Host.ListJSON()
	require.NoError(t, err)
	sp := packet.NewSpace()
	sp.Since(time.Now().Unix())
	rs, err := nft.ReadJSON(sp, listing, &kernel.Names{Users: map[string]int{"backup": 34}, Routes: routesOf(t, j)})
	require.NoError(t, err)
	j.Tracks = rs.Tracks
	return sp, rs
}

// routesOf is what the judge's host says of its routes.
func routesOf(t *testing.T, j *Judge) *kernel.Routes {
	t.Helper()
	four, err := j.Host.Run(nil, "ip", "route", "show", "table", "all")
	require.NoError(t, err)
	six, err := j.Host.Run(nil, "ip", "-6", "route", "show", "table", "all")
	require.NoError(t, err)
	text := string(four) + string(six)
	require.True(t, kernel.IsRoutes(text))
	routes, err := kernel.ReadRoutes(text)
	require.NoError(t, err)
	return routes
}

// fullyRead is a decision for this kernel, which looks for ports in later fragments, about packets
// of ours: they come in the frames they should, and from somebody to somebody.
func fullyRead(sp *packet.Space, rs *kernel.Ruleset) packet.Decision {
	d := sp.Answered(rs.Decision(sp), kernel.LaterPorts, true)
	for _, unknown := range sp.UnknownsOf(packet.Set(d)) {
		if strings.HasPrefix(unknown, "whether routes lead an address of many") || strings.HasPrefix(unknown, "whether it came in a frame to others") {
			d = sp.Answered(d, unknown, false)
		}
	}
	return d
}

// ruleKind is a kind of rule and how its text shows it.
type ruleKind struct {
	name string
	text *regexp.Regexp
}

// ruleKinds are what a rule can be made of, as its text shows.
var ruleKinds = []ruleKind{
	{"a port", regexp.MustCompile(`(tcp|udp) [sd]port \d+ `)}, {"a range", regexp.MustCompile(`port \d+-\d+`)}, {"an anonymous set", regexp.MustCompile(`port \{`)},
	{"a negation", regexp.MustCompile(`!= `)}, {"an inequality", regexp.MustCompile(`port (<|>|>=) \d`)}, {"any transport's port", regexp.MustCompile(`th dport`)},
	{"an address", regexp.MustCompile(`ip [sd]addr \d`)}, {"a named set", regexp.MustCompile(`@trusted`)}, {"IPv6", regexp.MustCompile(`ip6 [sd]addr`)},
	{"ICMP", regexp.MustCompile(`icmp type`)}, {"ICMPv6", regexp.MustCompile(`icmpv6 type`)}, {"a protocol", regexp.MustCompile(`meta l4proto|ip protocol`)}, {"a family", regexp.MustCompile(`nfproto`)},
	{"a concatenation", regexp.MustCompile(`saddr \. tcp dport`)}, {"an inbound interface", regexp.MustCompile(`iif`)}, {"an outbound interface", regexp.MustCompile(`oifname`)}, {"a pattern of names", regexp.MustCompile(`"eth\*"`)},
	{"a state", regexp.MustCompile(`ct state`)}, {"TCP flags", regexp.MustCompile(`tcp flags`)}, {"a time", regexp.MustCompile(`meta time`)}, {"a user", regexp.MustCompile(`skuid`)}, {"a group", regexp.MustCompile(`skgid`)},
	{"a mark", regexp.MustCompile(`meta mark (0|!=|@|\{|&|>)`)}, {"a connection's mark", regexp.MustCompile(`ct mark (0|!=|&)`)},
	{"a mark that is set", regexp.MustCompile(`meta mark set`)}, {"a connection's mark that is set", regexp.MustCompile(`ct mark set`)},
	{"an IPv4 fragment", regexp.MustCompile(`frag-off`)}, {"an IPv6 fragment", regexp.MustCompile(`exthdr frag`)},
	{"a map of marks", regexp.MustCompile(`mark set .* map`)}, {"a set with timeouts", regexp.MustCompile(`@banned`)}, {"a chain without a name", regexp.MustCompile(`(jump|goto) \{`)},
	{"a field that is written", regexp.MustCompile(`(dscp|ttl|hoplimit) set`)}, {"a way that routes tell", regexp.MustCompile(`fib .addr oif`)},
	{"a verdict map", regexp.MustCompile(`vmap`)}, {"a jump", regexp.MustCompile(`jump `)}, {"a goto", regexp.MustCompile(`goto `)}, {"a return", regexp.MustCompile(`return`)},
	{"a redirect", regexp.MustCompile(`redirect`)}, {"another destination", regexp.MustCompile(`dnat to \d`)}, {"another destination of IPv6", regexp.MustCompile(`dnat to (\[?fd)`)}, {"a map of destinations", regexp.MustCompile(`dnat to (th|tcp|udp) dport map`)}, {"no tracking", regexp.MustCompile(`notrack`)}, {"a way back", regexp.MustCompile(`fib saddr . iif`)}, {"a kind of address", regexp.MustCompile(`fib .addr type`)}, {"a masquerade", regexp.MustCompile(`masquerade|snat`)},
	{"a log", regexp.MustCompile(`log`)}, {"a reject", regexp.MustCompile(`reject`)}, {"a reset", regexp.MustCompile(`tcp reset`)}, {"a drop", regexp.MustCompile(`drop`)},
}

// cover counts the packets that rules of each kind match.
func cover(sp *packet.Space, rs *kernel.Ruleset, packets []packet.Packet, hits map[string]int) {
	for _, c := range rs.Chains {
		for _, r := range c.Rules {
			n := 0
			for _, p := range packets {
				if sp.Has(r.Match, p) {
					n++
				}
			}
			for _, k := range ruleKinds {
				if k.text.MatchString(r.Text.String()) {
					hits[k.name] += n
				}
			}
		}
	}
}

// disagreement is a packet that fares otherwise in the kernel than by a decision.
type disagreement struct {
	packet packet.Packet
	what   string
}

// hold sends packets and holds the kernel's verdicts against a decision; what it
// saw it counts by direction and verdict. It gives the first disagreement.
func hold(t *testing.T, j *Judge, sp *packet.Space, decision packet.Decision, packets []packet.Packet, count map[string]int) *disagreement {
	t.Helper()
	// An answer to what is rejected is sent by the host itself: it is heard
	// for sure only where everything that is sent gets out.
	sends := sp.And(sp.WellFormed(), sp.Value(packet.Hook, packet.Out))
	heard := sp.Within(sends, sp.Where(decision, func(o packet.Outcome) bool { return o.Verdict == packet.Admit }))
	got, err := j.Verdicts(packets)
	require.NoError(t, err)
	for i, p := range packets {
		want := sp.Outcome(decision, p)
		if p.Fragment == "later" && j.Tracks[map[string]int{"ipv4": packet.IPv4, "ipv6": packet.IPv6}[p.Family]] {
			first := p // without the first piece there is nothing to put together
			first.Fragment = "first"
			if o := sp.Outcome(decision, first); o.Refused() && o.Verdict != want.Verdict {
				want = packet.Outcome{Verdict: packet.Drop}
			}
		}
		if !agree(p, want, got[i], heard) { // a frame may have been late: once more, alone
			again, err := j.Verdicts(packets[i : i+1])
			require.NoError(t, err)
			got[i] = again[0]
		}
		if !agree(p, want, got[i], heard) {
			return &disagreement{p, fmt.Sprintf("%s %s: the kernel says %s, the decision %s", packet.Direction(p.Hook).Word(), p, got[i], want.Verdict)}
		}
		count[packet.Direction(p.Hook).Word()+" "+got[i].String()]++
		if kind := p.State; got[i] != packet.Reject {
			if p.Fragment != "" {
				kind = "a fragment"
			}
			count[kind+" "+got[i].String()]++
		}
	}
	return nil
}

// smallest takes lines out of a ruleset as long as the kernel and the decision
// still disagree about a packet.
func smallest(t *testing.T, j *Judge, script string, p packet.Packet) string {
	t.Helper()
	disagree := func(script string) bool {
		if j.Host.Load(script) != nil {
			return false
		}
		sp, rs := inForce(t, j)
		sport := 20000 + int(j.tag)%40000 // a connection of its own
		if p.SrcPort != nil {
			p.SrcPort = &sport
		}
		return hold(t, j, sp, fullyRead(sp, rs), []packet.Packet{p}, map[string]int{}) != nil
	}
	lines := strings.Split(script, "\n")
	for shrunk := true; shrunk; {
		shrunk = false
		for i := len(lines) - 1; i > 0; i-- {
			if strings.HasSuffix(lines[i], "{") || strings.HasSuffix(lines[i], "}") {
				continue
			}
			fewer := slices.Concat(lines[:i], lines[i+1:])
			if disagree(strings.Join(fewer, "\n")) {
				lines, shrunk = fewer, true
			}
		}
	}
	return strings.Join(lines, "\n")
}

// agree compares a verdict with an outcome. Where the answer to what is rejected
// is not heard, or stays inside because the host rejects what it sends itself,
// it looks dropped.
func agree(p packet.Packet, want packet.Outcome, got packet.Verdict, heard bool) bool {
	// A reset is never answered with one, nor an ICMP error with any.
	lone := p.State == "invalid" && want.With == "tcp-reset" || isError(p)
	if want.Verdict == packet.Reject && (p.Hook == packet.Out || !heard || lone) {
		return got != packet.Admit
	}
	return got == want.Verdict
}

func pick[T any](rng *rand.Rand, items ...T) T { return items[rng.IntN(len(items))] }

var (
	ports4    = []string{"22", "80", "443", "1000-2000", "!= 22", "{ 22, 80 }", "{ 22, 1000-1999, 5432 }", "!= { 22, 80 }", "< 1024", "> 1024", ">= 443"}
	sources4  = []string{"10.40.3.0/24", "10.40.0.0/16", "!= 10.60.0.0/16", "198.51.100.7", "{ 10.40.3.1, 10.60.3.0/24 }", "10.40.3.1-10.40.3.9", "@trusted.4", "!= @trusted.4", "0.0.0.0/0"}
	sources6  = []string{"fd40::/48", "fd40::3:1", "!= fd60::/48", "{ fd40::3:1, fd60::/64 }", "2001:db8::/32", "fd40::3:1-fd40::3:9"}
	protocols = []string{"tcp", "udp", "{ tcp, udp }", "icmp", "47", "!= tcp", "ipv6-icmp"}
)

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
			return "tcp flags " + pick(rng, "syn", "& (fin|syn|rst|ack) == syn", "& (fin|syn|rst|ack) != syn", "{ syn, rst }", "! syn", "!= syn", "syn,rst", "== 0x4")
		},
		func() string {
			return pick(rng, "meta mark ", "meta mark ", "ct mark ") + pick(rng, "0", "1", "!= 1", "{ 1, 5-9 }", "& 0xf == 1", "& 0xf0 != 0x10", "> 4", "& 0xf < 5", "@marks")
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
		return pick(rng, "ip frag-off & 0x1fff != 0", "ip frag-off & 0x1fff == 0", "ip frag-off & 0x3fff != 0", "exthdr frag exists", "exthdr frag missing")
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
		parts = append(parts, pick(rng, "meta mark set ", "meta mark set ", "ct mark set ")+pick(rng, "1", "5", "meta mark | 0x10", "meta mark & 0xf", "meta mark ^ 0x1", "meta mark & 0xf0 | 0x5", "ct mark", "ct mark & 0x7"))
		for range pick(rng, 0, 0, 1) {
			parts = append(parts, randomMatch(rng, family, hook))
		}
	}
	end := pick(rng, "accept", "accept", "accept", "drop", "return", "log", `log prefix "x: " drop`)
	if slices.Contains([]string{"input", "forward", "output"}, hook) && rng.IntN(5) == 0 {
		end = pick(rng, "reject", "reject with icmp host-unreachable", "reject with icmpv6 admin-prohibited", "reject with icmpx port-unreachable", "reject with tcp reset")
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
	if strings.Contains(strings.Join(parts, " "), "udp ") && strings.Contains(end, "tcp") || strings.Contains(end, "icmp ") && conflicts(parts) || strings.Contains(end, "icmpv6") && conflicts(parts) {
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
	for _, words := range [][]string{{"ip saddr", "ip daddr", "ip protocol", "icmp type", "nfproto ipv4", "frag-off"}, {"ip6 saddr", "ip6 daddr", "ip6 nexthdr", "icmpv6 type", "nfproto ipv6", "exthdr"}, {"nfproto != ipv4"}} {
		if slices.ContainsFunc(words, func(w string) bool { return strings.Contains(rule, w) }) {
			families++
		}
	}
	for _, word := range []string{"tcp dport", "tcp sport", "tcp flags", "udp dport", "udp sport", "icmp type", "icmpv6 type", "meta l4proto", "ip protocol", "ip6 nexthdr", "tcp reset"} {
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
		"meta mark set tcp dport map { 22 : 0x1, 80 : 0x5, 1000-2000 : 0x15 }" + end, "ct mark set udp dport map { 53 : 0x5, 443 : 0x1 }" + end,
		"tcp dport { 22, 443 } jump {\n\t\t\tct state new accept\n\t\t\ttcp dport 443 return\n\t\t\tdrop\n\t\t}",
		"meta l4proto { tcp, udp } @th,16,16 { 80, 1500 }" + end, "tcp option maxseg size set 1360",
		"meta pkttype { broadcast, multicast } drop",
	}
	if family != "ip6" {
		options = append(options, "ip saddr @banned"+pick(rng, " drop", " log drop"), "meta mark set ip saddr map @classes"+end, "ip dscp set cs1"+end, "ip ttl set 64",
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
			b.WriteString("\tset trusted.4 { type ipv4_addr; flags interval; elements = { 10.40.3.0/24, 198.51.100.7, 10.60.3.1-10.60.3.5 } }\n")
			b.WriteString("\tset banned { type ipv4_addr; flags dynamic,timeout; timeout 1h; size 99; elements = { 10.40.3.77, 192.0.2.9 timeout 2h } }\n")
			b.WriteString("\tmap classes { type ipv4_addr : mark; flags interval; elements = { 10.40.3.0/24 : 0x5, 10.60.0.0/16 : 0x1, 198.51.100.7 : 0x15 } }\n")
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
				to = "dnat " + pick(rng, "ip to th dport map { 80 : 10.40.3.9, 1000-2000 : 10.60.3.7 }", "ip to 10.40.3.9", "ip to 10.60.3.7:8080", "ip to 203.0.113.1:22", "ip6 to [fd60::3:7]:1500", "ip6 to fd40::1", "ip to th dport map { 80 : 10.40.3.9, 443 : 10.60.0.1, 1000-2000 : 10.60.3.7 }", "ip to th dport map { 80 : 10.40.3.9 . 22, 1500 : 10.60.3.7 . 80 }")
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
			fmt.Fprintf(&b, "\t}\n\tchain out {\n\t\ttype nat hook output priority -100; policy accept;\n\t\t%s dport %s dnat %s\n", pick(rng, "tcp", "udp"), pick(rng, "80", "443", "1000-2000"), pick(rng, "ip to 10.40.3.9", "ip to 198.51.100.7:8080", "ip6 to fd60::3:7"))
		}
		b.WriteString("\t}\n\tchain post {\n\t\ttype nat hook postrouting priority 100; policy accept;\n")
		fmt.Fprintf(&b, "\t\t%s\n", pick(rng, `oifname "wan0" masquerade`, "ip daddr 198.51.100.0/24 masquerade", `meta nfproto ipv4 oifname "eth1" snat ip to 10.60.0.1`))
		b.WriteString("\t}\n}\n")
	}
	if rng.IntN(4) == 0 { // a chain that runs before connections are tracked, or fragments put together
		priority := pick(rng, -300, -450)
		fmt.Fprintf(&b, "table inet early {\n\tset marks { type mark; elements = { 1 }; }\n\tset trusted.4 { type ipv4_addr; elements = { 10.40.3.1 }; }\n\tchain e {\n\t\ttype filter hook prerouting priority %d; policy accept;\n", priority)
		for range 1 + rng.IntN(3) {
			rule := randomRule(rng, "inet", "prerouting", nil)
			if priority == -300 && rng.IntN(3) == 0 {
				fmt.Fprintf(&b, "\t\t%s\n", pick(rng, "udp dport 1000-2000 notrack", "ct zone set 7", `iifname "eth0" notrack`, "fib saddr . iif oif missing drop", "fib saddr . iif oif exists accept", "fib daddr type { local, multicast } accept", "fib saddr type != unicast drop"))
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
