package dunlin_test

import (
	"context"
	"fmt"
	"net"
	"net/netip"
	"os"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yellowfence.example/yfence/core/compile"
	"yellowfence.example/yfence/core/dialect/forms"
	"yellowfence.example/yfence/core/dialect/group"
	"yellowfence.example/yfence/core/fleet"
	"yellowfence.example/yfence/core/packet"
	"yellowfence.example/yfence/core/policy/policytest"
	"yellowfence.example/yfence/internal/dunlin"
	"yellowfence.example/yfence/internal/host/apply"
	"yellowfence.example/yfence/internal/simhost"
	"yellowfence.example/yfence/internal/testbed"
)

const formsFleet = `{"hosts": [
 {"name": "jump-01", "roles": ["jump"], "dialect": "nft", "own_console": true, "interfaces": [{"name": "eth0", "addresses": ["203.0.113.65/32", "2001:db8:1::65/128"]}]},
 {"name": "broker-01", "roles": ["broker"], "dialect": "nft", "interfaces": [{"name": "eth0", "addresses": ["203.0.113.66/32", "2001:db8:1::66/128"]}]},
 {"name": "charts-01", "roles": ["charts"], "dialect": "nft", "interfaces": [{"name": "nic", "addresses": ["198.51.100.201/32", "2001:db8:c::201/128"]}]},
 {"name": "charts-02", "roles": ["charts"], "dialect": "iptables", "interfaces": [{"name": "nic", "addresses": ["198.51.100.202/32", "2001:db8:c::202/128"]}]},
 {"name": "charts-03", "roles": ["charts"], "dialect": "none", "interfaces": [{"name": "nic", "addresses": ["198.51.100.203/32", "2001:db8:c::203/128"]}], "instance": {"cloud": "dunlin", "id": "dunlin-3"}},
 {"name": "charts-05", "roles": ["charts"], "dialect": "none", "interfaces": [{"name": "nic", "addresses": ["198.51.100.205/32", "2001:db8:c::205/128"]}], "instance": {"cloud": "skua", "id": "skua-5"}},
 {"name": "charts-04", "roles": ["charts"], "dialect": "portable", "interfaces": [{"name": "nic", "addresses": ["198.51.100.204/32", "2001:db8:c::204/128"]}]}]}`

const formsPolicy = `policy harbour language 1
role jump
role broker
role charts
network crew  = 198.51.100.0/25, 2001:db8:78::/48
network pests = 192.0.2.128/25
allow way-in:  crew -> jump : ssh guard
allow hop:     jump -> fleet : ssh guard
allow site:    everywhere -> charts : tcp 80, 443
allow feed:    broker -> charts : tcp 8883, udp 10110-10119
allow many:    crew -> charts : tcp 7000-7003
block pests:   pests -> charts : any
allow survey:  192.0.2.200 -> charts : tcp 443  over pests
block old:     everywhere -> charts : udp 10115
`

// TestOnePolicyInFourForms: a host of nft, one of iptables, one of another system and instances of
// two clouds pass and refuse the same real connections, which are those that the policy admits.
func TestOnePolicyInFourForms(t *testing.T) {
	testbed.Needed(t, "THE CLOUD IS NOT TRIED ON A KERNEL")
	pol := policytest.Resolve(t, formsFleet, formsPolicy)
	fl := pol.Fleet
	now := time.Now().Unix()
	namespace := func(name string) *testbed.Namespace {
		ns, err := testbed.NewNamespace(fmt.Sprintf("yff%d-%s", os.Getpid(), name))
		require.NoError(t, err)
		t.Cleanup(func() { require.NoError(t, ns.Close()) })
		require.NoError(t, ns.Sysctl("ipv6/conf/default/accept_dad=0"))
		return ns
	}
	wire, elsewhere := namespace("wire"), namespace("elsewhere")
	require.NoError(t, wire.Sysctl("ipv4/ip_forward=1", "ipv6/conf/all/forwarding=1"))
	gateways := []netip.Addr{netip.MustParseAddr("198.51.100.222"), netip.MustParseAddr("2001:db8:c::222")}
	require.NoError(t, wire.Bridge("sky"))
	require.NoError(t, wire.Bridge("out"))
	require.NoError(t, wire.IP("addr add 198.51.100.222/27 dev sky", "addr add 2001:db8:c::222/64 dev sky nodad",
		"addr add 169.254.9.9/32 dev out", "addr add 2001:db8:ffff::1/64 dev out nodad"))
	sources := []string{"203.0.113.65", "203.0.113.66", "198.51.100.7", "192.0.2.1", "192.0.2.129", "192.0.2.200", "2001:db8:1::65",
		"2001:db8:1::66", "2001:db8:78::7", "2001:db8:9::9"}
	require.NoError(t, elsewhere.Attach(wire, "out", "eth0", "2001:db8:ffff::2/64"))
	for _, s := range sources {
		bits := map[bool]string{true: "128 nodad", false: "32"}[strings.Contains(s, ":")]
		address, more, _ := strings.Cut(bits, " ")
		require.NoError(t, elsewhere.IP(fmt.Sprintf("addr add %s/%s dev eth0 %s", s, address, more)))
		require.NoError(t, wire.IP(fmt.Sprintf("route add %s/%s dev out", s, address)))
	}
	require.NoError(t, elsewhere.IP("route add 169.254.9.9 dev eth0", "route add default via 169.254.9.9 dev eth0",
		"route add default via 2001:db8:ffff::1 dev eth0"))

	can := group.Abilities{RulesPerGroup: 60, GroupsPerInstance: 5, PeersPerRule: 40}
	doc, left, failed := group.OfFleet(pol, "dunlin", now, can)
	require.Empty(t, failed)
	require.Empty(t, left)
	ordered, _, failed := group.OfFleet(pol, "skua", now, group.Abilities{Ordered: true})
	require.Empty(t, failed)
	require.True(t, slices.ContainsFunc(ordered.Groups[0].Inbound, func(r group.Rule) bool { return r.Refuses }),
		"another cloud's groups may refuse")
	docs := map[string]*group.Document{"dunlin": doc, "skua": ordered}
	hosts := []*fleet.Host{fl.Host("charts-01"), fl.Host("charts-02"), fl.Host("charts-03"), fl.Host("charts-04"), fl.Host("charts-05")}
	tcp, udp := []int{22, 80, 443, 7003, 7004, 8883}, []int{443, 10110, 10115, 10119, 10120}
	for _, h := range hosts {
		ns := namespace(h.Name)
		addresses := h.Own()
		gate, err := testbed.NewEnforcer(fmt.Sprintf("yff%d-gate-%s", os.Getpid(), h.Name), wire, "sky", ns, "nic", addresses, gateways)
		require.NoError(t, err)
		t.Cleanup(func() { require.NoError(t, gate.Close()) })
		if h.Dialect == "portable" {
			sp := packet.NewSpace()
			files, err := forms.Of(h).Write(sp, compile.ForHost(sp, pol, h, now))
			require.NoError(t, err)
			d := &simhost.Host{Dir: t.TempDir()}
			require.NoError(t, ns.Do(func() error { return d.Take([]byte(files[0].Text)) }))
		} else if h.Instance != nil {
			require.NoError(t, gate.Load(dunlin.EnforcerRules(docs[h.Instance.Cloud], h.Instance.ID, testbed.EnforcerUp,
				testbed.EnforcerDown)))
		} else {
			sp := packet.NewSpace()
			files, err := forms.Of(h).Write(sp, compile.ForHost(sp, pol, h, now))
			require.NoError(t, err)
			require.NoError(t, ns.Do(func() error { _, err := apply.Load(context.Background(), files); return err }))
		}
		require.NoError(t, ns.Do(func() error {
			for _, port := range tcp {
				l, err := net.Listen("tcp", fmt.Sprintf(":%d", port))
				if err != nil {
					return err
				}
				t.Cleanup(func() { _ = l.Close() })
			}
			for _, port := range udp {
				for _, a := range addresses { // one of each, for the answer to come from there
					c, err := net.ListenUDP("udp", net.UDPAddrFromAddrPort(netip.AddrPortFrom(a, uint16(port))))
					if err != nil {
						return err
					}
					t.Cleanup(func() { _ = c.Close() })
					go echo(c)
				}
			}
			return nil
		}))
	}
	sp := packet.NewSpace()
	var mu sync.Mutex
	var all sync.WaitGroup
	slots := make(chan struct{}, 60)
	passed, wrong := map[string]int{}, []string{}
	for _, h := range hosts {
		decision := compile.ForHost(sp, pol, h, now).Decision(sp)
		for _, source := range sources {
			for protocol, ports := range map[string][]int{"tcp": tcp, "udp": udp} {
				for _, port := range ports {
					from := netip.MustParseAddr(source)
					to := h.Own()[map[bool]int{true: 0, false: 1}[from.Is4()]]
					p := packet.Packet{Hook: packet.In, In: "nic", Family: map[bool]string{true: "ipv4", false: "ipv6"}[from.Is4()],
						Src: from, Dst: to, Protocol: protocol, SrcPort: new(40000), DstPort: &port, State: "new"}
					want := sp.Outcome(decision, p).Verdict == packet.Admit
					all.Go(func() {
						slots <- struct{}{}
						defer func() { <-slots }()
						var came bool
						err := elsewhere.Do(func() error {
							for try := 0; try < 3 && !came && (try == 0 || want); try++ { // a packet may be lost to other causes
								came = answers(protocol, from, netip.AddrPortFrom(to, uint16(port)))
							}
							return nil
						})
						mu.Lock()
						defer mu.Unlock()
						if err != nil || came != want {
							wrong = append(wrong, fmt.Sprintf("%s: %s, %v, and is to be %v (%v)", h.Name, p, came, want, err))
						}
						if came {
							passed[h.Name]++
						}
					})
				}
			}
		}
	}
	all.Wait()
	require.Empty(t, wrong)
	require.Len(t, passed, 5)
	for _, n := range passed {
		require.Equal(t, passed["charts-01"], n)
	}
	t.Logf("%d probes of each host, %d passed", len(sources)*(len(tcp)+len(udp)), passed["charts-01"])
}

// answers says that somebody answers to a new connection.
func answers(protocol string, from netip.Addr, to netip.AddrPort) bool {
	ctx, cancel := context.WithTimeout(context.Background(), time.Second)
	defer cancel()
	d := net.Dialer{LocalAddr: &net.TCPAddr{IP: from.AsSlice()}}
	if protocol == "udp" {
		d.LocalAddr = &net.UDPAddr{IP: from.AsSlice()}
	}
	c, err := d.DialContext(ctx, protocol, to.String())
	if err != nil {
		return false
	}
	defer func() { _ = c.Close() }()
	if protocol == "tcp" {
		return true
	}
	_ = c.SetDeadline(time.Now().Add(time.Second))
	if _, err := c.Write([]byte("?")); err != nil {
		return false
	}
	_, err = c.Read(make([]byte, 8))
	return err == nil
}

func echo(c *net.UDPConn) {
	b := make([]byte, 8)
	for {
		n, from, err := c.ReadFromUDPAddrPort(b)
		if err != nil {
			return
		}
		_, _ = c.WriteToUDPAddrPort(b[:n], from)
	}
}
