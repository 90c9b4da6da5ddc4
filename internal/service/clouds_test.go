package service_test

import (
	"context"
	"net/http"
	"net/http/httptest"
	"net/netip"
	"slices"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"yellowfence.example/yfence/core/dialect/nft"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yellowfence.example/yfence/api"
	"yellowfence.example/yfence/core/check"
	"yellowfence.example/yfence/core/dialect/group"
	"yellowfence.example/yfence/internal/dunlin"
	"yellowfence.example/yfence/internal/service"
)

// clouded is a harbour with two instances in a cloud, and nothing in force there.
type clouded struct {
	*harbour
	sky   *dunlin.Cloud
	looks atomic.Int64 // how often the service has begun to look at it
}

const cloudedFleet = `{"hosts": [
 {"name": "jump-01", "roles": ["jump"], "dialect": "nft", "own_console": true, "interfaces": [{"name": "eth0", "addresses": ["203.0.113.65/28"]}]},
 {"name": "charts-01", "roles": ["charts"], "dialect": "none", "interfaces": [{"name": "nic", "addresses": ["198.51.100.201/27"]}], "instance": {"cloud": "dunlin", "id": "dunlin-1"}},
 {"name": "broker-01", "roles": ["broker"], "dialect": "none", "interfaces": [{"name": "nic", "addresses": ["198.51.100.202/27"]}], "instance": {"cloud": "dunlin", "id": "dunlin-2"}}]}`

func cloudedPolicy(more string) []check.Source {
	return []check.Source{{Name: "harbour.fence", Text: `policy harbour language 1
role jump
role charts
role broker { outbound closed }
network crew = 198.51.100.0/25
allow way-in: crew -> jump : ssh guard
allow hop: jump -> fleet : ssh guard
allow feed: charts -> broker : tcp 8883
` + more}}
}

func newClouded(t *testing.T, change ...func(*dunlin.Options)) *clouded {
	return newCloudedWith(t, func(*service.Options) {}, change...)
}

// newCloudedWith is newClouded by a service with other options.
func newCloudedWith(t *testing.T, with func(*service.Options), change ...func(*dunlin.Options)) *clouded {
	o := dunlin.Options{Name: "dunlin", Account: "saltmarsh", Token: "secret",
		Abilities: group.Abilities{RulesPerGroup: 60, GroupsPerInstance: 5, PeersPerRule: 2}, SoonAfter: 100 * time.Millisecond,
		LateAfter: 400 * time.Millisecond}
	for _, c := range change {
		c(&o)
	}
	c := &clouded{sky: dunlin.New(o)}
	handler := c.sky.Handler()
	sky := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.URL.Path == "/v1/abilities" {
			c.looks.Add(1)
		}
		handler.ServeHTTP(w, r)
	}))
	t.Cleanup(sky.Close)
	for id, address := range map[string]string{"dunlin-1": "198.51.100.201", "dunlin-2": "198.51.100.202"} {
		c.sky.Start(dunlin.Instance{ID: id, Addresses: []netip.Addr{netip.MustParseAddr(address)}})
	}
	c.harbour = newHarbour(t, func(o *service.Options) {
		o.Clouds = []service.CloudAccount{{Name: "dunlin", Owner: "saltmarsh", Label: "role",
			Account: &dunlin.Account{URL: sky.URL, Token: "secret", Timeout: 300 * time.Millisecond, Pause: time.Millisecond}}}
		o.CloudEvery, o.CloudSoon, o.FollowEvery = 200*time.Millisecond, 50*time.Millisecond, 50*time.Millisecond
		with(o)
	})
	_, err := c.Import(context.Background(), api.ImportRequest{File: "fleet.json", Text: cloudedFleet})
	require.NoError(t, err)
	c.publish("")
	return c
}

func (c *clouded) publish(more string) {
	c.t.Helper()
	_, err := c.Publish(context.Background(), api.PublishRequest{Files: cloudedPolicy(more), Why: "w"})
	require.NoError(c.t, err)
}

// wave puts what is published in force, and gives how it ended.
func (c *clouded) wave(hosts ...string) (w api.Wave) {
	c.t.Helper()
	w, err := c.StartWave(context.Background(), api.WaveRequest{Hosts: hosts, Sizes: []string{"100%"}})
	require.NoError(c.t, err)
	c.until("the wave ends", func() bool {
		w, err = c.Wave(context.Background(), w.Number)
		return err == nil && w.Ended != nil
	})
	return w
}

func (c *clouded) until(what string, holds func() bool) {
	c.t.Helper()
	if !assert.Eventually(c.t, holds, 20*time.Second, 30*time.Millisecond, what) {
		d, err := c.Drift(context.Background(), "")
		require.Fail(c.t, what, "%v %+v\n%s", err, d, c.sky.Document())
	}
}

// looked waits until the service has looked at the cloud again, from the beginning to the end.
func (c *clouded) looked() {
	c.t.Helper()
	before := c.looks.Load()
	c.until("it looks at the cloud again", func() bool { return c.looks.Load() >= before+3 })
}

// drift is how a host is, and what is noted of the cloud; nothing before anybody looked at it.
func (c *clouded) drift(host string) (api.HostDrift, api.CloudStatus) {
	d, err := c.Drift(context.Background(), "")
	if err != nil || len(d.Clouds) == 0 {
		return api.HostDrift{}, api.CloudStatus{}
	}
	for _, h := range d.Hosts {
		if h.Host == host {
			return h, d.Clouds[0]
		}
	}
	return api.HostDrift{}, d.Clouds[0]
}

func (c *clouded) state(host string) api.State {
	h, _ := c.drift(host)
	return h.State
}

func (c *clouded) note(kind string) string {
	_, cloud := c.drift("charts-01")
	for _, n := range cloud.Notes {
		if n.Kind == kind {
			return n.Says
		}
	}
	return ""
}

// groupOf is the group that an instance is in, as it is in force.
func (c *clouded) groupOf(id string) group.Group {
	doc := c.sky.Document()
	for _, m := range doc.Members {
		if m.Instance == id && len(m.Groups) == 1 {
			for _, g := range doc.Groups {
				if g.Name == m.Groups[0] {
					return g
				}
			}
		}
	}
	return group.Group{}
}

// peersOf are whom an instance's group admits by a statement, and for what.
func (c *clouded) peersOf(id, statement string) (said []string) {
	for _, r := range c.groupOf(id).Inbound {
		if r.Comment == statement {
			said = append(said, r.Service.String())
			for _, p := range r.Peers {
				said = append(said, p.String())
			}
		}
	}
	return said
}

// TestAWavePutsGroupsInForce, and what somebody does at the cloud afterwards is told, and
// stays until the next.
func TestAWavePutsGroupsInForce(t *testing.T) {
	t.Parallel()
	c := newClouded(t)
	c.until("nothing filters for them", func() bool { return c.state("charts-01") == api.Bare })
	require.Equal(t, "The instance dunlin-1 is in no group: nothing filters for it.", c.note(group.NoGroup))

	c.publish("allow watch: 192.0.2.1, 192.0.2.3, 192.0.2.5 -> broker : tcp 49417") // more peers than a rule of the cloud has
	w := c.wave()
	require.Equal(t, api.WaveDone, w.State, "%+v", w)
	var said []string
	for _, h := range w.Hosts {
		said = append(said, h.Subject()+" "+h.Phase)
	}
	require.ElementsMatch(t, []string{"jump-01 absent", "charts-01@dunlin kept", "broker-01@dunlin kept"}, said)
	c.until("it is read back", func() bool { return c.state("charts-01") == api.InStep && c.state("broker-01") == api.InStep })
	_, cloud := c.drift("charts-01")
	require.Empty(t, cloud.Notes)
	require.Equal(t, []any{"saltmarsh", 2, 2}, []any{cloud.Account, cloud.Instances, cloud.Groups})
	require.Equal(t, []string{"tcp 22", "203.0.113.65/32"}, c.peersOf("dunlin-2", "allow hop"))
	require.Equal(t, []string{"tcp 8883", "198.51.100.201/32"}, c.peersOf("dunlin-2", "allow feed"))

	// The rules are shown as the cloud takes them, beside those that it has.
	beside, err := c.Live(context.Background(), "broker-01")
	require.NoError(t, err)
	require.Len(t, beside.Chains, 2)
	for _, chain := range append(beside.Chains, beside.Published...) {
		for _, r := range chain.Rules {
			require.True(t, r.Twin, "%s: %s", chain.Place, r.Text)
		}
	}
	rules, err := c.Rules(context.Background(), "broker-01")
	require.NoError(t, err)
	require.Contains(t, rules.Text, c.groupOf("dunlin-2").Name)

	// By hand: a group is opened, another made, an instance put into it as well.
	opened := c.groupOf("dunlin-2")
	opened.Inbound = append(opened.Inbound,
		group.Rule{Service: group.Service{Protocol: "tcp", Ports: "5432"},
			Peers: []group.Peer{{Prefix: netip.MustParsePrefix("0.0.0.0/0")}}})
	c.sky.ByHand(opened)
	c.sky.ByHand(group.Group{Name: "yf-left", Inbound: []group.Rule{}, Outbound: []group.Rule{}})
	c.sky.ByHand(group.Group{Name: "handy", Inbound: []group.Rule{}, Outbound: []group.Rule{}})
	require.NoError(t, c.sky.PutMembership("dunlin-1", []string{c.groupOf("dunlin-1").Name, "handy"}))
	c.until("it is told", func() bool { return c.state("broker-01") == api.Drifted && c.note(group.Membership) != "" })
	h, _ := c.drift("broker-01")
	require.Len(t, h.Findings, 1)
	require.Contains(t, h.Findings[0].Sentence, "tcp 5432 from everywhere (IPv4) gets in")
	require.Equal(t, "The group "+opened.Name+" holds something else than it was made with: somebody changed it by hand.",
		c.note(group.Changed))
	require.Equal(t, "Nobody is in the group yf-left, which was made for instances.", c.note(group.Unattached))
	require.Regexp(t, `^The instance dunlin-1 is in yf-charts\.\w+, handy, and is to be in yf-charts\.\w+\.$`, c.note(group.Membership))
	require.Equal(t, api.InStep, c.state("charts-01"), "another group that admits nothing means nothing")
	c.looked()
	require.Equal(t, api.Drifted, c.state("broker-01"), "a person settles")

	require.Equal(t, api.WaveDone, c.wave().State)
	c.until("all is well", func() bool {
		_, cloud := c.drift("charts-01")
		return c.state("broker-01") == api.InStep && cloud.Notes == nil
	})
	require.Regexp(t, `^yf-broker\.\w{16}-2$`, c.groupOf("dunlin-2").Name, "the one that was changed is left, not mended")

	// Another revision, for one of them; then back.
	c.publish("allow site: everywhere -> charts : https\n")
	before := c.groupOf("dunlin-1")
	w = c.wave("charts")
	require.Equal(t, api.WaveDone, w.State)
	require.NotEqual(t, before, c.groupOf("dunlin-1"))
	require.Equal(t, api.Behind, c.state("broker-01"), "it may reach the site, and nobody settled that")
	back, err := c.ReturnWave(context.Background(), w.Number)
	require.NoError(t, err)
	c.until("it is back", func() bool {
		now, err := c.Wave(context.Background(), back.Number)
		return err == nil && now.State == api.WaveDone
	})
	require.Equal(t, before, c.groupOf("dunlin-1"))
}

// TestARuleThatEnds: no group ends by itself, and nobody has to think of it.
func TestARuleThatEnds(t *testing.T) {
	t.Parallel()
	c := newClouded(t)
	var end time.Time
	for in := 4 * time.Second; ; in *= 2 { // a busy machine may need longer than that to put it in force
		end = time.Now().UTC().Add(in).Truncate(time.Second)
		c.publish("allow visit: crew -> charts : https until " + end.Format("2006-01-02T15:04:05Z") + "\n")
		require.Equal(t, api.WaveDone, c.wave().State)
		if peers := c.peersOf("dunlin-1", "allow visit"); time.Now().Before(end) || in > time.Minute {
			require.Equal(t, []string{"tcp 443", "198.51.100.0/25"}, peers)
			break
		}
	}
	c.until("it is over", func() bool { return c.peersOf("dunlin-1", "allow visit") == nil && c.state("charts-01") == api.InStep })
	require.False(t, time.Now().Before(end))
}

// TestNewInstances that carry a role's label are covered without anyone acting, and their
// peers admit them; a cloud is not believed what cannot be.
func TestNewInstances(t *testing.T) {
	t.Parallel()
	c := newClouded(t)
	require.Equal(t, api.WaveDone, c.wave().State)
	start := func(id, role, address string) {
		c.sky.Start(dunlin.Instance{ID: id, Labels: map[string]string{"role": role}, Addresses: []netip.Addr{netip.MustParseAddr(address)}})
	}
	start("dunlin-3", "charts", "198.51.100.208")
	c.until("it is covered", func() bool {
		return strings.HasPrefix(c.groupOf("dunlin-3").Name, "yf-charts.") && c.state("dunlin-3") == api.InStep &&
			len(c.peersOf("dunlin-2", "allow feed")) == 3
	})
	require.ElementsMatch(t, []string{"tcp 8883", "198.51.100.201/32", "198.51.100.208/32"}, c.peersOf("dunlin-2", "allow feed"))
	for role, wrong := range map[string]struct{ id, address, says string }{
		"charts":  {"dunlin-4", "203.0.113.65", "jump-01 has the address 203.0.113.65 already"},
		"jumps":   {"dunlin-5", "198.51.100.205", "the policy has no role jumps"},
		"broker":  {"dunlin-6", "127.0.0.1", "127.0.0.1 is no address of a host"},
		"jump":    {"Dunlin 7", "198.51.100.206", `"Dunlin 7" cannot be a host's name`},
		"charts,": {"dunlin-8", "255.255.255.255", "255.255.255.255 is no address of a host"},
		"charts ": {"dunlin-9", "0.1.2.3", "0.1.2.3 is no address of a host"},
		",charts": {"dunlin-10", "::ffff:203.0.113.65", "::ffff:203.0.113.65 is no address of a host"},
	} {
		start(wrong.id, role, wrong.address)
		c.until(wrong.says, func() bool {
			return strings.HasSuffix(c.note(group.NotTaken), "is not taken into the fleet: "+wrong.says)
		})
		c.sky.Stop(wrong.id)
		c.until("it is gone", func() bool { return c.note(group.NotTaken) == "" })
	}
	f, err := c.Fleet(context.Background())
	require.NoError(t, err)
	require.Len(t, f.Hosts, 4)
}

// TestInstancesGoAndChange: what the cloud says of instances that it has labelled the fleet
// follows, their peers too, by waves of the service's own; of others it is told.
func TestInstancesGoAndChange(t *testing.T) {
	t.Parallel()
	c := newClouded(t)
	require.Equal(t, api.WaveDone, c.wave().State)
	start := func(id, role, address string) {
		one := dunlin.Instance{ID: id, Labels: map[string]string{"role": role}, Addresses: []netip.Addr{netip.MustParseAddr(address)}}
		for _, m := range c.sky.Document().Members {
			if m.Instance == id {
				one.Groups = m.Groups
			}
		}
		c.sky.Start(one)
	}
	feeds := func(addresses ...string) func() bool {
		return func() bool {
			peers := slices.DeleteFunc(c.peersOf("dunlin-2", "allow feed"), func(s string) bool { return s == "tcp 8883" })
			return len(peers) == len(addresses) &&
				!slices.ContainsFunc(addresses, func(a string) bool { return !slices.Contains(peers, a+"/32") })
		}
	}
	hosts := func() (names []string) {
		fl, err := c.Fleet(context.Background())
		require.NoError(t, err)
		for _, h := range fl.Hosts {
			names = append(names, h.Name+" "+strings.Join(h.Roles, " "))
		}
		return names
	}
	start("dunlin-3", "charts", "198.51.100.208")
	start("dunlin-4", "charts", "198.51.100.215")
	c.until("both feed the broker", feeds("198.51.100.201", "198.51.100.208", "198.51.100.215"))

	start("dunlin-3", "charts", "198.51.100.210")
	c.until("one has another address", feeds("198.51.100.201", "198.51.100.210", "198.51.100.215"))
	start("dunlin-4", "broker", "198.51.100.215")
	c.until("the other another role", feeds("198.51.100.201", "198.51.100.210"))
	c.until("and what goes with it", func() bool {
		return c.state("dunlin-4") == api.InStep &&
			len(c.peersOf("dunlin-4", "allow feed")) == 3
	})
	require.Contains(t, hosts(), "dunlin-4 broker")
	start("dunlin-4", "brokers", "198.51.100.215")
	c.until("it is told", func() bool {
		return c.note(group.NotTaken) == "The instance dunlin-4 of dunlin-4 changed, and that is not followed: the policy has no role "+
			"brokers"
	})
	start("dunlin-4", "broker", "198.51.100.215")

	c.sky.Stop("dunlin-3")
	c.until("it left the fleet", func() bool { return !slices.Contains(hosts(), "dunlin-3 charts") && feeds("198.51.100.201")() })
	start("dunlin-5", "charts", "198.51.100.210") // with the address of the one before
	c.until("its follower is covered", func() bool {
		return c.state("dunlin-5") == api.InStep &&
			feeds("198.51.100.201", "198.51.100.210")()
	})
	c.sky.Stop("dunlin-5")
	start("dunlin-6", "charts", "198.51.100.210")
	c.until("at once, where the address shows that it is gone", func() bool { return c.state("dunlin-6") == api.InStep })

	// What the fleet file says is not the cloud's to change.
	c.sky.Start(dunlin.Instance{ID: "dunlin-1", Addresses: []netip.Addr{netip.MustParseAddr("198.51.100.211")}})
	c.until("another address is told", func() bool {
		return c.note(group.Elsewhere) == "The instance dunlin-1 of charts-01 has 198.51.100.211, and the fleet file says 198.51.100.201."
	})
	c.sky.Stop("dunlin-1")
	c.until("that it is gone is told", func() bool {
		d, err := c.Drift(context.Background(), "charts-01")
		return err == nil && d.Hosts[0].State == api.Silent && d.Hosts[0].Why == "dunlin has no instance dunlin-1" &&
			strings.HasPrefix(c.note(group.Gone), "The instance dunlin-1 of charts-01 is not there any more")
	})
	w := c.wave("charts")
	require.Equal(t, api.WaveDone, w.State, "nobody waits for it: %+v", w)

	waves, err := c.Waves(context.Background())
	require.NoError(t, err)
	var why []string
	for _, w := range waves.Waves {
		if w.By == service.Itself {
			require.NotEqual(t, api.WaveStopped, w.State, "%+v", w)
			why = append(why, w.Why)
		}
	}
	require.Contains(t, strings.Join(why, "\n"), "dunlin-3 left dunlin")
	require.Contains(t, strings.Join(why, "\n"), "dunlin-4 is labelled broker")
	require.Contains(t, strings.Join(why, "\n"), "dunlin-3 now has 198.51.100.210")
}

// TestAFilterAndGroups: a host that has both is as bad as the worse of them, with the
// findings of each.
func TestAFilterAndGroups(t *testing.T) {
	t.Parallel()
	c, ctx := newClouded(t), context.Background()
	_, err := c.Import(ctx, api.ImportRequest{File: "fleet.json",
		Text: strings.Replace(cloudedFleet, `["charts"], "dialect": "none"`, `["charts"], "dialect": "nft"`, 1)})
	require.NoError(t, err)
	require.Equal(t, api.WaveDone, c.wave().State)
	c.until("its groups are in force", func() bool { return len(c.peersOf("dunlin-1", "allow hop")) > 0 })
	require.NotEqual(t, api.InStep, c.state("charts-01"), "its own filter has not reported")

	own := func(change func(string) string) {
		rules, err := c.Settle(ctx, "charts-01")
		require.NoError(t, err)
		text := rules.Text[strings.LastIndex(rules.Text, "table inet yellowfence {"):]
		_, err = c.Report(ctx, api.Report{Version: 1, Host: "charts-01", TakenAt: time.Now().UTC(),
			InForce: api.InForce{Dumps: []api.Dump{{Kind: nft.ListingText, Text: change(text)}}}})
		require.NoError(t, err)
	}
	own(func(s string) string { return s })
	c.until("both are in force", func() bool { return c.state("charts-01") == api.InStep })

	opened := c.groupOf("dunlin-1")
	opened.Inbound = append(opened.Inbound,
		group.Rule{Service: group.Service{Protocol: "tcp", Ports: "5432"},
			Peers: []group.Peer{{Prefix: netip.MustParsePrefix("0.0.0.0/0")}}})
	c.sky.ByHand(opened)
	c.until("the groups are drifted", func() bool { return c.state("charts-01") == api.Drifted })
	h, _ := c.drift("charts-01")
	require.Len(t, h.Findings, 1)
	require.Contains(t, h.Findings[0].Live.At, opened.Name)
	own(func(s string) string {
		return strings.Replace(s, "chain inbound {\n", "chain inbound {\n\t\ttcp dport 8080 accept\n", 1)
	})
	h, _ = c.drift("charts-01")
	require.Len(t, h.Findings, 2, "%+v", h)
	require.Contains(t, h.Findings[0].Live.At+h.Findings[0].Sentence, "8080")
}
