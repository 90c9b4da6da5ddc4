package check

import (
	"fmt"
	"slices"
	"strings"

	"yellowfence.example/yfence/core/fleet"
	"yellowfence.example/yfence/core/packet"
	"yellowfence.example/yfence/core/policy"
	"yellowfence.example/yfence/core/reach"
)

// bySteps is never for whoever begins on a side, and for whoever may log in to a host from there,
// or from a host that is reached so: a search in breadth, so that the way that is told is as
// short as any.
func (x expected) bySteps() bool {
	if !x.never(*x.span.From, fmt.Sprintf("never %s -> %s", x.span.From.Text, x.span.To.Text), x.on) {
		return false
	}
	login := slices.Clone(policy.LogIn)
	for _, r := range x.pol.Rules {
		if r.Guard {
			login = append(login, r.Terms...)
		}
	}
	before := map[*fleet.Host]*fleet.Host{} // from which each host is reached; nil is from the side itself
	reached := func(h *fleet.Host) bool { _, yes := before[h]; return yes || x.span.From.Names(h) }
	way := func(h *fleet.Host) string {
		var names []string
		for ; h != nil; h = before[h] {
			names = append(names, h.Name)
		}
		slices.Reverse(names)
		return x.span.From.Text + " -> " + strings.Join(names, " -> ")
	}
	sources := x.r.Parties(*x.span.From)
	for len(sources) > 0 {
		x.budget.Check()
		var next []*fleet.Host
		targets := x.r.Parties(hosts(x.pol.Fleet.Hosts, reached))
		for _, a := range sources {
			for _, b := range targets {
				passes := x.passing(a, b, login)
				if passes == packet.Empty {
					continue
				}
				for _, h := range b.Hosts {
					here := x.sp.And(passes, x.sp.Addrs(packet.Dst, h.Addresses()))
					if _, known := before[h]; known || here == packet.Empty || len(a.Hosts) == 1 && a.Hosts[0] == h {
						continue
					}
					before[h] = x.sender(a, here)
					next = append(next, h)
					if x.span.To.Names(h) {
						e := *x.e
						e.Services, x.e = "a log-in", &e
						return x.broken(a, reach.Party{Hosts: []*fleet.Host{h}, Addrs: b.Addrs}, x.r.Between(a, b), here, "by steps: "+
							way(h), "passes")
					}
				}
			}
		}
		together := policy.SideOf(next)
		if x.lets(together) { // some of them; which way it goes is told of one
			for _, h := range next {
				if !x.never(policy.SideOf([]*fleet.Host{h}), "by steps: "+way(h), x.on) {
					return false
				}
			}
		}
		sources = x.r.Parties(together)
	}
	return true
}

// lets says that something from a side passes.
func (x expected) lets(from policy.Side) bool {
	return !x.each(from, *x.span.To, func(a, b reach.Party) bool {
		return x.sp.AndAll(x.passing(a, b, x.e.Terms), x.on(a, b)) == packet.Empty
	})
}

// sender is a host of a party that some packets come from; nil if the party is not ours.
func (x expected) sender(a reach.Party, packets packet.Set) *fleet.Host {
	for _, h := range a.Hosts {
		if x.sp.And(packets, x.sp.Addrs(packet.Src, h.Addresses())) != packet.Empty && !x.span.From.Names(h) {
			return h
		}
	}
	return nil
}

// hosts is a side of hosts of ours, without some.
func hosts(all []*fleet.Host, without func(*fleet.Host) bool) policy.Side {
	return policy.SideOf(slices.DeleteFunc(slices.Clone(all), without))
}
