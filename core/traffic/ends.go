package traffic

import (
	"cmp"
	"net/netip"
	"slices"

	"yellowfence.example/yfence/core/fleet"
	"yellowfence.example/yfence/core/policy"
)

// A Who is what sort of end a flow has.
type Who string

// The sorts.
const (
	Ours     Who = "ours"     // a host of the fleet
	Known    Who = "known"    // of a network that the policy declares, and no stranger shares
	Stranger Who = "stranger" // anybody else
)

// An End is who sends, or gets, what is told of as one flow: a role, a host without one, a network,
// or strangers.
type End struct {
	Who  Who    `json:"who" enum:"ours,known,stranger"`
	Name string `json:"name" doc:"a role, 'host NAME', a network, which strangers may share, or strangers"`
}

// ends knows whose an address is.
type ends struct {
	pol      *policy.Policy
	hosts    map[netip.Addr]*fleet.Host
	sizes    map[string]int // of roles, in hosts
	networks []*policy.Network
}

// endsOf makes it for a policy.
func endsOf(pol *policy.Policy) *ends {
	e := &ends{pol: pol, hosts: map[netip.Addr]*fleet.Host{}, sizes: map[string]int{}}
	for _, h := range pol.Fleet.Hosts {
		for _, at := range h.Own() {
			e.hosts[at] = h
		}
	}
	for _, r := range pol.Roles {
		e.sizes[r.Name] = len(r.Hosts)
	}
	// The narrowest network that an address is of says most of it.
	e.networks = slices.Clone(pol.Networks)
	widths := map[*policy.Network]int{}
	for _, n := range e.networks {
		for _, p := range n.Addrs.Prefixes() {
			widths[n] = max(widths[n], p.Addr().BitLen()-p.Bits())
		}
	}
	slices.SortStableFunc(e.networks, func(a, b *policy.Network) int { return cmp.Compare(widths[a], widths[b]) })
	return e
}

// role is the name that a host is told under: its role of the fewest hosts.
func (e *ends) role(h *fleet.Host) string {
	best := "host " + h.Name
	for i, r := range h.Roles {
		if i == 0 || e.sizes[r] < e.sizes[best] {
			best = r
		}
	}
	return best
}

// of is whose an end of a flow is, with the host if it is one's.
func (e *ends) of(p netip.Prefix) (End, *fleet.Host) {
	if h := e.hosts[p.Addr()]; h != nil && p.IsSingleIP() {
		return End{Ours, e.role(h)}, h
	}
	for _, n := range e.networks {
		switch {
		case !n.Addrs.ContainsPrefix(p): // of a stranger the prefix is kept, which others may be in too
		case n.Shared:
			return End{Stranger, n.Name}, nil
		default:
			return End{Known, n.Name}, nil
		}
	}
	return End{Stranger, strangers}, nil
}

// strangers is the name of all who are not known.
const strangers = "strangers"
