package service_test

import (
	"context"
	"net/netip"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"yellowfence.example/yfence/api"
	"yellowfence.example/yfence/core/dialect/group"
	"yellowfence.example/yfence/internal/dunlin"
)

// TestACloudThatIsNotWell: half an answer, nonsense, or another account's is not looked at,
// and nothing is asked for; who was asked for something waits.
func TestACloudThatIsNotWell(t *testing.T) {
	t.Parallel()
	c := newClouded(t)
	require.Equal(t, api.WaveDone, c.wave().State)
	was := c.sky.Document()
	for _, f := range []dunlin.Fault{{Of: "GET /v1/groups", Kind: "half"}, {Of: "GET /v1/instances", Kind: "nonsense"},
		{Of: "GET /v1/*", Kind: "hangs"}, {Of: "GET /v1/abilities", Kind: "fails"}} {
		f.Times = 12
		c.sky.Fail(f)
		c.until(f.Kind, func() bool { _, cloud := c.drift("charts-01"); return cloud.Failing != "" })
		require.Equal(t, api.InStep, c.state("charts-01"), "as it was last read")
		c.until("it is well again", func() bool { _, cloud := c.drift("charts-01"); return cloud.Failing == "" })
	}
	c.sky.Rename("somebody")
	c.until("another account", func() bool { _, cloud := c.drift("charts-01"); return cloud.Failing != "" })
	_, cloud := c.drift("charts-01")
	require.Equal(t, `it is the account "somebody" of the cloud "dunlin" that answers, not "saltmarsh" of "dunlin"`, cloud.Failing)
	c.publish("allow site: everywhere -> charts : https\n")
	w, err := c.StartWave(context.Background(), api.WaveRequest{Hosts: []string{"charts"}})
	require.NoError(t, err)
	c.until("it waits", func() bool { return c.state("charts-01") == api.Waiting })
	c.looked()
	require.Equal(t, was, c.sky.Document(), "nothing was asked for")
	c.sky.Rename("saltmarsh")
	c.until("it is in force", func() bool {
		w, err = c.Wave(context.Background(), w.Number)
		return err == nil && w.State == api.WaveDone
	})
}

// TestOneThatCannotHindersNobody: an instance whose groups cannot be written fails alone, and says
// why for as long as it is not asked anew; its fellows have theirs, and newcomers are covered.
func TestOneThatCannotHindersNobody(t *testing.T) {
	t.Parallel()
	c := newClouded(t, func(o *dunlin.Options) {
		o.Abilities = group.Abilities{RulesPerGroup: 8, GroupsPerInstance: 2, PeersPerRule: 2}
	})
	c.publish("allow many: crew -> charts : tcp 1, 3, 5, 7, 9, 11, 13, 15, 17, 19, 21, 23, 25, 27, 29, 31\n")
	w := c.wave("broker")
	require.Equal(t, api.WaveDone, w.State, "%+v", w)
	require.NotEmpty(t, c.peersOf("dunlin-2", "allow hop"))
	c.sky.Start(dunlin.Instance{ID: "dunlin-3", Labels: map[string]string{"role": "broker"},
		Addresses: []netip.Addr{netip.MustParseAddr("198.51.100.208")}})
	c.sky.Start(dunlin.Instance{ID: "dunlin-4", Labels: map[string]string{"role": "charts"},
		Addresses: []netip.Addr{netip.MustParseAddr("198.51.100.215")}})
	c.until("the newcomer is covered", func() bool { return c.state("dunlin-3") == api.InStep })
	for range 3 { // and however often the cloud is read
		c.until("the other one is told of", func() bool { return c.state("dunlin-4") == api.Failed })
		c.looked()
	}
	require.Equal(t, api.InStep, c.state("dunlin-3"))
	require.Equal(t, api.WaveStopped, c.wave("charts").State)
}

// TestAnInstanceMoves to another cloud in the fleet file while it is in force in its old one:
// newcomers there are covered all the same.
func TestAnInstanceMoves(t *testing.T) {
	t.Parallel()
	c := newClouded(t)
	require.Equal(t, api.WaveDone, c.wave().State)
	_, err := c.Import(context.Background(),
		api.ImportRequest{File: "fleet.json",
			Text: strings.Replace(cloudedFleet, `{"cloud": "dunlin", "id": "dunlin-1"}`, `{"cloud": "gull", "id": "gull-1"}`, 1)})
	require.NoError(t, err)
	c.sky.Start(dunlin.Instance{ID: "dunlin-3", Labels: map[string]string{"role": "charts"},
		Addresses: []netip.Addr{netip.MustParseAddr("198.51.100.208")}})
	c.until("it is covered", func() bool { return c.state("dunlin-3") == api.InStep })
}

// TestACloudThatCannot: what a cloud has no room for fails with the numbers, and what was
// in force before stays.
func TestACloudThatCannot(t *testing.T) {
	t.Parallel()
	c := newClouded(t, func(o *dunlin.Options) {
		o.Abilities = group.Abilities{RulesPerGroup: 8, GroupsPerInstance: 1, PeersPerRule: 2}
	})
	w := c.wave()
	require.Equal(t, api.WaveDone, w.State, "%+v", w)
	was := c.sky.Document()
	checked, err := c.Publish(context.Background(),
		api.PublishRequest{Files: cloudedPolicy("allow site: everywhere -> charts : tcp 80, 443, 8080, 8443\n"), Why: "more",
			Preview: true})
	require.NoError(t, err)
	var warned []string
	for _, pr := range checked.Problems {
		if pr.Code == "cloud-limits" {
			warned = append(warned, pr.Message)
		}
	}
	require.Contains(t, strings.Join(warned, "\n"), "inbound rules take 2 groups of at most 8, and the cloud lets an instance be in 1",
		"before it is published")
	require.Contains(t, strings.Join(warned, "\n"), "there is no room for old and new ones at once")
	c.publish("allow site: everywhere -> charts : tcp 80, 443, 8080, 8443\n")
	w = c.wave("charts")
	require.Equal(t, api.WaveStopped, w.State)
	require.Contains(t, w.Stopped, "charts-01")
	require.Contains(t, w.Stopped, "inbound rules take 2 groups of at most 8, and the cloud lets an instance be in 1")
	c.until("what was before is wanted", func() bool { return c.state("charts-01") == api.Behind })
	require.Equal(t, was, c.sky.Document())
}
