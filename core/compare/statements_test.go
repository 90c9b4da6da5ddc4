package compare_test

import (
	"testing"

	"github.com/stretchr/testify/require"

	"yellowfence.example/yfence/core/compare"
	"yellowfence.example/yfence/core/compile"
	"yellowfence.example/yfence/core/packet"
	"yellowfence.example/yfence/core/policy/policytest"
)

func TestStatements(t *testing.T) {
	const before = "allow web: everywhere -> tide : http\nallow login: quay -> tide : ssh guard\nallow elsewhere: quay -> buoy : tcp " +
		"7000\nallow feed: buoy -> tide : tcp 7001\n"
	for _, c := range []struct {
		what, after string
		want        []string
	}{
		{"the same, in another order", "allow feed: buoy -> tide : tcp 7001\nallow login: quay -> tide : ssh guard\nallow web: " +
			"everywhere -> tide : http\nallow elsewhere: quay -> buoy : tcp 7000\n", nil},
		{"new, gone and changed", "allow web: everywhere -> tide : http, https\nallow login: quay -> tide : ssh guard\nblock pests: " +
			"198.51.100.0/24 -> tide : http\n", []string{"new block pests", "changed allow web", "gone allow feed"}},
		{"what is of another host", before + "allow more: quay -> buoy : tcp 7002\n", nil},
		{"off", "allow login: quay -> tide : ssh guard\nallow web: everywhere -> tide : http off\nallow feed: buoy -> tide : tcp 7001\n",
			[]string{"gone allow web"}},
	} {
		t.Run(c.what, func(t *testing.T) {
			sp := packet.NewSpace()
			plan := func(text string) *compile.Plan {
				pol := policytest.Resolve(t, stagesFleet("10.40.1.20"), stagesHead+text)
				return compile.ForHost(sp, pol, pol.Fleet.Host("tide-01"), 0)
			}
			var got []string
			for _, s := range compare.Statements(sp, plan(before), plan(c.after)) {
				got = append(got, s.Change+" "+s.Rule.Title())
			}
			require.Equal(t, c.want, got)
		})
	}
	sp := packet.NewSpace()
	pol := policytest.Resolve(t, stagesFleet("10.40.1.20"), stagesHead+before)
	require.Len(t, compare.Statements(sp, nil, compile.ForHost(sp, pol, pol.Fleet.Host("tide-01"), 0)), 3, "all are new")
}
