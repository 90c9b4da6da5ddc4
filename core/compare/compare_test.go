package compare_test

import (
	"encoding/json"
	"flag"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"yellowfence.example/yfence/core/compare"
	"yellowfence.example/yfence/core/compile"
	"yellowfence.example/yfence/core/dialect/nft"
	"yellowfence.example/yfence/core/dialect/nft/nfttest"
	"yellowfence.example/yfence/core/fleet"
	"yellowfence.example/yfence/core/kernel"
	"yellowfence.example/yfence/core/packet"
	"yellowfence.example/yfence/core/policy"
	"yellowfence.example/yfence/core/policy/policytest"
	"yellowfence.example/yfence/core/say"
)

var update = flag.Bool("update", false, "write golden files anew")

// TestMishaps plays what people do to Saltmarsh's hosts by hand, on the rules
// that we would load, and keeps what is said of it.
func TestMishaps(t *testing.T) {
	pol := policytest.Saltmarsh(t, "../..")
	insert := func(chain string, rule kernel.Rule) func(*packet.Space, *kernel.Ruleset) {
		return func(sp *packet.Space, rs *kernel.Ruleset) {
			for _, c := range rs.Chains {
				if c.Name == chain {
					rule.At = c.Place() + " handle 99"
					c.Rules = append([]kernel.Rule{rule}, c.Rules...)
				}
			}
		}
	}
	without := func(comment string) func(*packet.Space, *kernel.Ruleset) {
		return func(sp *packet.Space, rs *kernel.Ruleset) {
			for _, c := range rs.Chains {
				var kept []kernel.Rule
				for _, r := range c.Rules {
					if r.Comment != comment {
						kept = append(kept, r)
					}
				}
				c.Rules = kept
			}
		}
	}
	all := func(a kernel.Action) []kernel.Branch { return []kernel.Branch{{Match: packet.All, Action: a}} }
	for _, m := range []struct {
		name, host string
		happen     func(*packet.Space, *kernel.Ruleset)
	}{
		{"nothing", "charts-01", func(*packet.Space, *kernel.Ruleset) {}},
		{"everything-flushed", "charts-01", func(_ *packet.Space, rs *kernel.Ruleset) { rs.Chains = nil }},
		{"chain-emptied", "broker-01", func(_ *packet.Space, rs *kernel.Ruleset) { chain(rs, "inbound").Rules = nil }},
		{"policy-turned-to-accept", "logbook-01", func(_ *packet.Space, rs *kernel.Ruleset) { chain(rs, "inbound").Policy = packet.Admit }},
		{"replies-rule-gone", "charts-01", without("ground replies")},
		{"guard-gone", "logbook-01", without("allow hop")},
		{"two-rules-gone", "logbook-01", func(sp *packet.Space, rs *kernel.Ruleset) {
			without("allow nightly")(sp, rs)
			without("allow logbook-db")(sp, rs)
		}},
		{"log-gone", "pilotage-01", func(_ *packet.Space, rs *kernel.Ruleset) {
			for i := range chain(rs, "inbound").Rules {
				chain(rs, "inbound").Rules[i].Log = false
			}
		}},
		{"limit-gone", "jump-01", func(sp *packet.Space, rs *kernel.Ruleset) {
			c := chain(rs, "inbound-front-door")
			c.Rules = []kernel.Rule{{Match: packet.All, Branches: all(kernel.Accept), Text: kernel.Words("accept"), At: c.Place()}}
		}},
		{"limit-counts-but-does-not-refuse", "jump-01", func(sp *packet.Space, rs *kernel.Ruleset) {
			c := chain(rs, "inbound-front-door")
			c.Rules[len(c.Rules)-1].Branches = all(kernel.Accept)
		}},
		{"blocks-come-last", "charts-01", func(_ *packet.Space, rs *kernel.Ruleset) {
			c := chain(rs, "inbound")
			slices.SortStableFunc(c.Rules, func(a, b kernel.Rule) int {
				return strings.Count(a.Comment, "block") - strings.Count(b.Comment, "block")
			})
		}},
		{"drop-before-the-replies", "charts-01", func(_ *packet.Space, rs *kernel.Ruleset) {
			c := chain(rs, "inbound")
			slices.SortStableFunc(c.Rules, func(a, b kernel.Rule) int {
				return strings.Count(b.Comment, "block") - strings.Count(a.Comment, "block")
			})
		}},
		{"reject-turned-to-drop", "broker-01", without("stance inbound closed")},
		{"another-table-drops", "charts-01", func(sp *packet.Space, rs *kernel.Ruleset) {
			rs.Chains = append(rs.Chains, &kernel.Chain{Family: "ip", Table: "mine", Name: "c", Hook: "input", Type: "filter",
				Priority: 10, Policy: packet.Admit,
				Rules: []kernel.Rule{{Match: sp.And(sp.Value(packet.Protocol, packet.TCP), sp.Value(packet.DstPort, 443)),
					Branches: all(kernel.Drop), Text: kernel.Words("tcp dport 443 drop"), At: "ip mine/c handle 2"}}})
		}},
		{"another-table-does-nothing", "charts-01", func(sp *packet.Space, rs *kernel.Ruleset) {
			rs.Chains = append(rs.Chains, &kernel.Chain{Family: "ip", Table: "mine", Name: "c", Hook: "input", Type: "filter",
				Priority: -10, Policy: packet.Admit,
				Rules: []kernel.Rule{{Match: packet.All, Branches: all(kernel.Accept), Text: kernel.Words("accept")}}})
		}},
		{"not-understood", "charts-01", func(sp *packet.Space, rs *kernel.Ruleset) {
			insert("inbound", kernel.Rule{Match: sp.Unknown("meta skuid 5"), Branches: all(kernel.Accept),
				Text: kernel.Words("meta skuid 5 accept")})(sp, rs)
		}},
		{"not-understood-and-no-matter", "charts-01", func(sp *packet.Space, rs *kernel.Ruleset) {
			insert("inbound", kernel.Rule{Match: sp.And(sp.Unknown("meta mark 5"), sp.Interfaces(packet.InIface, "lo")),
				Branches: all(kernel.Accept), Text: kernel.Words("…")})(sp, rs)
		}},
		{"comment-changed", "charts-01", func(_ *packet.Space, rs *kernel.Ruleset) { chain(rs, "inbound").Rules[3].Comment = "mine" }},
		{"replies-rule-changed", "charts-01", func(sp *packet.Space, rs *kernel.Ruleset) {
			for i := range chain(rs, "inbound").Rules {
				if r := &chain(rs, "inbound").Rules[i]; r.Comment == "ground replies" {
					r.Match, r.Text = sp.Value(packet.State, packet.Established), kernel.Words("ct state established accept")
				}
			}
		}},
		{"one-family-of-a-rule-gone", "broker-01", func(sp *packet.Space, rs *kernel.Ruleset) {
			c, gone := chain(rs, "inbound"), false
			c.Rules = slices.DeleteFunc(c.Rules, func(r kernel.Rule) bool {
				first := r.Comment == "allow hop" && !gone
				gone = gone || first
				return first
			})
		}},
		{"rule-after-the-last", "broker-01", func(sp *packet.Space, rs *kernel.Ruleset) {
			c := chain(rs, "inbound")
			c.Rules = append(c.Rules, kernel.Rule{Match: sp.And(sp.Value(packet.Protocol, packet.TCP), sp.Value(packet.DstPort, 9000)),
				Branches: all(kernel.Accept), Text: kernel.Words("tcp dport 9000 accept"), At: c.Place() + " handle 77"})
		}},
		{"one-family-shut", "charts-01", func(sp *packet.Space, rs *kernel.Ruleset) {
			insert("inbound", kernel.Rule{Match: sp.AndAll(sp.Value(packet.Family, packet.IPv6), sp.Value(packet.Protocol, packet.TCP),
				sp.Value(packet.DstPort, 443)), Branches: all(kernel.Drop),
				Text: kernel.Words("meta nfproto ipv6 tcp dport 443 drop")})(sp, rs)
		}},
		{"marked-packets-opened", "charts-01", func(sp *packet.Space, rs *kernel.Ruleset) {
			insert("inbound", kernel.Rule{Match: sp.Marked(packet.OfPacket, 0x4000, 0x4000), Branches: all(kernel.Accept),
				Text: kernel.Words("meta mark & 0x00004000 == 0x00004000 accept")})(sp, rs)
		}},
		{"marked-otherwise-opened", "charts-01", func(sp *packet.Space, rs *kernel.Ruleset) {
			insert("inbound", kernel.Rule{Match: sp.And(sp.Not(sp.Marked(packet.OfConnection, 7, 1<<32-1)),
				sp.Value(packet.State, packet.New)), Branches: all(kernel.Accept),
				Text: kernel.Words("ct mark != 0x00000007 accept")})(sp, rs)
		}},
		{"a-group-opened", "beacon-01", func(sp *packet.Space, rs *kernel.Ruleset) {
			insert("outbound", kernel.Rule{Match: sp.Named(packet.Group, "backup"), Branches: all(kernel.Accept),
				Text: kernel.Words("meta skgid 34 accept")})(sp, rs)
		}},
		{"fragments-opened", "charts-01", func(sp *packet.Space, rs *kernel.Ruleset) {
			rs.Fragments = true
			rs.Tracks = [2]bool{}
			insert("inbound", kernel.Rule{Match: sp.And(sp.Value(packet.Family, packet.IPv6), sp.Value(packet.Fragment, packet.Later)),
				Branches: all(kernel.Accept), Text: kernel.Words("exthdr frag exists accept")})(sp, rs)
		}},
		{"one-family-opened", "logbook-01", func(sp *packet.Space, rs *kernel.Ruleset) {
			insert("inbound", kernel.Rule{Match: sp.AndAll(sp.Value(packet.Family, packet.IPv6), sp.Value(packet.Protocol, packet.TCP),
				sp.Value(packet.DstPort, 22)), Branches: all(kernel.Accept),
				Text: kernel.Words("meta nfproto ipv6 tcp dport 22 accept")})(sp, rs)
		}},
		{"outbound-opened", "beacon-01", func(sp *packet.Space, rs *kernel.Ruleset) {
			insert("outbound", kernel.Rule{Match: sp.And(sp.Value(packet.Protocol, packet.UDP), sp.Range(packet.DstPort, 6000, 6010)),
				Branches: all(kernel.Accept), Text: kernel.Words("udp dport 6000-6010 accept")})(sp, rs)
		}},
	} {
		t.Run(m.name, func(t *testing.T) {
			sp := packet.NewSpace()
			plan := compile.ForHost(sp, pol, pol.Fleet.Host(m.host), 0)
			live := nft.Form{}.Rules(sp, plan)
			m.happen(sp, live)
			checkFindings(t, sp, pol, plan, live, compare.Drift(sp, say.NamesOf(pol), plan, live),
				filepath.Join("testdata", m.name+".txt"))
		})
	}
}

func chain(rs *kernel.Ruleset, name string) *kernel.Chain {
	return rs.Chains[slices.IndexFunc(rs.Chains, func(c *kernel.Chain) bool { return c.Name == name })]
}

// recorded is the dump of a host of the demo, and its names.
func recorded(t *testing.T, h *fleet.Host) ([]byte, *kernel.Names) {
	data, err := os.ReadFile("../../demo/recorded/" + h.Name + ".json")
	require.NoError(t, err)
	var report struct {
		Dumps []struct{ Text string }
		Names *kernel.Names
	}
	require.NoError(t, json.Unmarshal(data, &report))
	return []byte(report.Dumps[0].Text), report.Names
}

// TestDemoDumps reads the recorded reports of the demo's hosts.
func TestDemoDumps(t *testing.T) {
	pol := policytest.Saltmarsh(t, "../..")
	for _, h := range pol.Fleet.Hosts {
		if h.Dialect != "nft" {
			continue // which the demo plays
		}
		dump, names := recorded(t, h)
		sp := packet.NewSpace()
		plan := compile.ForHost(sp, pol, h, 0)
		live, err := nft.ReadJSON(sp, dump, names)
		require.NoError(t, err)
		res := compare.Drift(sp, say.NamesOf(pol), plan, live)
		want := map[string]string{"logbook-01": "drifted opened", "broker-02": "drifted shut", "watch-01": "in step cosmetic"}[h.Name]
		if want == "" {
			want = "in step"
		}
		got := res.State()
		for _, f := range res.Findings {
			got += " " + string(f.Kind)
		}
		require.Equal(t, want, got, h.Name)
	}
}

// checkFindings holds a result against its golden text, and every finding's
// packet against the two decisions: it must fare as the finding says.
func checkFindings(t *testing.T, sp *packet.Space, pol *policy.Policy, plan *compile.Plan, live *kernel.Ruleset, res *compare.Result,
	golden string) {
	t.Helper()
	var b strings.Builder
	fmt.Fprintf(&b, "%s: %s\n", plan.Host.Name, res.State())
	for _, u := range res.Unread {
		fmt.Fprintf(&b, "unread: %s\n", u)
	}
	for _, f := range res.Findings {
		fmt.Fprintf(&b, "\n%s %s\n%s\n", f.Kind, f.Direction, f.Sentence)
		if f.Packet != nil {
			p := *f.Packet
			fmt.Fprintf(&b, "%s\nlive %s: %s (%s)\npublished %s: %s (%s)\n", p, f.Live.Verdict, f.Live.Rule, f.Live.At,
				f.Published.Verdict, f.Published.By, f.Published.At)
			require.Equal(t, f.Live.Verdict, sp.Outcome(live.Decision(sp), p).Verdict.String())
			require.Equal(t, f.Published.Verdict, sp.Outcome(plan.Decision(sp), p).Verdict.String())
			text, err := json.Marshal(p)
			require.NoError(t, err)
			require.NotContains(t, string(text), "hook", "the contract's packet has no hook")
		}
		fmt.Fprintf(&b, "%s\n", f.Hint)
	}
	if *update {
		require.NoError(t, os.MkdirAll(filepath.Dir(golden), 0o755))
		require.NoError(t, os.WriteFile(golden, []byte(b.String()), 0o644))
	}
	want, err := os.ReadFile(golden)
	require.NoError(t, err)
	require.Equal(t, string(want), b.String())
}

// TestLeft: what the policy leaves to other programs is not looked at, and all
// else of what they do is.
func TestLeft(t *testing.T) {
	pol := policytest.Resolve(t, policytest.Fleet, "policy p language 1\nrole red { forward closed }\nrole blue\nrole green\n"+
		"allow a: everywhere -> fleet : ssh  guard\nleave containers: red : forwarded via ctr*\n")
	for _, c := range []struct{ hook, rules, want string }{
		{"forward", `iifname "ctr*" oifname "wan0" tcp dport 25 drop; iifname "wan0" oifname "ctr0" accept`, "in step"},
		{"forward", `iifname "ctr*" something new`, "in step"},
		{"forward", `oifname "ctr0" reject`, "in step"},
		{"forward", `something new`, "unread"},
		{"forward", `tcp dport 25 drop`, "drifted"}, // answers on standing connections
		{"forward", `tcp dport 25 ct state new drop`, "in step"},
		{"input", `iifname "ctr*" tcp dport 22 drop`, "drifted"},
	} {
		sp := packet.NewSpace()
		plan := compile.ForHost(sp, pol, pol.Fleet.Host("h1"), 0)
		text := nfttest.Written(t, sp, plan)
		_, ours, _ := strings.Cut(text, "\n\n")
		others := fmt.Sprintf("table inet runtime {\n\tchain c {\n\t\ttype filter hook %s priority -1; policy accept;\n\t\t%s\n\t}\n}\n",
			c.hook, strings.ReplaceAll(c.rules, "; ", "\n\t\t"))
		rs, err := nft.ReadText(sp, "", []byte(ours+others), nil)
		require.NoError(t, err)
		require.Equal(t, c.want, compare.Drift(sp, say.NamesOf(pol), plan, rs).State(), "%s: %s", c.hook, c.rules)
	}
}

// TestTangled: of rules that cannot be held as a whole, what becomes of the
// services that are tried first is told all the same, and is right.
func TestTangled(t *testing.T) {
	pol := policytest.Saltmarsh(t, "../..")
	text := []byte(nfttest.Large(nfttest.Hostile, 3000, 3))
	told := func(bound int) (res *compare.Result, live *kernel.Ruleset, sp *packet.Space) {
		sp = packet.NewSpace()
		sp.Bound(bound)
		plan := compile.ForHost(sp, pol, pol.Fleet.Host("charts-01"), 0)
		live, err := nft.ReadText(sp, "f", text, nil)
		require.NoError(t, err)
		require.NoError(t, packet.Try(func() {
			res = compare.TooComplex(sp, say.NamesOf(pol), []compare.Stage{{Plan: plan}}, live, &packet.TooComplexError{Edges: 4e6})
		}))
		return res, live, sp
	}
	res, _, _ := told(300_000)
	require.Equal(t, "drifted", res.State())
	require.Contains(t, res.Unread[0], "too complex to decide exactly (more than 4 million cases); only new connections")
	require.GreaterOrEqual(t, len(res.Findings), 2)
	_, live, sp := told(0)
	d := live.Decision(sp) // which is not too much here
	for _, f := range res.Findings {
		require.Equal(t, f.Live.Verdict, sp.Outcome(d, *f.Packet).Verdict.String(), "%s", f.Sentence)
		require.Contains(t, f.Sentence, "tcp ")
	}
}
