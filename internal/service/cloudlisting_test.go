package service_test

import (
	"context"
	"fmt"
	"net/netip"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/require"

	"yellowfence.example/yfence/api"
	"yellowfence.example/yfence/internal/dunlin"
)

// TestACloudInABrowser: its groups and instances, what each instance was asked for and has, and how much there may be.
func TestACloudInABrowser(t *testing.T) {
	t.Parallel()
	ctx := context.Background()
	c := newClouded(t)
	shown := func() (out api.Cloud) {
		t.Helper()
		out, err := c.Cloud(ctx, "dunlin")
		require.NoError(t, err)
		return out
	}
	_, err := c.Cloud(ctx, "puddle")
	require.ErrorContains(t, err, `no cloud is named "puddle"`)
	c.until("it was read", func() bool { one, err := c.Cloud(ctx, "dunlin"); return err == nil && len(one.HasInstances) == 2 })
	before := shown()
	require.Equal(t, []int{60, 5, 2}, []int{before.Limits.RulesPerGroup, before.Limits.GroupsPerInstance, before.Limits.PeersPerRule})
	require.Empty(t, before.HasGroups)
	require.Equal(t, []api.CloudInstance{{ID: "dunlin-1", Host: "charts-01", Groups: []string{}},
		{ID: "dunlin-2", Host: "broker-01", Groups: []string{}}}, before.HasInstances)

	c.wave("charts")
	c.until("its groups are shown", func() bool { return len(shown().HasGroups) > 0 })
	after := shown()
	require.Equal(t, "dunlin-2", after.HasInstances[0].ID, "what asks for a look comes first: nobody asked for its groups")
	require.False(t, after.HasInstances[0].InForce)
	charts := after.HasInstances[1]
	require.Equal(t, []any{int64(1), true, ""}, []any{charts.Asked, charts.InForce, charts.Failed})
	require.Len(t, after.HasGroups, len(charts.Groups))
	g := after.HasGroups[0]
	require.Contains(t, charts.Groups, g.Name)
	require.True(t, g.Ours)
	require.Equal(t, 1, g.Members)
	require.Positive(t, g.Inbound+g.Outbound)

	consoleNeeded(t)
	a := c.at(t, 1280, 800)
	a.do(chromedp.Navigate(c.url + "/clouds"))
	a.shows("revision 1, in force")
	a.shows("nobody asked for its groups yet")
	a.shows(fmt.Sprintf("%d of 60", g.Inbound))
	require.Empty(t, a.inTheWay(axeNeeded(t)))
	a.do(chromedp.Click(`//button[contains(., "Put in force again")]`))
	a.shows("Revision 1 is put in force on broker-01.")
	a.do(chromedp.Click(`//div[@role="dialog"]//button[@type="submit"]`))
	a.shows("Wave 2, revision 1")
	c.until("both are in force", func() bool { one := shown(); return one.HasInstances[0].InForce && one.HasInstances[1].InForce })
	for i := range 205 {
		c.sky.Start(dunlin.Instance{ID: fmt.Sprintf("stranger-%03d", i), Addresses: []netip.Addr{netip.MustParseAddr("203.0.113.7")}})
	}
	c.until("all are listed", func() bool { return len(shown().HasInstances) == 207 })
	a.do(chromedp.Navigate(c.url + "/clouds"))
	a.shows("Instances: 200 of 207")
	a.do(chromedp.Click(`//button[contains(., "Show 7 more")]`))
	a.shows("stranger-204")
	a.content()
}
