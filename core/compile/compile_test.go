package compile_test

import (
	"math/rand/v2"
	"net/netip"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"yellowfence.example/yfence/core/compile"
	"yellowfence.example/yfence/core/packet"
	"yellowfence.example/yfence/core/policy/policytest"
)

const head = `policy p language 1
network office = 198.51.100.0/24, 2001:db8:5::/48
network bad = 198.51.100.64/26
segment quay = 10.40.0.0/16, fd40::/48 local
segment hill = 10.60.0.0/16, fd60::/48
`

// now is when the tests play: 2026-11-25.
const now = 1795564800

const plain = head + "role red\nrole blue\nrole green\n"

// at makes a packet of "tcp SRC -> DST : PORT" that comes in by, or leaves by, an interface.
func at(t *testing.T, hook int, iface, text, state string) packet.Packet {
	t.Helper()
	f := strings.Fields(text) // tcp SRC -> DST : PORT
	p := packet.Packet{Hook: hook, Protocol: f[0], Src: netip.MustParseAddr(f[1]), Dst: netip.MustParseAddr(f[3]), State: state, Family: "ipv4"}
	if p.Src.Is6() {
		p.Family = "ipv6"
	}
	number := func(s string) *int {
		n := 0
		for _, c := range s {
			n = n*10 + int(c-'0')
		}
		return &n
	}
	if strings.HasPrefix(p.Protocol, "icmp") {
		p.ICMPType, p.ICMPCode = number(f[5]), number("0")
	} else {
		p.SrcPort, p.DstPort = number("50000"), number(f[5])
	}
	if hook == packet.Out {
		p.Out = iface
	} else {
		p.In = iface
	}
	if hook == packet.Through {
		p.Out = "wan0"
	}
	return p
}

// TestWhatItMeans goes through the sentences of the language reference, with a packet for each.
func TestWhatItMeans(t *testing.T) {
	const in, out, through = packet.In, packet.Out, packet.Through
	for _, c := range []struct {
		what, policy, host string
		hook               int
		iface, packet      string
		want               string
	}{
		{"inbound is closed unless said", plain, "h1", in, "wan0", "tcp 198.51.100.9 -> 203.0.113.1 : 22", "dropped by stance inbound closed"},
		{"outbound is open unless said", plain, "h1", out, "wan0", "tcp 203.0.113.1 -> 198.51.100.9 : 22", "admitted by stance outbound open"},
		{"what is forwarded is untouched unless said", plain, "h1", through, "eth0", "tcp 10.40.3.1 -> 198.51.100.9 : 22", "admitted by stance unfiltered"},
		{"closed to what is forwarded", head + "role red { forward closed }\nrole blue\nrole green\n", "h1", through, "eth0", "tcp 10.40.3.1 -> 198.51.100.9 : 22", "dropped by stance forward closed"},
		{"refuse by reject answers TCP with a reset", head + "role red { refuse by reject }\nrole blue\nrole green\n", "h1", in, "wan0", "tcp 198.51.100.9 -> 203.0.113.1 : 22", "rejected with tcp-reset by stance inbound closed"},
		{"and the rest with port unreachable", head + "role red { refuse by reject }\nrole blue\nrole green\n", "h1", in, "wan0", "udp 198.51.100.9 -> 203.0.113.1 : 22", "rejected with port-unreachable by stance inbound closed"},

		{"log refused: what the stance refuses is logged", head + "role red { log refused }\nrole blue\nrole green\n", "h1", in, "wan0", "tcp 198.51.100.9 -> 203.0.113.1 : 22", "dropped and logged by stance inbound closed"},
		{"and what it admits is not", head + "role red { log refused }\nrole blue\nrole green\n", "h1", out, "wan0", "tcp 203.0.113.1 -> 198.51.100.9 : 22", "admitted by stance outbound open"},
		{"the right side gets it inbound", plain + "allow a: office -> red : ssh\n", "h1", in, "wan0", "tcp 198.51.100.9 -> 203.0.113.1 : 22", "admitted by allow a"},
		{"in both families", plain + "allow a: office -> red : ssh\n", "h1", in, "wan0", "tcp 2001:db8:5::9 -> 2001:db8:1::1 : 22", "admitted by allow a"},
		{"at whatever address", plain + "allow a: office -> red : ssh\n", "h1", in, "eth1", "tcp 198.51.100.9 -> 192.0.2.200 : 22", "admitted by allow a"},
		{"and nobody else", plain + "allow a: office -> red : ssh\n", "h3", in, "eth0", "tcp 198.51.100.9 -> 10.60.3.1 : 22", "dropped by stance inbound closed"},
		{"the left side gets it outbound", head + "role red { outbound closed }\nrole blue\nrole green\nallow a: red -> office : ssh\n", "h1", out, "wan0", "tcp 203.0.113.1 -> 198.51.100.9 : 22", "admitted by allow a"},
		{"which opens nothing inbound", plain + "allow a: fleet -> everywhere : https\n", "h1", in, "wan0", "tcp 198.51.100.9 -> 203.0.113.1 : 443", "dropped by stance inbound closed"},
		{"a host is known by all its addresses", plain + "allow a: blue -> red : ssh\n", "h1", in, "eth1", "tcp 10.60.3.1 -> 10.60.0.1 : 22", "admitted by allow a"},
		{"those it is seen as included", plain + "allow a: host h2 -> green : ssh\n", "h4", in, "wan0", "tcp 198.51.100.7 -> 203.0.113.9 : 22", "admitted by allow a"},

		{"on a segment: over its interface, between its addresses", plain + "allow a: everywhere -> red : ssh on hill\n", "h1", in, "eth1", "tcp 10.60.9.9 -> 10.60.0.1 : 22", "admitted by allow a"},
		{"not over another interface", plain + "allow a: everywhere -> red : ssh on hill\n", "h1", in, "wan0", "tcp 10.60.9.9 -> 10.60.0.1 : 22", "dropped by stance inbound closed"},
		{"not from elsewhere", plain + "allow a: everywhere -> red : ssh on hill\n", "h1", in, "eth1", "tcp 198.51.100.9 -> 10.60.0.1 : 22", "dropped by stance inbound closed"},
		{"not to another address", plain + "allow a: everywhere -> red : ssh on hill\n", "h1", in, "eth1", "tcp 10.60.9.9 -> 203.0.113.1 : 22", "dropped by stance inbound closed"},
		{"a host that is not on it has no such rule", plain + "allow a: everywhere -> green : ssh on hill\n", "h4", in, "wan0", "tcp 10.60.9.9 -> 203.0.113.9 : 22", "dropped by stance inbound closed"},

		{"arriving: over its interface, whatever the addresses", plain + "allow a: everywhere -> red : ssh arriving hill\n", "h1", in, "eth1", "tcp 198.51.100.9 -> 203.0.113.1 : 22", "admitted by allow a"},
		{"not over another interface", plain + "allow a: everywhere -> red : ssh arriving hill\n", "h1", in, "wan0", "tcp 10.60.9.9 -> 203.0.113.1 : 22", "dropped by stance inbound closed"},
		{"a peer at a place: only the addresses that lie there", plain + "allow a: red at hill -> green : ssh\n", "h4", in, "wan0", "tcp 10.60.0.1 -> 203.0.113.9 : 22", "admitted by allow a"},
		{"not its others", plain + "allow a: red at hill -> green : ssh\n", "h4", in, "wan0", "tcp 203.0.113.1 -> 203.0.113.9 : 22", "dropped by stance inbound closed"},
		{"delivered to the address that is named", plain + "allow a: office -> red at hill : ssh\n", "h1", in, "wan0", "tcp 198.51.100.9 -> 10.60.0.1 : 22", "admitted by allow a"},
		{"and to no other", plain + "allow a: office -> red at hill : ssh\n", "h1", in, "wan0", "tcp 198.51.100.9 -> 203.0.113.1 : 22", "dropped by stance inbound closed"},
		{"at a role: who is of both", plain + "allow a: red at blue -> green : ssh\n", "h4", in, "wan0", "tcp 10.40.3.1 -> 203.0.113.9 : 22", "admitted by allow a"},
		{"and nobody else", plain + "allow a: red at blue -> green : ssh\n", "h4", in, "wan0", "tcp 10.40.0.1 -> 203.0.113.9 : 22", "dropped by stance inbound closed"},
		{"within: both ends are of the one", plain + "allow a: fleet -> fleet : ssh within blue, green\n", "h3", in, "eth0", "tcp 10.40.3.1 -> 10.60.3.1 : 22", "admitted by allow a"},
		{"or of the other", plain + "allow a: fleet -> fleet : ssh within blue, green\n", "h4", in, "wan0", "tcp 203.0.113.9 -> 203.0.113.9 : 22", "admitted by allow a"},
		{"and not one of each", plain + "allow a: fleet -> fleet : ssh within blue, green\n", "h4", in, "wan0", "tcp 10.60.3.1 -> 203.0.113.9 : 22", "dropped by stance inbound closed"},
		{"nor of none", plain + "allow a: fleet -> fleet : ssh within blue, green\n", "h1", in, "eth0", "tcp 10.60.3.1 -> 10.40.0.1 : 22", "dropped by stance inbound closed"},
		{"on two segments: over either", plain + "allow a: everywhere -> red : ssh on quay, hill\n", "h1", in, "eth1", "tcp 10.60.9.9 -> 10.60.0.1 : 22", "admitted by allow a"},
		{"and not from one to the other", plain + "allow a: everywhere -> red : ssh on quay, hill\n", "h1", in, "eth0", "tcp 10.60.9.9 -> 10.40.0.1 : 22", "dropped by stance inbound closed"},
		{"arriving by either, whatever the addresses", plain + "allow a: everywhere -> red : ssh arriving quay, hill\n", "h1", in, "eth1", "tcp 198.51.100.9 -> 10.40.0.1 : 22", "admitted by allow a"},
		{"strangers are on shared segments", strings.Replace(plain, "fd60::/48", "fd60::/48 shared", 1) + "block s: strangers -> red : ssh\nallow a: everywhere -> red : ssh\n", "h1", in, "eth1", "tcp 10.60.9.9 -> 10.60.0.1 : 22", "dropped by block s"},
		{"not on those that are ours alone", plain + "block s: strangers -> red : ssh\nallow a: everywhere -> red : ssh\n", "h1", in, "eth1", "tcp 10.60.9.9 -> 10.60.0.1 : 22", "admitted by allow a"},
		{"our hosts are none, wherever they are seen from", plain + "block s: strangers -> red : ssh\nallow a: everywhere -> red : ssh\n", "h1", in, "wan0", "tcp 198.51.100.7 -> 203.0.113.1 : 22", "admitted by allow a"},
		{"no rule decides who is one: a network that only blocks name is none", plain + "network foes = 192.0.2.0/24\nblock f: foes -> green : ssh\nblock s: strangers -> red : ssh\nallow a: everywhere -> red : ssh\n", "h1", in, "wan0", "tcp 192.0.2.1 -> 203.0.113.1 : 22", "admitted by allow a"},
		{"unless it is declared shared", plain + "network foes = 192.0.2.0/24 shared\nblock f: foes -> green : ssh\nblock s: strangers -> red : ssh\nallow a: everywhere -> red : ssh\n", "h1", in, "wan0", "tcp 192.0.2.1 -> 203.0.113.1 : 22", "dropped by block s"},
		{"what is shared stays so in what is made of it", plain + "network wifi = 192.0.2.0/24 shared\nnetwork campus = wifi, office\nblock s: strangers -> red : ssh\nallow a: everywhere -> red : ssh\n", "h1", in, "wan0", "tcp 192.0.2.1 -> 203.0.113.1 : 22", "dropped by block s"},
		{"and what is not does not", plain + "network wifi = 192.0.2.0/24 shared\nnetwork campus = wifi, office\nblock s: strangers -> red : ssh\nallow a: everywhere -> red : ssh\n", "h1", in, "wan0", "tcp 198.51.100.9 -> 203.0.113.1 : 22", "admitted by allow a"},

		{"except takes addresses away from a host on the right", plain + "allow a: office -> red except hill : https\n", "h1", in, "wan0", "tcp 198.51.100.9 -> 10.60.0.1 : 443", "dropped by stance inbound closed"},
		{"and leaves its others", plain + "allow a: office -> red except hill : https\n", "h1", in, "wan0", "tcp 198.51.100.9 -> 203.0.113.1 : 443", "admitted by allow a"},
		{"and then it is delivered to those alone", plain + "allow a: office -> red except hill : https\n", "h1", in, "wan0", "tcp 198.51.100.9 -> 192.0.2.200 : 443", "dropped by stance inbound closed"},
		{"where it takes none away, to whatever address", plain + "allow a: office -> red except 192.0.2.0/25 : https\n", "h1", in, "wan0", "tcp 198.51.100.9 -> 192.0.2.200 : 443", "admitted by allow a"},
		{"except takes addresses away from a host on the left", head + "role red { outbound closed }\nrole blue\nrole green\nallow a: red except hill -> office : https\n", "h1", out, "eth1", "tcp 10.60.0.1 -> 198.51.100.9 : 443", "dropped by stance outbound closed"},
		{"a role that is taken away is taken whole", plain + "allow a: office -> fleet except red : https\n", "h1", in, "wan0", "tcp 198.51.100.9 -> 192.0.2.200 : 443", "dropped by stance inbound closed"},
		{"a role at a place is taken away there", plain + "allow a: everywhere except red at hill -> green : https\n", "h4", in, "wan0", "tcp 10.60.0.1 -> 203.0.113.9 : 443", "dropped by stance inbound closed"},
		{"and nowhere else", plain + "allow a: everywhere except red at hill -> green : https\n", "h4", in, "wan0", "tcp 10.40.0.1 -> 203.0.113.9 : 443", "admitted by allow a"},
		{"as a target too", plain + "allow a: office -> fleet except red at hill : https\n", "h1", in, "wan0", "tcp 198.51.100.9 -> 203.0.113.1 : 443", "admitted by allow a"},
		{"at and except on one side", plain + "allow a: office -> red at quay, red at hill except 10.60.0.1 : https\n", "h1", in, "wan0", "tcp 198.51.100.9 -> 10.60.0.1 : 443", "dropped by stance inbound closed"},

		{"a block refuses on a router whose forward is open", plain + "block b: office -> everywhere : https through red\n", "h1", through, "eth0", "tcp 198.51.100.9 -> 192.0.2.1 : 443", "dropped by block b"},
		{"and nothing else", plain + "block b: office -> everywhere : https through red\n", "h1", through, "eth0", "tcp 198.51.100.9 -> 192.0.2.1 : 444", "admitted by stance forward open"},
		{"but for exceptions", plain + "block b: office -> everywhere : https through red\nallow a: bad -> everywhere : https through red over b\n", "h1", through, "eth0", "tcp 198.51.100.70 -> 192.0.2.1 : 443", "admitted by allow a"},
		{"replies go on", plain + "block b: everywhere -> everywhere : any through red\n", "h1", through, "eth0", "established tcp 198.51.100.9 -> 192.0.2.1 : 443", "admitted by ground replies"},
		{"a forged source is dropped where forward is closed", head + "role red { forward closed }\nrole blue\nrole green\n", "h1", through, "wan0", "tcp 10.40.7.7 -> 192.0.2.1 : 443", "dropped by local quay"},
		{"where it is open it is nobody's matter", plain + "block b: office -> everywhere : https through red\n", "h1", through, "wan0", "tcp 10.40.7.7 -> 192.0.2.1 : 443", "admitted by stance forward open"},
		{"a part of the ground turned off is off for what is forwarded", head + "role red { forward closed }\nrole blue\nrole green\nground { icmp-errors off }\n", "h1", through, "eth0", "icmp 198.51.100.9 -> 192.0.2.1 : 3", "dropped by stance forward closed"},
		{"in one direction alone it is not", head + "role red { forward closed }\nrole blue\nrole green\nground { inbound icmp-errors off }\n", "h1", through, "eth0", "icmp 198.51.100.9 -> 192.0.2.1 : 3", "admitted by ground icmp-errors"},
		{"behind a masquerade on means the router's address too", plain + "masquerade m: office -> fleet through red\nallow a: office, hill -> blue : ssh on hill\n", "h3", in, "eth0", "tcp 10.40.0.1 -> 10.60.3.1 : 22", "dropped by stance inbound closed"},
		{"which may be the router's address there", plain + "masquerade m: hill -> fleet through red\nallow a: 10.60.9.0/24 -> blue : ssh on hill\n", "h3", in, "eth0", "tcp 10.60.0.1 -> 10.60.3.1 : 22", "admitted by allow a"},
		{"off: kept and not in force", plain + "allow a: office -> red : ssh off\n", "h1", in, "wan0", "tcp 198.51.100.9 -> 203.0.113.1 : 22", "dropped by stance inbound closed"},
		{"ended", plain + "allow a: office -> red : ssh until 2026-11-24\n", "h1", in, "wan0", "tcp 198.51.100.9 -> 203.0.113.1 : 22", "dropped by stance inbound closed"},
		{"a part of the ground turned off", plain + "ground { icmp-errors off }\n", "h1", in, "wan0", "icmp 198.51.100.9 -> 203.0.113.1 : 3", "dropped by stance inbound closed"},
		{"in one direction only", plain + "ground { outbound icmp-errors off }\n", "h1", in, "wan0", "icmp 198.51.100.9 -> 203.0.113.1 : 3", "admitted by ground icmp-errors"},
		{"a part of the ground narrowed", plain + "ground { inbound icmp-errors from bad }\n", "h1", in, "wan0", "icmp 198.51.100.9 -> 203.0.113.1 : 3", "dropped by stance inbound closed"},
		{"to those peers", plain + "ground { inbound icmp-errors from bad }\n", "h1", in, "wan0", "icmp 198.51.100.70 -> 203.0.113.1 : 3", "admitted by ground icmp-errors"},

		{"a block refuses what an allow admits, wherever it stands", plain + "block b: bad -> red : ssh\nallow a: office -> red : ssh\n", "h1", in, "wan0", "tcp 198.51.100.70 -> 203.0.113.1 : 22", "dropped by block b"},
		{"but not an exception to it", plain + "allow a: office -> red : ssh over b\nblock b: bad -> red : ssh\n", "h1", in, "wan0", "tcp 198.51.100.70 -> 203.0.113.1 : 22", "admitted by allow a"},
		{"an exception to one block is none to another", plain + "allow a: office -> red : ssh over b\nblock b: bad -> red : ssh\nblock c: office -> red : tcp 1-100\n", "h1", in, "wan0", "tcp 198.51.100.70 -> 203.0.113.1 : 22", "dropped by block b"},
		{"two exceptions do not add up", plain + "allow a: office -> red : ssh over b\nallow d: office -> red : ssh over c\nblock b: bad -> red : ssh\nblock c: office -> red : ssh\n", "h1", in, "wan0", "tcp 198.51.100.70 -> 203.0.113.1 : 22", "dropped by block b"},
		{"one exception to both does", plain + "allow a: office -> red : ssh over b, c\nblock b: bad -> red : ssh\nblock c: office -> red : ssh\n", "h1", in, "wan0", "tcp 198.51.100.70 -> 203.0.113.1 : 22", "admitted by allow a"},
		{"a block speaks where the stance is open too", plain + "block b: fleet -> everywhere : smtp by reject\n", "h1", out, "wan0", "tcp 203.0.113.1 -> 198.51.100.9 : 25", "rejected with tcp-reset by block b"},
		{"of blocks that drop and reject the drop wins", plain + "block b: bad -> red : ssh by reject\nblock c: office -> red : ssh\n", "h1", in, "wan0", "tcp 198.51.100.70 -> 203.0.113.1 : 22", "dropped by block c"},
		{"a block's own answer counts, not the role's", head + "role red { refuse by reject }\nrole blue\nrole green\nblock b: bad -> red : ssh\n", "h1", in, "wan0", "tcp 198.51.100.70 -> 203.0.113.1 : 22", "dropped by block b"},
		{"it is logged if one of the allows logs", plain + "allow a: office -> red : ssh\nallow d: office -> red : ssh log\n", "h1", in, "wan0", "tcp 198.51.100.9 -> 203.0.113.1 : 22", "admitted and logged by allow a"},
		{"a log acts at the receiving end where that is ours", plain + "allow a: red -> blue : ssh log\n", "h3", in, "eth0", "tcp 10.60.0.1 -> 10.60.3.1 : 22", "admitted and logged by allow a"},
		{"and then not at the sending end", plain + "allow a: red -> blue : ssh log\n", "h1", out, "eth1", "tcp 10.60.0.1 -> 10.60.3.1 : 22", "admitted by allow a"},
		{"else at the sending end", plain + "allow a: red -> blue, office : ssh log\n", "h1", out, "wan0", "tcp 203.0.113.1 -> 198.51.100.9 : 22", "admitted and logged by allow a"},
		{"a block logs wherever it refuses", plain + "block a: red -> blue : ssh log\n", "h1", out, "eth1", "tcp 10.60.0.1 -> 10.60.3.1 : 22", "dropped and logged by block a"},
		{"not if the one that logs does not admit it", plain + "allow a: office -> red : ssh over b\nallow d: office -> red : ssh log\nblock b: bad -> red : ssh\n", "h1", in, "wan0", "tcp 198.51.100.70 -> 203.0.113.1 : 22", "admitted by allow a"},
		{"and if one of the blocks logs", plain + "block b: bad -> red : ssh by reject log\nblock c: office -> red : ssh\n", "h1", in, "wan0", "tcp 198.51.100.70 -> 203.0.113.1 : 22", "dropped and logged by block c"},

		{"the ground comes before blocks", plain + "block b: everywhere -> fleet : any\n", "h1", in, "wan0", "icmp 198.51.100.9 -> 203.0.113.1 : 3", "admitted by ground icmp-errors"},
		{"a host speaks to itself over loopback", plain + "block b: everywhere -> fleet : any\n", "h1", in, "lo", "tcp 10.40.0.1 -> 10.40.0.1 : 80", "admitted by ground loopback"},
		{"and reaches the service", head + "role red { outbound closed }\nrole blue\nrole green\n", "h1", out, "eth0", "tcp 10.40.0.1 -> 10.40.0.5 : 8480", "admitted by ground service"},
		{"a forged source is dropped before anything", plain + "allow a: everywhere -> fleet : any\n", "h1", in, "wan0", "tcp 10.40.7.7 -> 203.0.113.1 : 22", "dropped by local quay"},
		{"on hosts that are not on the segment it is not", plain + "allow a: everywhere -> fleet : any\n", "h4", in, "wan0", "tcp 10.40.7.7 -> 203.0.113.9 : 22", "admitted by allow a"},
	} {
		pol := policytest.Resolve(t, policytest.Fleet, c.policy)
		sp := packet.NewSpace()
		plan := compile.ForHost(sp, pol, pol.Fleet.Host(c.host), now)
		d, deciders := plan.Attributed(sp)
		text, established := strings.CutPrefix(c.packet, "established ")
		p := at(t, c.hook, c.iface, text, map[bool]string{true: "established", false: "new"}[established])
		o := sp.Outcome(d, p)
		require.Equal(t, c.want, said(o)+" by "+deciders[o.By-1].String(), "%s: %s", c.what, p)
	}
}

// TestStates: replies pass and what is invalid is dropped, whatever the rules say.
func TestStates(t *testing.T) {
	pol := policytest.Resolve(t, policytest.Fleet, plain+"block b: everywhere -> fleet : tcp 1-100\nallow a: everywhere -> fleet : tcp 200\n")
	sp := packet.NewSpace()
	d := compile.ForHost(sp, pol, pol.Fleet.Host("h1"), 0).Decision(sp)
	for state, want := range map[string][2]packet.Verdict{
		"new": {packet.Drop, packet.Admit}, "untracked": {packet.Drop, packet.Admit},
		"established": {packet.Admit, packet.Admit}, "related": {packet.Admit, packet.Admit}, "invalid": {packet.Drop, packet.Drop},
	} {
		for i, port := range []string{"22", "200"} {
			p := at(t, packet.In, "wan0", "tcp 198.51.100.9 -> 203.0.113.1 : "+port, state)
			require.Equal(t, want[i], sp.Outcome(d, p).Verdict, "%s", p)
		}
	}
}

// TestAttributionChangesNothing: who decides is told, what is decided stays.
func TestAttributionChangesNothing(t *testing.T) {
	for seed := range uint64(60) {
		pol := policytest.Resolve(t, policytest.Fleet, policytest.Random(rand.New(rand.NewPCG(17, seed))))
		sp := packet.NewSpace()
		plan := compile.ForHost(sp, pol, pol.Fleet.Host("h1"), 0)
		attributed, deciders := plan.Attributed(sp)
		plainly := sp.Map(attributed, func(o packet.Outcome) packet.Outcome {
			require.NotEmpty(t, deciders[o.By-1].String())
			o.By = 0
			return o
		})
		require.Equal(t, plan.Decision(sp), plainly, "seed %d", seed)
	}
}

// TestOrderNeverDecides: a policy's statements in another order mean the same.
func TestOrderNeverDecides(t *testing.T) {
	for seed := range uint64(60) {
		rng := rand.New(rand.NewPCG(19, seed))
		text := policytest.Random(rng)
		lines := strings.Split(strings.TrimSpace(text), "\n")
		pol := policytest.Resolve(t, policytest.Fleet, text)
		rng.Shuffle(len(lines), func(i, j int) { lines[i], lines[j] = lines[j], lines[i] })
		shuffled := policytest.Resolve(t, policytest.Fleet, strings.Join(lines[:len(lines)/2], "\n")+"\n", strings.Join(lines[len(lines)/2:], "\n")+"\n")
		for _, h := range pol.Fleet.Hosts {
			sp := packet.NewSpace()
			a, b := compile.ForHost(sp, pol, h, 0).Decision(sp), compile.ForHost(sp, shuffled, shuffled.Fleet.Host(h.Name), 0).Decision(sp)
			require.Equal(t, a, b, "seed %d host %s", seed, h.Name)
		}
	}
}

func TestRuleSetIsWhatARuleSpeaksOf(t *testing.T) {
	pol := policytest.Resolve(t, policytest.Fleet, plain+"allow a: office -> red : ssh\nblock b: everywhere -> red : any\n")
	sp := packet.NewSpace()
	plan := compile.ForHost(sp, pol, pol.Fleet.Host("h1"), 0)
	set := plan.RuleSet(sp, pol.Rule("a"), packet.Inbound)
	require.True(t, sp.Has(set, at(t, packet.In, "wan0", "tcp 198.51.100.9 -> 203.0.113.1 : 22", "new")), "though it is refused")
	require.Equal(t, packet.Empty, plan.RuleSet(sp, pol.Rule("a"), packet.Outbound))
}

// TestThrough: a rule that goes through routers is theirs too, where they filter what
// they forward; it logs and counts there only if it does so at no end of ours.
func TestThrough(t *testing.T) {
	const gate = "policy p language 1\nnetwork office = 198.51.100.0/24\nnetwork lab = 10.60.3.0/24\nrole red\nrole blue\nrole green { forward closed }\n"
	over := func(p packet.Packet) packet.Packet {
		p.In, p.Out = "wan0", "eth9"
		return p
	}
	for _, c := range []struct{ rules, packet, want string }{
		{"allow a: office -> red : ssh through green", "tcp 198.51.100.9 -> 10.40.0.1 : 22", "admitted by allow a"},
		{"allow a: office -> red : ssh through green", "tcp 198.51.100.9 -> 10.60.3.1 : 22", "dropped by stance forward closed"},
		{"allow a: office -> red : ssh", "tcp 198.51.100.9 -> 10.40.0.1 : 22", "dropped by stance forward closed"},
		{"allow a: office -> red : ssh through green\nblock b: office -> red : any through green by reject", "tcp 198.51.100.9 -> 10.40.0.1 : 22", "rejected by block b"},
		{"allow a: office -> lab : ssh through green log", "tcp 198.51.100.9 -> 10.60.3.7 : 22", "admitted and logged by allow a"},
		{"allow a: office -> red : ssh through green log", "tcp 198.51.100.9 -> 10.40.0.1 : 22", "admitted by allow a"},
		{"allow a: red -> office : ssh through green log", "tcp 10.40.0.1 -> 198.51.100.9 : 22", "admitted by allow a"},
		{"allow a: red -> office : ssh through green from user backup", "tcp 10.40.0.1 -> 198.51.100.9 : 22", "admitted by allow a"},
	} {
		pol := policytest.Resolve(t, policytest.Fleet, gate+c.rules+"\n")
		sp := packet.NewSpace()
		d, deciders := compile.ForHost(sp, pol, pol.Fleet.Host("h4"), now).Attributed(sp)
		o := sp.Outcome(d, over(at(t, packet.Through, "wan0", c.packet, "new")))
		got := o.Verdict.String()
		if o.Logged {
			got += " and logged"
		}
		require.Equal(t, c.want, got+" by "+deciders[o.By-1].String(), c.rules)
	}
}

// TestForgedSourcesAreNotForwarded: a router drops what says that it is of a local segment
// and arrives by another interface, whatever a rule admits.
func TestForgedSourcesAreNotForwarded(t *testing.T) {
	pol := policytest.Resolve(t, policytest.Fleet, "policy p language 1\nsegment wan = 203.0.113.0/28 local\nrole red\nrole blue\nrole green { forward closed }\nallow a: everywhere -> red : ssh through green\n")
	sp := packet.NewSpace()
	d, deciders := compile.ForHost(sp, pol, pol.Fleet.Host("h4"), now).Attributed(sp)
	for from, want := range map[string]string{"wan0": "admitted by allow a", "eth9": "dropped by local wan"} {
		p := at(t, packet.Through, "", "tcp 203.0.113.5 -> 10.40.0.1 : 22", "new")
		p.In, p.Out = from, "eth8"
		o := sp.Outcome(d, p)
		require.Equal(t, want, o.Verdict.String()+" by "+deciders[o.By-1].String(), from)
	}
}

// TestPrograms: what one program sends is told from what others send, at the sending end.
func TestPrograms(t *testing.T) {
	pol := policytest.Resolve(t, policytest.Fleet, head+"role red { outbound closed }\nrole blue\nrole green\nallow a: red -> office : ssh from program /bin/a, /bin/b from user x\nallow b: office -> red : https\n")
	sp := packet.NewSpace()
	d := compile.ForHost(sp, pol, pol.Fleet.Host("h1"), now).Decision(sp)
	p := at(t, packet.Out, "eth0", "tcp 10.40.0.1 -> 198.51.100.3 : 22", "new")
	for _, c := range []struct {
		program, user string
		want          packet.Verdict
	}{{"/bin/a", "x", packet.Admit}, {"/bin/b", "x", packet.Admit}, {"/bin/c", "x", packet.Drop}, {"/bin/a", "y", packet.Drop}, {"", "x", packet.Drop}} {
		p.Program, p.User = c.program, c.user
		require.Equal(t, c.want, sp.Outcome(d, p).Verdict, "%+v", c)
	}
}

// TestCircumstances goes through what the language says of what a packet does
// not show by itself: rates, senders, time and IPsec.
func TestCircumstances(t *testing.T) {
	const in, out = packet.In, packet.Out
	const inward, outward = "tcp 198.51.100.9 -> 203.0.113.1 : 22", "tcp 203.0.113.1 -> 198.51.100.9 : 22"
	stances := func(red string) string { return head + "role red { " + red + " }\nrole blue\nrole green\n" }
	for _, c := range []struct {
		what, policy string
		hook         int
		packet       string
		circumstance string // what holds: user NAME, unit NAME, encrypted, at TIME, and buckets that have no token left
		want         string
	}{
		{"at most: admitted while there are tokens", plain + "allow a: office -> red : ssh at most 4 per 1m\n", in, inward, "", "admitted by allow a"},
		{"what exceeds it is refused", plain + "allow a: office -> red : ssh at most 4 per 1m\n", in, inward, "over a.4", "dropped by allow a"},
		{"each family has its bucket", plain + "allow a: office -> red : ssh at most 4 per 1m\n", in, inward, "over a.6", "admitted by allow a"},
		{"refused as the role refuses", stances("refuse by reject") + "allow a: office -> red : ssh at most 4 per 1m\n", in, inward, "over a.4", "rejected with tcp-reset by allow a"},
		{"and logged as the role logs that", stances("log refused") + "allow a: office -> red : ssh at most 4 per 1m\n", in, inward, "over a.4", "dropped and logged by allow a"},
		{"where the stance is open too", stances("inbound open") + "allow a: office -> red : ssh at most 4 per 1m\n", in, inward, "over a.4", "dropped by allow a"},
		{"per source it is another bucket", plain + "allow a: office -> red : ssh at most 4 per 1m per source\n", in, inward, "over a.source.4", "dropped by allow a"},
		{"an allow without it decides first", plain + "allow a: office -> red : ssh at most 4 per 1m\nallow b: bad -> red : ssh\n", in, "tcp 198.51.100.70 -> 203.0.113.1 : 22", "over a.4", "admitted by allow b"},
		{"then one per source", plain + "allow a: office -> red : ssh at most 400 per 1m\nallow b: bad -> red : ssh at most 1 per 1m per source\n", in, "tcp 198.51.100.70 -> 203.0.113.1 : 22", "over b.source.4", "dropped by allow b"},
		{"then the larger rate", plain + "allow a: office -> red : ssh at most 4 per 1m\nallow b: bad -> red : ssh at most 5 per 1m\n", in, "tcp 198.51.100.70 -> 203.0.113.1 : 22", "over a.4", "admitted by allow b"},
		{"of one rate the larger bucket", plain + "allow a: office -> red : ssh at most 1 per 1m\nallow b: bad -> red : ssh at most 60 per 1h\n", in, "tcp 198.51.100.70 -> 203.0.113.1 : 22", "over a.4", "admitted by allow b"},
		{"then the name; and no other is tried", plain + "allow b: office -> red : ssh at most 4 per 1m\nallow a: bad -> red : ssh at most 4 per 1m\n", in, "tcp 198.51.100.70 -> 203.0.113.1 : 22", "over a.4", "dropped by allow a"},
		{"it counts at the sending end where the other is not ours", plain + "allow a: red -> office : ssh at most 4 per 1m\n", out, outward, "over a.4", "dropped by allow a"},
		{"and only there", plain + "allow a: red -> office, blue : ssh at most 4 per 1m\n", out, "tcp 10.60.0.1 -> 10.60.3.1 : 22", "over a.4", "admitted by allow a"},
		{"an exception with a limit", plain + "allow a: office -> red : ssh over b at most 4 per 1m\nblock b: bad -> red : any\n", in, "tcp 198.51.100.70 -> 203.0.113.1 : 22", "over a.4", "dropped by allow a"},
		{"does not slow what a free allow admits", plain + "allow a: office -> red : ssh over b at most 4 per 1m\nallow c: office -> red : ssh\nblock b: bad -> red : any\n", in, inward, "over a.4", "admitted by allow c"},

		{"log up to: logged while there are tokens", plain + "allow a: office -> red : ssh log up to 4 per 1m\n", in, inward, "", "admitted and logged by allow a"},
		{"and admitted all the same without", plain + "allow a: office -> red : ssh log up to 4 per 1m\n", in, inward, "over a.log.4", "admitted by allow a"},
		{"the freest log counts", plain + "allow a: office -> red : ssh log up to 4 per 1m\nallow b: office -> red : tcp 1-100 log up to 5 per 1m\n", in, inward, "over a.log.4", "admitted and logged by allow a"},
		{"one without a limit above all", plain + "allow a: office -> red : ssh log up to 4 per 1m\nallow b: office -> red : tcp 1-100 log\n", in, inward, "over a.log.4", "admitted and logged by allow a"},
		{"a block's too", plain + "block a: office -> red : ssh log up to 4 per 1m\n", in, inward, "over a.log.4", "dropped by block a"},
		{"log refused up to", stances("log refused up to 3 per 1h"), in, inward, "over log.refused.4", "dropped by stance inbound closed"},
		{"the rule's own log is of the excess too", plain + "allow a: office -> red : ssh at most 4 per 1m log\n", in, inward, "over a.4", "dropped and logged by allow a"},

		{"from user: what he sends", stances("outbound closed") + "allow a: red -> office : ssh from user backup\n", out, outward, "user backup", "admitted by allow a"},
		{"or another who is named", stances("outbound closed") + "allow a: red -> office : ssh from user x, backup\n", out, outward, "user backup", "admitted by allow a"},
		{"nothing of others", stances("outbound closed") + "allow a: red -> office : ssh from user backup\n", out, outward, "user www", "dropped by stance outbound closed"},
		{"nor of nobody", stances("outbound closed") + "allow a: red -> office : ssh from user backup\n", out, outward, "", "dropped by stance outbound closed"},
		{"from unit", stances("outbound closed") + "allow a: red -> office : ssh from unit backup.service\n", out, outward, "unit backup.service", "admitted by allow a"},
		{"both must be so", stances("outbound closed") + "allow a: red -> office : ssh from user backup from unit backup.service\n", out, outward, "unit backup.service", "dropped by stance outbound closed"},
		{"the receiving end cannot tell", plain + "allow a: blue -> red : ssh from user backup\n", in, "tcp 10.60.3.1 -> 10.60.0.1 : 22", "", "admitted by allow a"},
		{"and admits it of hosts of ours only", plain + "allow a: blue, office -> red : ssh from user backup\n", in, inward, "", "dropped by stance inbound closed"},
		{"a block of it refuses at the sending end", plain + "block a: red -> office : smtp from user www\n", out, "tcp 203.0.113.1 -> 198.51.100.9 : 25", "user www", "dropped by block a"},
		{"and not at the receiving end, where it would refuse others", stances("inbound open") + "block a: blue -> red : ssh from user www\n", in, "tcp 10.60.3.1 -> 10.60.0.1 : 22", "", "admitted by stance inbound open"},

		{"encrypted: what came by IPsec", plain + "allow a: office -> red : ssh encrypted\n", in, inward, "encrypted", "admitted by allow a"},
		{"and nothing else", plain + "allow a: office -> red : ssh encrypted\n", in, inward, "", "dropped by stance inbound closed"},
		{"until: before the end of that day", plain + "allow a: office -> red : ssh until 2026-11-26\n", in, inward, "at 2026-11-26T23:59:59Z", "admitted by allow a"},
		{"and not after it", plain + "allow a: office -> red : ssh until 2026-11-26\n", in, inward, "at 2026-11-27T00:00:00Z", "dropped by stance inbound closed"},
		{"from: not before that day", plain + "allow a: office -> red : ssh from 2026-11-26\n", in, inward, "at 2026-11-25T23:59:59Z", "dropped by stance inbound closed"},
		{"and from its beginning on", plain + "allow a: office -> red : ssh from 2026-11-26 until 2026-11-26\n", in, inward, "at 2026-11-26T00:00:00Z", "admitted by allow a"},
		{"to its end", plain + "allow a: office -> red : ssh from 2026-11-26 until 2026-11-26\n", in, inward, "at 2026-11-27T00:00:00Z", "dropped by stance inbound closed"},
		{"or an instant", plain + "allow a: office -> red : ssh until 2026-11-26T12:00Z\n", in, inward, "at 2026-11-26T12:00:00Z", "dropped by stance inbound closed"},
		{"a block ends too", stances("inbound open") + "block a: office -> red : ssh until 2026-11-26\n", in, inward, "at 2026-11-27T00:00:00Z", "admitted by stance inbound open"},
	} {
		pol := policytest.Resolve(t, policytest.Fleet, c.policy)
		sp := packet.NewSpace()
		sp.Since(now)
		plan := compile.ForHost(sp, pol, pol.Fleet.Host("h1"), now)
		d, deciders := plan.Attributed(sp)
		iface := "wan0"
		if strings.Contains(c.packet, "10.60.") {
			iface = "eth1"
		}
		p := policytest.Circumstance(t, at(t, c.hook, iface, c.packet, "new"), c.circumstance)
		_, over, _ := strings.Cut(c.circumstance, "over ")
		here := sp.Exactly(p)
		known := over == ""
		for _, b := range packet.Buckets(sp, d) {
			room := sp.HasToken(b)
			if b.Name == over {
				room, known = sp.Not(room), true
			}
			here = sp.And(here, room)
		}
		outcomes := sp.Outcomes(sp.Only(d, here))
		require.Len(t, outcomes, 1, "%s: %s", c.what, p)
		require.True(t, known || strings.HasPrefix(c.want, "admitted"), "%s: there is no bucket %s", c.what, over)
		require.Equal(t, c.want, said(outcomes[0])+" by "+deciders[outcomes[0].By-1].String(), "%s: %s", c.what, p)
	}
}

// said is an outcome as the tables above have it.
func said(o packet.Outcome) string {
	s := o.Verdict.String()
	if o.With != "" {
		s += " with " + o.With
	}
	if o.Logged {
		s += " and logged"
	}
	return s
}

// TestBuckets: what the kernel is told is the rate that was written.
func TestBuckets(t *testing.T) {
	for written, want := range map[string]string{
		"4 per 1m": "4 per 1m", "1 per 1s per source": "1 per 1s per source", "90 per 1h": "90 per 1h", "10 per 1d": "10 per 1d", "5 per 10s": "5 per 10s",
	} {
		pol := policytest.Resolve(t, policytest.Fleet, plain+"allow a: office -> red : ssh at most "+written+"\n")
		sp := packet.NewSpace()
		d := compile.ForHost(sp, pol, pol.Fleet.Host("h1"), now).Decision(sp)
		buckets := packet.Buckets(sp, d)
		require.Len(t, buckets, 2, "one for each family")
		require.Equal(t, want, buckets[0].String())
	}
}

// TestLeaves: what is left to other programs is admitted before all else, on the
// hosts that are named, by interfaces of those names.
func TestLeaves(t *testing.T) {
	pol := policytest.Resolve(t, policytest.Fleet, head+"role red { forward closed }\nrole blue\nrole green\n"+
		"block b: everywhere -> red : tcp 22\nleave guests: red : inbound via ctr*, br0\nleave passing: red : forwarded via ctr*\nleave nothing: red : inbound via wan0  off\n")
	for _, c := range []struct {
		host, iface, packet string
		hook                int
		want                packet.Verdict
	}{
		{"h1", "ctr7", "tcp 198.51.100.9 -> 203.0.113.1 : 22", packet.In, packet.Admit},
		{"h1", "br0", "tcp 198.51.100.9 -> 203.0.113.1 : 22", packet.In, packet.Admit},
		{"h1", "br1", "tcp 198.51.100.9 -> 203.0.113.1 : 22", packet.In, packet.Drop},
		{"h1", "wan0", "tcp 198.51.100.9 -> 203.0.113.1 : 22", packet.In, packet.Drop},
		{"h4", "ctr7", "tcp 198.51.100.9 -> 203.0.113.1 : 22", packet.In, packet.Drop},
	} {
		sp := packet.NewSpace()
		plan := compile.ForHost(sp, pol, pol.Fleet.Host(c.host), now)
		p := at(t, c.hook, c.iface, c.packet, "new")
		require.Equal(t, c.want, sp.Outcome(plan.Decision(sp), p).Verdict, "%s by %s", c.host, c.iface)
		require.Equal(t, c.want == packet.Admit, sp.Has(plan.Left(sp), p))
		for in, out := range map[string]string{"ctr0": "eth0", "eth0": "ctr0"} {
			p.Hook, p.In, p.Out = packet.Through, in, out
			require.Equal(t, c.host == "h1", sp.Has(plan.Left(sp), p))
			require.Equal(t, packet.Admit, sp.Outcome(plan.Decision(sp), p).Verdict)
		}
		p.In, p.Out = "eth0", "eth0"
		require.Equal(t, c.host != "h1", sp.Outcome(plan.Decision(sp), p).Verdict == packet.Admit)
	}
}
