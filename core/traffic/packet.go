package traffic

import (
	"encoding/binary"
	"net/netip"
	"slices"

	"yellowfence.example/yfence/core/packet"
)

// The next headers of IPv6 that stand before what a packet carries: RFC 8200.
const (
	hopByHop     = 0
	routing      = 43
	fragment     = 44
	destinations = 60
)

// Where flags stand in a header of TCP, and two of them: RFC 9293.
const (
	tcpFlags = 13
	syn      = 2
	ack      = 16
)

// Read tells whose packet the beginning of one is: both ends, protocol, and the port that it was
// sent to, or the type of ICMP. ok is false for what is cut off before that, or no IP; and of TCP for
// all but the packet that begins a connection: an answer to one that is gone asks for nothing.
func Read(data []byte) (f Flow, ok bool) {
	if len(data) == 0 {
		return f, false
	}
	var rest []byte
	var src, dst netip.Addr
	first := true // of the pieces of a packet; others have no ports
	switch data[0] >> 4 {
	case 4:
		head := int(data[0]&15) * 4
		if head < 20 || len(data) < head {
			return f, false
		}
		src, _ = netip.AddrFromSlice(data[12:16])
		dst, _ = netip.AddrFromSlice(data[16:20])
		f.Protocol, rest = int(data[9]), data[head:]
		first = binary.BigEndian.Uint16(data[6:])&0x1fff == 0
	case 6:
		if len(data) < 40 {
			return f, false
		}
		src, _ = netip.AddrFromSlice(data[8:24])
		dst, _ = netip.AddrFromSlice(data[24:40])
		f.Protocol, rest = int(data[6]), data[40:]
		for f.Protocol == hopByHop || f.Protocol == routing || f.Protocol == fragment || f.Protocol == destinations {
			if len(rest) < 8 {
				return f, false
			}
			length := 8 + int(rest[1])*8
			if f.Protocol == fragment {
				length, first = 8, first && binary.BigEndian.Uint16(rest[2:])&0xfff8 == 0
			}
			if len(rest) < length {
				return f, false
			}
			f.Protocol, rest = int(rest[0]), rest[length:]
		}
	default:
		return f, false
	}
	f.Src, f.Dst = netip.PrefixFrom(src, src.BitLen()), netip.PrefixFrom(dst, dst.BitLen())
	switch icmp := f.Protocol == packet.ICMP || f.Protocol == packet.ICMPv6; {
	case !first:
	case icmp && len(rest) > 0:
		f.Port = int(rest[0])
	case f.Protocol == packet.TCP && len(rest) > tcpFlags && rest[tcpFlags]&(syn|ack) != syn:
		return f, false
	case !icmp && len(rest) >= 4 && slices.Contains(packet.PortProtocols, f.Protocol):
		f.Port = int(binary.BigEndian.Uint16(rest[2:]))
	}
	return f, true
}
