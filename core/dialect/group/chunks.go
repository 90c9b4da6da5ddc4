package group

import (
	"cmp"
	"fmt"
	"net/netip"
	"slices"
	"strconv"

	"go4.org/netipx"

	"yellowfence.example/yfence/core/packet"
)

// A dimension is what rules of some protocols tell besides the peer, as numbers in a row:
// ports, ICMP types or the codes of one, or the numbers of protocols themselves.
type dimension struct {
	within packet.Set // the packets that it is about
	field  packet.Field
	rule   func(lo, hi int) Rule // that tells a run of it; without peers
}

// dimensions are those of a side, which together are all protocols.
func (s *Side) dimensions(sp *packet.Space) (out []dimension) {
	others := packet.All
	of := func(n int) packet.Set {
		within := sp.Value(packet.Protocol, n)
		others = sp.Minus(others, within)
		return within
	}
	for _, n := range hasPorts {
		out = append(out, dimension{of(n), packet.DstPort, func(lo, hi int) Rule {
			return Rule{Service: Service{Protocol: protocolName(n), Ports: words(packet.DstPort, lo, hi)}}
		}})
	}
	for _, n := range hasTypes {
		within := of(n)
		admitted := sp.And(s.Admitted, within)
		// types of which not all codes are
		some := sp.ProjectOnto(sp.Minus(sp.Exists(admitted, packet.ICMPCode), admitted), packet.ICMPType)
		if some != packet.Empty {
			for _, r := range sp.Project(some, packet.ICMPType) {
				for t := r.Lo.Int(); t <= r.Hi.Int(); t++ {
					out = append(out, dimension{sp.And(within, sp.Value(packet.ICMPType, t)), packet.ICMPCode, func(lo, hi int) Rule {
						return Rule{Service: Service{Protocol: protocolName(n), Types: strconv.Itoa(t),
							Codes: words(packet.ICMPCode, lo, hi)}}
					}})
				}
			}
		}
		out = append(out, dimension{sp.Minus(within, some), packet.ICMPType, func(lo, hi int) Rule {
			return Rule{Service: Service{Protocol: protocolName(n), Types: words(packet.ICMPType, lo, hi)}}
		}})
	}
	return append(out, dimension{others, packet.Protocol, func(lo, hi int) Rule {
		if lo == hi {
			return Rule{Service: Service{Protocol: protocolName(lo)}}
		}
		return Rule{Service: Service{Protocol: fmt.Sprintf("%d-%d", lo, hi)}}
	}})
}

// words say a run of a field's values; nothing where it is all of them.
func words(f packet.Field, lo, hi int) string {
	switch {
	case lo == hi:
		return strconv.Itoa(lo)
	case lo == 0 && hi == f.Limit().Int():
		return ""
	}
	return fmt.Sprintf("%d-%d", lo, hi)
}

// rules are as few rules as say exactly whom a side admits to what, by this: to every
// address runs of values are admitted. A rule is for one run, and holds the addresses whose
// whole run it is; and of those that are admitted to all of it others too, where that makes
// for fewer prefixes: the fewest that hold the first and nobody else than these.
//
// Addresses whose whole run others' runs cover need no rule of their own, where naming them
// with those takes less. Where rules are tried in order and may refuse, those who are admitted
// to nothing of a run may be refused first, if admitting all the rest then takes fewer rules, or as
// many with fewer prefixes.
func (s *Side) rules(sp *packet.Space, can Abilities, known []Named) (out []Rule) {
	emit := func(r Rule, peers []netip.Prefix, in packet.Set) {
		r.Comment = s.statements(sp, in)
		said := peersOf(peers, known)
		for r.Peers = range slices.Chunk(said, cmp.Or(can.PeersPerRule, len(said))) {
			out = append(out, r)
		}
	}
	// Who is admitted to everything needs no other rule.
	all := sp.Minus(sp.ProjectOnto(s.domain, packet.Family, s.peer), sp.ProjectOnto(sp.Minus(s.domain, s.Admitted), packet.Family, s.peer))
	everything := s.addresses(sp, all)
	if peers := s.fewest(everything, everything); len(peers) > 0 {
		emit(Rule{Service: Service{Protocol: "any"}}, peers, all)
	}
	for _, d := range s.dimensions(sp) {
		runs, sets := s.runs(sp, d)
		for _, c := range s.classes(can, everything, sets) {
			lo, hi := runs[c.from].Lo.Int(), runs[c.to].Hi.Int()
			about := sp.AndAll(d.within, sp.Range(d.field, lo, hi), sp.Addrs(s.peer, c.hold))
			peers := s.fewest(c.hold, c.may)
			if can.Ordered {
				nobody := packet.Without(packet.Everything(), everything) // of those who have any of it
				for _, set := range sets[c.from : c.to+1] {
					nobody = packet.Without(nobody, set)
				}
				wide := s.fewest(c.hold, packet.Union(c.may, nobody))
				but := s.fewest(packet.Intersection(packet.Prefixes(wide...), nobody), nobody)
				both := can.price(wide).and(can.price(but)) // which stand in one group
				if can.less(both, can.price(peers)) && (can.RulesPerGroup == 0 || both.rules <= can.RulesPerGroup) {
					refuse := d.rule(lo, hi)
					refuse.Refuses = true
					emit(refuse, but, about)
					peers = wide
				}
			}
			emit(d.rule(lo, hi), peers, about)
		}
	}
	return out
}

// chunks is how many rules it takes to name so many peers.
func (can Abilities) chunks(peers int) int {
	if can.PeersPerRule == 0 {
		return 1
	}
	return (peers + can.PeersPerRule - 1) / can.PeersPerRule
}

// A price is what naming some peers takes.
type price struct{ rules, prefixes int }

// and is what two things cost together.
func (a price) and(b price) price { return price{a.rules + b.rules, a.prefixes + b.prefixes} }

// price is what naming some peers takes by rules of one kind.
func (can Abilities) price(peers []netip.Prefix) price {
	if len(peers) == 0 {
		return price{}
	}
	return price{can.chunks(len(peers)), len(peers)}
}

// less says that one price is lower than another: where a cloud limits rules those count, and
// then prefixes; else, since a peer costs as much as a rule, both together.
func (can Abilities) less(a, b price) bool {
	if can.RulesPerGroup > 0 && a.rules != b.rules {
		return a.rules < b.rules
	}
	return a.prefixes+a.rules < b.prefixes+b.rules
}

// A class is the addresses that one rule is for: that of runs from one to another.
type class struct {
	from, to int
	hold     *netipx.IPSet // whom it is to name
	may      *netipx.IPSet // whom it may name: all who have the whole of it
}

// classes are the runs of a dimension that take a rule, with whom it is for: those whose whole run it
// is, but for those whose run the rules of others can cover at a lower price.
func (s *Side) classes(can Abilities, everything *netipx.IPSet, sets []*netipx.IPSet) (out []class) {
	// Who is admitted to the whole of a run of chunks, and to no longer one: those have it as their own.
	for i := range sets {
		here := sets[i]
		for j := i; j < len(sets); j++ {
			if here = packet.Intersection(here, sets[j]); len(here.Ranges()) == 0 {
				break
			}
			whole := packet.Without(here, everything)
			if i > 0 {
				whole = packet.Without(whole, sets[i-1])
			}
			if j+1 < len(sets) {
				whole = packet.Without(whole, sets[j+1])
			}
			if len(s.fewest(whole, here)) > 0 {
				out = append(out, class{i, j, whole, here})
			}
		}
	}
	// Of very many classes none is looked at for being covered: that would take too long for what it saves.
	if len(out) > mostCovered {
		return out
	}
	// A wide class whose run is covered by narrower ones can be named with those in place of a rule of
	// its own, where that takes less.
	byWidth := slices.Clone(out)
	slices.SortStableFunc(byWidth, func(a, b class) int { return cmp.Compare(b.to-b.from, a.to-a.from) })
	for _, wide := range byWidth {
		at := slices.IndexFunc(out, func(c class) bool { return c.from == wide.from && c.to == wide.to })
		inner := chain(out, at)
		if inner == nil {
			continue
		}
		wide = out[at]
		before, after := can.price(s.fewest(wide.hold, wide.may)), price{}
		for _, k := range inner {
			c := out[k]
			before = before.and(can.price(s.fewest(c.hold, c.may)))
			after = after.and(can.price(s.fewest(packet.Union(c.hold, wide.hold), c.may)))
		}
		if !can.less(after, before) {
			continue
		}
		for _, k := range inner {
			out[k].hold = packet.Union(out[k].hold, wide.hold)
		}
		out = slices.Delete(out, at, at+1)
	}
	return out
}

// mostCovered is how many classes are tried to be covered by others.
const mostCovered = 256

// chain is the fewest classes, by their place, that lie within that at a place and cover its runs; nil if
// there are none.
func chain(classes []class, at int) (places []int) {
	wide := classes[at]
	for next := wide.from; next <= wide.to; {
		best := -1
		for k, c := range classes {
			if k != at && c.from >= wide.from && c.to <= wide.to && c.from <= next && c.to >= next &&
				(best < 0 || c.to > classes[best].to) {
				best = k
			}
		}
		if best < 0 {
			return nil
		}
		places, next = append(places, best), classes[best].to+1
	}
	return places
}

// fewest are the fewest prefixes that hold some addresses and none that may not be held.
// Every prefix without an address outside lies in one of the longest of those, so that
// these, as far as they hold one that is to be held, are the fewest. What a host says to
// itself crosses no group, so that its own addresses may be held.
func (s *Side) fewest(hold, may *netipx.IPSet) []netip.Prefix {
	return slices.DeleteFunc(packet.Union(may, s.own).Prefixes(), func(p netip.Prefix) bool { return !hold.OverlapsPrefix(p) })
}
