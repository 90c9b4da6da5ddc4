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
	"yellowfence.example/yfence/core/dialect"
	"yellowfence.example/yfence/core/dialect/nft"
	"yellowfence.example/yfence/core/dialect/nft/nfttest"
	"yellowfence.example/yfence/core/fleet"
	"yellowfence.example/yfence/core/packet"
	"yellowfence.example/yfence/core/policy"
	"yellowfence.example/yfence/core/policy/policytest"
)

var update = flag.Bool("update", false, "write golden files anew")

// TestMishaps plays what people do to Saltmarsh's hosts by hand, on the rules
// that we would load, and keeps what is said of it.
func TestMishaps(t *testing.T) {
	pol := policytest.Saltmarsh(t, "../..")
	insert := func(chain string, rule dialect.Rule) func(*packet.Space, *dialect.Ruleset) {
		return func(sp *packet.Space, rs *dialect.Ruleset) {
			for _, c := range rs.Chains {
				if c.Name == chain {
					rule.At = c.Place() + " handle 99"
					c.Rules = append([]dialect.Rule{rule}, c.Rules...)
				}
			}
		}
	}
	without := func(comment string) func(*packet.Space, *dialect.Ruleset) {
		return func(sp *packet.Space, rs *dialect.Ruleset) {
			for _, c := range rs.Chains {
				var kept []dialect.Rule
				for _, r := range c.Rules {
					if r.Comment != comment {
						kept = append(kept, r)
					}
				}
				c.Rules = kept
			}
		}
	}
	all := func(a dialect.Action) []dialect.Branch { return []dialect.Branch{{Match: packet.All, Action: a}} }
	for _, m := range []struct {
		name, host string
		happen     func(*packet.Space, *dialect.Ruleset)
	}{
		{"nothing", "charts-01", func(*packet.Space, *dialect.Ruleset) {}},
		{"everything-flushed", "charts-01", func(_ *packet.Space, rs *dialect.Ruleset) { rs.Chains = nil }},
		{"chain-emptied", "broker-01", func(_ *packet.Space, rs *dialect.Ruleset) { chain(rs, "inbound").Rules = nil }},
		{"policy-turned-to-accept", "logbook-01", func(_ *packet.Space, rs *dialect.Ruleset) { chain(rs, "inbound").Policy = packet.Admit }},
		{"replies-rule-gone", "charts-01", without("ground replies")},
		{"guard-gone", "logbook-01", without("allow hop")},
		{"two-rules-gone", "logbook-01", func(sp *packet.Space, rs *dialect.Ruleset) {
			without("allow nightly")(sp, rs)
			without("allow logbook-db")(sp, rs)
		}},
		{"log-gone", "pilotage-01", func(_ *packet.Space, rs *dialect.Ruleset) {
			for i := range chain(rs, "inbound").Rules {
				chain(rs, "inbound").Rules[i].Log = false
			}
		}},
		{"limit-gone", "jump-01", func(sp *packet.Space, rs *dialect.Ruleset) {
			c := chain(rs, "inbound-front-door")
			c.Rules = []dialect.Rule{{Match: packet.All, Branches: all(dialect.Accept), Text: dialect.Words("accept"), At: c.Place()}}
		}},
		{"limit-counts-but-does-not-refuse", "jump-01", func(sp *packet.Space, rs *dialect.Ruleset) {
			c := chain(rs, "inbound-front-door")
			c.Rules[len(c.Rules)-1].Branches = all(dialect.Accept)
		}},
		{"blocks-come-last", "charts-01", func(_ *packet.Space, rs *dialect.Ruleset) {
			c := chain(rs, "inbound")
			slices.SortStableFunc(c.Rules, func(a, b dialect.Rule) int {
				return strings.Count(a.Comment, "block") - strings.Count(b.Comment, "block")
			})
		}},
		{"drop-before-the-replies", "charts-01", func(_ *packet.Space, rs *dialect.Ruleset) {
			c := chain(rs, "inbound")
			slices.SortStableFunc(c.Rules, func(a, b dialect.Rule) int {
				return strings.Count(b.Comment, "block") - strings.Count(a.Comment, "block")
			})
		}},
		{"reject-turned-to-drop", "broker-01", without("stance inbound closed")},
		{"another-table-drops", "charts-01", func(sp *packet.Space, rs *dialect.Ruleset) {
			rs.Chains = append(rs.Chains, &dialect.Chain{Family: "ip", Table: "mine", Name: "c", Hook: "input", Type: "filter", Priority: 10, Policy: packet.Admit,
				Rules: []dialect.Rule{{Match: sp.And(sp.Value(packet.Protocol, packet.TCP), sp.Value(packet.DstPort, 443)), Branches: all(dialect.Drop), Text: dialect.Words("tcp dport 443 drop"), At: "ip mine/c handle 2"}}})
		}},
		{"another-table-does-nothing", "charts-01", func(sp *packet.Space, rs *dialect.Ruleset) {
			rs.Chains = append(rs.Chains, &dialect.Chain{Family: "ip", Table: "mine", Name: "c", Hook: "input", Type: "filter", Priority: -10, Policy: packet.Admit,
				Rules: []dialect.Rule{{Match: packet.All, Branches: all(dialect.Accept), Text: dialect.Words("accept")}}})
		}},
		{"not-understood", "charts-01", func(sp *packet.Space, rs *dialect.Ruleset) {
			insert("inbound", dialect.Rule{Match: sp.Unknown("meta skuid 5"), Branches: all(dialect.Accept), Text: dialect.Words("meta skuid 5 accept")})(sp, rs)
		}},
		{"not-understood-and-no-matter", "charts-01", func(sp *packet.Space, rs *dialect.Ruleset) {
			insert("inbound", dialect.Rule{Match: sp.And(sp.Unknown("meta mark 5"), sp.Interfaces(packet.InIface, "lo")), Branches: all(dialect.Accept), Text: dialect.Words("…")})(sp, rs)
		}},
		{"comment-changed", "charts-01", func(_ *packet.Space, rs *dialect.Ruleset) { chain(rs, "inbound").Rules[3].Comment = "mine" }},
		{"replies-rule-changed", "charts-01", func(sp *packet.Space, rs *dialect.Ruleset) {
			for i := range chain(rs, "inbound").Rules {
				if r := &chain(rs, "inbound").Rules[i]; r.Comment == "ground replies" {
					r.Match, r.Text = sp.Value(packet.State, packet.Established), dialect.Words("ct state established accept")
				}
			}
		}},
		{"one-family-of-a-rule-gone", "broker-01", func(sp *packet.Space, rs *dialect.Ruleset) {
			c, gone := chain(rs, "inbound"), false
			c.Rules = slices.DeleteFunc(c.Rules, func(r dialect.Rule) bool {
				first := r.Comment == "allow hop" && !gone
				gone = gone || first
				return first
			})
		}},
		{"rule-after-the-last", "broker-01", func(sp *packet.Space, rs *dialect.Ruleset) {
			c := chain(rs, "inbound")
			c.Rules = append(c.Rules, dialect.Rule{Match: sp.And(sp.Value(packet.Protocol, packet.TCP), sp.Value(packet.DstPort, 9000)), Branches: all(dialect.Accept), Text: dialect.Words("tcp dport 9000 accept"), At: c.Place() + " handle 77"})
		}},
		{"one-family-shut", "charts-01", func(sp *packet.Space, rs *dialect.Ruleset) {
			insert("inbound", dialect.Rule{Match: sp.AndAll(sp.Value(packet.Family, packet.IPv6), sp.Value(packet.Protocol, packet.TCP), sp.Value(packet.DstPort, 443)), Branches: all(dialect.Drop), Text: dialect.Words("meta nfproto ipv6 tcp dport 443 drop")})(sp, rs)
		}},
		{"marked-packets-opened", "charts-01", func(sp *packet.Space, rs *dialect.Ruleset) {
			insert("inbound", dialect.Rule{Match: sp.Marked(packet.OfPacket, 0x4000, 0x4000), Branches: all(dialect.Accept), Text: dialect.Words("meta mark & 0x00004000 == 0x00004000 accept")})(sp, rs)
		}},
		{"marked-otherwise-opened", "charts-01", func(sp *packet.Space, rs *dialect.Ruleset) {
			insert("inbound", dialect.Rule{Match: sp.And(sp.Not(sp.Marked(packet.OfConnection, 7, 1<<32-1)), sp.Value(packet.State, packet.New)), Branches: all(dialect.Accept), Text: dialect.Words("ct mark != 0x00000007 accept")})(sp, rs)
		}},
		{"a-group-opened", "beacon-01", func(sp *packet.Space, rs *dialect.Ruleset) {
			insert("outbound", dialect.Rule{Match: sp.Named(packet.Group, "backup"), Branches: all(dialect.Accept), Text: dialect.Words("meta skgid 34 accept")})(sp, rs)
		}},
		{"fragments-opened", "charts-01", func(sp *packet.Space, rs *dialect.Ruleset) {
			rs.Fragments = true
			rs.Tracks = [2]bool{}
			insert("inbound", dialect.Rule{Match: sp.And(sp.Value(packet.Family, packet.IPv6), sp.Value(packet.Fragment, packet.Later)), Branches: all(dialect.Accept), Text: dialect.Words("exthdr frag exists accept")})(sp, rs)
		}},
		{"one-family-opened", "logbook-01", func(sp *packet.Space, rs *dialect.Ruleset) {
			insert("inbound", dialect.Rule{Match: sp.AndAll(sp.Value(packet.Family, packet.IPv6), sp.Value(packet.Protocol, packet.TCP), sp.Value(packet.DstPort, 22)), Branches: all(dialect.Accept), Text: dialect.Words("meta nfproto ipv6 tcp dport 22 accept")})(sp, rs)
		}},
		{"outbound-opened", "beacon-01", func(sp *packet.Space, rs *dialect.Ruleset) {
			insert("outbound", dialect.Rule{Match: sp.And(sp.Value(packet.Protocol, packet.UDP), sp.Range(packet.DstPort, 6000, 6010)), Branches: all(dialect.Accept), Text: dialect.Words("udp dport 6000-6010 accept")})(sp, rs)
		}},
	} {
		t.Run(m.name, func(t *testing.T) {
			sp := packet.NewSpace()
			plan := compile.Host(sp, pol, pol.Fleet.Host(m.host), 0)
			live := nft.Form{}.Rules(sp, plan)
			m.happen(sp, live)
			checkFindings(t, sp, pol, plan, live, compare.Drift(sp, compare.NamesOf(pol), plan, live), filepath.Join("testdata", m.name+".txt"))
		})
	}
}

func chain(rs *dialect.Ruleset, name string) *dialect.Chain {
	return rs.Chains[slices.IndexFunc(rs.Chains, func(c *dialect.Chain) bool { return c.Name == name })]
}

// recorded is the dump of a host of the demo, and its names.
func recorded(t *testing.T, h *fleet.Host) ([]byte, *nft.Names) {
	data, err := os.ReadFile("../../demo/recorded/" + h.Name + ".json")
	require.NoError(t, err)
	var report struct {
		Dumps []struct{ Text string }
		Names *nft.Names
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
		plan := compile.Host(sp, pol, h, 0)
		live, err := nft.ReadJSON(sp, dump, names)
		require.NoError(t, err)
		res := compare.Drift(sp, compare.NamesOf(pol), plan, live)
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
func checkFindings(t *testing.T, sp *packet.Space, pol *policy.Policy, plan *compile.Plan, live *dialect.Ruleset, res *compare.Result, golden string) {
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
			fmt.Fprintf(&b, "%s\nlive %s: %s (%s)\npublished %s: %s (%s)\n", p, f.Live.Verdict, f.Live.Rule, f.Live.At, f.Published.Verdict, f.Published.By, f.Published.At)
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
		plan := compile.Host(sp, pol, pol.Fleet.Host("h1"), 0)
		text := nfttest.Written(t, sp, plan)
		_, ours, _ := strings.Cut(text, "\n\n")
		others := fmt.Sprintf("table inet runtime {\n\tchain c {\n\t\ttype filter hook %s priority -1; policy accept;\n\t\t%s\n\t}\n}\n", c.hook, strings.ReplaceAll(c.rules, "; ", "\n\t\t"))
		rs, err := nft.ReadText(sp, "", []byte(ours+others), nil)
		require.NoError(t, err)
		require.Equal(t, c.want, compare.Drift(sp, compare.NamesOf(pol), plan, rs).State(), "%s: %s", c.hook, c.rules)
	}
}

// TestTangled: of rules that cannot be held as a whole, what becomes of the
// services that are tried first is told all the same, and is right.
func TestTangled(t *testing.T) {
	pol := policytest.Saltmarsh(t, "../..")
	text := []byte(nfttest.Large(nfttest.Hostile, 3000, 3))
	told := func(bound int) (res *compare.Result, live *dialect.Ruleset, sp *packet.Space) {
		sp = packet.NewSpace()
		sp.Bound(bound)
		plan := compile.Host(sp, pol, pol.Fleet.Host("charts-01"), 0)
		live, err := nft.ReadText(sp, "f", text, nil)
		require.NoError(t, err)
		require.NoError(t, packet.Untangled(func() {
			res = compare.Tangled(sp, compare.NamesOf(pol), []compare.Stage{{Plan: plan}}, live, &packet.Tangled{Edges: 4e6})
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
