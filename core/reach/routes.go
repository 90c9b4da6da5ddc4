package reach

import (
	"go4.org/netipx"

	"yellowfence.example/yfence/core/fleet"
	"yellowfence.example/yfence/core/packet"
	"yellowfence.example/yfence/core/policy"
)

// A Route is packets that a rule of the policy has go through a role's hosts.
type Route struct {
	Packets  packet.Set
	Routers  []Party         // that are treated alike
	Decision packet.Decision // what they do: where they differ, by which one it goes is an unknown
	role     string
}

// Routes are those that the policy names.
func (r *Reach) Routes() []Route { return r.routes }

// routed are the ways through routers that rules name, with what these do there.
func (r *Reach) routed() (out []Route) {
	sp := r.sp
	add := func(packets packet.Set, role *policy.Role) {
		route := Route{Packets: packets, role: role.Name, Routers: r.alike(role.Hosts)}
		if route.Routers != nil {
			route.Decision = r.by(route, "", "")
			out = append(out, route)
		}
	}
	for _, rule := range r.pol.Rules {
		if len(rule.Through) == 0 || !rule.InForce(r.now) {
			continue
		}
		between := packet.Empty
		for _, s := range rule.Spans {
			between = sp.Or(between, sp.And(sp.Addrs(packet.Src, s.From.Addrs), sp.Addrs(packet.Dst, s.To.Addrs)))
		}
		packets := sp.And(between, r.Services(rule.Terms))
		if rule.Since > r.now {
			packets = sp.Minus(packets, sp.Before(rule.Since))
		}
		if rule.Until != 0 { // from then on it says nothing of where they go
			packets = sp.And(packets, sp.Before(rule.Until))
		}
		for _, role := range rule.Through { // by hosts of each
			add(packets, role)
		}
	}
	for _, j := range r.pol.Joins {
		crossing := packet.Empty
		for _, c := range j.Pairs() {
			crossing = sp.Or(crossing, sp.And(sp.Addrs(packet.Src, c.From), sp.Addrs(packet.Dst, c.To)))
		}
		for _, role := range j.Through {
			packets := crossing
			if len(role.Hosts) == 1 { // what it sends and gets itself it does not forward
				own := role.Hosts[0].Addresses()
				packets = sp.Minus(crossing, sp.Or(sp.Addrs(packet.Src, own), sp.Addrs(packet.Dst, own)))
			}
			add(packets, role)
		}
	}
	return out
}

// alike takes hosts together that are treated alike.
func (r *Reach) alike(hosts []*fleet.Host) (out []Party) {
	index := map[string]int{}
	for _, h := range hosts {
		out, _ = r.join(out, index, h)
	}
	return out
}

// join puts a host to the party of those that are treated as it is, and says which that is; index
// finds them by their class.
func (r *Reach) join(list []Party, index map[string]int, h *fleet.Host) ([]Party, int) {
	class := r.planner.Class(h)
	i, known := index[class]
	if !known {
		i = len(list)
		index[class] = i
		list = append(list, Party{class: class, Addrs: &netipx.IPSet{}})
	}
	list[i].Hosts = append(list[i].Hosts, h)
	return list, i
}

// by is what a route's routers do with packets by these interfaces.
func (r *Reach) by(route Route, in, out string) (all packet.Decision) {
	for i, p := range route.Routers {
		d := r.Forwards(p, in, out)
		if i > 0 && d != all {
			d = r.sp.Choose(r.sp.Unknown("through which host of "+route.role+" it goes"), d, all)
		}
		all = d
	}
	return all
}
