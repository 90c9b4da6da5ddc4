package layout_test

import (
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/require"

	"yellowfence.example/yfence/core/compile"
	"yellowfence.example/yfence/core/dialect/layout"
	"yellowfence.example/yfence/core/kernel"
	"yellowfence.example/yfence/core/packet"
	"yellowfence.example/yfence/core/policy"
	"yellowfence.example/yfence/core/policy/policytest"
)

// TestLinesDoWhatThePlanMeans: whatever a filter can say in one line, the lines laid out for it
// decide as their plan does, for every packet.
func TestLinesDoWhatThePlanMeans(t *testing.T) {
	seen := map[string]int{} // what was laid out
	for seed := range policytest.Trials(39) {
		rng := rand.New(rand.NewPCG(31, seed))
		text := policytest.Random(rng)
		pol := policytest.Resolve(t, policytest.Fleet, text)
		options := randomOptions(rng)
		sp := packet.NewSpace()
		plan := compile.ForHost(sp, pol, pol.Fleet.Hosts[rng.IntN(len(pol.Fleet.Hosts))], 0)
		chains := options.Lines(sp, plan)
		count(seen, chains)

		rs := rulesetOf(sp, plan, chains)
		told := packet.All
		if options.Family != policy.AnyFamily {
			told = sp.Value(packet.Family, options.Family)
		}
		differ := sp.And(sp.Differ(rs.Decision(sp), plan.Decision(sp)), told)
		if differ != packet.Empty {
			p, _ := sp.Example(differ, nil)
			require.Failf(t, "another decision", "seed %d, host %s, %+v\n%s\nis %v, and %v was meant\n%s", seed, plan.Host.Name, options,
				p, sp.Outcome(rs.Decision(sp), p), sp.Outcome(plan.Decision(sp), p), text)
		}
	}
	for _, what := range []string{"a case", "a log", "a bucket", "a jump", "a helper", "no interface", "a sender", "a redirect"} {
		require.Positive(t, seen[what], "no %s was laid out: %v", what, seen)
	}
}

// TestLinesKeepToWhatCanBeSaid: no line asks or does more than the filter takes in one.
func TestLinesKeepToWhatCanBeSaid(t *testing.T) {
	for seed := range policytest.Trials(39) {
		rng := rand.New(rand.NewPCG(37, seed))
		pol := policytest.Resolve(t, policytest.Fleet, policytest.Random(rng))
		options := randomOptions(rng)
		sp := packet.NewSpace()
		names := map[string]bool{}
		chains := options.Lines(sp, compile.ForHost(sp, pol, pol.Fleet.Host("h1"), 0))
		for _, c := range chains {
			require.False(t, names[c.Name], "seed %d: two chains have the name %s", seed, c.Name)
			names[c.Name] = true
		}
		for _, c := range chains {
			for i, l := range c.Lines {
				where := []any{"seed %d, %+v: line %d of %s: %+v", seed, options, i, c.Name, l}
				require.True(t, l.Target == "" || names[l.Target], where...)
				require.True(t, options.Family == policy.AnyFamily || l.Family == policy.AnyFamily || l.Family == options.Family, where...)
				require.False(t, options.LogApart && l.Log != "" && l.Action != kernel.Pass, where...)
				require.False(t, options.OneIface && len(l.Ifaces) > 1, where...)
				require.False(t, options.OneType && len(l.Types) > 1, where...)
				require.LessOrEqual(t, places(l.Ports), options.Ports+(1<<17)*zero(options.Ports), where...)
				require.False(t, options.ByPort == 0 && l.Cases != nil, where...)
			}
		}
	}
}

// randomOptions are a filter's, of those that there are and of those that there are not.
func randomOptions(rng *rand.Rand) layout.Options {
	one := func() bool { return rng.IntN(2) == 0 }
	return layout.Options{Family: []int{policy.AnyFamily, packet.IPv4, packet.IPv6}[rng.IntN(3)], LogApart: one(), OneIface: one(),
		OneType: one(), OneOriginalDst: one(), ByPort: []int{0, 2, 8}[rng.IntN(3)], ByRange: one(), Ports: []int{0, 2, 15}[rng.IntN(3)]}
}

// rulesetOf has chains asked at the kernel's hooks.
func rulesetOf(sp *packet.Space, plan *compile.Plan, chains []*layout.Chain) *kernel.Ruleset {
	rs := &kernel.Ruleset{Tracks: [2]bool{true, true}, Routes: kernel.RoutesOf(plan.Host)}
	for _, laid := range chains {
		c := &kernel.Chain{Family: "inet", Table: "laid", Name: laid.Name}
		switch {
		case laid.Hook != "":
			c.Hook, c.Type, c.Policy = laid.Hook, "nat", packet.Admit
			c.Priority = map[string]int{"prerouting": -100, "postrouting": 100}[laid.Hook]
		case laid.Of != nil:
			c.Hook, c.Type, c.Policy = kernel.HookOf(laid.Direction), "filter", packet.Admit
			if laid.Of.Stance.Closed {
				c.Policy = packet.Drop
			}
		}
		for _, l := range laid.Lines {
			c.Rules = append(c.Rules, l.Rule(sp, laid.Direction, rs, c.Place(), ""))
		}
		rs.Chains = append(rs.Chains, c)
	}
	return rs
}

// places is how many ports a line takes, a range counting for two.
func places(ports []packet.PortRange) (n int) {
	for _, p := range ports {
		if n++; p.Lo != p.Hi {
			n++
		}
	}
	return n
}

func zero(n int) int {
	if n == 0 {
		return 1
	}
	return 0
}

func count(seen map[string]int, chains []*layout.Chain) {
	for _, c := range chains {
		for _, l := range c.Lines {
			for what, is := range map[string]bool{"a case": l.Cases != nil, "a log": l.Log != "", "a bucket": l.Bucket != nil,
				"a jump": l.Action == kernel.Jump, "a helper": c.Of == nil && c.Hook == "", "no interface": l.NotIfaces,
				"a sender": l.Senders != nil, "a redirect": l.Action == kernel.Redirect} {
				if is {
					seen[what]++
				}
			}
		}
	}
}
