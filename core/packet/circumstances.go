package packet

import (
	"fmt"
	"slices"
	"time"
)

// What a packet itself does not show, and a kernel's filter can ask all the
// same: whether a token bucket has room for it, which local program sends it,
// and what time it is.

// A Bucket is a token bucket: Burst tokens, one of which comes back every Every
// nanoseconds, as the kernel counts them. Where Sources is not 0 there is one
// for each source (an IPv4 address, or a /64 of IPv6), of at most so many
// sources. Buckets that differ in anything are different buckets.
type Bucket struct {
	Name    string // tells it from others of the same rate: a rule's own, or where it stands
	Every   int64
	Burst   int64
	Sources int
	// What says it where it is no such bucket, but something else that has room for
	// some packets and not for others, and that nobody sees on the packet: a quota, a
	// number of connections, chance.
	What string
}

// String says the bucket as a policy does: "4 per 1m per source", by how much it holds and in
// which time it fills; or by what a dump calls it.
func (b Bucket) String() string {
	if b.What != "" {
		return b.What
	}
	s := fmt.Sprintf("%d per %s", b.Burst, span(time.Duration(b.Every*b.Burst)))
	if b.Sources > 0 {
		s += " per source"
	}
	return s
}

// span writes a time in the largest unit that makes it whole.
func span(d time.Duration) string {
	for _, u := range []struct {
		unit time.Duration
		name string
	}{{24 * time.Hour, "d"}, {time.Hour, "h"}, {time.Minute, "m"}, {time.Second, "s"}} {
		if n := d.Round(time.Millisecond); n >= u.unit && n%u.unit == 0 {
			return fmt.Sprintf("%d%s", n/u.unit, u.name)
		}
	}
	return d.Round(time.Millisecond).String()
}

// HasToken is the set of packets for which a bucket has a token. The same bucket is
// the same set; whether it has one is free of everything else about a packet.
func (sp *Space) HasToken(b Bucket) Set {
	f, ok := sp.roomOf[b]
	if !ok {
		f = firstRoom + Field(len(sp.limits))
		if f >= firstUnknown {
			panic(fmt.Sprintf("packet: more than %d buckets", firstUnknown-firstRoom))
		}
		sp.limits = append(sp.limits, b)
		sp.roomOf[b] = f
	}
	return sp.Value(f, 1)
}

// AssumeToken is a decision while a bucket has a token (room), or while it has none. The bucket
// is then no longer asked for.
func (sp *Space) AssumeToken(d Decision, b Bucket, room bool) Decision {
	v := Num(0)
	if room {
		v = Num(1)
	}
	if f, known := sp.roomOf[b]; known {
		return sp.Restrict(d, f, v)
	}
	return d
}

// Buckets lists the buckets that a set or decision depends on, in the order in
// which the Space first saw them.
func Buckets[T Set | Decision](sp *Space, of T) (out []Bucket) {
	used := sp.fieldsOf(ref(of))
	for i, b := range sp.limits {
		if used[firstRoom+Field(i)] {
			out = append(out, b)
		}
	}
	return out
}

// WithinLimits is a decision while no bucket is exceeded: what people mean by what a rule does.
// No decision of buckets is left in it.
func (sp *Space) WithinLimits(d Decision) Decision {
	done := map[ref]ref{}
	var room func(r ref) ref
	room = func(r ref) ref {
		field := sp.nodes[r].field
		if field >= firstUnknown {
			return r
		}
		if to, ok := done[r]; ok {
			return to
		}
		edges := append([]edge(nil), sp.edgesOf(r)...)
		for i := range edges {
			edges[i].to = room(edges[i].to)
		}
		to := edges[len(edges)-1].to
		if field < firstRoom {
			to = sp.make(field, edges)
		}
		done[r] = to
		return to
	}
	return Decision(room(ref(d)))
}

// AnyRoom is the packets that are in s for some state of the buckets: what may ever fare so.
func (sp *Space) AnyRoom(s Set) Set {
	for _, b := range Buckets(sp, s) {
		s = sp.Exists(s, sp.roomOf[b])
	}
	return s
}

// Users, groups, units and programs are numbered as they are met: nobody is who sends what no
// local program sends, or what arrives; other is everybody not named.
const (
	nobody = iota
	other
	firstNamed
)

// sender is the place of a field of senders in Space.names.
func sender(field Field) int { return int(field - User) }

// number gives a name its number; "" is nobody.
func (sp *Space) number(field Field, name string) int {
	if name == "" {
		return nobody
	}
	i := sender(field)
	n, ok := sp.numberOf[i][name]
	if !ok {
		n = firstNamed + len(sp.names[i])
		sp.names[i] = append(sp.names[i], name)
		sp.numberOf[i][name] = n
	}
	return n
}

// nameOf is the name that a value of a field of senders stands for, "" for one that nothing has
// named.
func (sp *Space) nameOf(field Field, v Value) string {
	names := sp.names[sender(field)]
	if n := v.Int(); n >= firstNamed && n-firstNamed < len(names) {
		return names[n-firstNamed]
	}
	return ""
}

// Named is the set of packets that a local program of one of these users (User),
// groups (Group) or units (Unit) sends, or one of these programs (Program).
func (sp *Space) Named(field Field, names ...string) Set {
	numbers := make([]int, len(names))
	for i, name := range names {
		numbers[i] = sp.number(field, name)
	}
	return sp.Values(field, numbers...)
}

// SenderNames says a box's runs of users, groups or units by name: those
// it holds, or, where but is true, those it does not hold of all there are.
func (sp *Space) SenderNames(field Field, ranges []Range) (names []string, but bool) {
	if ranges == nil {
		return nil, false
	}
	b := Box{field: ranges}
	but = b.Allows(field, Num(other))
	for i, name := range sp.names[sender(field)] {
		if b.Allows(field, Num(firstNamed+i)) != but {
			names = append(names, name)
		}
	}
	return names, but
}

// AnySender is the set of packets that a local program sends which a rule names by this field
// (User, Group, Unit or Program), whoever's it is.
func (sp *Space) AnySender(field Field) Set {
	return sp.Ranges(field, []Range{{Num(other), field.Limit()}})
}

// Before is the set of packets that pass before a second since 1970. Together with Not it says
// from when on.
func (sp *Space) Before(at int64) Set {
	if at <= 0 {
		return Empty
	}
	return sp.Ranges(Time, []Range{{Value{}, Num(int(at)).Prev()}})
}

// Since narrows what WellFormed gives to what passes at an instant (in seconds
// since 1970) or later: what was before is nobody's question any more.
func (sp *Space) Since(now int64) {
	sp.now = now
	sp.domain = sp.Minus(sp.domain, sp.Before(now))
}

// Without narrows what WellFormed gives to packets that none of these users
// (User), groups (Group) or units (Unit) sends: there is none of that name.
func (sp *Space) Without(field Field, names ...string) {
	sp.domain = sp.Minus(sp.domain, sp.Named(field, names...))
}

// ChangeTimes are the instants (in seconds since 1970) at which a decision changes by
// itself, in order; none of them is over (Since).
func (sp *Space) ChangeTimes(d Decision) (out []int64) {
	for r := range sp.reached(ref(d)) {
		if sp.nodes[r].field == Time {
			for _, e := range sp.edgesOf(r)[:sp.nodes[r].n-1] {
				if at := int64(e.hi.Next().Int()); at > sp.now {
					out = append(out, at)
				}
			}
		}
	}
	slices.Sort(out)
	return slices.Compact(out)
}

// TCPFlagsMatch is the set of packets whose TCP flags, of those in a mask, are just these. It
// asks for no protocol: And it with TCP.
func (sp *Space) TCPFlagsMatch(flags, mask int) Set {
	var values []int
	for bits := range TCPFlags.Limit().Int() + 1 {
		if bits&mask == flags {
			values = append(values, bits)
		}
	}
	return sp.Values(TCPFlags, values...)
}

// Typical is the set of packets as one expects them: whole, unmarked, and with the
// TCP flags of their state: syn of a new connection's first packet, else ack.
func (sp *Space) Typical() Set {
	tcp, fresh := sp.Value(Protocol, TCP), sp.Value(State, New)
	flags := sp.Or(sp.And(fresh, sp.Value(TCPFlags, SYN)), sp.Minus(sp.Value(TCPFlags, ACK), fresh))
	plain := sp.AndAll(sp.Value(Fragment, Whole), sp.Marked(OfPacket, 0, allBits), sp.Marked(OfConnection, 0, allBits))
	return sp.And(sp.Or(sp.Not(tcp), flags), plain)
}
