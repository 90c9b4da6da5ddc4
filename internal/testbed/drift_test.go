package testbed

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"yellowfence.example/yfence/core/compare"
	"yellowfence.example/yfence/core/compile"
	"yellowfence.example/yfence/core/dialect/nft"
	"yellowfence.example/yfence/core/dialect/nft/nfttest"
	"yellowfence.example/yfence/core/kernel"
	"yellowfence.example/yfence/core/packet"
	"yellowfence.example/yfence/core/policy/policytest"
	"yellowfence.example/yfence/core/say"
)

// TestDriftOfCircumstances changes settled rules by hand, in a kernel, and reads
// what is said of it.
func TestDriftOfCircumstances(t *testing.T) {
	need(t)
	ns, err := NewNamespace(own("yf-drift"))
	require.NoError(t, err)
	defer func() { require.NoError(t, ns.Close()) }()
	const now = 1795564800 // 2026-11-25
	backup := unit(t, "mirror.service")
	fillings := map[string]nft.Filling{"from.user.backup": {Element: "34"}, "from.unit.mirror.service": backup}
	replace := func(old, new string) func(string) string {
		return func(s string) string {
			require.Contains(t, s, old)
			return strings.ReplaceAll(s, old, new)
		}
	}
	for _, c := range []struct {
		what, stances, rules string
		change               func(string) string // of the listing
		names                kernel.Names
		want                 []string
	}{
		{"untouched", "", "allow x: office -> red : ssh at most 4 per 1m per source log up to 1 per 1h until 2027-03-31", replace("", ""),
			kernel.Names{}, nil},
		{"another rate", "", "allow x: office -> red : ssh at most 4 per 1m", replace("rate 4/minute burst 4", "rate 40/minute burst 40"),
			kernel.Names{},
			[]string{"altered: tcp 22 from office is admitted at most 40 per 1m, and should be admitted at most 4 per 1m."}},
		{"no rate any more", "", "allow x: office -> red : ssh at most 4 per 1m", replace(`limit name "x.4" `, ""), kernel.Names{},
			[]string{"altered: tcp 22 from office (IPv4) is admitted without a limit, and should be admitted at most 4 per 1m."}},
		{"one bucket instead of one for each source", "", "allow x: office -> red : ssh at most 4 per 1m per source",
			replace("update @x.source.4 { ip saddr limit rate 4/minute burst 4 packets }", "limit rate 4/minute burst 4 packets"),
			kernel.Names{},
			[]string{"altered: tcp 22 from office is admitted at most 4 per 1m per source and 4 per 1m, and should be admitted at most 4 " +
				"per 1m per source."}},
		{"what exceeds it is answered", "", "allow x: office -> red : ssh at most 4 per 1m",
			replace(`drop comment "allow x"`, `reject comment "allow x"`), kernel.Names{},
			[]string{"altered: tcp 22 from office is admitted at most 4 per 1m; what exceeds it is rejected with port-unreachable, and " +
				"should be dropped."}},
		{"logged at another rate", "", "allow x: office -> red : ssh log up to 4 per 1m",
			replace("rate 4/minute burst 4", "rate 1/hour burst 1"), kernel.Names{},
			[]string{"altered: tcp 22 from office is admitted and logged up to 1 per 1h, and should be admitted and logged up to " +
				"4 per 1m."}},
		{"no end any more", "", "allow x: office -> red : ssh until 2027-03-31", replace(`meta time < "2027-04-01 00:00:00" `, ""),
			kernel.Names{},
			[]string{"opened: tcp 22 from office (from 2027-04-01T00:00Z on) gets in: the rule for allow x, or a set it names, was " +
				"changed. It is now `ip saddr @office.4 tcp dport 22 accept`."}},
		{"an earlier one", "", "allow x: office -> red : ssh until 2027-03-31", replace(`2027-04-01`, "2027-03-01"), kernel.Names{},
			[]string{"shut: tcp 22 from office (from 2027-03-01T00:00Z until 2027-04-01T00:00Z) no longer gets in: the rule for allow x, " +
				"or a set it names, was changed. It is now `ip saddr @office.4 tcp dport 22 meta time < 2027-03-01 00:00:00 accept`."}},
		{"another user's number", "outbound closed", "allow x: red -> office : ssh from user backup",
			replace("elements = { 34 }", "elements = { 33, 34 }"),
			kernel.Names{Users: map[string]int{"www-data": 33, "backup": 34}},
			[]string{"opened: tcp 22 to office from user www-data gets out: the rule for allow x, or a set it names, was changed. It is " +
				"now `ip daddr @office.4 tcp dport 22 meta skuid @from.user.backup accept`."}},
		{"from everybody", "outbound closed", "allow x: red -> office : ssh from unit mirror.service",
			replace("socket cgroupv2 level 2 @from.unit.mirror.service ", ""), kernel.Names{},
			[]string{"opened: tcp 22 to office not from unit mirror.service gets out: the rule for allow x, or a set it names, was " +
				"changed. It is now `ip daddr @office.4 tcp dport 22 accept`."}},
		{"a unit that is not there", "outbound closed", "allow x: red -> office : ssh from unit mirror.service",
			replace("elements = { "+backup.Element+" }", ""),
			kernel.Names{Absent: []string{"unit mirror.service"}}, nil},
		{"one that is, and the rules do not know it", "outbound closed", "allow x: red -> office : ssh from unit mirror.service",
			replace("elements = { "+backup.Element+" }", ""), kernel.Names{},
			[]string{"shut: tcp 22 to office from unit mirror.service no longer gets out: the rule for allow x, or a set it names, was " +
				"changed. It is now `ip daddr @office.4 tcp dport 22 socket cgroupv2 @from.unit.mirror.service accept`."}},
		{"in the clear", "", "allow x: office -> red : ssh encrypted", replace("meta ipsec exists ", ""), kernel.Names{},
			[]string{"opened: tcp 22 from office not encrypted gets in: the rule for allow x, or a set it names, was changed. It is now " +
				"`ip saddr @office.4 tcp dport 22 accept`."}},
	} {
		pol := policytest.Resolve(t, policytest.Fleet, fmt.Sprintf(circumstances, c.stances, c.rules))
		sp := packet.NewSpace()
		sp.Since(now)
		plan := compile.ForHost(sp, pol, pol.Fleet.Host("h1"), now)
		text := nfttest.Written(t, sp, plan)
		require.NoError(t, ns.Load("flush ruleset\n"+nft.Fill(text, fillings)))
		listing, err := ns.Run(nil, "nft", "list", "ruleset")
		require.NoError(t, err)
		require.NoError(t, ns.Load("flush ruleset\n"+c.change(string(listing))), c.what)
		dump, err := ns.ListJSON()
		require.NoError(t, err)
		names := c.names
		if names.Users == nil {
			names.Users = map[string]int{"backup": 34}
		}
		rs, err := nft.ReadJSON(sp, dump, &names)
		require.NoError(t, err)
		res := compare.Drift(sp, say.NamesOf(pol), plan, rs)
		var got []string
		for _, f := range res.Findings {
			got = append(got, string(f.Kind)+": "+f.Sentence)
		}
		require.Equal(t, c.want, got, c.what)
		require.Empty(t, res.Unread, c.what)
	}
}
