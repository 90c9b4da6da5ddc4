package group_test

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"net/netip"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"yellowfence.example/yfence/core/compile"
	"yellowfence.example/yfence/core/dialect/group"
	"yellowfence.example/yfence/core/fleet"
	"yellowfence.example/yfence/core/packet"
	"yellowfence.example/yfence/core/policy/policytest"
)

// A naive reader of documents, which has nothing in common with what writes them: by the text of
// the format alone, one connection at a time.
type naive struct {
	Groups []struct {
		Name              string
		Inbound, Outbound []naiveRule
	}
	Members []struct {
		Instance string
		Groups   []string
	}
	addresses map[string][]netip.Addr // of instances
}

type naiveRule struct {
	Refuses bool
	Service string // as "tcp 22-80" or "icmp 3/4"
	Peers   []any  // strings, and objects with a group
}

// A beginning is a connection that somebody begins with an instance, or an instance with him.
type beginning struct {
	outbound bool
	protocol int
	port     int // or the type of ICMP
	code     int
	peer     netip.Addr
}

func (b beginning) String() string {
	return fmt.Sprintf("%s protocol %d %d/%d with %s", map[bool]string{true: "out", false: "in"}[b.outbound], b.protocol, b.port, b.code,
		b.peer)
}

func (n *naive) admits(t *testing.T, instance string, b beginning) bool {
	for _, m := range n.Members {
		if m.Instance != instance {
			continue
		}
		for _, g := range n.Groups {
			in := false
			for _, name := range m.Groups {
				in = in || name == g.Name
			}
			rules := g.Inbound
			if b.outbound {
				rules = g.Outbound
			}
			for _, r := range rules {
				if in && n.about(t, r, b) {
					if !r.Refuses {
						return true
					}
					break
				}
			}
		}
	}
	return false
}

var naiveNumbers = map[string]int{"tcp": 6, "udp": 17, "sctp": 132, "icmp": 1, "icmpv6": 58}

// between says that a text, as 22 or 22-80, holds a number; an empty one holds all.
func between(t *testing.T, text string, n int) bool {
	if text == "" {
		return true
	}
	var lo, hi int
	if k, _ := fmt.Sscanf(text, "%d-%d", &lo, &hi); k == 1 {
		hi = lo
	} else {
		require.Equal(t, 2, k, text)
	}
	return lo <= n && n <= hi
}

func (n *naive) about(t *testing.T, r naiveRule, b beginning) bool {
	protocol, rest, _ := strings.Cut(r.Service, " ")
	ports, code, _ := strings.Cut(rest, "/")
	switch number, named := naiveNumbers[protocol]; {
	case protocol == "any":
	case named && number != b.protocol:
		return false
	case !named && !between(t, protocol, b.protocol):
		return false
	}
	if !between(t, ports, b.port) || !between(t, code, b.code) {
		return false
	}
	for _, p := range r.Peers {
		if text, is := p.(string); is {
			prefix, err := netip.ParsePrefix(text)
			require.NoError(t, err)
			if prefix.Contains(b.peer) {
				return true
			}
			continue
		}
		name := p.(map[string]any)["group"]
		for _, m := range n.Members {
			for _, of := range m.Groups {
				for _, a := range n.addresses[m.Instance] {
					if of == name && a == b.peer {
						return true
					}
				}
			}
		}
	}
	return false
}

// TestGroupsByANaiveReader: what a naive reader makes of the groups of random policies is what
// the policies decide, for both kinds of clouds, with limits that are soon reached, and roles that
// are called so that names could meet.
func TestGroupsByANaiveReader(t *testing.T) {
	called := map[string]string{"red": "site", "blue": "site-2", "green": "site-of-h2"}
	named := func(text string) string {
		return regexp.MustCompile(`\b(red|blue|green)\b`).ReplaceAllStringFunc(text, func(role string) string { return called[role] })
	}
	asked, admitted, rules := 0, 0, 0
	for seed := range policytest.Trials(16) {
		rng := rand.New(rand.NewPCG(71, seed))
		text := named(policytest.Random(rng))
		pol := policytest.Resolve(t, named(policytest.Fleet), text)
		addresses := map[string][]netip.Addr{}
		for _, h := range pol.Fleet.Hosts {
			h.Instance = &fleet.Instance{Cloud: "dunlin", ID: "i-" + h.Name}
			addresses["i-"+h.Name] = h.Own()
		}
		can := group.Abilities{RulesPerGroup: rng.IntN(6), PeersPerRule: rng.IntN(4), GroupPeers: rng.IntN(2) == 0,
			Ordered: rng.IntN(2) == 0}
		doc, _, failed := group.OfFleet(pol, "dunlin", 0, can)
		require.Empty(t, failed)
		var n naive
		require.NoError(t, json.Unmarshal([]byte(doc.String()), &n))
		n.addresses = addresses
		for _, g := range n.Groups {
			rules += len(g.Inbound) + len(g.Outbound)
			for _, side := range [][]naiveRule{g.Inbound, g.Outbound} {
				require.True(t, can.RulesPerGroup == 0 || len(side) <= can.RulesPerGroup)
				for _, r := range side {
					require.True(t, can.PeersPerRule == 0 || len(r.Peers) <= can.PeersPerRule)
					require.True(t, can.Ordered || !r.Refuses)
				}
			}
		}
		for _, h := range pol.Fleet.Hosts {
			sp := packet.NewSpace()
			d := compile.ForHost(sp, pol, h, 0).Decision(sp)
			soon := packet.All
			if turns := sp.ChangeTimes(d); len(turns) > 0 {
				soon = sp.Before(turns[0])
			}
			admits := sp.AndAll(soon, sp.Where(d, func(o packet.Outcome) bool { return o.Verdict == packet.Admit }))
			for range 150 {
				b := randomBeginning(rng, pol.Fleet.Hosts)
				if b.peer.Is4() == (b.protocol == packet.ICMPv6) || b.peer.Is6() && b.protocol == packet.ICMP || !hasFamily(h, b.peer) ||
					hasAddress(h, b.peer) {
					continue
				}
				asked++
				want := sp.And(admits, b.set(sp, h)) != packet.Empty
				if want {
					admitted++
				}
				require.Equal(t, want, n.admits(t, "i-"+h.Name, b), "seed %d host %s: %s\n%s\n%s", seed, h.Name, b, text, doc)
			}
		}
	}
	t.Logf("%d decisions, %d admitted; %d rules", asked, admitted, rules)
	require.Greater(t, admitted, asked/10)
	require.Less(t, admitted, asked*9/10)
}

func hasAddress(h *fleet.Host, a netip.Addr) bool {
	return slices.Contains(slices.Concat(h.Own(), h.Floating), a)
}

func hasFamily(h *fleet.Host, a netip.Addr) bool {
	for _, own := range h.Own() {
		if own.Is4() == a.Is4() {
			return true
		}
	}
	return false
}

// randomBeginning is one that policies of policytest are about.
func randomBeginning(rng *rand.Rand, hosts []*fleet.Host) beginning {
	pick := func(of ...string) netip.Addr { return netip.MustParseAddr(of[rng.IntN(len(of))]) }
	b := beginning{outbound: rng.IntN(2) == 0, protocol: []int{6, 6, 6, 17, 17, 1, 58, 47, 132}[rng.IntN(9)]}
	b.peer = pick("198.51.100.7", "198.51.100.9", "198.51.100.255", "198.51.101.0", "10.40.3.7", "10.40.3.9", "10.40.9.9", "10.60.3.7",
		"10.60.9.9", "10.61.0.0", "192.0.2.1", "203.0.113.9", "2001:db8:5::5", "2001:db8:6::1", "fd40::7", "fd40:0:0:1::7", "fd60::7",
		"8.8.8.8")
	if rng.IntN(3) == 0 {
		own := hosts[rng.IntN(len(hosts))].Own()
		b.peer = own[rng.IntN(len(own))]
	}
	switch b.protocol {
	case 6, 17, 132:
		b.port = []int{0, 21, 22, 23, 53, 80, 81, 123, 443, 444, 999, 1000, 1500, 2000, 2001, 65535}[rng.IntN(16)]
	case 1:
		b.port, b.code = []int{0, 3, 3, 8, 8, 11, 13}[rng.IntN(7)], rng.IntN(3)
	case 58:
		b.port, b.code = []int{1, 2, 3, 128, 129, 135, 200}[rng.IntN(7)], rng.IntN(2)
	}
	return b
}

// set is the packets that begin it with a host, whatever a group cannot tell of them.
func (b beginning) set(sp *packet.Space, h *fleet.Host) packet.Set {
	mine, peer, hook, iface := packet.Dst, packet.Src, packet.In, packet.InIface
	if b.outbound {
		mine, peer, hook, iface = packet.Src, packet.Dst, packet.Out, packet.OutIface
	}
	var own []netip.Prefix // as which others see it crosses no group
	for _, a := range slices.Concat(h.Own(), h.Floating) {
		own = append(own, netip.PrefixFrom(a, a.BitLen()))
	}
	var names []string
	for _, in := range h.Interfaces {
		names = append(names, in.Name)
	}
	s := sp.AndAll(sp.WellFormed(), sp.Value(packet.Hook, hook), sp.Value(packet.State, packet.New),
		sp.Value(packet.Fragment, packet.Whole), sp.Value(packet.Protocol, b.protocol),
		sp.Interfaces(iface, names...), sp.Addrs(mine, packet.Prefixes(own...)),
		sp.Addrs(peer, packet.Prefixes(netip.PrefixFrom(b.peer, b.peer.BitLen()))))
	switch b.protocol {
	case 6, 17, 132:
		s = sp.And(s, sp.Value(packet.DstPort, b.port))
	case 1, 58:
		s = sp.AndAll(s, sp.Value(packet.ICMPType, b.port), sp.Value(packet.ICMPCode, b.code))
	}
	return s
}

// TestAsFewRulesAsStatements: rules of ranges that overlap are hardly ever more than the statements that
// say them.
func TestAsFewRulesAsStatements(t *testing.T) {
	count := func(statements string, can group.Abilities) (n int) {
		pol := policytest.Resolve(t, fleetFile, names+statements)
		sp := packet.NewSpace()
		a := group.Of(sp, compile.ForHost(sp, pol, pol.Fleet.Host("charts-01"), 0))
		groups, err := a.Write(sp, "charts", can)
		require.NoError(t, err)
		rs, err := group.Read(sp, pol.Fleet.Host("charts-01"), pol.Fleet, &group.Document{Groups: groups})
		require.NoError(t, err)
		require.NoError(t, a.Prove(sp, rs), statements)
		for _, g := range groups {
			for _, r := range g.Inbound {
				if r.Service.Protocol == "tcp" {
					n++
				}
			}
		}
		return n
	}
	require.Equal(t, 2, count(
		"allow a: 192.0.2.1, 192.0.2.3 -> charts : tcp 80-90\nallow b: 192.0.2.2, 192.0.2.3 -> charts : tcp 85-95\n",
		group.Abilities{RulesPerGroup: 60}))
	rules, statements, over := 0, 0, 0
	for seed := range policytest.Trials(65) {
		rng := rand.New(rand.NewPCG(83, seed))
		text := ""
		n := 2 + rng.IntN(3)
		for i := range n {
			var peers []string
			for k := range 5 {
				if rng.IntN(2) == 0 || len(peers) == 0 && k == 4 {
					peers = append(peers, fmt.Sprintf("192.0.2.%d", 1+2*k))
				}
			}
			lo := 1 + rng.IntN(20)
			text += fmt.Sprintf("allow a%d: %s -> charts : tcp %d-%d\n", i, strings.Join(peers, ", "), lo, lo+1+rng.IntN(10))
		}
		got := count(text, group.Abilities{RulesPerGroup: 60, Ordered: seed%2 == 0})
		rules, statements = rules+got, statements+n
		if got > n {
			over++
		}
	}
	t.Logf("%d rules for %d statements; more than those in %d of 250", rules, statements, over)
	require.LessOrEqual(t, rules, statements)
}

// TestPacked: rules that belong together are laid so that no more groups are taken than are needed.
func TestPacked(t *testing.T) {
	text, n := "", 0
	for i, peers := range []int{3, 9, 3, 9, 5, 9, 3, 9} {
		var all []string
		for k := range peers {
			all = append(all, fmt.Sprintf("192.0.2.%d", 1+2*k+32*(i%2)))
		}
		text += fmt.Sprintf("allow a%d: %s -> charts : tcp %d\n", i, strings.Join(all, ", "), 100+10*i)
		n += (peers + 1) / 2
	}
	pol := policytest.Resolve(t, fleetFile, names+text)
	for _, ordered := range []bool{false, true} {
		sp := packet.NewSpace()
		a := group.Of(sp, compile.ForHost(sp, pol, pol.Fleet.Host("charts-01"), 0))
		can := group.Abilities{RulesPerGroup: 8, PeersPerRule: 2, Ordered: ordered}
		groups, err := a.Write(sp, "charts", can)
		require.NoError(t, err)
		all := 0
		for _, g := range groups {
			all += len(g.Inbound)
			require.LessOrEqual(t, len(g.Inbound), can.RulesPerGroup)
		}
		require.Greater(t, all, n)
		require.Len(t, groups, (all+7)/8, "%d rules", all)
		can.GroupsPerInstance = len(groups)
		_, err = a.Write(sp, "charts", can)
		require.NoError(t, err)
	}
}
