package packet

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"time"
)

// A Packet is one packet as a filter sees it. Its JSON is that of the contract:
// what does not apply to its protocol or its hook is left out.
type Packet struct {
	Hook     int        `json:"-"` // In, Out or Through
	Family   string     `json:"family" enum:"ipv4,ipv6"`
	Src      netip.Addr `json:"src"`
	Dst      netip.Addr `json:"dst"`
	Protocol string     `json:"protocol" doc:"a protocol's name, or its number"`
	SrcPort  *int       `json:"sport,omitempty"`
	DstPort  *int       `json:"dport,omitempty"`
	ICMPType *int       `json:"icmp_type,omitempty"`
	ICMPCode *int       `json:"icmp_code,omitempty"`
	In       string     `json:"in,omitempty" doc:"the interface it arrives on"`
	Out      string     `json:"out,omitempty" doc:"the interface it leaves by"`
	State    string     `json:"state,omitempty" enum:"new,established,related,invalid,untracked"`
	Fragment string     `json:"fragment,omitempty" enum:"first,later" doc:"the piece it is of a packet that was cut"`
	TCPFlags string     `json:"tcp_flags,omitempty" doc:"where they are not those one expects: syn of a new connection, else ack"`
	User     string     `json:"user,omitempty" doc:"whose program sends it, where that matters"`
	Group    string     `json:"group,omitempty" doc:"which group's program sends it, where that matters"`
	Unit     string     `json:"unit,omitempty" doc:"which unit's program sends it, where that matters"`
	Program  string     `json:"program,omitempty" doc:"which program sends it, by its path, where that matters"`
	IPsec    bool       `json:"encrypted,omitempty" doc:"it comes or goes by IPsec"`
	Mark     uint32     `json:"mark,omitempty" doc:"the mark it has when it comes to the filter"`
	ConnMark uint32     `json:"connection_mark,omitempty" doc:"the mark of its connection"`
	Time     *time.Time `json:"time,omitempty" doc:"when it passes, where that matters"`
}

// String is the packet in one line, as a person would write it down: "tcp 198.51.100.7 port
// 50000 -> 192.0.2.7 port 22 in by eth0". What is as usual is left out.
func (p Packet) String() string {
	var b strings.Builder
	b.WriteString(p.Protocol)
	if p.ICMPType != nil {
		fmt.Fprintf(&b, " type %d", *p.ICMPType)
		if p.ICMPCode != nil && *p.ICMPCode != 0 {
			fmt.Fprintf(&b, " code %d", *p.ICMPCode)
		}
	}
	end := func(a netip.Addr, port *int) {
		b.WriteString(a.String())
		if port != nil {
			fmt.Fprintf(&b, " port %d", *port)
		}
	}
	if p.Fragment != "" {
		b.WriteString(" (" + p.Fragment + " fragment)")
	}
	b.WriteByte(' ')
	end(p.Src, p.SrcPort)
	b.WriteString(" -> ")
	end(p.Dst, p.DstPort)
	if p.In != "" {
		b.WriteString(" in by " + p.In)
	}
	if p.Out != "" {
		b.WriteString(" out by " + p.Out)
	}
	if p.TCPFlags != "" {
		b.WriteString(" flags " + p.TCPFlags)
	}
	if p.User != "" {
		b.WriteString(" from user " + p.User)
	}
	if p.Group != "" {
		b.WriteString(" from group " + p.Group)
	}
	if p.Unit != "" {
		b.WriteString(" from unit " + p.Unit)
	}
	if p.Program != "" {
		b.WriteString(" from program " + p.Program)
	}
	if p.Mark != 0 {
		fmt.Fprintf(&b, " marked %#x", p.Mark)
	}
	if p.ConnMark != 0 {
		fmt.Fprintf(&b, " on a connection marked %#x", p.ConnMark)
	}
	if p.IPsec {
		b.WriteString(" encrypted")
	}
	if p.State != "" && p.State != StateNames[New] {
		b.WriteString(" (" + p.State + ")")
	}
	if p.Time != nil {
		b.WriteString(" at " + p.Time.UTC().Format("2006-01-02T15:04:05Z"))
	}
	return b.String()
}

// values gives a packet's value for each field. What does not apply is zero,
// which no well-formed set depends on; a packet without a time passes now.
func (sp *Space) values(p Packet) (v [known]Value) {
	num := func(n *int) Value {
		if n == nil {
			return Value{}
		}
		return Num(*n)
	}
	v[Hook] = Num(p.Hook)
	if p.Src.Is6() {
		v[Family] = Num(IPv6)
	}
	n, _ := ProtocolNumber(p.Protocol)
	v[Protocol] = Num(n)
	v[SrcPort], v[DstPort], v[ICMPType], v[ICMPCode] = num(p.SrcPort), num(p.DstPort), num(p.ICMPType), num(p.ICMPCode)
	v[Src], v[Dst] = Addr(p.Src), Addr(p.Dst)
	v[InIface], v[OutIface] = iface(p.In), iface(p.Out)
	for i, s := range StateNames {
		if s == p.State {
			v[State] = Num(i)
		}
	}
	v[TCPFlags] = Num(p.flags())
	if v[Time] = Num(int(sp.now)); p.Time != nil {
		v[Time] = Num(int(p.Time.Unix()))
	}
	for i, name := range FragmentNames {
		if name == p.Fragment {
			v[Fragment] = Num(i)
		}
	}
	v[User], v[Group], v[Unit], v[Program] = Num(sp.number(User, p.User)), Num(sp.number(Group, p.Group)), Num(sp.number(Unit, p.Unit)),
		Num(sp.number(Program, p.Program))
	if p.IPsec {
		v[IPsec] = Num(1)
	}
	return v
}

// flags are the packet's, as bits.
func (p Packet) flags() (bits int) {
	if p.TCPFlags == "" {
		return usualFlags(p.State)
	}
	for i, name := range TCPFlagNames {
		if slices.Contains(strings.Split(p.TCPFlags, ","), name) {
			bits |= 1 << i
		}
	}
	return bits
}

// usualFlags are those that a packet of a state is expected to have.
func usualFlags(state string) int {
	if state == "" || state == StateNames[New] {
		return SYN
	}
	return ACK
}

// FormatTCPFlags names TCP flags, as in syn,ack.
func FormatTCPFlags(bits int) string {
	var names []string
	for i, name := range TCPFlagNames {
		if bits&(1<<i) != 0 {
			names = append(names, name)
		}
	}
	if names == nil {
		return "none"
	}
	return strings.Join(names, ",")
}

// follow walks r's diagram for a packet; every bucket has room and every
// unknown is answered no.
func (sp *Space) follow(r ref, p Packet) ref {
	v := sp.values(p)
	for {
		f := sp.nodes[r].field
		if f == leafField {
			return r
		}
		var want Value
		if f < known {
			want = v[f]
		} else if f < firstRoom {
			want = Num(p.markBit(f))
		} else if f < firstUnknown {
			want = Num(1)
		}
		for _, e := range sp.edgesOf(r) {
			if want.Compare(e.hi) <= 0 {
				r = e.to
				break
			}
		}
	}
}

// Exactly is the set of this one packet, whatever the buckets and the unknowns. It is the way
// from an example back to sets.
func (sp *Space) Exactly(p Packet) Set {
	s := sp.domain
	for f, v := range sp.values(p) {
		s = sp.And(s, sp.Ranges(Field(f), []Range{{v, v}}))
	}
	return sp.AndAll(s, sp.Marked(OfPacket, p.Mark, allBits), sp.Marked(OfConnection, p.ConnMark, allBits))
}

// Has says that the packet is in s, every bucket having room and every unknown answered no. It
// follows one path, and costs next to nothing.
func (sp *Space) Has(s Set, p Packet) bool { return sp.follow(ref(s), p) == ref(All) }

// Outcome is what becomes of the packet by d, every bucket having room and every unknown
// answered no; the zero Outcome where d says nothing of it.
func (sp *Space) Outcome(d Decision, p Packet) Outcome { return sp.outcome(sp.follow(ref(d), p)) }

// A Preferences says which values of a field a person finds typical, best first.
type Preferences map[Field][]Value

// Prefer adds addresses to the taste for a field, behind those that are there: the first that
// fits is taken.
func (t Preferences) Prefer(f Field, addrs ...netip.Addr) {
	for _, a := range addrs {
		t[f] = append(t[f], Addr(a))
	}
}

// LikesInterfaces adds interface names to the taste for a field.
func (t Preferences) LikesInterfaces(f Field, names ...string) {
	for _, name := range names {
		t[f] = append(t[f], iface(name))
	}
}

// typical are the values that an example has where its set leaves a choice: what most people
// have seen before, and addresses that are documentation's (RFC 5737, RFC 3849).
var typical = Preferences{
	Family:   {Num(IPv4)},
	Protocol: {Num(TCP), Num(UDP), Num(ICMP), Num(ICMPv6)},
	SrcPort:  {Num(50000)},
	DstPort:  {Num(22), Num(443), Num(80), Num(5432), Num(3306), Num(53), Num(25), Num(8080)},
	ICMPType: {Num(8), Num(128)},
	State:    {Num(New), Num(Established)},
	TCPFlags: {Num(SYN), Num(ACK)},
	InIface:  {iface("eth0"), iface("eth1")},
	OutIface: {iface("eth0"), iface("eth1")},
	Src: {Addr(netip.MustParseAddr("198.51.100.7")), Addr(netip.MustParseAddr("198.51.100.207")),
		Addr(netip.MustParseAddr("203.0.113.207")),
		Addr(netip.MustParseAddr("192.0.2.207")), Addr(netip.MustParseAddr("2001:db8:ffff::7"))},
	Dst: {Addr(netip.MustParseAddr("192.0.2.7")), Addr(netip.MustParseAddr("2001:db8:fffe::7"))},
}

// Example gives a packet of s that a person finds typical. Field by field, what
// it is about before where it comes from, it takes the first value that taste
// likes, else the first of the built-in ones (IPv4 over IPv6, TCP over UDP,
// well-known ports, documentation addresses, a new connection, no marks), else the lowest
// that the field can have, and the one after it where an address is asked for,
// the lowest being the name of a network. It reports false where s is empty.
func (sp *Space) Example(s Set, taste Preferences) (Packet, bool) {
	s = sp.And(s, sp.domain)
	if s == Empty {
		return Packet{}, false
	}
	var v [known]Value
	for _, f := range tellingOrder {
		var liked []Value
		if f == Time {
			liked = []Value{Num(int(sp.now))}
		}
		if f == TCPFlags {
			liked = []Value{Num(usualFlags(StateNames[v[State].Int()]))}
		}
		v[f] = pick(f, sp.Project(s, f), v[Family].Int(), liked, taste[f], typical[f])
		s = Set(sp.Restrict(Decision(s), f, v[f]))
	}
	p := sp.packet(v)
	marks := sp.marksOf(s)
	p.Mark, p.ConnMark = marks[OfPacket], marks[OfConnection]
	return p, true
}

// tellingOrder is told with all fields.
var tellingOrder = func() []Field {
	order := slices.Clone(told)
	for f := Field(0); f < known; f++ {
		if !slices.Contains(order, f) {
			order = append(order, f)
		}
	}
	return order
}()

// fits says that a value is typical in a family: an IPv4 address is a number
// that an IPv6 address can be too, and echo requests have two numbers.
func fits(f Field, v Value, family int) bool {
	switch f {
	case Src, Dst:
		return family == IPv4 || v.Compare(Num(1<<32-1)) > 0
	case ICMPType:
		return (v.Int() >= 128) == (family == IPv6)
	}
	return true
}

// anyInterface are names for an interface of which all that is said is which it is not.
var anyInterface = []string{"", "eth0", "eth1", "eth2", "eth3", "other0", "zzz0"}

// pick is the value of a field that an example gets out of runs: the first that somebody likes
// and that can be, else the lowest of the first run.
func pick(f Field, runs []Range, family int, liked ...[]Value) Value {
	for _, values := range liked {
		for _, want := range values {
			if fits(f, want, family) && (Box{f: runs}).Allows(f, want) {
				return want
			}
		}
	}
	if f == InIface || f == OutIface { // the first of a run need not be a name at all
		for _, name := range anyInterface {
			if want := iface(name); fits(f, want, family) && (Box{f: runs}).Allows(f, want) {
				return want
			}
		}
	}
	if lo := runs[0].Lo; (f == Src || f == Dst) && lo != runs[0].Hi {
		return lo.Next()
	}
	return runs[0].Lo
}

// packet says values as a Packet; of the fields, those its protocol has.
func (sp *Space) packet(v [known]Value) Packet {
	family, protocol := v[Family].Int(), v[Protocol].Int()
	p := Packet{
		Hook: v[Hook].Int(), Family: []string{"ipv4", "ipv6"}[family],
		Src: v[Src].addr(family), Dst: v[Dst].addr(family),
		Protocol: ProtocolName(protocol), Fragment: FragmentNames[v[Fragment].Int()], In: v[InIface].iface(), Out: v[OutIface].iface(),
		State: StateNames[v[State].Int()],
		User:  sp.nameOf(User, v[User]), Group: sp.nameOf(Group, v[Group]), Unit: sp.nameOf(Unit, v[Unit]),
		Program: sp.nameOf(Program, v[Program]), IPsec: v[IPsec] == Num(1),
	}
	if at := int64(v[Time].Int()); at != sp.now {
		t := time.Unix(at, 0).UTC()
		p.Time = &t
	}
	num := func(f Field) *int { n := v[f].Int(); return &n }
	for _, n := range PortProtocols {
		if n == protocol {
			p.SrcPort, p.DstPort = num(SrcPort), num(DstPort)
		}
	}
	if bits := v[TCPFlags].Int(); protocol == TCP && bits != usualFlags(p.State) {
		p.TCPFlags = FormatTCPFlags(bits)
	}
	if family == IPv4 && protocol == ICMP || family == IPv6 && protocol == ICMPv6 {
		p.ICMPType, p.ICMPCode = num(ICMPType), num(ICMPCode)
	}
	return p
}
