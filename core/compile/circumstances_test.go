package compile_test

import (
	"cmp"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"yellowfence.example/yfence/core/compile"
	"yellowfence.example/yfence/core/packet"
	"yellowfence.example/yfence/core/policy/policytest"
)

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
		{"at most: admitted while there are tokens", plain + "allow a: office -> red : ssh at most 4 per 1m\n", in, inward, "",
			"admitted by allow a"},
		{"what exceeds it is refused", plain + "allow a: office -> red : ssh at most 4 per 1m\n", in, inward, "over a.4",
			"dropped by allow a"},
		{"each family has its bucket", plain + "allow a: office -> red : ssh at most 4 per 1m\n", in, inward, "over a.6",
			"admitted by allow a"},
		{"refused as the role refuses", stances("refuse by reject") + "allow a: office -> red : ssh at most 4 per 1m\n", in, inward,
			"over a.4", "rejected with tcp-reset by allow a"},
		{"and logged as the role logs that", stances("log refused") + "allow a: office -> red : ssh at most 4 per 1m\n", in, inward,
			"over a.4", "dropped and logged by allow a"},
		{"where the stance is open too", stances("inbound open") + "allow a: office -> red : ssh at most 4 per 1m\n", in, inward,
			"over a.4", "dropped by allow a"},
		{"per source it is another bucket", plain + "allow a: office -> red : ssh at most 4 per 1m per source\n", in, inward,
			"over a.source.4", "dropped by allow a"},
		{"an allow without it decides first", plain + "allow a: office -> red : ssh at most 4 per 1m\nallow b: bad -> red : ssh\n", in,
			"tcp 198.51.100.70 -> 203.0.113.1 : 22", "over a.4", "admitted by allow b"},
		{"then one per source", plain + "allow a: office -> red : ssh at most 400 per 1m\nallow b: bad -> red : ssh at most 1 per 1m per " +
			"source\n", in, "tcp 198.51.100.70 -> 203.0.113.1 : 22", "over b.source.4", "dropped by allow b"},
		{"then the larger rate", plain + "allow a: office -> red : ssh at most 4 per 1m\nallow b: bad -> red : ssh at most 5 per 1m\n",
			in, "tcp 198.51.100.70 -> 203.0.113.1 : 22", "over a.4", "admitted by allow b"},
		{"of one rate the larger bucket", plain +
			"allow a: office -> red : ssh at most 1 per 1m\nallow b: bad -> red : ssh at most 60 per 1h\n", in,
			"tcp 198.51.100.70 -> 203.0.113.1 : 22", "over a.4", "admitted by allow b"},
		{"then the name; and no other is tried", plain +
			"allow b: office -> red : ssh at most 4 per 1m\nallow a: bad -> red : ssh at most 4 per 1m\n", in,
			"tcp 198.51.100.70 -> 203.0.113.1 : 22", "over a.4", "dropped by allow a"},
		{"it counts at the sending end where the other is not ours", plain + "allow a: red -> office : ssh at most 4 per 1m\n", out,
			outward, "over a.4", "dropped by allow a"},
		{"and only there", plain + "allow a: red -> office, blue : ssh at most 4 per 1m\n", out, "tcp 10.60.0.1 -> 10.60.3.1 : 22",
			"over a.4", "admitted by allow a"},
		{"an exception with a limit", plain + "allow a: office -> red : ssh over b at most 4 per 1m\nblock b: bad -> red : any\n", in,
			"tcp 198.51.100.70 -> 203.0.113.1 : 22", "over a.4", "dropped by allow a"},
		{"does not slow what a free allow admits", plain +
			"allow a: office -> red : ssh over b at most 4 per 1m\nallow c: office -> red : ssh\nblock b: bad -> red : any\n", in, inward,
			"over a.4", "admitted by allow c"},

		{"log up to: logged while there are tokens", plain + "allow a: office -> red : ssh log up to 4 per 1m\n", in, inward, "",
			"admitted and logged by allow a"},
		{"and admitted all the same without", plain + "allow a: office -> red : ssh log up to 4 per 1m\n", in, inward, "over a.log.4",
			"admitted by allow a"},
		{"the freest log counts", plain + "allow a: office -> red : ssh log up to 4 per 1m\nallow b: office -> red : tcp 1-100 log up to " +
			"5 per 1m\n", in, inward, "over a.log.4", "admitted and logged by allow a"},
		{"one without a limit above all", plain +
			"allow a: office -> red : ssh log up to 4 per 1m\nallow b: office -> red : tcp 1-100 log\n", in, inward, "over a.log.4",
			"admitted and logged by allow a"},
		{"a block's too", plain + "block a: office -> red : ssh log up to 4 per 1m\n", in, inward, "over a.log.4", "dropped by block a"},
		{"log refused up to", stances("log refused up to 3 per 1h"), in, inward, "over log.refused.4", "dropped by stance inbound closed"},
		{"the rule's own log is of the excess too", plain + "allow a: office -> red : ssh at most 4 per 1m log\n", in, inward, "over a.4",
			"dropped and logged by allow a"},

		{"from user: what he sends", stances("outbound closed") + "allow a: red -> office : ssh from user backup\n", out, outward,
			"user backup", "admitted by allow a"},
		{"or another who is named", stances("outbound closed") + "allow a: red -> office : ssh from user x, backup\n", out, outward,
			"user backup", "admitted by allow a"},
		{"nothing of others", stances("outbound closed") + "allow a: red -> office : ssh from user backup\n", out, outward, "user www",
			"dropped by stance outbound closed"},
		{"nor of nobody", stances("outbound closed") + "allow a: red -> office : ssh from user backup\n", out, outward, "",
			"dropped by stance outbound closed"},
		{"from unit", stances("outbound closed") + "allow a: red -> office : ssh from unit backup.service\n", out, outward,
			"unit backup.service", "admitted by allow a"},
		{"both must be so", stances("outbound closed") + "allow a: red -> office : ssh from user backup from unit backup.service\n", out,
			outward, "unit backup.service", "dropped by stance outbound closed"},
		{"the receiving end cannot tell", plain + "allow a: blue -> red : ssh from user backup\n", in, "tcp 10.60.3.1 -> 10.60.0.1 : 22",
			"", "admitted by allow a"},
		{"and admits it of hosts of ours only", plain + "allow a: blue, office -> red : ssh from user backup\n", in, inward, "",
			"dropped by stance inbound closed"},
		{"a block of it refuses at the sending end", plain + "block a: red -> office : smtp from user www\n", out,
			"tcp 203.0.113.1 -> 198.51.100.9 : 25", "user www", "dropped by block a"},
		{"and not at the receiving end, where it would refuse others", stances("inbound open") +
			"block a: blue -> red : ssh from user www\n", in, "tcp 10.60.3.1 -> 10.60.0.1 : 22", "", "admitted by stance inbound open"},

		{"encrypted: what came by IPsec", plain + "allow a: office -> red : ssh encrypted\n", in, inward, "encrypted",
			"admitted by allow a"},
		{"and nothing else", plain + "allow a: office -> red : ssh encrypted\n", in, inward, "", "dropped by stance inbound closed"},
		{"until: before the end of that day", plain + "allow a: office -> red : ssh until 2026-11-26\n", in, inward,
			"at 2026-11-26T23:59:59Z", "admitted by allow a"},
		{"and not after it", plain + "allow a: office -> red : ssh until 2026-11-26\n", in, inward, "at 2026-11-27T00:00:00Z",
			"dropped by stance inbound closed"},
		{"from: not before that day", plain + "allow a: office -> red : ssh from 2026-11-26\n", in, inward, "at 2026-11-25T23:59:59Z",
			"dropped by stance inbound closed"},
		{"and from its beginning on", plain + "allow a: office -> red : ssh from 2026-11-26 until 2026-11-26\n", in, inward,
			"at 2026-11-26T00:00:00Z", "admitted by allow a"},
		{"to its end", plain + "allow a: office -> red : ssh from 2026-11-26 until 2026-11-26\n", in, inward, "at 2026-11-27T00:00:00Z",
			"dropped by stance inbound closed"},
		{"or an instant", plain + "allow a: office -> red : ssh until 2026-11-26T12:00Z\n", in, inward, "at 2026-11-26T12:00:00Z",
			"dropped by stance inbound closed"},
		{"a block ends too", stances("inbound open") + "block a: office -> red : ssh until 2026-11-26\n", in, inward,
			"at 2026-11-27T00:00:00Z", "admitted by stance inbound open"},
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
	if how := cmp.Or(string(o.Reply), o.Translated.String()); how != "" {
		s += " with " + how
	}
	if o.Logged {
		s += " and logged"
	}
	return s
}

// TestBuckets: what the kernel is told is the rate that was written.
func TestBuckets(t *testing.T) {
	for written, want := range map[string]string{
		"4 per 1m": "4 per 1m", "1 per 1s per source": "1 per 1s per source", "90 per 1h": "90 per 1h", "10 per 1d": "10 per 1d",
		"5 per 10s": "5 per 10s",
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
		"block b: everywhere -> red : tcp 22\nleave guests: red : inbound via ctr*, br0\nleave passing: red : forwarded via ctr*\nleave "+
		"nothing: red : inbound via wan0  off\n")
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
