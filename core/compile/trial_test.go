package compile_test

import (
	"testing"

	"github.com/stretchr/testify/require"

	"yellowfence.example/yfence/core/compile"
	"yellowfence.example/yfence/core/packet"
	"yellowfence.example/yfence/core/policy/policytest"
)

// TestForwardingOnTrial: while closing what is forwarded is on trial, the ground's ICMP errors pass
// blocks already, as they will; where it is open they do not.
func TestForwardingOnTrial(t *testing.T) {
	for stance, want := range map[string]packet.Verdict{"": packet.Drop, "forward open": packet.Drop, "forward closed": packet.Admit,
		"forward closed on trial until 2027-01-31": packet.Admit, "forward closed on trial until 2027-01-31 else open": packet.Drop} {
		pol := policytest.Resolve(t, policytest.Fleet, "policy p language 1\nrole red { "+stance+" }\nrole blue\nrole green\n"+
			"block b: blue -> everywhere : icmp through red\n")
		sp := packet.NewSpace()
		sp.Since(now)
		d := compile.ForHost(sp, pol, pol.Fleet.Host("h2"), now).Decision(sp)
		p, ok := sp.Example(sp.AndAll(sp.WellFormed(), sp.Crossing(packet.Forward), sp.Value(packet.Protocol, packet.ICMP),
			sp.Value(packet.ICMPType, 3), sp.Value(packet.ICMPCode, 1), sp.Value(packet.State, packet.New),
			sp.Addrs(packet.Src, pol.Fleet.Host("h3").Addresses()), sp.Typical()), nil)
		require.True(t, ok)
		require.Equal(t, want, sp.Outcome(d, p).Verdict, stance)
	}
}
