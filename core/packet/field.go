package packet

import (
	"encoding/binary"
	"fmt"
	"math/big"
	"math/bits"
	"net/netip"
	"strings"

	"go4.org/netipx"
)

// A Field is one thing a filter can ask about a packet. Fields are tested in
// the order of their values. A packet itself has those before known; from
// firstMark on come the bits of its marks, from firstRoom on token buckets,
// from firstUnknown on unknowns.
type Field uint16

// The fields, in the one order every diagram tests them.
const (
	Hook     Field = iota // In, Out or Through
	Family                // IPv4 or IPv6
	Protocol              // IP protocol number; for IPv6 the upper-layer one
	Fragment              // Whole, First or Later
	SrcPort
	Src
	DstPort
	ICMPType
	ICMPCode
	Dst
	InIface  // name of the interface it arrived on, "" for what is sent
	OutIface // name of the interface it leaves by, "" for what is delivered
	State    // connection state, as the kernel's tracker names it
	TCPFlags // of TCP: a bit for each, see TCPFlagNames
	Time     // when it passes, in whole seconds since 1970
	User     // whose program sends it, see Named
	Group    // which group's program sends it, see Named
	Unit     // which unit's program sends it, see Named
	Program  // which program sends it, by its path, see Named
	IPsec    // 1 where it came, or is about to go, by IPsec
	known
	firstMark    Field = 64
	firstRoom    Field = firstMark + 2*markBits
	firstUnknown Field = 1 << 14
	leafField    Field = 1<<16 - 1
)

// fieldNames are what messages call the fields, in the order of the constants.
var fieldNames = [known]string{"hook", "family", "protocol", "fragment", "source port", "source", "port", "icmp type", "icmp code",
	"destination", "inbound interface", "outbound interface", "state", "tcp flags", "time", "user", "group", "unit", "program", "ipsec"}

// String is what messages call a field. Mark bits, buckets and unknowns are numbered from 0.
func (f Field) String() string {
	switch {
	case f < known:
		return fieldNames[f]
	case f < firstRoom:
		return fmt.Sprintf("mark bit %d", f-firstMark)
	case f < firstUnknown:
		return fmt.Sprintf("bucket %d", f-firstRoom)
	}
	return fmt.Sprintf("unknown %d", f-firstUnknown)
}

// Values of Hook: which way a packet crosses the host.
const (
	In      = 0 // delivered to the host itself
	Out     = 1 // sent by the host itself
	Through = 2 // forwarded from one interface to another
)

// Values of Family.
const (
	IPv4 = 0
	IPv6 = 1
)

// Values of Fragment: a packet as it was sent, or a piece of one that was too
// long. Only the first piece shows ports; what is asked of a later one is what
// stands in that place, unless the pieces are put together before.
const (
	Whole = iota
	First
	Later
)

// FragmentNames are the values of Fragment.
var FragmentNames = []string{Whole: "", First: "first", Later: "later"}

// Values of State.
const (
	New = iota
	Established
	Related
	Invalid
	Untracked
)

// StateNames are the connection states by their value.
var StateNames = []string{New: "new", Established: "established", Related: "related", Invalid: "invalid", Untracked: "untracked"}

// TCPFlagNames are the flags of a TCP header by their bit, the lowest first.
var TCPFlagNames = []string{"fin", "syn", "rst", "psh", "ack", "urg", "ecn", "cwr"}

// The flags by which the first packet of a connection is told from others.
const (
	FIN = 1 << 0
	SYN = 1 << 1
	RST = 1 << 2
	ACK = 1 << 4
)

// The IP protocol numbers we give a name (IANA "Protocol Numbers").
const (
	ICMP   = 1
	IGMP   = 2
	TCP    = 6
	UDP    = 17
	ESP    = 50
	ICMPv6 = 58
	SCTP   = 132
)

// protocolNames are the protocols that answers name; any other is said by its number.
var protocolNames = map[int]string{ICMP: "icmp", IGMP: "igmp", TCP: "tcp", UDP: "udp", 33: "dccp", 47: "gre", ESP: "esp", 51: "ah",
	ICMPv6: "icmpv6", SCTP: "sctp", 136: "udplite"}

// protocolNumbers is the way back.
var protocolNumbers = func() map[string]int {
	numbers := map[string]int{}
	for n, name := range protocolNames {
		numbers[name] = n
	}
	return numbers
}()

// ProtocolName gives a protocol's name, or its number where it has none of ours. Names are
// those of IANA's registry in small letters.
func ProtocolName(n int) string {
	if s, ok := protocolNames[n]; ok {
		return s
	}
	return fmt.Sprint(n)
}

// ProtocolNumber is the way back from ProtocolName; ok is false for a name that is none.
func ProtocolNumber(name string) (n int, ok bool) {
	if n, ok := protocolNumbers[name]; ok {
		return n, true
	}
	if _, err := fmt.Sscanf(name, "%d", &n); err != nil || n < 0 || n > 255 || fmt.Sprint(n) != name {
		return 0, false
	}
	return n, true
}

// PortProtocols are the protocols whose packets have ports.
var PortProtocols = []int{TCP, UDP, 33, SCTP, 136}

// A Value is a value of a field: 128 bits, unsigned, so that an IPv6 address
// and an interface name each fit in one.
type Value struct{ hi, lo uint64 }

// Num is the value of a number that is not negative: a port, a type, a protocol, a state.
func Num(n int) Value { return Value{0, uint64(n)} }

// Int is the way back from Num.
func (v Value) Int() int { return int(v.lo) }

// big is a value as a number without bounds, for counting.
func (v Value) big() *big.Int {
	n := new(big.Int).SetUint64(v.hi)
	return n.Lsh(n, 64).Or(n, new(big.Int).SetUint64(v.lo))
}

// Compare orders values as unsigned numbers.
func (v Value) Compare(w Value) int {
	switch {
	case v == w:
		return 0
	case v.hi < w.hi || v.hi == w.hi && v.lo < w.lo:
		return -1
	}
	return 1
}

// Bit is one bit of the value; 0 is the lowest.
func (v Value) Bit(n int) bool {
	if n >= 64 {
		return v.hi>>(n-64)&1 == 1
	}
	return v.lo>>n&1 == 1
}

// Next is the value after v. Behind the highest it is 0: look before whether v is the field's
// Limit.
func (v Value) Next() Value {
	lo, carry := bits.Add64(v.lo, 1, 0)
	return Value{v.hi + carry, lo}
}

// Prev is the value before v, likewise.
func (v Value) Prev() Value {
	lo, borrow := bits.Sub64(v.lo, 1, 0)
	return Value{v.hi - borrow, lo}
}

// Addr is the value of an address: IPv4 addresses are the numbers below 2^32, so that the same
// field holds both families and Family tells them apart.
func Addr(a netip.Addr) Value {
	if a.Is4() {
		b := a.As4()
		return Value{0, uint64(binary.BigEndian.Uint32(b[:]))}
	}
	b := a.As16()
	return Value{binary.BigEndian.Uint64(b[:8]), binary.BigEndian.Uint64(b[8:])}
}

// addr is the way back from Addr; the family is that of the packet.
func (v Value) addr(family int) netip.Addr {
	if family == IPv4 {
		var b [4]byte
		binary.BigEndian.PutUint32(b[:], uint32(v.lo))
		return netip.AddrFrom4(b)
	}
	var b [16]byte
	binary.BigEndian.PutUint64(b[:8], v.hi)
	binary.BigEndian.PutUint64(b[8:], v.lo)
	return netip.AddrFrom16(b)
}

// MaxInterfaceName is the longest interface name the kernel has, in bytes.
const MaxInterfaceName = 15

// iface writes a name's bytes from the highest down, zeroes after it: names
// that share a prefix are then one run of values, and "" is zero.
func iface(name string) Value {
	var b [16]byte
	copy(b[:MaxInterfaceName], name)
	return Value{binary.BigEndian.Uint64(b[:8]), binary.BigEndian.Uint64(b[8:])}
}

// iface is the interface's name that a value stands for. A name is its bytes, the first the
// most significant, so that names sort as text does.
func (v Value) iface() string {
	var b [16]byte
	binary.BigEndian.PutUint64(b[:8], v.hi)
	binary.BigEndian.PutUint64(b[8:], v.lo)
	name, _, _ := strings.Cut(string(b[:]), "\x00")
	return name
}

// ifacePrefix is the run of all names that begin with prefix.
func ifacePrefix(prefix string) Range {
	var b [16]byte
	for i := range b {
		b[i] = 0xff
	}
	copy(b[:], prefix)
	return Range{iface(prefix), Value{binary.BigEndian.Uint64(b[:8]), binary.BigEndian.Uint64(b[8:])}}
}

// A Range is a run of values, both ends included.
type Range struct{ Lo, Hi Value }

// PrefixRange is the addresses of a prefix, from its first to its last. It need not be masked.
func PrefixRange(p netip.Prefix) Range {
	r := netipx.RangeOfPrefix(p)
	return Range{Addr(r.From()), Addr(r.To())}
}

// InterfaceRange is an interface's name; one that ends in * stands for all that begin with what is before it.
func InterfaceRange(name string) Range {
	if n := len(name) - 1; n >= 0 && name[n] == '*' {
		return ifacePrefix(name[:n])
	}
	return Range{iface(name), iface(name)}
}

// Limit is the highest value a field can have. A diagram has an edge for every value up to it.
func (f Field) Limit() Value {
	switch f {
	case Hook:
		return Num(Through)
	case Family:
		return Num(IPv6)
	case Protocol, ICMPType, ICMPCode, TCPFlags:
		return Num(255)
	case SrcPort, DstPort:
		return Num(65535)
	case Src, Dst, InIface, OutIface:
		return Value{1<<64 - 1, 1<<64 - 1}
	case State:
		return Num(Untracked)
	case Fragment:
		return Num(Later)
	case Time, User, Group, Unit, Program:
		return Value{0, 1<<63 - 1}
	}
	return Num(1)
}
