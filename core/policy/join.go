package policy

import (
	"slices"

	"go4.org/netipx"

	"yellowfence.example/yfence/core/fence"
	"yellowfence.example/yfence/core/fleet"
	"yellowfence.example/yfence/core/packet"
	"yellowfence.example/yfence/core/source"
)

// A Join says that what goes from one of some networks to another goes by hosts of each of
// some roles; where it names none, by routers that are not ours.
type Join struct {
	Networks    []*Network
	Through     []*Role
	Description string
	Pos         source.Pos
	Decl        *fence.JoinDecl
}

// A Crossing is what goes from one network of a join to another: for a rule, what it speaks of.
type Crossing struct {
	Join     *Join
	From, To *netipx.IPSet
}

// Pairs are all crossings of a join.
func (j *Join) Pairs() (out []Crossing) {
	for _, a := range j.Networks {
		for _, b := range j.Networks {
			if a != b {
				out = append(out, Crossing{j, a.Addrs, b.Addrs})
			}
		}
	}
	return out
}

// Routers are the roles whose hosts carry a rule out in what they forward: those that it names,
// and those of the joins that it crosses.
func (r *Rule) Routers() []*Role {
	out := slices.Clone(r.Through)
	for _, s := range r.Spans {
		for _, c := range s.Crossings {
			for _, role := range c.Join.Through {
				if !slices.Contains(out, role) {
					out = append(out, role)
				}
			}
		}
	}
	return out
}

// CarriedBy are the parts of a span that a host carries out in what it forwards by a join.
// Where the rule goes through no join there are none.
func (s *Span) CarriedBy(h *fleet.Host) (out []Crossing) {
	for _, c := range s.Crossings {
		if Routes(c.Join.Through, h) {
			out = append(out, c)
		}
	}
	return out
}

// mostJoined is how many ways from one network to another joins may say.
const mostJoined = 2000

// join works out between which networks a join says that there is a way, pair by pair.
func (r *resolver) join(d *fence.JoinDecl) {
	if len(d.Networks) > 50 { // they are looked at pair by pair
		r.errorf(d.Declared(), "policy-size", "a join names %d networks", len(d.Networks)).Hint = "join larger networks, or fewer"
		return
	}
	j := &Join{Through: r.through(d.Through), Description: d.Description, Pos: d.Pos, Decl: d}
	for _, i := range d.Networks {
		decl, ok := r.networks[i.Name]
		if !ok {
			r.unknown(i, "network or segment", keysOf(r.networks)...)
			continue
		}
		n := r.network(decl)
		n.Used = true
		for _, before := range j.Networks {
			if both := packet.Intersection(before.Addrs, n.Addrs); len(both.Ranges()) > 0 {
				r.errorf(i, "join", "%s is in %s and in %s: what goes from one to the other is not clear", both.Ranges()[0].From(),
					before.Name, n.Name).Hint = "join networks that have no address in common"
			}
		}
		j.Networks = append(j.Networks, n)
	}
	if r.joined += len(j.Networks) * (len(j.Networks) - 1); r.joined > mostJoined {
		r.errorf(d.Declared(), "policy-size", "the joins name more than %d ways between networks",
			mostJoined).Hint = "join larger networks, or fewer"
		return
	}
	r.pol.Joins = append(r.pol.Joins, j)
}

// crossings are what of a rule's spans goes from one joined network to another by routers of
// ours. What is on one segment crosses nothing, and what is encrypted shows a router nothing.
func (r *resolver) crossings(rule *Rule) {
	if rule.On != nil || rule.IPsec || rule.Block && rule.Arriving != nil {
		return
	}
	for _, j := range r.pol.Joins {
		if r.budget.Check(); j.Through == nil {
			continue
		}
		for i := range rule.Spans {
			s := &rule.Spans[i]
			for _, c := range j.Pairs() {
				c.From, c.To = r.shared(s.From.Addrs, c.From), r.shared(s.To.Addrs, c.To)
				if len(c.From.Ranges()) > 0 && len(c.To.Ranges()) > 0 {
					s.Crossings = append(s.Crossings, c)
				}
			}
		}
	}
}
