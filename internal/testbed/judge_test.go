package testbed

import (
	"flag"
	"fmt"
	"math/rand/v2"
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
		require.True(t, translated || strings.Contains(script, "zone set") ||
			len(sp.UnknownsOf(sp.Where(decision, func(o packet.Outcome) bool { return o.Verdict == packet.Admit }))) == 0,
			"uncertain about what it claims to read: %s\n%s", sp.UnknownsOf(packet.Set(decision)), script)
	}
	t.Logf("%d verdicts of the kernel, by direction and by state: %v", judged, count)
	t.Logf("packets that a rule of each kind matched: %v", hits)
	t.Log("not carried by this kernel, and so not judged: IPsec, flowtables, queues")
	for _, k := range ruleKinds {
		require.Positive(t, hits[k.name], "no packet met a rule with %s: the generator is too narrow", k.name)
	}
	for _, seen := range []string{"in admitted", "in dropped", "in rejected", "out admitted", "out dropped", "through admitted",
		"through dropped", "through rejected",
		"new admitted", "new dropped", "established admitted", "established dropped", "related admitted", "related dropped",
		"invalid admitted", "invalid dropped",
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
		if strings.HasPrefix(unknown, "whether routes lead an address of many") ||
			strings.HasPrefix(unknown, "whether it came in a frame to others") {
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
	{"a port", regexp.MustCompile(`(tcp|udp) [sd]port \d+ `)}, {"a range", regexp.MustCompile(`port \d+-\d+`)},
	{"an anonymous set", regexp.MustCompile(`port \{`)},
	{"a negation", regexp.MustCompile(`!= `)}, {"an inequality", regexp.MustCompile(`port (<|>|>=) \d`)},
	{"any transport's port", regexp.MustCompile(`th dport`)},
	{"an address", regexp.MustCompile(`ip [sd]addr \d`)}, {"a named set", regexp.MustCompile(`@trusted`)},
	{"IPv6", regexp.MustCompile(`ip6 [sd]addr`)},
	{"ICMP", regexp.MustCompile(`icmp type`)}, {"ICMPv6", regexp.MustCompile(`icmpv6 type`)},
	{"a protocol", regexp.MustCompile(`meta l4proto|ip protocol`)}, {"a family", regexp.MustCompile(`nfproto`)},
	{"a concatenation", regexp.MustCompile(`saddr \. tcp dport`)}, {"an inbound interface", regexp.MustCompile(`iif`)},
	{"an outbound interface", regexp.MustCompile(`oifname`)}, {"a pattern of names", regexp.MustCompile(`"eth\*"`)},
	{"a state", regexp.MustCompile(`ct state`)}, {"TCP flags", regexp.MustCompile(`tcp flags`)},
	{"a time", regexp.MustCompile(`meta time`)}, {"a user", regexp.MustCompile(`skuid`)}, {"a group", regexp.MustCompile(`skgid`)},
	{"a mark", regexp.MustCompile(`meta mark (0|!=|@|\{|&|>)`)}, {"a connection's mark", regexp.MustCompile(`ct mark (0|!=|&)`)},
	{"a mark that is set", regexp.MustCompile(`meta mark set`)}, {"a connection's mark that is set", regexp.MustCompile(`ct mark set`)},
	{"an IPv4 fragment", regexp.MustCompile(`frag-off`)}, {"an IPv6 fragment", regexp.MustCompile(`exthdr frag`)},
	{"a map of marks", regexp.MustCompile(`mark set .* map`)}, {"a set with timeouts", regexp.MustCompile(`@banned`)},
	{"a chain without a name", regexp.MustCompile(`(jump|goto) \{`)},
	{"a field that is written", regexp.MustCompile(`(dscp|ttl|hoplimit) set`)},
	{"a way that routes tell", regexp.MustCompile(`fib .addr oif`)},
	{"a verdict map", regexp.MustCompile(`vmap`)}, {"a jump", regexp.MustCompile(`jump `)}, {"a goto", regexp.MustCompile(`goto `)},
	{"a return", regexp.MustCompile(`return`)},
	{"a redirect", regexp.MustCompile(`redirect`)}, {"another destination", regexp.MustCompile(`dnat to \d`)},
	{"another destination of IPv6", regexp.MustCompile(`dnat to (\[?fd)`)},
	{"a map of destinations", regexp.MustCompile(`dnat to (th|tcp|udp) dport map`)}, {"no tracking", regexp.MustCompile(`notrack`)},
	{"a way back", regexp.MustCompile(`fib saddr . iif`)}, {"a kind of address", regexp.MustCompile(`fib .addr type`)},
	{"a masquerade", regexp.MustCompile(`masquerade|snat`)},
	{"a log", regexp.MustCompile(`log`)}, {"a reject", regexp.MustCompile(`reject`)}, {"a reset", regexp.MustCompile(`tcp reset`)},
	{"a drop", regexp.MustCompile(`drop`)},
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
			return &disagreement{p, fmt.Sprintf("%s %s: the kernel says %s, the decision %s", packet.Direction(p.Hook).Word(), p, got[i],
				want.Verdict)}
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
	lone := p.State == "invalid" && want.Reply == packet.TCPReset || isError(p)
	if want.Verdict == packet.Reject && (p.Hook == packet.Out || !heard || lone) {
		return got != packet.Admit
	}
	return got == want.Verdict
}

var (
	ports4 = []string{"22", "80", "443", "1000-2000", "!= 22", "{ 22, 80 }", "{ 22, 1000-1999, 5432 }", "!= { 22, 80 }", "< 1024",
		"> 1024", ">= 443"}
	sources4 = []string{"10.40.3.0/24", "10.40.0.0/16", "!= 10.60.0.0/16", "198.51.100.7", "{ 10.40.3.1, 10.60.3.0/24 }",
		"10.40.3.1-10.40.3.9", "@trusted.4", "!= @trusted.4", "0.0.0.0/0"}
	sources6  = []string{"fd40::/48", "fd40::3:1", "!= fd60::/48", "{ fd40::3:1, fd60::/64 }", "2001:db8::/32", "fd40::3:1-fd40::3:9"}
	protocols = []string{"tcp", "udp", "{ tcp, udp }", "icmp", "47", "!= tcp", "ipv6-icmp"}
)
