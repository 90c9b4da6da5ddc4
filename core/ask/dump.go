package ask

import (
	"strings"

	"yellowfence.example/yfence/core/fence"
	"yellowfence.example/yfence/core/kernel"
	"yellowfence.example/yfence/core/packet"
	"yellowfence.example/yfence/core/policy"
	"yellowfence.example/yfence/core/reach"
	"yellowfence.example/yfence/core/say"
	"yellowfence.example/yfence/core/source"
)

// Dump answers by what one kernel has in force. Where the question says no direction it is what
// the host's routes say, and in where they are not known. Names are those of pol, which may be
// a policy of nothing.
func Dump(sp *packet.Space, pol *policy.Policy, rs *kernel.Ruleset, q *fence.Question, now int64) (*Answer, []source.Problem) {
	sp.Since(now)
	a, problems := resolve(sp, pol, say.NamesOf(pol), q, now)
	if problems != nil {
		return nil, problems
	}
	// What the question speaks of, as far as it crosses this host: by which way, and by which
	// interface where that is said. Its own loopback is asked about by name only.
	a.dumped = true
	asked := sp.AndAll(a.spoken(reach.New(sp, pol, now)), sp.Addrs(packet.Src, a.from.Addrs), sp.Addrs(packet.Dst, a.to.Addrs),
		sp.WellFormed())
	ways, assumed := a.ways(rs.Routes)
	all := packet.Empty
	for hook, way := range ways {
		way = sp.AndAll(asked, way, sp.Value(packet.Hook, hook))
		for field, name := range map[packet.Field]string{packet.InIface: q.In, packet.OutIface: q.Out} {
			if name != "" {
				way = sp.And(way, sp.Interfaces(field, name))
			} else {
				way = sp.Minus(way, sp.Interfaces(field, "lo"))
			}
		}
		ways[hook], all = way, sp.Or(all, way)
	}
	// What the reading of the rules took for granted is told where it bears on these packets.
	for _, p := range rs.Presumed {
		if sp.And(p.Of, all) != packet.Empty && !strings.Contains(assumed, p.That) {
			if assumed != "" {
				assumed += "; and "
			}
			assumed += "that " + p.That
		}
	}
	// Rules are worked out for these packets alone: of a listing with many, most never meet one.
	rs = rs.About(sp, all)
	a.count(rs.Decision(sp), all)
	d, deciders := rs.Attributed(sp)
	// A step for each rule that decides about some of them.
	for hook, here := range ways {
		part := sp.Only(d, here)
		for _, o := range sp.Outcomes(sp.WithinLimits(sp.Only(d, sp.And(here, sp.Minus(here, a.unsure))))) {
			by := deciders[max(o.By-1, 0)]
			s := Step{Verdict: o.Verdict.String(), By: by.Text(), At: by.At()}
			if o.Verdict == packet.Admit {
				s.As = o.Translated.String()
				s.AtMost = rates(sp, sp.Where(part, func(p packet.Outcome) bool { return p.Verdict == packet.Admit && p.By == o.By }))
			}
			a.note(s, packet.Direction(hook))
		}
	}
	answer := a.answer()
	answer.Assumed = assumed
	return answer, nil
}

// ways are the directions in which a question's packets cross a host, by hook: the one that it
// says, else what the host's routes say. What is for the host comes in, what is from it goes
// out, and the rest is forwarded, by the interface that leads there.
func (a *asked) ways(routes *kernel.Routes) (ways []packet.Set, assumed string) {
	sp, q := a.sp, a.q
	ways = make([]packet.Set, len(packet.Directions))
	if way, said := packet.DirectionOf(q.Direction); said {
		ways[way] = packet.All
	} else {
		for family, name := range []string{packet.IPv4: "IPv4", packet.IPv6: "IPv6"} {
			of := sp.Value(packet.Family, family)
			if !routes.Tells(family) {
				ways[packet.In] = sp.Or(ways[packet.In], of)
				if sp.AndAll(of, sp.Addrs(packet.Src, a.from.Addrs), sp.Addrs(packet.Dst, a.to.Addrs)) != packet.Empty {
					assumed = "that it is for the host itself: no dump tells its routes of " + name
				}
				continue
			}
			arriving, _ := routes.Arriving()
			own, _ := routes.Kind("local")
			here := sp.And(of, sp.Addrs(packet.Dst, arriving))
			sent := sp.Minus(sp.And(of, sp.Addrs(packet.Src, own)), here)
			ways[packet.In], ways[packet.Out] = sp.Or(ways[packet.In], here), sp.Or(ways[packet.Out], sent)
			ways[packet.Through] = sp.Or(ways[packet.Through], sp.Minus(of, sp.Or(here, sent)))
		}
	}
	if via, ok := routes.Via(); ok && q.Out == "" && q.Direction != "out" {
		for name, to := range via {
			others := sp.Minus(sp.Addrs(packet.Dst, to), sp.Interfaces(packet.OutIface, name))
			for other, also := range via { // several may lead there
				if other != name {
					others = sp.Minus(others, sp.And(sp.Addrs(packet.Dst, also), sp.Interfaces(packet.OutIface, other)))
				}
			}
			ways[packet.Through] = sp.Minus(ways[packet.Through], others)
		}
	}
	return ways, assumed
}
