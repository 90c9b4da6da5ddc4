package compare_test

import (
	"fmt"
	"math/rand/v2"
	"net/netip"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"yellowfence.example/yfence/core/compare"
	"yellowfence.example/yfence/core/compile"
	"yellowfence.example/yfence/core/dialect"
	"yellowfence.example/yfence/core/dialect/forms"
	"yellowfence.example/yfence/core/kernel"
	"yellowfence.example/yfence/core/packet"
	"yellowfence.example/yfence/core/policy"
	"yellowfence.example/yfence/core/policy/policytest"
	"yellowfence.example/yfence/core/say"
)

// settledOver is what settling makes of rules in force: ours as we write them, and what others
// have besides.
func settledOver(form dialect.Form, live, ours *kernel.Ruleset) *kernel.Ruleset {
	out := *live
	out.Chains = slices.Clone(ours.Chains)
	for _, c := range live.Chains {
		at := slices.IndexFunc(out.Chains, func(o *kernel.Chain) bool { return o.Place() == c.Place() })
		switch {
		case form.Ours(c):
		case at < 0:
			out.Chains = append(out.Chains, c)
		default: // the kernel's own, which asks ours first
			both := *out.Chains[at]
			both.Policy = c.Policy
			both.Rules = slices.Clone(both.Rules)
			for _, r := range c.Rules {
				if !slices.ContainsFunc(both.Rules, func(o kernel.Rule) bool { return o.Text == r.Text }) {
					both.Rules = append(both.Rules, r)
				}
			}
			out.Chains[at] = &both
		}
	}
	return &out
}

// TestWhoIsToBlame: people change rules in ways that do not show where the packet ends; the one
// thing that does it is named, and what to do about it does it.
func TestWhoIsToBlame(t *testing.T) {
	pol := policytest.Saltmarsh(t, "../..")
	do := func(a kernel.Action) []kernel.Branch { return []kernel.Branch{{Match: packet.All, Action: a}} }
	first := func(rs *kernel.Ruleset, name string, r kernel.Rule) {
		c := chain(rs, name)
		r.At = c.Place() + " handle 99"
		c.Rules = append([]kernel.Rule{r}, c.Rules...)
	}
	without := func(rs *kernel.Ruleset, name, comment string) {
		c := chain(rs, name)
		c.Rules = slices.DeleteFunc(slices.Clone(c.Rules), func(r kernel.Rule) bool { return r.Comment == comment })
	}
	base := func(hook string, priority int, policy packet.Verdict, rules ...kernel.Rule) *kernel.Chain {
		c := &kernel.Chain{Family: "inet", Table: "mine", Name: "c", Hook: hook, Type: "filter", Priority: priority, Policy: policy,
			Rules: rules}
		for i := range c.Rules {
			c.Rules[i].At = fmt.Sprintf("%s handle %d", c.Place(), i+2)
		}
		return c
	}
	for _, m := range []struct {
		name, host string
		happen     func(*packet.Space, *kernel.Ruleset)
	}{
		{"a return before the ground", "charts-01", func(sp *packet.Space, rs *kernel.Ruleset) {
			first(rs, "inbound", kernel.Rule{Match: sp.And(sp.Value(packet.Protocol, packet.ICMP), sp.Value(packet.ICMPType, 8)),
				Branches: do(kernel.Return), Text: kernel.Words("icmp type echo-request return")})
		}},
		{"the answers of one port", "charts-01", func(sp *packet.Space, rs *kernel.Ruleset) {
			from := sp.Ranges(packet.Src, []packet.Range{packet.PrefixRange(prefix("192.0.2.0/24"))})
			first(rs, "inbound", kernel.Rule{Match: sp.AndAll(sp.Value(packet.Family, packet.IPv4), from,
				sp.Value(packet.Protocol, packet.TCP), sp.Value(packet.SrcPort, 443)), Branches: do(kernel.Drop),
				Text: kernel.Words("ip saddr 192.0.2.0/24 tcp sport 443 drop")})
		}},
		{"the policy of outbound turned", "charts-01",
			func(_ *packet.Space, rs *kernel.Ruleset) { chain(rs, "outbound").Policy = packet.Drop }},
		{"another table refuses what it does not admit", "charts-01", func(sp *packet.Space, rs *kernel.Ruleset) {
			rs.Chains = append(rs.Chains, base("input", 10, packet.Drop,
				kernel.Rule{Match: sp.And(sp.Value(packet.Protocol, packet.TCP), sp.Value(packet.DstPort, 22)),
					Branches: do(kernel.Accept), Text: kernel.Words("tcp dport 22 accept")}))
		}},
		{"the replies are gone and the stance rejects", "broker-01",
			func(_ *packet.Space, rs *kernel.Ruleset) { without(rs, "inbound", "ground replies") }},
		{"flushed, and the stance rejects", "broker-01", func(_ *packet.Space, rs *kernel.Ruleset) { chain(rs, "inbound").Rules = nil }},
		{"somebody tracks nothing", "charts-01", func(sp *packet.Space, rs *kernel.Ruleset) {
			rs.Chains = append(rs.Chains, base("prerouting", -300, packet.Admit,
				kernel.Rule{Match: sp.And(sp.Value(packet.Protocol, packet.TCP), sp.Value(packet.DstPort, 443)),
					Branches: []kernel.Branch{{Match: packet.All, Action: kernel.Pass, Untracks: true}},
					Text:     kernel.Words("tcp dport 443 notrack")}))
		}},
		{"our table is gone, another's is there", "logbook-01", func(_ *packet.Space, rs *kernel.Ruleset) {
			// and nothing of ours
			rs.Chains = []*kernel.Chain{base("input", 0, packet.Admit,
				kernel.Rule{Match: packet.All, Branches: do(kernel.Accept), Text: kernel.Words("accept")})}
		}},
		{"one sender more in a set", "logbook-01", func(sp *packet.Space, rs *kernel.Ruleset) {
			for _, c := range rs.Chains {
				for i := range c.Rules {
					if r := &c.Rules[i]; r.Comment == "allow logbook-db" &&
						sp.And(r.Match, sp.Value(packet.Family, packet.IPv4)) != packet.Empty {
						r.Match = sp.Or(r.Match, sp.AndAll(sp.Exists(r.Match, packet.Src),
							sp.Ranges(packet.Src, []packet.Range{packet.PrefixRange(prefix("203.0.113.7/32"))})))
						r.Text = kernel.Words("ip saddr @pilotage.4 tcp dport 5432 accept")
						return
					}
				}
			}
		}},
		{"nothing asks our chain", "charts-02", func(_ *packet.Space, rs *kernel.Ruleset) {
			for _, c := range rs.Chains {
				if c.Name == "INPUT" && c.Family == "ip" {
					c.Rules = nil
				}
			}
		}},
	} {
		t.Run(m.name, func(t *testing.T) {
			sp := packet.NewSpace()
			h := pol.Fleet.Host(m.host)
			plan, form := compile.ForHost(sp, pol, h, 0), forms.Of(h)
			live := form.Rules(sp, plan)
			m.happen(sp, live)
			res := compare.Drift(sp, say.NamesOf(pol), plan, live)
			checkFindings(t, sp, pol, plan, live, res,
				filepath.Join("testdata", "blame-"+strings.ReplaceAll(strings.ReplaceAll(m.name, ",", ""), " ", "-")+".txt"))
			require.NotEmpty(t, res.Findings)
			obey(t, sp, pol, plan, form, live, res)
		})
	}
}

// obey does what the findings say, and compares again: settling takes away all that is said to
// go by it, and what is to be taken out goes by that.
func obey(t *testing.T, sp *packet.Space, pol *policy.Policy, plan *compile.Plan, form dialect.Form, live *kernel.Ruleset,
	res *compare.Result) {
	t.Helper()
	settled := settledOver(form, live, form.Rules(sp, plan))
	remain := false
	for _, f := range res.Findings { // who stands in the way is no longer there, and the packet fares as it should
		if !strings.Contains(f.Sentence, "stands in the way") || f.Live.Rule == "" {
			continue
		}
		without := *live
		without.Chains = slices.Clone(live.Chains)
		for i, c := range live.Chains {
			other := *c
			other.Rules = slices.DeleteFunc(slices.Clone(c.Rules), func(r kernel.Rule) bool {
				return r.Text.String() == f.Live.Rule && (r.At == f.Live.At || r.At == "")
			})
			without.Chains[i] = &other
		}
		want, got := sp.Outcome(plan.Decision(sp), *f.Packet), sp.Outcome(sp.WithinLimits(without.Decision(sp)), *f.Packet)
		require.Equal(t, want.Verdict, got.Verdict, "it is not to blame: %s", f.Sentence)
	}
	for _, f := range res.Findings {
		require.NotContains(t, f.Hint, "table inet yellowfence", "what is ours settling does not leave alone: %s", f.Sentence)
	}
	meant, done := plan.Decision(sp), settled.Decision(sp)
	for _, f := range res.Findings {
		if f.Kind == compare.Cosmetic {
			continue
		}
		want, got := sp.Outcome(sp.WithinLimits(meant), *f.Packet), sp.Outcome(sp.WithinLimits(done), *f.Packet)
		if strings.Contains(f.Hint, "settling leaves alone") {
			remain = true
			if f.Kind != compare.Altered {
				require.NotEqual(t, want.Verdict, got.Verdict, "settling does it too: %s / %s", f.Sentence, f.Hint)
			}
			continue
		}
		require.Equal(t, want.Verdict, got.Verdict, "settling does not do it: %s / %s", f.Sentence, f.Hint)
	}
	again := compare.Drift(sp, say.NamesOf(pol), plan, settled)
	if !remain {
		require.Empty(t, slices.DeleteFunc(again.Findings, func(f compare.Finding) bool { return f.Kind == compare.Cosmetic }),
			"what settling leaves")
		return
	}
	for i, c := range settled.Chains { // it is taken out there
		if form.Ours(c) || !slices.ContainsFunc(res.Findings,
			func(f compare.Finding) bool { return strings.Contains(f.Hint, "in table "+c.Family+" "+c.Table+",") }) {
			continue
		}
		out := *c
		out.Policy, out.Rules = packet.Admit, nil
		for _, r := range c.Rules {
			if strings.Contains(r.Text.String(), "yf-") { // it asks ours
				out.Rules = append(out.Rules, r)
			}
		}
		settled.Chains[i] = &out
	}
	again = compare.Drift(sp, say.NamesOf(pol), plan, settled)
	require.Empty(t, slices.DeleteFunc(again.Findings, func(f compare.Finding) bool { return f.Kind == compare.Cosmetic }),
		"what taking it out leaves")
}

// TestHintsHelp changes rules of random policies at random: what is said to help does.
func TestHintsHelp(t *testing.T) {
	said := 0
	for seed := range policytest.Trials(16) {
		rng := rand.New(rand.NewPCG(seed, 8))
		pol := policytest.Resolve(t, policytest.Fleet, policytest.Random(rng))
		for _, h := range pol.Fleet.Hosts {
			sp, form := packet.NewSpace(), forms.All[rng.IntN(2)]
			h.Dialect = form.Name()
			plan := compile.ForHost(sp, pol, h, 0)
			if len(plan.Chains) == 0 || len(form.Unsayable(plan)) > 0 {
				continue
			}
			live := form.Rules(sp, plan)
			for range 1 + rng.IntN(2) {
				shake(rng, sp, live)
			}
			res := compare.Drift(sp, say.NamesOf(pol), plan, live)
			said += len(res.Findings)
			obey(t, sp, pol, plan, form, live, res)
		}
	}
	require.Greater(t, said, 100)
}

// shake changes one thing in rules.
func shake(rng *rand.Rand, sp *packet.Space, rs *kernel.Ruleset) {
	c := rs.Chains[rng.IntN(len(rs.Chains))]
	c.Rules = slices.Clone(c.Rules)
	port := sp.And(sp.Value(packet.Protocol, packet.TCP), sp.Value(packet.DstPort, []int{22, 80, 443}[rng.IntN(3)]))
	action := []kernel.Action{kernel.Accept, kernel.Drop, kernel.Return}[rng.IntN(3)]
	extra := kernel.Rule{Match: port, Branches: []kernel.Branch{{Match: packet.All, Action: action}},
		Text: kernel.Words("tcp dport PORT " + action.String())}
	switch at := rng.IntN(len(c.Rules) + 1); rng.IntN(6) {
	case 0:
		c.Rules = slices.Insert(c.Rules, at, extra)
	case 1:
		if at < len(c.Rules) {
			c.Rules = slices.Delete(c.Rules, at, at+1)
		}
	case 2:
		rng.Shuffle(len(c.Rules), func(i, k int) { c.Rules[i], c.Rules[k] = c.Rules[k], c.Rules[i] })
	case 3:
		if c.Hook != "" {
			c.Policy = []packet.Verdict{packet.Admit: packet.Drop, packet.Drop: packet.Admit}[c.Policy]
		}
	case 4:
		other := &kernel.Chain{Family: "inet", Table: "mine", Name: fmt.Sprint("c", len(rs.Chains)),
			Hook: []string{"input", "output", "forward"}[rng.IntN(3)], Type: "filter", Priority: 10, Policy: packet.Admit,
			Rules: []kernel.Rule{extra}}
		rs.Chains = append(rs.Chains, other)
	case 5:
		c.Rules = nil
	}
}

func prefix(text string) netip.Prefix { return netip.MustParsePrefix(text) }

// TestWhatIsAddedIsKept: what a hint says to add to the policy makes the finding go away.
func TestWhatIsAddedIsKept(t *testing.T) {
	root := "../.."
	files := policytest.SaltmarshFiles(t, root)
	pol := policytest.Saltmarsh(t, root)
	added := 0
	for _, opened := range []struct{ host, chain, from, text string }{
		{"logbook-01", "inbound", "10.60.0.0/16", "ip saddr 10.60.0.0/16 tcp dport PORT accept"},
		{"charts-01", "inbound", "192.0.2.64/28", "ip saddr 192.0.2.64/28 tcp dport PORT accept"},
		{"watch-01", "inbound", "203.0.113.0/26", "ip saddr 203.0.113.0/26 tcp dport PORT accept"},
		{"beacon-01", "outbound", "10.40.1.1/32", "ip daddr 10.40.1.1 tcp dport PORT accept"},
	} {
		for _, port := range []int{22, 5432, 8095} {
			sp := packet.NewSpace()
			plan, form := compile.ForHost(sp, pol, pol.Fleet.Host(opened.host), 0), forms.Of(pol.Fleet.Host(opened.host))
			live := form.Rules(sp, plan)
			c := chain(live, opened.chain)
			dir, _ := packet.DirectionNamed(opened.chain)
			c.Rules = append([]kernel.Rule{{Match: sp.AndAll(sp.Value(packet.Family, packet.IPv4), sp.Value(packet.Protocol, packet.TCP),
				sp.Value(packet.DstPort, port), sp.Ranges(dir.Peer(), []packet.Range{packet.PrefixRange(prefix(opened.from))})),
				Branches: []kernel.Branch{{Match: packet.All, Action: kernel.Accept}}, Text: kernel.Words(opened.text)}}, c.Rules...)
			for _, f := range compare.Drift(sp, say.NamesOf(pol), plan, live).Findings {
				_, statement, ok := strings.Cut(f.Hint, "add `allow NAME:")
				if !ok {
					continue
				}
				statement, _, _ = strings.Cut(statement, "`")
				in, problems := policy.Read(append(slices.Clone(files),
					policy.Source{Name: "more.fence", Text: "allow kept:" + statement + "\n"}), pol.Fleet)
				require.Empty(t, problems)
				wider, problems := policy.Resolve(in)
				require.Empty(t, problems, statement)
				want := sp.Outcome(compile.ForHost(sp, wider, wider.Fleet.Host(opened.host), 0).Decision(sp), *f.Packet)
				require.Equal(t, packet.Admit, want.Verdict, "%s does not admit %s", statement, f.Packet)
				for _, left := range compare.Drift(sp, say.NamesOf(wider),
					compile.ForHost(sp, wider, wider.Fleet.Host(opened.host), 0), live).Findings {
					require.False(t, left.Kind == compare.Opened && left.Sentence == f.Sentence, "%s leaves: %s", statement, left.Sentence)
				}
				added++
			}
		}
	}
	require.Greater(t, added, 5)
}
