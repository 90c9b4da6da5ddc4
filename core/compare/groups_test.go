package compare_test

import (
	"net/netip"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yellowfence.example/yfence/core/compare"
	"yellowfence.example/yfence/core/compile"
	"yellowfence.example/yfence/core/dialect/group"
	"yellowfence.example/yfence/core/packet"
	"yellowfence.example/yfence/core/policy/policytest"
	"yellowfence.example/yfence/core/say"
)

// TestGroups: what groups admit against what they are to; what no group can tell is no difference.
func TestGroups(t *testing.T) {
	pol := policytest.Saltmarsh(t, "../..")
	h := pol.Fleet.Host("logbook-01")
	plan := func(sp *packet.Space) *compile.Plan { return compile.ForHost(sp, pol, h, 1_795_000_000) }
	sp := packet.NewSpace()
	right, err := group.Of(sp, plan(sp)).Write(sp, "logbook", group.Abilities{})
	require.NoError(t, err)
	find := func(g group.Group, comment string) int {
		for i, r := range g.Inbound {
			if r.Comment == comment {
				return i
			}
		}
		t.Fatalf("no rule of %s", comment)
		return 0
	}
	for _, c := range []struct {
		what   string
		change func(g *group.Group)
		want   []string // kind, live rule, statement
	}{
		{"as it was written", func(*group.Group) {}, nil},
		{"the rules in another order", func(g *group.Group) { g.Inbound[0], g.Inbound[1] = g.Inbound[1], g.Inbound[0] }, nil},
		{"a rule of somebody's", func(g *group.Group) {
			g.Inbound = append(g.Inbound, group.Rule{Service: group.Service{Protocol: "tcp", Ports: "5432"},
				Peers: []group.Peer{{Prefix: netip.MustParsePrefix("10.60.0.0/16")}}})
		}, []string{"opened tcp 5432 with 10.60.0.0/16 / stance inbound closed"}},
		{"a rule that says what is said already", func(g *group.Group) {
			g.Inbound = append(g.Inbound, group.Rule{Service: group.Service{Protocol: "tcp", Ports: "22"},
				Peers: []group.Peer{{Prefix: netip.MustParsePrefix("10.40.1.1/32")}}})
		}, nil},
		{"a rule that is gone", func(g *group.Group) {
			i := find(*g, "allow scrape")
			g.Inbound = append(g.Inbound[:i:i], g.Inbound[i+1:]...)
		}, []string{"shut policy drop of the chain / allow scrape"}},
		{"nothing may go out", func(g *group.Group) { g.Outbound = nil },
			[]string{"shut policy drop of the chain / ground multicast-listener", "shut policy drop of the chain / ground icmp-errors",
				"shut policy drop of the chain / ground neighbours",
				"shut policy drop of the chain / allow journal", "shut policy drop of the chain / allow lookups",
				"shut policy drop of the chain / allow clock", "shut policy drop of the chain / ground service"}},
	} {
		t.Run(c.what, func(t *testing.T) {
			g := right[0]
			g.Inbound = append([]group.Rule{}, g.Inbound...)
			c.change(&g)
			sp := packet.NewSpace()
			rs, err := group.Read(sp, h, pol.Fleet, &group.Document{Groups: []group.Group{g}})
			require.NoError(t, err)
			res := compare.Groups(sp, say.NamesOf(pol), []compare.Stage{{Plan: plan(sp)}}, rs)
			var got []string
			for _, f := range res.Findings {
				got = append(got, string(f.Kind)+" "+f.Live.Rule+" / "+f.Published.By)
				require.NotContains(t, f.Hint, "settling")
			}
			require.Equal(t, c.want, got)
		})
	}
}

// TestGroupsAtAnInstant: of a policy with a rule that ends, groups are held against what it
// means now; and a sentence says of a group what the group says.
func TestGroupsAtAnInstant(t *testing.T) {
	pol := policytest.Saltmarsh(t, "../..")
	h := pol.Fleet.Host("charts-cloud-01")
	end := time.Date(2035, 4, 1, 0, 0, 0, 0, time.UTC).Unix() // of allow survey
	written := func(at int64) group.Group {
		sp := packet.NewSpace()
		groups, err := group.Of(sp, compile.ForHost(sp, pol, h, at)).Write(sp, "charts", group.Abilities{})
		require.NoError(t, err)
		return groups[0]
	}
	before, after := written(end-100), written(end)
	opened := before
	opened.Inbound = append([]group.Rule{{Service: group.Service{Protocol: "tcp", Ports: "22"},
		Peers: []group.Peer{{Prefix: netip.MustParsePrefix("0.0.0.0/0")}}}}, before.Inbound...)
	for _, c := range []struct {
		what  string
		at    int64
		g     group.Group
		until int64
		want  []string
	}{
		{"as it was written", end - 50, before, end, nil},
		{"when it is over", end, before, 0, []string{"opened tcp 443 from 198.18.7.9 gets in; block no-pests refuses it.",
			"opened tcp 80 from 198.18.7.9 gets in; block no-pests refuses it."}},
		{"written anew", end, after, 0, nil},
		{"somebody opened it", end - 50, opened, end,
			[]string{"opened tcp 22 from everywhere (IPv4) gets in; nothing in the policy admits it."}},
	} {
		t.Run(c.what, func(t *testing.T) {
			sp := packet.NewSpace()
			sp.Since(c.at)
			rs, err := group.Read(sp, h, pol.Fleet, &group.Document{Groups: []group.Group{c.g}})
			require.NoError(t, err)
			res := compare.Groups(sp, say.NamesOf(pol), []compare.Stage{{Plan: compile.ForHost(sp, pol, h, c.at)}}, rs)
			var got []string
			for _, f := range res.Findings {
				got = append(got, string(f.Kind)+" "+f.Sentence)
			}
			require.Equal(t, c.want, got)
			require.Equal(t, c.until, res.Until)
		})
	}
}
