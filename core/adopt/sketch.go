package adopt

import (
	"cmp"
	"fmt"
	"math/big"
	"net/netip"
	"slices"
	"strings"
	"time"

	"go4.org/netipx"

	"yellowfence.example/yfence/core/compile"
	"yellowfence.example/yfence/core/dialect"
	"yellowfence.example/yfence/core/fleet"
	"yellowfence.example/yfence/core/packet"
	"yellowfence.example/yfence/core/policy"
)

// sketch is what a host has in force, taken apart into what a policy can say.
type sketch struct {
	host   *fleet.Host
	ends   [3]end          // by hook
	ground map[string]bool // by direction and part, whether all of it is as the ground has it
	extra  []statement     // what is admitted of parts of the ground, for where those are off
}

// end is one direction of it.
type end struct {
	filtered   bool // else nothing is refused there
	open       bool // what nothing speaks of is admitted
	reject     bool // and else answered
	log        bool // what the stance refuses
	logRate    string
	statements []statement
}

// statement is one line of a policy, with nobody named yet.
type statement struct {
	block     bool
	reject    bool // of a block
	direction int  // as HookNames
	services  []string
	peers     *netipx.IPSet // at the other end; the senders of what is forwarded
	far       *netipx.IPSet // the receivers of what is forwarded
	here      *netipx.IPSet // of the host's own addresses; nil is all
	over      []string      // interfaces; nil is all
	at        []string      // what here is called, in the end
	users     []string
	units     []string
	encrypted bool
	rate      string // as in "4 per 1m per source"
	part      string // of the ground
	log       bool
	comment   string // the rule's own
	place     string // where that stands
}

// The parts of the ground that can be said in rules as well.
var sayable = []string{"icmp-errors", "neighbours", "dhcp-client", "multicast-listener"}

// fields are what a statement can tell of a packet.
var fields = []packet.Field{packet.Family, packet.Protocol, packet.SrcPort, packet.Src, packet.DstPort, packet.ICMPType, packet.ICMPCode, packet.Dst, packet.InIface, packet.OutIface, packet.User, packet.Group, packet.Unit, packet.IPsec}

// mostPieces bounds how finely what one rule does is taken apart.
const mostPieces = 64

// ways are the directions of a host.
var ways = []struct {
	direction  policy.Direction
	hook       int
	here, peer packet.Field
	iface      packet.Field
}{{policy.Inbound, packet.In, packet.Dst, packet.Src, packet.InIface}, {policy.Outbound, packet.Out, packet.Src, packet.Dst, packet.OutIface}, {policy.Forward, packet.Through, packet.Dst, packet.Src, packet.InIface}}

// take takes apart what a host has in force. bare is the host's plan of a policy that
// says nothing, which has the ground.
func take(sp *packet.Space, bare *compile.Plan, rs *dialect.Ruleset) *sketch {
	s := &sketch{host: bare.Host, ground: map[string]bool{}}
	rated := rs.Decision(sp)
	d, deciders := rs.Attributed(sp)
	d = sp.WithRoom(d)
	admits := func(d packet.Decision) packet.Set {
		return sp.Where(d, func(o packet.Outcome) bool { return o.Verdict == packet.Admit })
	}
	always := admits(rated) // whatever there is room for
	always = sp.Not(sp.AnyRoom(sp.Not(always)))
	for _, w := range ways {
		fresh := sp.AndAll(sp.WellFormed(), sp.Value(packet.Hook, w.hook), sp.Value(packet.State, packet.New), sp.Usual())
		forged := packet.Empty // which the local segments drop before all else
		for _, c := range bare.Chains {
			for _, r := range c.Rules {
				if c.Direction == w.direction && r.Kind == "local" {
					forged = sp.Or(forged, r.Match.Set(sp, w.direction))
				}
			}
		}
		fresh = sp.Minus(fresh, forged)
		for _, f := range []packet.Field{packet.InIface, packet.OutIface} {
			fresh = sp.Minus(fresh, sp.Interfaces(f, "lo"))
		}
		e := &s.ends[w.hook]
		yes := sp.And(fresh, sp.Certain(admits(d)))
		no := sp.Minus(fresh, sp.Possible(admits(d)))
		e.filtered = no != packet.Empty
		ground, parts := packet.Empty, map[string]packet.Set{}
		for _, c := range bare.Chains {
			if c.Direction != w.direction {
				continue
			}
			for _, r := range c.Rules {
				if r.Kind != "ground" {
					continue
				}
				part := sp.Minus(sp.And(sp.WellFormed(), r.Match.Set(sp, w.direction)), forged)
				if slices.Contains(sayable, r.Name) { // what is invalid is refused before
					part = sp.AndAll(part, sp.Values(packet.State, packet.New, packet.Untracked), sp.Usual())
				}
				s.weigh(sp, w.direction, r.Name, part, sp.Certain(admits(d)), sp.Certain(sp.Not(admits(d))))
				if slices.Contains(sayable, r.Name) {
					part = sp.And(part, fresh)
					ground = sp.Or(ground, part)
					parts[r.Name] = sp.Or(parts[r.Name], part)
				} else if r.Name == "fence" { // which stays, for hosts to be looked after
					ground = sp.Or(ground, sp.And(part, fresh))
				}
			}
		}
		if !e.filtered {
			continue
		}
		e.open = more(sp, sp.Minus(yes, ground), sp.Minus(no, ground))
		outcome := func(of packet.Set, f func(packet.Outcome) bool) packet.Set { return sp.And(of, sp.Where(d, f)) }
		rejected := outcome(no, func(o packet.Outcome) bool { return o.Verdict == packet.Reject })
		e.reject = !e.open && more(sp, rejected, sp.Minus(no, rejected))
		logs := sp.Where(rated, func(o packet.Outcome) bool { return o.Logged })
		if closed := sp.Minus(no, ground); !e.open {
			if logged := outcome(closed, func(o packet.Outcome) bool { return o.Logged }); more(sp, logged, sp.Minus(closed, logged)) {
				e.log = true
				if sometimes := sp.And(logged, logs); !sp.Within(logged, sp.Not(sp.AnyRoom(sp.Not(logs)))) {
					e.logRate = rate(sp, sometimes)
					e.log = e.logRate != ""
				}
			}
		}
		said := packet.Empty
		for i, by := range deciders {
			comment, at := "", ""
			if by.Rule != nil {
				comment, at = by.Rule.Comment, by.At()
			}
			mine := sp.Where(d, func(o packet.Outcome) bool { return int(o.By) == i+1 })
			for _, kind := range []struct {
				block, reject bool
				of            packet.Set
			}{{false, false, yes}, {true, false, sp.Minus(no, rejected)}, {true, true, rejected}} {
				if e.open != kind.block && (e.open || kind.reject == e.reject) {
					continue // that is what the stance does
				}
				for _, family := range []int{packet.IPv4, packet.IPv6} {
					all, wide := sp.And(fresh, sp.Value(packet.Family, family)), sp.And(sp.Or(fresh, sp.And(forged, sp.Value(packet.State, packet.New))), sp.Value(packet.Family, family))
					does := sp.AndAll(all, kind.of, mine)
					if sp.Within(does, sp.Or(said, ground)) {
						continue
					}
					of := statement{block: kind.block, reject: kind.reject, comment: comment, place: at, log: sp.Within(does, logs)}
					// It is exact for what fares otherwise, and simplest for what fares so anyway; of what the
					// ground admits it speaks only if that is simpler.
					whole := sp.And(wide, sp.Simplify(does, sp.Minus(all, sp.Minus(kind.of, sp.Or(does, ground)))))
					best := s.pieces(sp, w.hook, whole, of)
					more := sp.And(wide, sp.Simplify(does, sp.Minus(all, sp.Minus(kind.of, does))))
					if other := s.pieces(sp, w.hook, more, of); length(other) < length(best) {
						whole, best = more, other
					}
					if !kind.block && !sp.Within(does, always) {
						whole = does
						if of.rate = rate(sp, sp.And(does, sp.Where(rated, func(o packet.Outcome) bool { return o.Verdict == packet.Admit }))); of.rate == "" {
							continue // no policy says how often that is
						}
						best = s.pieces(sp, w.hook, whole, of)
					} else {
						said = sp.Or(said, whole)
					}
					e.statements = append(e.statements, best...)
				}
			}
		}
		e.statements = joined(e.statements)
		for _, part := range sayable {
			if e.open {
				break
			}
			rest := sp.Minus(sp.And(parts[part], yes), said)
			s.extra = append(s.extra, s.pieces(sp, w.hook, rest, statement{part: part})...)
		}
	}
	return s
}

// length is how much there is to read of statements.
func length(all []statement) (n int) {
	for _, s := range all {
		n += 4 + len(s.services) + len(s.peers.Ranges())
	}
	return n
}

// rate says how often what depends on buckets is admitted; "" where no policy can say it.
func rate(sp *packet.Space, s packet.Set) string {
	buckets := packet.Buckets(sp, s)
	if len(buckets) != 1 || buckets[0].What != "" || (buckets[0].Every*buckets[0].Burst)%int64(time.Second) != 0 {
		return ""
	}
	return buckets[0].String()
}

// weigh notes whether a part of the ground is as the ground has it.
func (s *sketch) weigh(sp *packet.Space, dir policy.Direction, part string, of, admitted, refused packet.Set) {
	key := policy.DirectionNames[dir] + " " + part
	as := sp.Within(of, admitted)
	switch {
	case part == "invalid":
		as = sp.Within(sp.Minus(of, sp.Or(sp.Interfaces(packet.InIface, "lo"), sp.Interfaces(packet.OutIface, "lo"))), refused)
	case !slices.Contains(sayable, part): // it is there, though something may stand before it
		as = sp.And(of, admitted) != packet.Empty
	}
	if before, told := s.ground[key]; told {
		as = as && before
	}
	s.ground[key] = as
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

// pieces are the statements that say a set; what no statement can say is left out, and
// found missing when all is compared in the end.
func (s *sketch) pieces(sp *packet.Space, hook int, set packet.Set, as statement) (out []statement) {
	w := ways[slices.IndexFunc(ways, func(w struct {
		direction  policy.Direction
		hook       int
		here, peer packet.Field
		iface      packet.Field
	}) bool {
		return w.hook == hook
	})]
	keep := slices.Clone(fields)
	if as.part != "" {
		set = sp.Forget(set, packet.State)
	}
	boxes, _ := sp.Boxes(sp.Keep(sp.Forget(set, packet.Hook), keep...), mostPieces)
	for _, b := range boxes {
		one := as
		one.direction = hook
		var ok bool
		if one.services, ok = servicesOf(b); !ok || b[packet.SrcPort] != nil {
			continue
		}
		one.peers = b.AddrSet(w.peer)
		if hook == packet.Through {
			one.far = b.AddrSet(packet.Dst)
			if over, _ := s.over(sp, b, packet.OutIface); over != nil {
				continue // no policy says by which interface it leaves
			}
		} else if one.here, ok = s.here(b, w.here); !ok {
			continue
		}
		if one.over, ok = s.over(sp, b, w.iface); !ok {
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
	}
	return joined(out)
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
			of.AddSet(half(own, family))
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

// half is the addresses of one family.
func half(set *netipx.IPSet, family int) *netipx.IPSet {
	var b netipx.IPSetBuilder
	for _, r := range set.Ranges() {
		if r.From().Is4() == (family == packet.IPv4) {
			b.AddRange(r)
		}
	}
	out, _ := b.IPSet()
	return out
}

// servicesOf says a box's protocols and ports as a policy does; ok is false where none can.
func servicesOf(b packet.Box) (out []string, ok bool) {
	protocols := b[packet.Protocol]
	if protocols == nil {
		return []string{"any"}, b[packet.DstPort] == nil && b[packet.ICMPType] == nil
	}
	const most = 24
	for _, r := range protocols {
		for p := r.Lo.Int(); p <= r.Hi.Int(); p++ {
			if len(out) > most {
				return nil, false
			}
			switch p {
			case packet.TCP, packet.UDP, packet.SCTP:
				runs := b[packet.DstPort]
				if runs == nil {
					runs = []packet.Range{{Lo: packet.Num(0), Hi: packet.Num(65535)}}
				}
				for _, run := range runs {
					out = append(out, portService(p, run.Lo.Int(), run.Hi.Int()))
				}
			case packet.ICMP, packet.ICMPv6:
				types, single := icmpTypes(packet.ProtocolName(p), b)
				if !single {
					return nil, false
				}
				out = append(out, types...)
			default:
				out = append(out, fmt.Sprintf("protocol %d", p))
			}
		}
	}
	return out, len(out) <= most
}

// portService says ports of a protocol: by name where one is registered.
func portService(protocol, lo, hi int) string {
	if name := policy.ServiceAt(protocol, lo); lo == hi && name != "" && alone(name, protocol) {
		return name
	}
	if lo == hi {
		return fmt.Sprintf("%s %d", packet.ProtocolName(protocol), lo)
	}
	return fmt.Sprintf("%s %d-%d", packet.ProtocolName(protocol), lo, hi)
}

// alone says that a registered service is this one protocol's, at one port.
func alone(name string, protocol int) bool {
	terms := policy.ServiceTerms(name)
	return len(terms) == 1 && terms[0].Protocol == protocol
}

// icmpTypes says types and codes.
func icmpTypes(name string, b packet.Box) (out []string, ok bool) {
	types, codes := b[packet.ICMPType], b[packet.ICMPCode]
	if types == nil {
		return []string{name}, codes == nil
	}
	for _, r := range types {
		for t := r.Lo.Int(); t <= r.Hi.Int(); t++ {
			if len(out) > 32 {
				return nil, false
			}
			if codes == nil {
				out = append(out, fmt.Sprintf("%s %d", name, t))
				continue
			}
			for _, c := range codes {
				for code := c.Lo.Int(); code <= c.Hi.Int(); code++ {
					if len(out) > 32 {
						return nil, false
					}
					out = append(out, fmt.Sprintf("%s %d/%d", name, t, code))
				}
			}
		}
	}
	return out, true
}

// joined makes one statement of those that differ in their peers alone, or in their services.
func joined(from []statement) []statement {
	var all []statement // one for each service first, so that a service's peers of either family meet
	for _, s := range from {
		if s.rate != "" {
			all = append(all, s)
			continue
		}
		for _, service := range s.services {
			one := s
			one.services = []string{service}
			all = append(all, one)
		}
	}
	merge := func(join func(a, b *statement) bool) {
		for i := 0; i < len(all); i++ {
			for k := i + 1; k < len(all); k++ {
				if a, b := &all[i], &all[k]; a.like(b) && join(a, b) {
					a.comment, a.place = cmp.Or(a.comment, b.comment), cmp.Or(a.place, b.place)
					all = slices.Delete(all, k, k+1)
					k--
				}
			}
		}
	}
	sameFar := func(a, b *statement) bool { return a.far == nil || a.far.Equal(b.far) }
	merge(func(a, b *statement) bool { // the peers of a service
		switch {
		case !slices.Equal(a.services, b.services) || a.rate != "" && a.place != b.place:
			return false
		case sameFar(a, b):
			a.peers = packet.Union(a.peers, b.peers)
		case families(a, b) && a.rate == "":
			a.peers, a.far = packet.Union(a.peers, b.peers), packet.Union(a.far, b.far)
		default:
			return false
		}
		return true
	})
	merge(func(a, b *statement) bool { // the services of the same peers; each of a rate has one of its own
		if a.rate != "" || !a.peers.Equal(b.peers) || !sameFar(a, b) {
			return false
		}
		a.services = append(a.services, b.services...)
		return true
	})
	for i := range all {
		s := &all[i].services
		switch {
		case slices.Contains(*s, "any"):
			*s = []string{"any"}
		case slices.Contains(*s, "icmp 8") && slices.Contains(*s, "icmpv6 128"):
			*s = append(slices.DeleteFunc(*s, func(one string) bool { return one == "icmp 8" || one == "icmpv6 128" }), "ping")
		}
	}
	return all
}

// families says that of two statements about what is forwarded each is of another family.
func families(a, b *statement) bool {
	one := func(s *statement) (four, six bool) {
		for _, r := range slices.Concat(s.peers.Ranges(), s.far.Ranges()) {
			four, six = four || r.From().Is4(), six || r.From().Is6()
		}
		return four, six
	}
	a4, a6 := one(a)
	b4, b6 := one(b)
	return a4 != a6 && b4 != b6 && a4 != b4
}

// like says that two statements differ in peers and services at most.
func (s *statement) like(o *statement) bool {
	sameHere := s.here == nil && o.here == nil || s.here != nil && o.here != nil && s.here.Equal(o.here)
	return s.block == o.block && s.reject == o.reject && s.direction == o.direction && sameHere && slices.Equal(s.over, o.over) && slices.Equal(s.users, o.users) && slices.Equal(s.units, o.units) && slices.Equal(s.at, o.at) &&
		s.encrypted == o.encrypted && s.log == o.log && s.rate == o.rate && s.part == o.part && (s.far == nil) == (o.far == nil)
}

// key says a statement apart from whose it is: interfaces by segment, own addresses by theirs.
func (s *statement) key(segmentOf func(iface string) string, placeOf func(netip.Addr) string) string {
	over := make([]string, 0, len(s.over))
	for _, i := range s.over {
		over = append(over, segmentOf(i))
	}
	here := ""
	if s.here != nil {
		for _, r := range s.here.Ranges() {
			for a := r.From(); ; a = a.Next() {
				if here += " " + placeOf(a); a == r.To() {
					break
				}
			}
		}
	}
	slices.Sort(over)
	services := slices.Sorted(slices.Values(s.services))
	return strings.Join([]string{fmt.Sprint(s.block, s.reject, s.direction, s.encrypted, s.log), strings.Join(services, ","), ranges(s.peers), ranges(s.far), here, strings.Join(over, ","), strings.Join(s.users, ",") + " " + strings.Join(s.units, ","), s.rate, s.part}, "|")
}

func ranges(set *netipx.IPSet) string {
	if set == nil {
		return "-"
	}
	var b strings.Builder
	for _, r := range set.Ranges() {
		b.WriteString(r.String() + " ")
	}
	return b.String()
}
