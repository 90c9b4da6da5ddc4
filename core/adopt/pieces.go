package adopt

import (
	"math/big"
	"slices"
	"time"

	"go4.org/netipx"

	"yellowfence.example/yfence/core/packet"
)

// limit is how often something happens at most. The zero limit is none.
type limit struct {
	packet.Rate
	perSource bool
}

// set says that there is a limit.
func (l limit) set() bool { return l.N != 0 }

// logging is how packets are logged: the zero logging is not at all.
type logging struct {
	all  bool
	upTo packet.Rate // if not all are
}

// set says that packets are logged.
func (l logging) set() bool { return l != logging{} }

// logged says how what a rule does is logged, if all of it is.
func logged(sp *packet.Space, does, withRoom, logs packet.Set) (l logging) {
	switch {
	case !sp.Within(does, withRoom):
		return l
	case sp.Within(does, sp.Not(sp.AnyRoom(sp.Not(logs)))):
		return logging{all: true}
	}
	if r := rate(sp, sp.And(does, logs)); r.set() && !r.perSource {
		return logging{upTo: r.Rate}
	}
	return l
}

// rate says how often what depends on buckets happens, one for each family; none where no
// policy can say it.
func rate(sp *packet.Space, s packet.Set) (r limit) {
	for _, family := range []int{packet.IPv4, packet.IPv6} {
		part := sp.And(s, sp.Value(packet.Family, family))
		if part == packet.Empty {
			continue
		}
		buckets := packet.Buckets(sp, part)
		if len(buckets) != 1 {
			return limit{}
		}
		b := buckets[0]
		fills := time.Duration(b.Every * b.Burst)
		one := limit{packet.Rate{N: int(b.Burst), Seconds: int(fills / time.Second)}, b.Sources > 0}
		if b.What != "" || fills%time.Second != 0 || r.set() && r != one {
			return limit{}
		}
		r = one
	}
	return r
}

// weigh notes whether a part of the ground is as the ground has it.
func (t *taker) weigh(dir packet.Direction, part string, of packet.Set) {
	sp := t.sp
	key := dir.String() + " " + part
	own := t.host.Addresses()
	for _, family := range []int{packet.IPv4, packet.IPv6} { // one that it has no address of is often forgotten
		if part == "invalid" && len(packet.OfFamily(own, family).Ranges()) == 0 {
			of = sp.Minus(of, sp.Value(packet.Family, family))
		}
		if mine := sp.And(of, sp.Value(packet.Family, family)); sp.And(mine, sp.Or(t.admitted, t.refused)) == packet.Empty {
			of = sp.Minus(of, mine) // nobody dumped it
		}
	}
	if of == packet.Empty {
		return
	}
	as := sp.Within(of, t.admitted)
	switch {
	case part == "invalid":
		as = sp.Within(sp.Minus(of, sp.Loopback()), t.refused)
	case !slices.Contains(sayable, part): // it is there, though something may stand before it
		as = sp.And(of, t.admitted) != packet.Empty
	}
	if before, told := t.sketch.ground[key]; told {
		as = as && before
	}
	t.sketch.ground[key] = as
}

// more says which of two sets holds more: of IPv4, or where they have as much of that, of
// both families. What no rule speaks of is most of what there can be.
func more(sp *packet.Space, a, b packet.Set) bool {
	four := sp.Value(packet.Family, packet.IPv4)
	count := func(s packet.Set) *big.Int {
		return sp.Count(s, fields...)
	}
	if c := count(sp.And(a, four)).Cmp(count(sp.And(b, four))); c != 0 {
		return c > 0
	}
	return count(a).Cmp(count(b)) > 0
}

// pieces are the statements that say a set, and how many of its parts no statement can say:
// those are left out, and found missing when all is compared in the end.
func (s *sketch) pieces(sp *packet.Space, dir packet.Direction, set packet.Set, as statement) (out []statement, lost int) {
	keep := slices.Clone(fields)
	if as.part != "" {
		set = sp.Exists(set, packet.State)
	}
	if set == packet.Empty {
		return nil, 0
	}
	boxes, whole := sp.Boxes(sp.ProjectOnto(sp.Exists(set, packet.Hook), keep...), mostPieces)
	if !whole {
		lost++
	}
	for _, b := range boxes {
		lost++ // unless it comes to the end of this
		one := as
		one.direction = dir
		var ok bool
		if one.services, ok = servicesOf(b); !ok || b[packet.SrcPort] != nil {
			continue
		}
		one.peers = b.AddrSet(dir.Peer())
		if dir == packet.Forward {
			one.far = b.AddrSet(packet.Dst)
			if over, _ := s.over(sp, b, packet.OutIface); over != nil {
				continue // no policy says by which interface it leaves
			}
		} else if one.here, ok = s.here(b, dir.Local()); !ok {
			continue
		}
		// no policy says by which interface it comes
		if one.over, ok = s.over(sp, b, dir.Interface()); !ok || one.over != nil && dir == packet.Forward {
			continue
		}
		var but bool
		if one.users, but = sp.SenderNames(packet.User, b[packet.User]); but || b[packet.Group] != nil {
			continue
		}
		if one.units, but = sp.SenderNames(packet.Unit, b[packet.Unit]); but || one.users != nil && one.units != nil {
			continue
		}
		if ipsec := b[packet.IPsec]; ipsec != nil {
			if one.encrypted = b.Allows(packet.IPsec, packet.Num(1)); !one.encrypted {
				continue
			}
		}
		out = append(out, one)
		lost--
	}
	return joined(out), lost
}

// here is which of the host's own addresses a box speaks of; nil is all. What is meant for
// nobody's own address (a group of many, everybody) can be said of all only.
func (s *sketch) here(b packet.Box, field packet.Field) (at *netipx.IPSet, ok bool) {
	if b[field] == nil {
		return nil, true
	}
	set := b.AddrSet(field)
	own := s.host.Addresses()
	var of netipx.IPSetBuilder
	for _, family := range []int{packet.IPv4, packet.IPv6} {
		if b.Allows(packet.Family, packet.Num(family)) {
			of.AddSet(packet.OfFamily(own, family))
		}
	}
	mine, _ := of.IPSet()
	both := packet.Intersection(mine, set)
	switch {
	case len(mine.Ranges()) == 0:
		return nil, true
	case len(both.Ranges()) == 0:
		return nil, false
	case both.Equal(mine):
		return nil, true
	}
	return both, true
}

// over is which of the host's interfaces a box speaks of; nil is all.
func (s *sketch) over(sp *packet.Space, b packet.Box, field packet.Field) (names []string, ok bool) {
	if b[field] == nil {
		return nil, true
	}
	set := sp.Ranges(field, b[field])
	if sp.Minus(packet.All, sp.Or(set, sp.Interfaces(field, "lo", ""))) == packet.Empty {
		return nil, true
	}
	for _, i := range s.host.Interfaces {
		if sp.And(set, sp.Interfaces(field, i.Name)) != packet.Empty {
			names = append(names, i.Name)
		}
	}
	return names, len(names) > 0
}
