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
	p := packet.Packet{Hook: hook, Protocol: f[0], Src: netip.MustParseAddr(f[1]), Dst: netip.MustParseAddr(f[3]), State: state,
		Family: "ipv4"}
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
		{"inbound is closed unless said", plain, "h1", in, "wan0", "tcp 198.51.100.9 -> 203.0.113.1 : 22",
			"dropped by stance inbound closed"},
		{"outbound is open unless said", plain, "h1", out, "wan0", "tcp 203.0.113.1 -> 198.51.100.9 : 22",
			"admitted by stance outbound open"},
		{"what is forwarded is untouched unless said", plain, "h1", through, "eth0", "tcp 10.40.3.1 -> 198.51.100.9 : 22",
			"admitted by stance unfiltered"},
		{"closed to what is forwarded", head + "role red { forward closed }\nrole blue\nrole green\n", "h1", through, "eth0",
			"tcp 10.40.3.1 -> 198.51.100.9 : 22", "dropped by stance forward closed"},
		{"refuse by reject answers TCP with a reset", head + "role red { refuse by reject }\nrole blue\nrole green\n", "h1", in, "wan0",
			"tcp 198.51.100.9 -> 203.0.113.1 : 22", "rejected with tcp-reset by stance inbound closed"},
		{"and the rest with port unreachable", head + "role red { refuse by reject }\nrole blue\nrole green\n", "h1", in, "wan0",
			"udp 198.51.100.9 -> 203.0.113.1 : 22", "rejected with port-unreachable by stance inbound closed"},

		{"log refused: what the stance refuses is logged", head + "role red { log refused }\nrole blue\nrole green\n", "h1", in, "wan0",
			"tcp 198.51.100.9 -> 203.0.113.1 : 22", "dropped and logged by stance inbound closed"},
		{"and what it admits is not", head + "role red { log refused }\nrole blue\nrole green\n", "h1", out, "wan0",
			"tcp 203.0.113.1 -> 198.51.100.9 : 22", "admitted by stance outbound open"},
		{"the right side gets it inbound", plain + "allow a: office -> red : ssh\n", "h1", in, "wan0",
			"tcp 198.51.100.9 -> 203.0.113.1 : 22", "admitted by allow a"},
		{"in both families", plain + "allow a: office -> red : ssh\n", "h1", in, "wan0", "tcp 2001:db8:5::9 -> 2001:db8:1::1 : 22",
			"admitted by allow a"},
		{"at whatever address", plain + "allow a: office -> red : ssh\n", "h1", in, "eth1", "tcp 198.51.100.9 -> 192.0.2.200 : 22",
			"admitted by allow a"},
		{"and nobody else", plain + "allow a: office -> red : ssh\n", "h3", in, "eth0", "tcp 198.51.100.9 -> 10.60.3.1 : 22",
			"dropped by stance inbound closed"},
		{"the left side gets it outbound", head + "role red { outbound closed }\nrole blue\nrole green\nallow a: red -> office : ssh\n",
			"h1", out, "wan0", "tcp 203.0.113.1 -> 198.51.100.9 : 22", "admitted by allow a"},
		{"which opens nothing inbound", plain + "allow a: fleet -> everywhere : https\n", "h1", in, "wan0",
			"tcp 198.51.100.9 -> 203.0.113.1 : 443", "dropped by stance inbound closed"},
		{"a host is known by all its addresses", plain + "allow a: blue -> red : ssh\n", "h1", in, "eth1",
			"tcp 10.60.3.1 -> 10.60.0.1 : 22", "admitted by allow a"},
		{"those it is seen as included", plain + "allow a: host h2 -> green : ssh\n", "h4", in, "wan0",
			"tcp 198.51.100.7 -> 203.0.113.9 : 22", "admitted by allow a"},

		{"on a segment: over its interface, between its addresses", plain + "allow a: everywhere -> red : ssh on hill\n", "h1", in,
			"eth1", "tcp 10.60.9.9 -> 10.60.0.1 : 22", "admitted by allow a"},
		{"not over another interface", plain + "allow a: everywhere -> red : ssh on hill\n", "h1", in, "wan0",
			"tcp 10.60.9.9 -> 10.60.0.1 : 22", "dropped by stance inbound closed"},
		{"not from elsewhere", plain + "allow a: everywhere -> red : ssh on hill\n", "h1", in, "eth1",
			"tcp 198.51.100.9 -> 10.60.0.1 : 22", "dropped by stance inbound closed"},
		{"not to another address", plain + "allow a: everywhere -> red : ssh on hill\n", "h1", in, "eth1",
			"tcp 10.60.9.9 -> 203.0.113.1 : 22", "dropped by stance inbound closed"},
		{"a host that is not on it has no such rule", plain + "allow a: everywhere -> green : ssh on hill\n", "h4", in, "wan0",
			"tcp 10.60.9.9 -> 203.0.113.9 : 22", "dropped by stance inbound closed"},

		{"arriving: over its interface, whatever the addresses", plain + "allow a: everywhere -> red : ssh arriving hill\n", "h1", in,
			"eth1", "tcp 198.51.100.9 -> 203.0.113.1 : 22", "admitted by allow a"},
		{"not over another interface", plain + "allow a: everywhere -> red : ssh arriving hill\n", "h1", in, "wan0",
			"tcp 10.60.9.9 -> 203.0.113.1 : 22", "dropped by stance inbound closed"},
		{"a peer at a place: only the addresses that lie there", plain + "allow a: red at hill -> green : ssh\n", "h4", in, "wan0",
			"tcp 10.60.0.1 -> 203.0.113.9 : 22", "admitted by allow a"},
		{"not its others", plain + "allow a: red at hill -> green : ssh\n", "h4", in, "wan0", "tcp 203.0.113.1 -> 203.0.113.9 : 22",
			"dropped by stance inbound closed"},
		{"delivered to the address that is named", plain + "allow a: office -> red at hill : ssh\n", "h1", in, "wan0",
			"tcp 198.51.100.9 -> 10.60.0.1 : 22", "admitted by allow a"},
		{"and to no other", plain + "allow a: office -> red at hill : ssh\n", "h1", in, "wan0", "tcp 198.51.100.9 -> 203.0.113.1 : 22",
			"dropped by stance inbound closed"},
		{"at a role: who is of both", plain + "allow a: red at blue -> green : ssh\n", "h4", in, "wan0",
			"tcp 10.40.3.1 -> 203.0.113.9 : 22", "admitted by allow a"},
		{"and nobody else", plain + "allow a: red at blue -> green : ssh\n", "h4", in, "wan0", "tcp 10.40.0.1 -> 203.0.113.9 : 22",
			"dropped by stance inbound closed"},
		{"within: both ends are of the one", plain + "allow a: fleet -> fleet : ssh within blue, green\n", "h3", in, "eth0",
			"tcp 10.40.3.1 -> 10.60.3.1 : 22", "admitted by allow a"},
		{"or of the other", plain + "allow a: fleet -> fleet : ssh within blue, green\n", "h4", in, "wan0",
			"tcp 203.0.113.9 -> 203.0.113.9 : 22", "admitted by allow a"},
		{"and not one of each", plain + "allow a: fleet -> fleet : ssh within blue, green\n", "h4", in, "wan0",
			"tcp 10.60.3.1 -> 203.0.113.9 : 22", "dropped by stance inbound closed"},
		{"nor of none", plain + "allow a: fleet -> fleet : ssh within blue, green\n", "h1", in, "eth0", "tcp 10.60.3.1 -> 10.40.0.1 : 22",
			"dropped by stance inbound closed"},
		{"on two segments: over either", plain + "allow a: everywhere -> red : ssh on quay, hill\n", "h1", in, "eth1",
			"tcp 10.60.9.9 -> 10.60.0.1 : 22", "admitted by allow a"},
		{"and not from one to the other", plain + "allow a: everywhere -> red : ssh on quay, hill\n", "h1", in, "eth0",
			"tcp 10.60.9.9 -> 10.40.0.1 : 22", "dropped by stance inbound closed"},
		{"arriving by either, whatever the addresses", plain + "allow a: everywhere -> red : ssh arriving quay, hill\n", "h1", in, "eth1",
			"tcp 198.51.100.9 -> 10.40.0.1 : 22", "admitted by allow a"},
		{"strangers are on shared segments", strings.Replace(plain, "fd60::/48", "fd60::/48 shared", 1) +
			"block s: strangers -> red : ssh\nallow a: everywhere -> red : ssh\n", "h1", in, "eth1", "tcp 10.60.9.9 -> 10.60.0.1 : 22",
			"dropped by block s"},
		{"not on those that are ours alone", plain + "block s: strangers -> red : ssh\nallow a: everywhere -> red : ssh\n", "h1", in,
			"eth1", "tcp 10.60.9.9 -> 10.60.0.1 : 22", "admitted by allow a"},
		{"our hosts are none, wherever they are seen from", plain + "block s: strangers -> red : ssh\nallow a: everywhere -> red : ssh\n",
			"h1", in, "wan0", "tcp 198.51.100.7 -> 203.0.113.1 : 22", "admitted by allow a"},
		{"no rule decides who is one: a network that only blocks name is none", plain +
			"network foes = 192.0.2.0/24\nblock f: foes -> green : ssh\nblock s: strangers -> red : ssh\nallow a: everywhere -> " +
			"red : ssh\n", "h1", in, "wan0", "tcp 192.0.2.1 -> 203.0.113.1 : 22", "admitted by allow a"},
		{"unless it is declared shared", plain +
			"network foes = 192.0.2.0/24 shared\nblock f: foes -> green : ssh\nblock s: strangers -> red : ssh\nallow a: everywhere -> " +
			"red : ssh\n", "h1", in, "wan0", "tcp 192.0.2.1 -> 203.0.113.1 : 22", "dropped by block s"},
		{"what is shared stays so in what is made of it", plain +
			"network wifi = 192.0.2.0/24 shared\nnetwork campus = wifi, office\nblock s: strangers -> red : ssh\nallow a: everywhere -> " +
			"red : ssh\n", "h1", in, "wan0", "tcp 192.0.2.1 -> 203.0.113.1 : 22", "dropped by block s"},
		{"and what is not does not", plain +
			"network wifi = 192.0.2.0/24 shared\nnetwork campus = wifi, office\nblock s: strangers -> red : ssh\nallow a: everywhere -> " +
			"red : ssh\n", "h1", in, "wan0", "tcp 198.51.100.9 -> 203.0.113.1 : 22", "admitted by allow a"},

		{"except takes addresses away from a host on the right", plain + "allow a: office -> red except hill : https\n", "h1", in, "wan0",
			"tcp 198.51.100.9 -> 10.60.0.1 : 443", "dropped by stance inbound closed"},
		{"and leaves its others", plain + "allow a: office -> red except hill : https\n", "h1", in, "wan0",
			"tcp 198.51.100.9 -> 203.0.113.1 : 443", "admitted by allow a"},
		{"and then it is delivered to those alone", plain + "allow a: office -> red except hill : https\n", "h1", in, "wan0",
			"tcp 198.51.100.9 -> 192.0.2.200 : 443", "dropped by stance inbound closed"},
		{"where it takes none away, to whatever address", plain + "allow a: office -> red except 192.0.2.0/25 : https\n", "h1", in,
			"wan0", "tcp 198.51.100.9 -> 192.0.2.200 : 443", "admitted by allow a"},
		{"except takes addresses away from a host on the left", head +
			"role red { outbound closed }\nrole blue\nrole green\nallow a: red except hill -> office : https\n", "h1", out, "eth1",
			"tcp 10.60.0.1 -> 198.51.100.9 : 443", "dropped by stance outbound closed"},
		{"a role that is taken away is taken whole", plain + "allow a: office -> fleet except red : https\n", "h1", in, "wan0",
			"tcp 198.51.100.9 -> 192.0.2.200 : 443", "dropped by stance inbound closed"},
		{"a role at a place is taken away there", plain + "allow a: everywhere except red at hill -> green : https\n", "h4", in, "wan0",
			"tcp 10.60.0.1 -> 203.0.113.9 : 443", "dropped by stance inbound closed"},
		{"and nowhere else", plain + "allow a: everywhere except red at hill -> green : https\n", "h4", in, "wan0",
			"tcp 10.40.0.1 -> 203.0.113.9 : 443", "admitted by allow a"},
		{"as a target too", plain + "allow a: office -> fleet except red at hill : https\n", "h1", in, "wan0",
			"tcp 198.51.100.9 -> 203.0.113.1 : 443", "admitted by allow a"},
		{"at and except on one side", plain + "allow a: office -> red at quay, red at hill except 10.60.0.1 : https\n", "h1", in, "wan0",
			"tcp 198.51.100.9 -> 10.60.0.1 : 443", "dropped by stance inbound closed"},

		{"a block refuses on a router whose forward is open", plain + "block b: office -> everywhere : https through red\n", "h1",
			through, "eth0", "tcp 198.51.100.9 -> 192.0.2.1 : 443", "dropped by block b"},
		{"and nothing else", plain + "block b: office -> everywhere : https through red\n", "h1", through, "eth0",
			"tcp 198.51.100.9 -> 192.0.2.1 : 444", "admitted by stance forward open"},
		{"but for exceptions", plain + "block b: office -> everywhere : https through red\nallow a: bad -> everywhere : https through " +
			"red over b\n", "h1", through, "eth0", "tcp 198.51.100.70 -> 192.0.2.1 : 443", "admitted by allow a"},
		{"replies go on", plain + "block b: everywhere -> everywhere : any through red\n", "h1", through, "eth0",
			"established tcp 198.51.100.9 -> 192.0.2.1 : 443", "admitted by ground replies"},
		{"a forged source is dropped where forward is closed", head + "role red { forward closed }\nrole blue\nrole green\n", "h1",
			through, "wan0", "tcp 10.40.7.7 -> 192.0.2.1 : 443", "dropped by local quay"},
		{"where it is open it is nobody's matter", plain + "block b: office -> everywhere : https through red\n", "h1", through, "wan0",
			"tcp 10.40.7.7 -> 192.0.2.1 : 443", "admitted by stance forward open"},
		{"a part of the ground turned off is off for what is forwarded", head +
			"role red { forward closed }\nrole blue\nrole green\nground { icmp-errors off }\n", "h1", through, "eth0",
			"icmp 198.51.100.9 -> 192.0.2.1 : 3", "dropped by stance forward closed"},
		{"in one direction alone it is not", head +
			"role red { forward closed }\nrole blue\nrole green\nground { inbound icmp-errors off }\n", "h1", through, "eth0",
			"icmp 198.51.100.9 -> 192.0.2.1 : 3", "admitted by ground icmp-errors"},
		{"behind a masquerade on means the router's address too", plain +
			"masquerade m: office -> fleet through red\nallow a: office, hill -> blue : ssh on hill\n", "h3", in, "eth0",
			"tcp 10.40.0.1 -> 10.60.3.1 : 22", "dropped by stance inbound closed"},
		{"which may be the router's address there", plain +
			"masquerade m: hill -> fleet through red\nallow a: 10.60.9.0/24 -> blue : ssh on hill\n", "h3", in, "eth0",
			"tcp 10.60.0.1 -> 10.60.3.1 : 22", "admitted by allow a"},
		{"off: kept and not in force", plain + "allow a: office -> red : ssh off\n", "h1", in, "wan0",
			"tcp 198.51.100.9 -> 203.0.113.1 : 22", "dropped by stance inbound closed"},
		{"ended", plain + "allow a: office -> red : ssh until 2026-11-24\n", "h1", in, "wan0", "tcp 198.51.100.9 -> 203.0.113.1 : 22",
			"dropped by stance inbound closed"},
		{"a part of the ground turned off", plain + "ground { icmp-errors off }\n", "h1", in, "wan0",
			"icmp 198.51.100.9 -> 203.0.113.1 : 3", "dropped by stance inbound closed"},
		{"in one direction only", plain + "ground { outbound icmp-errors off }\n", "h1", in, "wan0",
			"icmp 198.51.100.9 -> 203.0.113.1 : 3", "admitted by ground icmp-errors"},
		{"a part of the ground narrowed", plain + "ground { inbound icmp-errors from bad }\n", "h1", in, "wan0",
			"icmp 198.51.100.9 -> 203.0.113.1 : 3", "dropped by stance inbound closed"},
		{"to those peers", plain + "ground { inbound icmp-errors from bad }\n", "h1", in, "wan0", "icmp 198.51.100.70 -> 203.0.113.1 : 3",
			"admitted by ground icmp-errors"},

		{"a block refuses what an allow admits, wherever it stands", plain + "block b: bad -> red : ssh\nallow a: office -> red : ssh\n",
			"h1", in, "wan0", "tcp 198.51.100.70 -> 203.0.113.1 : 22", "dropped by block b"},
		{"but not an exception to it", plain + "allow a: office -> red : ssh over b\nblock b: bad -> red : ssh\n", "h1", in, "wan0",
			"tcp 198.51.100.70 -> 203.0.113.1 : 22", "admitted by allow a"},
		{"an exception to one block is none to another", plain +
			"allow a: office -> red : ssh over b\nblock b: bad -> red : ssh\nblock c: office -> red : tcp 1-100\n", "h1", in, "wan0",
			"tcp 198.51.100.70 -> 203.0.113.1 : 22", "dropped by block b"},
		{"two exceptions do not add up", plain +
			"allow a: office -> red : ssh over b\nallow d: office -> red : ssh over c\nblock b: bad -> red : ssh\nblock c: office -> red " +
			": ssh\n", "h1", in, "wan0", "tcp 198.51.100.70 -> 203.0.113.1 : 22", "dropped by block b"},
		{"one exception to both does", plain +
			"allow a: office -> red : ssh over b, c\nblock b: bad -> red : ssh\nblock c: office -> red : ssh\n", "h1", in, "wan0",
			"tcp 198.51.100.70 -> 203.0.113.1 : 22", "admitted by allow a"},
		{"a block speaks where the stance is open too", plain + "block b: fleet -> everywhere : smtp by reject\n", "h1", out, "wan0",
			"tcp 203.0.113.1 -> 198.51.100.9 : 25", "rejected with tcp-reset by block b"},
		{"of blocks that drop and reject the drop wins", plain + "block b: bad -> red : ssh by reject\nblock c: office -> red : ssh\n",
			"h1", in, "wan0", "tcp 198.51.100.70 -> 203.0.113.1 : 22", "dropped by block c"},
		{"a block's own answer counts, not the role's", head +
			"role red { refuse by reject }\nrole blue\nrole green\nblock b: bad -> red : ssh\n", "h1", in, "wan0",
			"tcp 198.51.100.70 -> 203.0.113.1 : 22", "dropped by block b"},
		{"it is logged if one of the allows logs", plain + "allow a: office -> red : ssh\nallow d: office -> red : ssh log\n", "h1", in,
			"wan0", "tcp 198.51.100.9 -> 203.0.113.1 : 22", "admitted and logged by allow a"},
		{"a log acts at the receiving end where that is ours", plain + "allow a: red -> blue : ssh log\n", "h3", in, "eth0",
			"tcp 10.60.0.1 -> 10.60.3.1 : 22", "admitted and logged by allow a"},
		{"and then not at the sending end", plain + "allow a: red -> blue : ssh log\n", "h1", out, "eth1",
			"tcp 10.60.0.1 -> 10.60.3.1 : 22", "admitted by allow a"},
		{"else at the sending end", plain + "allow a: red -> blue, office : ssh log\n", "h1", out, "wan0",
			"tcp 203.0.113.1 -> 198.51.100.9 : 22", "admitted and logged by allow a"},
		{"a block logs wherever it refuses", plain + "block a: red -> blue : ssh log\n", "h1", out, "eth1",
			"tcp 10.60.0.1 -> 10.60.3.1 : 22", "dropped and logged by block a"},
		{"not if the one that logs does not admit it", plain +
			"allow a: office -> red : ssh over b\nallow d: office -> red : ssh log\nblock b: bad -> red : ssh\n", "h1", in, "wan0",
			"tcp 198.51.100.70 -> 203.0.113.1 : 22", "admitted by allow a"},
		{"and if one of the blocks logs", plain + "block b: bad -> red : ssh by reject log\nblock c: office -> red : ssh\n", "h1", in,
			"wan0", "tcp 198.51.100.70 -> 203.0.113.1 : 22", "dropped and logged by block c"},

		{"the ground comes before blocks", plain + "block b: everywhere -> fleet : any\n", "h1", in, "wan0",
			"icmp 198.51.100.9 -> 203.0.113.1 : 3", "admitted by ground icmp-errors"},
		{"a host speaks to itself over loopback", plain + "block b: everywhere -> fleet : any\n", "h1", in, "lo",
			"tcp 10.40.0.1 -> 10.40.0.1 : 80", "admitted by ground loopback"},
		{"and reaches the service", head + "role red { outbound closed }\nrole blue\nrole green\n", "h1", out, "eth0",
			"tcp 10.40.0.1 -> 10.40.0.5 : 8480", "admitted by ground service"},
		{"a forged source is dropped before anything", plain + "allow a: everywhere -> fleet : any\n", "h1", in, "wan0",
			"tcp 10.40.7.7 -> 203.0.113.1 : 22", "dropped by local quay"},
		{"on hosts that are not on the segment it is not", plain + "allow a: everywhere -> fleet : any\n", "h4", in, "wan0",
			"tcp 10.40.7.7 -> 203.0.113.9 : 22", "admitted by allow a"},
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
	pol := policytest.Resolve(t, policytest.Fleet, plain+
		"block b: everywhere -> fleet : tcp 1-100\nallow a: everywhere -> fleet : tcp 200\n")
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
	for seed := range policytest.Trials(20) {
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
	for seed := range policytest.Trials(20) {
		rng := rand.New(rand.NewPCG(19, seed))
		text := policytest.Random(rng)
		lines := strings.Split(strings.TrimSpace(text), "\n")
		pol := policytest.Resolve(t, policytest.Fleet, text)
		rng.Shuffle(len(lines), func(i, j int) { lines[i], lines[j] = lines[j], lines[i] })
		shuffled := policytest.Resolve(t, policytest.Fleet, strings.Join(lines[:len(lines)/2], "\n")+"\n",
			strings.Join(lines[len(lines)/2:], "\n")+"\n")
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
	const gate = "policy p language 1\nnetwork office = 198.51.100.0/24\nnetwork lab = 10.60.3.0/24\nrole red\nrole blue\nrole green { " +
		"forward closed }\n"
	over := func(p packet.Packet) packet.Packet {
		p.In, p.Out = "wan0", "eth9"
		return p
	}
	for _, c := range []struct{ rules, packet, want string }{
		{"allow a: office -> red : ssh through green", "tcp 198.51.100.9 -> 10.40.0.1 : 22", "admitted by allow a"},
		{"allow a: office -> red : ssh through green", "tcp 198.51.100.9 -> 10.60.3.1 : 22", "dropped by stance forward closed"},
		{"allow a: office -> red : ssh", "tcp 198.51.100.9 -> 10.40.0.1 : 22", "dropped by stance forward closed"},
		{"allow a: office -> red : ssh through green\nblock b: office -> red : any through green by reject",
			"tcp 198.51.100.9 -> 10.40.0.1 : 22", "rejected by block b"},
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
	pol := policytest.Resolve(t, policytest.Fleet,
		"policy p language 1\nsegment wan = 203.0.113.0/28 local\nrole red\nrole blue\nrole green { forward closed }\nallow a: "+
			"everywhere -> red : ssh through green\n")
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
	pol := policytest.Resolve(t, policytest.Fleet, head+
		"role red { outbound closed }\nrole blue\nrole green\nallow a: red -> office : ssh from program /bin/a, /bin/b from user "+
		"x\nallow b: office -> red : https\n")
	sp := packet.NewSpace()
	d := compile.ForHost(sp, pol, pol.Fleet.Host("h1"), now).Decision(sp)
	p := at(t, packet.Out, "eth0", "tcp 10.40.0.1 -> 198.51.100.3 : 22", "new")
	for _, c := range []struct {
		program, user string
		want          packet.Verdict
	}{{"/bin/a", "x", packet.Admit}, {"/bin/b", "x", packet.Admit}, {"/bin/c", "x", packet.Drop}, {"/bin/a", "y", packet.Drop},
		{"", "x", packet.Drop}} {
		p.Program, p.User = c.program, c.user
		require.Equal(t, c.want, sp.Outcome(d, p).Verdict, "%+v", c)
	}
}
