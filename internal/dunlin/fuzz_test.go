package dunlin_test

import (
	"context"
	"encoding/json"
	"io"
	"net/http"
	"net/http/httptest"
	"net/netip"
	"reflect"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yellowfence.example/yfence/core/dialect/group"
	"yellowfence.example/yfence/core/packet"
	"yellowfence.example/yfence/core/policy/policytest"
	"yellowfence.example/yfence/internal/cloud"
	"yellowfence.example/yfence/internal/dunlin"
)

// said are a cloud's, by path, and what it was asked to change.
type said struct {
	says  map[string]string
	asked []*http.Request
}

func (a *said) RoundTrip(req *http.Request) (*http.Response, error) {
	if req.Method != http.MethodGet {
		a.asked = append(a.asked, req)
	}
	return &http.Response{StatusCode: http.StatusOK, Body: io.NopCloser(strings.NewReader(a.says[req.URL.Path])), Request: req}, nil
}

// FuzzAnswers: whatever a cloud answers, reading it changes nothing there; and if it can be
// read, every group that is asked for afterwards is one of those that the policy means, and
// every instance one of ours.
func FuzzAnswers(f *testing.F) {
	pol := policytest.Resolve(f, formsFleet, formsPolicy)
	sky := dunlin.New(dunlin.Options{Name: "dunlin", Account: "saltmarsh", Token: "secret",
		Abilities: group.Abilities{RulesPerGroup: 20, GroupsPerInstance: 4, PeersPerRule: 10}})
	sky.Start(dunlin.Instance{ID: "dunlin-3", Labels: map[string]string{"role": "charts"},
		Addresses: []netip.Addr{netip.MustParseAddr("198.51.100.203")}})
	sky.ByHand(group.Group{Name: "yf-charts.12345678",
		Inbound: []group.Rule{{Service: group.Service{Protocol: "tcp", Ports: "22"},
			Peers: []group.Peer{{Prefix: netip.MustParsePrefix("0.0.0.0/0")}, {Group: "yf-charts.12345678"}}}}, Outbound: []group.Rule{}})
	require.NoError(f, sky.PutMembership("dunlin-3", []string{"yf-charts.12345678"}))
	var real [3]string
	for i, path := range []string{"/v1/abilities", "/v1/instances", "/v1/groups"} {
		req := httptest.NewRequest(http.MethodGet, path, nil)
		req.Header.Set("Authorization", "Bearer secret")
		got := httptest.NewRecorder()
		sky.Handler().ServeHTTP(got, req)
		require.Equal(f, http.StatusOK, got.Code)
		real[i] = got.Body.String()
	}
	f.Add(real[0], real[1], real[2])
	f.Add(strings.ReplaceAll(real[0], "20", "-1"), real[1], real[2])
	f.Add(strings.ReplaceAll(real[0], "10", "-1"), real[1], real[2])
	f.Add(strings.ReplaceAll(real[0], "20", "1"), real[1], real[2])
	f.Add(real[0], strings.ReplaceAll(real[1], "198.51.100.203", "fe80::1%eth0"), real[2])
	f.Add(real[0], strings.ReplaceAll(real[1], "yf-charts", "yf-other"), real[2])
	f.Add(real[0], real[1], strings.ReplaceAll(real[2], "yf-charts.12345678", ""))
	f.Add(real[0], real[1], strings.ReplaceAll(real[2], `"22"`, `"99999-1"`))
	f.Fuzz(func(t *testing.T, about, instances, groups string) {
		a := &said{says: map[string]string{"/v1/abilities": about, "/v1/instances": instances, "/v1/groups": groups}}
		account := &dunlin.Account{URL: "http://dunlin.example", Token: "secret", Client: &http.Client{Transport: a},
			Pause: time.Nanosecond}
		have, err := cloud.Read(context.Background(), account)
		require.Empty(t, a.asked)
		if err != nil {
			return
		}
		doc, err := have.Document()
		if err != nil {
			return
		}
		sp := packet.NewSpace()
		sp.Bound(200_000)
		h := pol.Fleet.Host("charts-03")
		if err := packet.Try(func() { _, _ = group.Read(sp, h, pol.Fleet, doc) }); err != nil {
			return
		}
		can := have.Abilities
		can.GroupPeers = false
		want, _, _ := group.OfFleet(pol, "dunlin", 0, can)
		want = group.ByContent(want)
		_, _ = cloud.Advance(context.Background(), account, have, want) // what it cannot do it says
		for _, req := range a.asked {
			if name, ok := strings.CutPrefix(req.URL.Path, "/v1/groups/"); ok && req.Method == http.MethodPut {
				var put struct{ Group group.Group }
				require.NoError(t, json.NewDecoder(req.Body).Decode(&put))
				require.Equal(t, name, put.Group.Name)
				require.True(t, slices.ContainsFunc(want.Groups, func(g group.Group) bool {
					same := reflect.DeepEqual(g.Inbound, put.Group.Inbound) && reflect.DeepEqual(g.Outbound, put.Group.Outbound)
					return same && strings.HasPrefix(name, g.Name) // with a number after it, where one of that name was changed
				}), "%s", name)
			}
			if rest, ok := strings.CutPrefix(req.URL.Path, "/v1/instances/"); ok {
				require.Equal(t, "dunlin-3/groups", rest)
			}
		}
	})
}
