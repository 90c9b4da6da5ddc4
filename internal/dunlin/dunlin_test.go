package dunlin_test

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"net/netip"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yellowfence.example/yfence/core/dialect/group"
	"yellowfence.example/yfence/core/fleet"
	"yellowfence.example/yfence/core/packet"
	"yellowfence.example/yfence/internal/dunlin"
)

// account is a cloud, whose clock is ours, and who calls it.
type account struct {
	*testing.T
	*dunlin.Cloud
	url string
	now atomic.Int64 // nanoseconds since 1970
}

func (a *account) pass(d time.Duration) { a.now.Add(d.Nanoseconds()) }

func newAccount(t *testing.T, o dunlin.Options) *account {
	a := &account{T: t}
	a.now.Store(1_800_000_000_000_000_000)
	o.Name, o.Token, o.SoonAfter, o.LateAfter, o.Clock = "dunlin", "secret", 2*time.Second, 10*time.Second,
		func() time.Time { return time.Unix(0, a.now.Load()) }
	a.Cloud = dunlin.New(o)
	server := httptest.NewServer(a.Handler())
	t.Cleanup(server.Close)
	a.url = server.URL
	return a
}

// call makes a request and gives what came of it: the status, or why there is none.
func (a *account) call(method, path string, body any) (status string, answer map[string]any) {
	a.Helper()
	text, err := json.Marshal(body)
	require.NoError(a, err)
	req, err := http.NewRequest(method, a.url+path, bytes.NewReader(text))
	require.NoError(a, err)
	req.Header.Set("Authorization", "Bearer secret")
	res, err := http.DefaultClient.Do(req)
	if err != nil {
		return "no answer", nil
	}
	defer func() { _ = res.Body.Close() }()
	got, err := io.ReadAll(res.Body)
	require.NoError(a, err)
	if json.Unmarshal(got, &answer) != nil {
		return "nonsense", nil
	}
	status = fmt.Sprint(res.StatusCode)
	if why, ok := answer["why"]; ok {
		status += " " + fmt.Sprint(why)
	}
	return status, answer
}

// rule opens a port to peers, which are prefixes or groups.
func rule(port string, peers ...string) group.Rule {
	r := group.Rule{Service: group.Service{Protocol: "tcp", Ports: port}}
	for _, p := range peers {
		if prefix, err := netip.ParsePrefix(p); err == nil {
			r.Peers = append(r.Peers, group.Peer{Prefix: prefix})
		} else {
			r.Peers = append(r.Peers, group.Peer{Group: p})
		}
	}
	return r
}

func put(version int64, inbound ...group.Rule) map[string]any {
	return map[string]any{"version": version, "group": group.Group{Inbound: inbound, Outbound: []group.Rule{}}}
}

// TestWhatIsAskedIsInForceLater, and what is done by hand at once.
func TestWhatIsAskedIsInForceLater(t *testing.T) {
	a := newAccount(t, dunlin.Options{})
	a.ByHand(group.Group{Name: "shut", Inbound: []group.Rule{}, Outbound: []group.Rule{}})
	a.Start(dunlin.Instance{ID: "p-1", Addresses: []netip.Addr{netip.MustParseAddr("203.0.113.70")}, Groups: []string{"shut"}})
	status, answer := a.call("PUT", "/v1/groups/charts", put(0, rule("443", "0.0.0.0/0")))
	require.Equal(t, "202", status)
	require.EqualValues(t, 1, answer["version"])
	status, _ = a.call("PUT", "/v1/instances/p-1/groups", map[string]any{"groups": []string{"charts"}})
	require.Equal(t, "202", status)
	admits := func() bool {
		d := a.Document()
		fl := &fleet.Fleet{Hosts: []*fleet.Host{{Name: "h", Instance: &fleet.Instance{Cloud: "dunlin", ID: "p-1"}}}}
		sp := packet.NewSpace()
		rs, err := group.Read(sp, fl.Hosts[0], fl, d)
		require.NoError(t, err)
		p := packet.Packet{Hook: packet.In, Family: "ipv4", Src: netip.MustParseAddr("192.0.2.1"),
			Dst: netip.MustParseAddr("203.0.113.70"), Protocol: "tcp", SrcPort: new(50000), DstPort: new(443), In: "eth0", State: "new"}
		return sp.Outcome(rs.Decision(sp), p).Verdict == packet.Admit
	}
	require.False(t, admits())
	require.NotNil(t, a.Groups()[0].Asked)
	a.pass(time.Second)
	require.False(t, admits(), "not before two seconds")
	a.pass(10 * time.Second)
	require.True(t, admits())
	require.Nil(t, a.Groups()[0].Asked)

	status, _ = a.call("POST", "/controls/groups", group.Group{Name: "charts", Inbound: []group.Rule{}, Outbound: []group.Rule{}})
	require.Equal(t, "202", status)
	require.False(t, admits(), "at once")
	status, _ = a.call("PUT", "/v1/groups/charts", put(1, rule("443", "0.0.0.0/0")))
	require.Equal(t, `409 the group "charts" is at version 2, not 1: somebody changed it since`, status)
	status, _ = a.call("PUT", "/v1/groups/charts", put(2, rule("443", "0.0.0.0/0")))
	require.Equal(t, "202", status)
	a.pass(10 * time.Second)
	require.True(t, admits())

	// Of two changes the later counts, whichever would be in force first.
	for i := range 20 {
		version := a.Groups()[0].Version
		status, _ = a.call("PUT", "/v1/groups/charts", put(version, rule("1", "0.0.0.0/0")))
		require.Equal(t, "202", status)
		status, _ = a.call("PUT", "/v1/groups/charts", put(version+1, rule(fmt.Sprint(100+i), "0.0.0.0/0")))
		require.Equal(t, "202", status)
		a.pass(10 * time.Second)
		require.Equal(t, fmt.Sprint(100+i), a.Groups()[0].Inbound[0].Service.Ports)
	}
}

// TestLimitsOfTheCloud are kept, and said.
func TestLimitsOfTheCloud(t *testing.T) {
	a := newAccount(t, dunlin.Options{Abilities: group.Abilities{RulesPerGroup: 2, GroupsPerInstance: 1, PeersPerRule: 2}, PerSecond: 100})
	a.Start(dunlin.Instance{ID: "p-1"})
	for _, c := range []struct {
		method, path string
		body         any
		want         string
	}{
		{"PUT", "/v1/groups/a", put(0, rule("1", "::/0"), rule("2", "::/0"), rule("3", "::/0")),
			"422 3 inbound rules are more than the 2 that a group holds"},
		{"PUT", "/v1/groups/a", put(0, rule("1", "10.0.0.0/8", "::/0", "11.0.0.0/8")),
			"422 inbound rule 1 has 3 peers, and a rule holds 2"},
		{"PUT", "/v1/groups/a", put(0, rule("1", "b")), "422 inbound rule 1: peers are prefixes here"},
		{"PUT", "/v1/groups/a", json.RawMessage(`{"version": 0, "group": {"inbound": [{"service": "tcp 1", "peers": ["everywhere"]}], ` +
			`"outbound": []}}`),
			`422 inbound rule 1: the peer "everywhere" is neither a prefix nor {"group": NAME}`},
		{"PUT", "/v1/groups/a", put(7), `404 there is no group "a"`},
		{"PUT", "/v1/groups/a", put(0, rule("1", "::/0")), "202"},
		{"PUT", "/v1/groups/b", put(0), "202"},
		{"PUT", "/v1/instances/p-1/groups", map[string]any{"groups": []string{"a", "b"}},
			"422 2 groups are more than the 1 that an instance may be in"},
		{"PUT", "/v1/instances/p-1/groups", map[string]any{"groups": []string{"c"}}, `422 there is no group "c"`},
		{"PUT", "/v1/instances/p-2/groups", map[string]any{"groups": []string{"a"}}, `404 there is no instance "p-2"`},
		{"PUT", "/v1/instances/p-1/groups", map[string]any{"groups": []string{"a"}}, "202"},
		{"DELETE", "/v1/groups/a?version=1", nil, `409 the instance p-1 is in the group "a"`},
		{"DELETE", "/v1/groups/b?version=2", nil, `409 the group "b" is at version 1, not 2: somebody changed it since`},
		{"DELETE", "/v1/groups/b?version=1", nil, "202"},
		{"PUT", "/v1/groups/a", map[string]any{"grupp": 1}, `400 this is not what the API takes: json: unknown field "grupp"`},
	} {
		status, _ := a.call(c.method, c.path, c.body)
		require.Equal(t, c.want, status, "%s %s", c.method, c.path)
	}
	a.PerSecond = 3
	a.pass(time.Minute)
	var got []string
	for range 5 {
		status, _ := a.call("GET", "/v1/abilities", nil)
		got = append(got, status)
	}
	require.Equal(t, []string{"200", "200", "200", "429 more than 3 requests in a second", "429 more than 3 requests in a second"}, got)
	a.pass(time.Second)
	status, _ := a.call("GET", "/v1/abilities", nil)
	require.Equal(t, "200", status)
	res, err := http.Get(a.url + "/v1/groups")
	require.NoError(t, err)
	require.NoError(t, res.Body.Close())
	require.Equal(t, http.StatusUnauthorized, res.StatusCode)
}

// TestFaultsOfTheCloud happen as they are asked for, to so many requests.
func TestFaultsOfTheCloud(t *testing.T) {
	a := newAccount(t, dunlin.Options{})
	for i, c := range []struct {
		kind, want string
		done       bool
	}{{"fails", "503 the cloud is not well", false}, {"lost", "no answer", true}, {"nonsense", "nonsense", false},
		{"half", "nonsense", true}, {"partly", "503 the cloud is not well", true}} {
		status, _ := a.call("POST", "/controls/faults", dunlin.Fault{Of: "PUT /v1/groups/*", Kind: c.kind, Times: 1})
		require.Equal(t, "202", status)
		name := fmt.Sprintf("g%d", i)
		body := put(0, rule("1", "::/0"))
		body["group"] = group.Group{Inbound: []group.Rule{rule("1", "::/0")}, Outbound: []group.Rule{rule("2", "::/0")}}
		status, _ = a.call("PUT", "/v1/groups/"+name, body)
		require.Equal(t, c.want, status, c.kind)
		a.pass(10 * time.Second)
		var kept *dunlin.KeptGroup
		for _, g := range a.Groups() {
			if g.Name == name {
				kept = &g
			}
		}
		require.Equal(t, c.done, kept != nil, c.kind)
		if c.kind == "partly" {
			require.Equal(t, []int{1, 0}, []int{len(kept.Inbound), len(kept.Outbound)})
		}
		status, _ = a.call("PUT", "/v1/groups/after-"+name, put(0))
		require.Equal(t, "202", status, "only so many")
	}
}

// TestPages of instances hold all of them, once.
func TestPages(t *testing.T) {
	a := newAccount(t, dunlin.Options{})
	for i := range 250 {
		a.Start(dunlin.Instance{ID: fmt.Sprintf("p-%03d", i)})
	}
	seen := map[string]int{}
	pages := 0
	for after := ""; ; pages++ {
		status, answer := a.call("GET", "/v1/instances?after="+after, nil)
		require.Equal(t, "200", status)
		for _, i := range answer["instances"].([]any) {
			seen[i.(map[string]any)["id"].(string)]++
		}
		if after = answer["next"].(string); after == "" {
			break
		}
	}
	require.Equal(t, []int{250, 2}, []int{len(seen), pages})
	for id, times := range seen {
		require.Equal(t, 1, times, id)
	}
}

// TestACloudThatSendsOn: nobody is followed elsewhere, so that what was not done is not taken for done.
func TestACloudThatSendsOn(t *testing.T) {
	reached := false
	there := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		reached = true
		_, _ = w.Write([]byte(`{}`))
	}))
	defer there.Close()
	here := httptest.NewServer(http.RedirectHandler(there.URL, http.StatusMovedPermanently))
	defer here.Close()
	a := &dunlin.Account{URL: here.URL, Token: "secret"}
	require.ErrorContains(t, a.Make(context.Background(), group.Group{Name: "yf-charts"}), "Moved Permanently")
	require.False(t, reached)
}
