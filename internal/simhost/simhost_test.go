package simhost_test

import (
	"fmt"
	"net"
	"os"
	"os/exec"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yellowfence.example/yfence/api"
	"yellowfence.example/yfence/core/compare"
	"yellowfence.example/yfence/core/compile"
	"yellowfence.example/yfence/core/dialect/portable"
	"yellowfence.example/yfence/core/packet"
	"yellowfence.example/yfence/core/policy/policytest"
	"yellowfence.example/yfence/core/say"
	"yellowfence.example/yfence/internal/live"
	"yellowfence.example/yfence/internal/simhost"
	"yellowfence.example/yfence/internal/testbed"
)

const deskFleet = `{"hosts": [
 {"name": "desk-01", "roles": ["desk"], "dialect": "portable", "own_console": true, "interfaces": [
  {"name": "nic0", "addresses": ["10.40.7.1/16"], "segment": "quay-lan"}, {"name": "nic1", "addresses": ["10.60.7.1/16"], "segment": "hill-lan"}]}]}`

const deskPolicy = `policy p language 1
segment quay-lan = 10.40.0.0/16
segment hill-lan = 10.60.0.0/16
role desk
allow files:   everywhere -> desk : tcp 8080  arriving quay-lan
allow way-in:  everywhere -> desk : ssh  guard
block gossip:  desk -> everywhere : any  from program /usr/bin/gossip  by reject
`

// TestADesk: a port is open for one segment only, one program is kept off the network, and what
// somebody changes by hand is found.
func TestADesk(t *testing.T) {
	testbed.Needed(t, "NO OTHER SYSTEM'S HOST IS TRIED")
	namespace := func(name string) *testbed.Namespace {
		ns, err := testbed.NewNamespace(fmt.Sprintf("yfk%d-%s", os.Getpid(), name))
		require.NoError(t, err)
		t.Cleanup(func() { require.NoError(t, ns.Close()) })
		return ns
	}
	wire, host, quay, hill := namespace("wire"), namespace("desk"), namespace("quay"), namespace("hill")
	for bridge, peer := range map[string]*testbed.Namespace{"quay": quay, "hill": hill} {
		require.NoError(t, wire.Bridge(bridge))
		nic, net := "nic0", "10.40"
		if bridge == "hill" {
			nic, net = "nic1", "10.60"
		}
		require.NoError(t, host.Attach(wire, bridge, nic, net+".7.1/16"))
		require.NoError(t, peer.Attach(wire, bridge, "eth0", net+".3.1/16"))
	}
	listen := func(ns *testbed.Namespace, at string) {
		require.NoError(t, ns.Do(func() error {
			l, err := net.Listen("tcp", at)
			if err == nil {
				t.Cleanup(func() { _ = l.Close() })
			}
			return err
		}))
	}
	listen(host, ":8080")
	listen(host, ":22")
	listen(quay, ":443")
	passes := func(from *testbed.Namespace, to string) (yes bool) {
		_ = from.Do(func() error {
			c, err := net.DialTimeout("tcp", to, 400*time.Millisecond)
			if yes = err == nil; yes {
				_ = c.Close()
			}
			return nil
		})
		return yes
	}

	pol := policytest.Resolve(t, deskFleet, deskPolicy)
	h, now := pol.Fleet.Hosts[0], time.Now().Unix()
	sp := packet.NewSpace()
	files, err := portable.Form{}.Write(sp, compile.ForHost(sp, pol, h, now))
	require.NoError(t, err)
	d := &simhost.Host{Dir: t.TempDir()}
	require.NoError(t, host.Do(func() error { return d.Take([]byte(files[0].Text)) }))

	require.True(t, passes(quay, "10.40.7.1:8080"), "from the quay")
	require.False(t, passes(hill, "10.60.7.1:8080"), "but not from the hill")
	require.True(t, passes(hill, "10.60.7.1:22"))
	run := func(program string) error {
		return host.Do(func() error {
			cmd, err := d.Command(program, "bash", "-c", "exec 3<>/dev/tcp/10.40.3.1/443")
			require.NoError(t, err)
			return cmd.Run()
		})
	}
	require.NoError(t, run("/usr/bin/charts"))
	var exit *exec.ExitError
	require.ErrorAs(t, run("/usr/bin/gossip"), &exit, "it is kept off the network")

	drift := func() *compare.Result {
		doc, err := d.Dump()
		require.NoError(t, err)
		f := live.Sniff("dump", []byte(doc.String()))
		require.Equal(t, portable.Listing, f.Dumps[0].Kind)
		res, err := live.Drift([]live.Stage{{Policy: pol, Host: h}}, say.NamesOf(pol), now, api.InForce{Dumps: f.Dumps}, time.Time{})
		require.NoError(t, err)
		return res
	}
	require.Equal(t, "in step", drift().State())
	require.NoError(t, host.Do(func() error {
		return d.ByHand(func(doc *portable.Document) {
			doc.Inbound.Rules = append([]portable.Rule{{Does: "admit",
				Condition: portable.Condition{Services: []portable.Service{{Protocol: "tcp", Ports: "8080"}}}}}, doc.Inbound.Rules...)
		})
	}))
	require.True(t, passes(hill, "10.60.7.1:8080"))
	res := drift()
	require.Equal(t, "drifted", res.State())
	require.Contains(t, res.Findings[0].Sentence, "tcp 8080 from everywhere")
	require.Equal(t, "inbound rule 1", strings.TrimPrefix(res.Findings[0].Live.At, "inet portable/"))

	// Its interfaces change places: what is for a segment follows it.
	require.NoError(t, host.Do(func() error { return d.Take([]byte(files[0].Text)) }))
	require.NoError(t, host.IP("addr flush dev nic0", "addr flush dev nic1", "addr add 10.60.7.1/16 dev nic0",
		"addr add 10.40.7.1/16 dev nic1"))
	require.NoError(t, quay.IP("addr flush dev eth0", "addr add 10.60.3.1/16 dev eth0"))
	require.NoError(t, hill.IP("addr flush dev eth0", "addr add 10.40.3.1/16 dev eth0"))
	require.NoError(t, host.Do(d.Attach))
	require.True(t, passes(hill, "10.40.7.1:8080"), "the quay's network is at the other end now")
	require.False(t, passes(quay, "10.60.7.1:8080"))

	require.Error(t, host.Do(func() error { return d.Take([]byte(files[0].Text[:200])) }), "half a list changes nothing")
	require.True(t, passes(hill, "10.40.7.1:8080"))
}
