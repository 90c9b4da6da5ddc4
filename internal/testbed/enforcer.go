package testbed

import (
	"fmt"
	"net/netip"
)

// The interfaces of an enforcer: towards everybody, and towards the machine behind it.
const (
	EnforcerUp   = "outer"
	EnforcerDown = "inner"
)

// NewEnforcer puts a namespace between a bridge of the wire's and a host, as a cloud stands
// between its network and an instance: all that comes to the host and goes from it is forwarded
// there, and can be filtered where the host sees nothing of it. The host gets the addresses on an
// interface, and goes by the gateways of their families.
func NewEnforcer(name string, wire *Namespace, bridge string, host *Namespace, iface string, addresses,
	gateways []netip.Addr) (*Namespace, error) {
	enforcer, err := NewNamespace(name)
	if err != nil {
		return nil, err
	}
	for _, ns := range []*Namespace{enforcer, host} { // nobody is to wait until addresses are known to be nobody else's
		if err := ns.Sysctl("ipv6/conf/default/accept_dad=0"); err != nil {
			return enforcer, err
		}
	}
	if err := enforcer.Attach(wire, bridge, EnforcerUp); err != nil {
		return enforcer, err
	}
	if err := enforcer.IP(fmt.Sprintf("link add %s type veth peer name %s netns %s", EnforcerDown, iface, host.Name)); err != nil {
		return enforcer, err
	}
	err = enforcer.Sysctl("ipv4/ip_forward=1", "ipv4/conf/"+EnforcerUp+"/proxy_arp=1", "ipv4/conf/"+EnforcerDown+"/proxy_arp=1",
		"ipv6/conf/all/forwarding=1", "ipv6/conf/"+EnforcerUp+"/proxy_ndp=1", "ipv6/conf/"+EnforcerDown+"/proxy_ndp=1")
	if err != nil {
		return enforcer, err
	}
	// An address of its own, for it to ask its neighbours with.
	outside := []string{"link set " + EnforcerDown + " up", "addr add 169.254.0.1/32 dev " + EnforcerUp + " scope link",
		"addr add 169.254.0.2/32 dev " + EnforcerDown + " scope link"}
	inside := []string{"link set " + iface + " up"}
	for _, a := range addresses {
		outside = append(outside, fmt.Sprintf("route add %s dev %s", a, EnforcerDown))
		nodad := ""
		if a.Is6() {
			outside = append(outside, fmt.Sprintf("neigh add proxy %s dev %s", a, EnforcerUp))
			nodad = " nodad"
		}
		inside = append(inside, fmt.Sprintf("addr add %s/%d dev %s%s", a, a.BitLen(), iface, nodad))
	}
	for _, g := range gateways {
		outside = append(outside, fmt.Sprintf("route add %s dev %s", g, EnforcerUp),
			fmt.Sprintf("route add default via %s dev %s", g, EnforcerUp))
		if g.Is6() {
			outside = append(outside, fmt.Sprintf("neigh add proxy %s dev %s", g, EnforcerDown))
		}
		inside = append(inside, fmt.Sprintf("route add %s dev %s", g, iface), fmt.Sprintf("route add default via %s dev %s", g, iface))
	}
	if err := enforcer.IP(outside...); err != nil {
		return enforcer, err
	}
	return enforcer, host.IP(inside...)
}
