package adopt

import (
	"cmp"
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"go4.org/netipx"

	"yellowfence.example/yfence/core/fence"
	"yellowfence.example/yfence/core/packet"
	"yellowfence.example/yfence/core/policy"
)

// statement is one line of a policy, with nobody named yet.
type statement struct {
	block     bool
	reject    bool // of a block
	direction packet.Direction
	services  []string
	peers     *netipx.IPSet // at the other end; the senders of what is forwarded
	far       *netipx.IPSet // the receivers of what is forwarded
	here      *netipx.IPSet // of the host's own addresses; nil is all
	over      []string      // interfaces; nil is all
	at        []string      // what here is called, in the end
	users     []string
	units     []string
	encrypted bool
	rate      limit
	part      string // of the ground
	log       logging
	comment   string // the rule's own
	place     string // where that stands
}

// length is how much there is to read of statements.
func length(all []statement) (n int) {
	for _, s := range all {
		n += 4 + len(s.services) + len(s.peers.Ranges())
	}
	return n
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
	if name := policy.ServiceFor(protocol, lo); lo == hi && name != "" {
		return name
	}
	if lo == hi {
		return fence.PortTerm(protocol, lo).Text
	}
	return fmt.Sprintf("%s %d-%d", packet.ProtocolName(protocol), lo, hi)
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
		if s.rate.set() {
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
		case !slices.Equal(a.services, b.services) || a.rate.set() && a.place != b.place &&
			!families(a, b): // each family has a bucket of its own
			return false
		case sameFar(a, b):
			a.peers = packet.Union(a.peers, b.peers)
		case families(a, b) && !a.rate.set():
			a.peers, a.far = packet.Union(a.peers, b.peers), packet.Union(a.far, b.far)
		default:
			return false
		}
		return true
	})
	merge(func(a, b *statement) bool { // echo requests of both families
		if len(a.services) != 1 || len(b.services) != 1 || !families(a, b) {
			return false
		}
		if s := a.services[0] + " " + b.services[0]; s != "icmp 8 icmpv6 128" && s != "icmpv6 128 icmp 8" {
			return false
		}
		a.services, a.peers = []string{"ping"}, packet.Union(a.peers, b.peers)
		if a.far != nil {
			a.far = packet.Union(a.far, b.far)
		}
		return true
	})
	merge(func(a, b *statement) bool { // the services of the same peers; each of a rate has one of its own
		if a.rate.set() || !a.peers.Equal(b.peers) || !sameFar(a, b) {
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
		for _, r := range s.reaches().Ranges() {
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
	return s.block == o.block && s.reject == o.reject && s.direction == o.direction && sameHere && slices.Equal(s.over, o.over) &&
		slices.Equal(s.users, o.users) && slices.Equal(s.units, o.units) && slices.Equal(s.at, o.at) &&
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
	return strings.Join([]string{fmt.Sprint(s.block, s.reject, s.direction, s.encrypted), strings.Join(services, ","), ranges(s.peers),
		ranges(s.far), here, strings.Join(over, ","), fmt.Sprint(s.log), strings.Join(s.users, ",") + " " + strings.Join(s.units, ","),
		fmt.Sprint(s.rate),
		s.part}, "|")
}

// ranges is a set of addresses in one line, for keys.
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
