package group

import (
	"runtime"
	"slices"
	"strings"
	"sync"

	"go4.org/netipx"

	"yellowfence.example/yfence/core/compile"
	"yellowfence.example/yfence/core/fleet"
	"yellowfence.example/yfence/core/packet"
	"yellowfence.example/yfence/core/policy"
)

// fleetClass is instances that share their groups.
type fleetClass struct {
	name   string
	hosts  []*fleet.Host
	groups []Group
	left   []string
	err    error
}

// fleetClasses are the classes of the instances of a cloud, each with a name of its own.
func fleetClasses(pol *policy.Policy, cloud string) (classes []*fleetClass) {
	byKey, named := map[string]*fleetClass{}, map[string]bool{}
	same := compile.ClassesOf(pol)
	for _, h := range pol.Fleet.Hosts {
		if h.Instance == nil || h.Instance.Cloud != cloud {
			continue
		}
		key := same.Of(h) + "|" + h.Dialect
		c := byKey[key]
		if c == nil {
			c = &fleetClass{name: nameOf(h.Roles, "")}
			if named[c.name] {
				c.name = nameOf(h.Roles, h.Name)
			}
			named[c.name] = true
			byKey[key] = c
			classes = append(classes, c)
		}
		c.hosts = append(c.hosts, h)
	}
	return classes
}

// OfFleet makes the groups of all instances that a cloud has, for an instant in seconds
// since 1970, with who is in which: instances of the same roles, as far as the policy makes no
// difference between them, share their groups. left tells by host what is left to its own
// filter, failed whose groups cannot be written and why: those are in none, and hinder nobody else.
func OfFleet(pol *policy.Policy, cloud string, now int64, can Abilities) (d *Document, left map[string][]string, failed map[string]error) {
	classes := fleetClasses(pol, cloud)
	// Where a group can be a peer, addresses of all that is in one are said by its name.
	var known []Named
	if can.GroupPeers {
		for _, c := range classes {
			var b netipx.IPSetBuilder
			for _, h := range c.hosts {
				b.AddSet(ownAddresses(h))
			}
			addresses, _ := b.IPSet() // of sets, it has no error
			known = append(known, Named{c.name, addresses})
		}
	}
	// Classes have nothing in common, and each has a Space of its own: all processors work on them.
	work := make(chan *fleetClass)
	var all sync.WaitGroup
	for range runtime.GOMAXPROCS(0) {
		all.Go(func() {
			for c := range work {
				sp := packet.NewSpace()
				admitted := shared(sp, pol, c.hosts, now)
				admitted.Known = known
				c.groups, c.err = admitted.Write(sp, c.name, can)
				c.left = admitted.Left
			}
		})
	}
	for _, c := range classes {
		work <- c
	}
	close(work)
	all.Wait()
	// One class that a cloud cannot hold stops no other.
	d, left, failed = &Document{Version: 1, Kind: Kind, Cloud: cloud, Groups: []Group{}, Members: []Member{}}, map[string][]string{},
		map[string]error{}
	for _, c := range classes {
		if c.err != nil {
			for _, h := range c.hosts {
				failed[h.Name] = c.err
			}
			continue
		}
		var names []string
		for _, g := range c.groups {
			names = append(names, g.Name)
		}
		d.Groups = append(d.Groups, c.groups...)
		for _, h := range c.hosts {
			d.Members = append(d.Members, Member{Instance: h.Instance.ID, Groups: names})
			if c.left != nil {
				left[h.Name] = c.left
			}
		}
	}
	slices.SortFunc(d.Groups, func(a, b Group) int { return strings.Compare(a.Name, b.Name) })
	slices.SortFunc(d.Members, func(a, b Member) int { return strings.Compare(a.Instance, b.Instance) })
	return d, left, failed
}

// shared is what the groups are to admit that several hosts share, between whom the policy
// makes no difference but for their addresses: of one that has addresses of each family.
func shared(sp *packet.Space, pol *policy.Policy, hosts []*fleet.Host, now int64) *Admitted {
	if len(hosts) == 1 {
		return Of(sp, compile.ForHost(sp, pol, hosts[0], now))
	}
	var a *Admitted
	seen := map[[2]bool]bool{}
	for _, h := range hosts {
		var has [2]bool
		for _, r := range ownAddresses(h).Ranges() {
			has[map[bool]int{true: packet.IPv4, false: packet.IPv6}[r.From().Is4()]] = true
		}
		if seen[has] {
			continue
		}
		seen[has] = true
		one := of(sp, compile.ForHost(sp, pol, h, now), true)
		if a == nil {
			a = one
			continue
		}
		for i := range a.Sides {
			s, more := &a.Sides[i], one.Sides[i]
			s.decision = sp.Over(s.decision, sp.Only(more.decision, sp.Minus(more.asked, s.asked)))
			s.Admitted, s.domain, s.asked = sp.Or(s.Admitted, more.Admitted), sp.Or(s.domain, more.domain), sp.Or(s.asked, more.asked)
		}
		for _, what := range one.Left {
			if !slices.Contains(a.Left, what) {
				a.Left = append(a.Left, what)
			}
		}
	}
	return a
}
