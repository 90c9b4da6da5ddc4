package kernel_test

import (
	"testing"

	"github.com/stretchr/testify/require"

	"yellowfence.example/yfence/core/kernel"
	"yellowfence.example/yfence/core/packet"
)

// TestWhatTheKernelDoes goes through the facts of the kernel's chains: each case
// is a few chains, and what becomes of TCP packets to ports 1, 2 and 3 that come in.
func TestWhatTheKernelDoes(t *testing.T) {
	all := func(a kernel.Action, target string) []kernel.Branch {
		return []kernel.Branch{{Match: packet.All, Action: a, Target: target}}
	}
	sp := packet.NewSpace()
	port := func(n int) packet.Set {
		return sp.And(sp.Value(packet.Protocol, packet.TCP), sp.Value(packet.DstPort, n))
	}
	on := func(match packet.Set, a kernel.Action, target ...string) kernel.Rule {
		return kernel.Rule{Match: match, Branches: all(a, append(target, "")[0])}
	}
	base := func(family, name, hook string, priority int, policy packet.Verdict, rules ...kernel.Rule) *kernel.Chain {
		return &kernel.Chain{Family: family, Table: "t", Name: name, Hook: hook, Type: "filter", Priority: priority, Policy: policy,
			Rules: rules}
	}
	chain := func(name string, rules ...kernel.Rule) *kernel.Chain {
		return &kernel.Chain{Family: "inet", Table: "t", Name: name, Rules: rules}
	}
	const accept, drop, jump, gotoo, back = kernel.Accept, kernel.Drop, kernel.Jump, kernel.Goto, kernel.Return
	for _, c := range []struct {
		what   string
		chains []*kernel.Chain
		want   string // A or D for each of the three ports
	}{
		{"no chains", nil, "AAA"},
		{"the first rule that matches decides",
			[]*kernel.Chain{base("inet", "i", "input", 0, packet.Admit, on(port(1), accept), on(port(1), drop), on(port(2), drop))}, "ADA"},
		{"the policy decides what no rule does", []*kernel.Chain{base("inet", "i", "input", 0, packet.Drop, on(port(1), accept))}, "ADD"},
		{"an accept does not spare the packet later chains",
			[]*kernel.Chain{base("inet", "i", "input", 0, packet.Admit, on(packet.All, accept)),
				base("inet", "j", "input", 10, packet.Admit, on(port(2), drop))}, "ADA"},
		{"a drop ends it", []*kernel.Chain{base("inet", "i", "input", 0, packet.Admit, on(port(1), drop)),
			base("inet", "j", "input", 10, packet.Admit, on(port(1), accept))}, "DAA"},
		{"chains run by priority, not by their place in the listing",
			[]*kernel.Chain{base("inet", "j", "input", 10, packet.Admit, on(packet.All, accept)),
				base("inet", "i", "input", -10, packet.Drop, on(port(3), accept))}, "DDA"},
		{"an earlier hook comes first", []*kernel.Chain{base("inet", "i", "input", 0, packet.Admit),
			base("inet", "p", "prerouting", 0, packet.Admit, on(port(1), drop))}, "DAA"},
		{"a chain of another hook has no say",
			[]*kernel.Chain{base("inet", "o", "output", 0, packet.Drop), base("inet", "f", "forward", 0, packet.Drop)}, "AAA"},
		{"a table of the other family has no say", []*kernel.Chain{base("ip6", "i", "input", 0, packet.Drop)}, "AAA"},
		{"a table of this family has", []*kernel.Chain{base("ip", "i", "input", 0, packet.Drop)}, "DDD"},
		{"a jump comes back at the chain's end",
			[]*kernel.Chain{base("inet", "i", "input", 0, packet.Admit, on(packet.All, jump, "c"), on(port(2), drop)),
				chain("c", on(port(1), drop))}, "DDA"},
		{"a return comes back at once", []*kernel.Chain{base("inet", "i", "input", 0, packet.Admit, on(packet.All, jump, "c"),
			on(port(1), drop)), chain("c", on(port(1), back), on(packet.All, accept))}, "DAA"},
		{"a return from a base chain is its policy",
			[]*kernel.Chain{base("inet", "i", "input", 0, packet.Drop, on(port(1), back), on(packet.All, accept))}, "DAA"},
		{"a goto does not come back", []*kernel.Chain{base("inet", "i", "input", 0, packet.Drop, on(port(1), gotoo, "c"),
			on(packet.All, accept)), chain("c")}, "DAA"},
		{"a goto in a chain returns to where the jump came from",
			[]*kernel.Chain{base("inet", "i", "input", 0, packet.Admit, on(packet.All, jump, "c"), on(port(1), drop)),
				chain("c", on(port(1), gotoo, "d"), on(port(1), accept)), chain("d")}, "DAA"},
		{"the same chain from two places", []*kernel.Chain{base("inet", "i", "input", 0, packet.Drop, on(port(1), jump, "c"),
			on(port(2), jump, "c"), on(port(2), accept)), chain("c", on(port(1), accept))}, "AAD"},
		{"a nat chain that does nothing", []*kernel.Chain{{Family: "ip", Table: "n", Name: "n", Hook: "prerouting", Type: "nat",
			Policy: packet.Admit}}, "AAA"},
	} {
		rs := &kernel.Ruleset{Chains: c.chains}
		d := rs.Decision(sp)
		attributed, deciders := rs.Attributed(sp)
		got := ""
		for n := 1; n <= 3; n++ {
			p, ok := sp.Example(sp.AndAll(port(n), sp.Value(packet.Hook, packet.In), sp.Value(packet.Family, packet.IPv4)),
				packet.Preferences{})
			require.True(t, ok)
			o := sp.Outcome(d, p)
			got += map[packet.Verdict]string{packet.Admit: "A", packet.Drop: "D"}[o.Verdict]
			by := sp.Outcome(attributed, p)
			require.Equal(t, o.Verdict, by.Verdict, c.what)
			if who := deciders[by.By-1]; who.Rule != nil { // the rule that is named decides so
				require.True(t, sp.Has(who.Rule.Match, p), "%s: %+v", c.what, who)
				require.Equal(t, o.Verdict == packet.Drop, who.Rule.Branches[0].Action == drop, c.what)
			}
		}
		require.Equal(t, c.want, got, c.what)
	}
}

func TestSignatureIsAboutMeaningAndComments(t *testing.T) {
	sp := packet.NewSpace()
	ssh, web := sp.Value(packet.DstPort, 22), sp.Value(packet.DstPort, 80)
	table := func(rules ...kernel.Rule) *kernel.Ruleset {
		return &kernel.Ruleset{Chains: []*kernel.Chain{{Family: "inet", Table: "t", Name: "i", Hook: "input", Type: "filter",
			Policy: packet.Drop, Rules: rules}}}
	}
	rule := func(match packet.Set, comment string) kernel.Rule {
		return kernel.Rule{Match: match, Comment: comment, Branches: []kernel.Branch{{Match: packet.All, Action: kernel.Accept}}}
	}
	of := func(rs *kernel.Ruleset) string {
		return rs.Signature(sp, func(c *kernel.Chain) bool { return c.Table == "t" })
	}
	want := of(table(rule(ssh, "a"), rule(web, "b")))
	require.Equal(t, want, of(table(rule(sp.And(ssh, sp.Value(packet.Hook, packet.In)), "a"), rule(web, "b"))),
		"the chain's own hook said again")
	require.NotEqual(t, want, of(table(rule(web, "b"), rule(ssh, "a"))), "another order")
	require.NotEqual(t, want, of(table(rule(ssh, "x"), rule(web, "b"))), "another comment")
	require.NotEqual(t, want, of(table(rule(ssh, "a"))), "a rule less")
}

// TestWhoTranslatesDecidesNothing: that a packet is admitted is owed to the rule that filters it,
// and that it is changed to the one that translates it.
func TestWhoTranslatesDecidesNothing(t *testing.T) {
	sp := packet.NewSpace()
	does := func(a kernel.Action) []kernel.Branch { return []kernel.Branch{{Match: packet.All, Action: a}} }
	web := sp.And(sp.Value(packet.Protocol, packet.TCP), sp.Value(packet.DstPort, 443))
	forward := &kernel.Chain{Family: "ip", Table: "filter", Name: "f", Hook: "forward", Type: "filter", Policy: packet.Drop,
		Rules: []kernel.Rule{{Match: web, Branches: does(kernel.Accept), Text: kernel.Words("tcp dport 443 accept")}}}
	out := &kernel.Chain{Family: "ip", Table: "nat", Name: "o", Hook: "postrouting", Type: "nat", Priority: 100, Policy: packet.Admit,
		Rules: []kernel.Rule{{Match: packet.All, Branches: does(kernel.SourceNAT), Text: kernel.Words("masquerade")}}}
	p, _ := sp.Example(sp.AndAll(web, sp.Value(packet.Family, packet.IPv4), sp.Crossing(packet.Forward), sp.WellFormed(), sp.Typical(),
		sp.Value(packet.State, packet.New)), nil)
	by := func(d packet.Decision, deciders []kernel.Decider) string {
		o := sp.Outcome(d, p)
		require.Equal(t, packet.Outcome{Verdict: packet.Admit, Translated: packet.Translation{Masqueraded: true}, By: o.By}, o)
		return deciders[o.By-1].Text()
	}
	rs := &kernel.Ruleset{Chains: []*kernel.Chain{forward, out}}
	require.True(t, rs.Translates())
	require.Equal(t, "tcp dport 443 accept", by(rs.Attributed(sp)))
	require.Equal(t, "masquerade", by(rs.Altering(sp)))
	rs.Chains[0] = &kernel.Chain{Family: "ip", Table: "filter", Name: "f", Hook: "forward", Type: "filter", Policy: packet.Admit}
	require.Equal(t, "policy accept of the chain, which has no rules", by(rs.Attributed(sp)))
	require.False(t, (&kernel.Ruleset{Chains: []*kernel.Chain{forward}}).Translates())
}
