package testbed

import (
	"encoding/binary"

	"yellowfence.example/yfence/core/packet"
)

// magic begins the payload of every packet we send; a tag of four bytes follows.
// What an ICMP error of ours quotes begins with another.
const (
	magic       = "yfnc"
	quotedMagic = "yfnq"
)

// How a frame is laid out; the tag in its payload says which packet it was.
const (
	payloadLength  = 8
	filler         = 32 // before the payload of what is cut
	cutAt          = 24 // where: the second piece has the tag, and some of the filler
	fragmentHeader = 44 // the IPv6 extension header's number
)

// frame builds the IP packet that p describes, its payload carrying the tag. A
// TCP packet has the flags its state is expected to have; one that is to be
// invalid is a lone RST. A later fragment is that piece alone, or, where rest
// says so, comes behind the first.
func frame(p packet.Packet, tag uint32, rest bool) [][]byte {
	payload := binary.BigEndian.AppendUint32([]byte(magic), tag)
	if p.Fragment != "" {
		payload = append(make([]byte, filler), payload...)
	}
	number, _ := packet.ProtocolNumber(p.Protocol)
	var l4 []byte
	checksumAt := -1
	switch number {
	case packet.TCP:
		l4 = make([]byte, 20)
		put16(l4[0:], *p.SrcPort)
		put16(l4[2:], *p.DstPort)
		// What answers it with a reset gives one of these numbers back.
		binary.BigEndian.PutUint32(l4[4:], tag-uint32(len(payload)-payloadLength))
		l4[12], l4[13] = 5<<4, packet.SYN
		switch p.State {
		case packet.StateNames[packet.Invalid]:
			l4[13] = packet.RST
		case packet.StateNames[packet.Established], packet.StateNames[packet.Related]:
			l4[13] = packet.ACK
			binary.BigEndian.PutUint32(l4[8:], tag)
		}
		put16(l4[14:], 1024)
		checksumAt = 16
	case packet.UDP:
		l4 = make([]byte, 8)
		put16(l4[0:], *p.SrcPort)
		put16(l4[2:], *p.DstPort)
		put16(l4[4:], 8+len(payload))
		checksumAt = 6
	case packet.ICMP, packet.ICMPv6:
		l4 = make([]byte, 8)
		if p.ICMPType != nil {
			l4[0], l4[1] = byte(*p.ICMPType), byte(*p.ICMPCode)
		}
		checksumAt = 2
		if isError(p) {
			copy(payload, quotedMagic)
		}
		if isRelated(p) {
			sport, dport := quotedSource, quotedTarget
			about := packet.Packet{Src: p.Dst, Dst: p.Src, Protocol: "udp", SrcPort: &sport, DstPort: &dport}
			payload = ip(about, transport(about, packet.UDP, udp(sport, dport, payload), 6, payload), tag, 0, 0)
			break
		}
		put16(l4[4:], int(tag&0xffff)) // the identifier, which makes it a connection of its own
		put16(l4[6:], int(tag>>16))    // the sequence number
	}
	l4 = transport(p, number, l4, checksumAt, payload)
	if p.Fragment == "" {
		return [][]byte{ip(p, l4, tag, 0, 0)}
	}
	if !rest { // ports and flags are what stands where they would
		put16(l4[cutAt:], *p.SrcPort)
		put16(l4[cutAt+2:], *p.DstPort)
		l4[cutAt+13] = packet.SYN
		return [][]byte{ip(p, l4[cutAt:], tag, cutAt, len(l4))}
	}
	return [][]byte{ip(p, l4[:cutAt], tag, 0, len(l4)), ip(p, l4[cutAt:], tag, cutAt, len(l4))}
}

// udp is a UDP header and its payload, without a checksum, which the kernel does not ask for
// here.
func udp(sport, dport int, payload []byte) []byte {
	h := make([]byte, 8)
	put16(h[0:], sport)
	put16(h[2:], dport)
	put16(h[4:], 8+len(payload))
	return h
}

// transport is a header and its payload with the checksum put in, at -1 nowhere.
func transport(p packet.Packet, number int, header []byte, checksumAt int, payload []byte) []byte {
	l4 := append(header, payload...)
	if checksumAt < 0 {
		return l4
	}
	var pseudo []byte
	if number != packet.ICMP {
		pseudo = append(append(pseudo, p.Src.AsSlice()...), p.Dst.AsSlice()...)
		pseudo = binary.BigEndian.AppendUint32(pseudo, uint32(len(l4)))
		pseudo = append(pseudo, 0, 0, 0, byte(number))
	}
	put16(l4[checksumAt:], checksum(append(pseudo, l4...)))
	return l4
}

// ip puts the IP header before the piece of a packet that begins at offset of
// its whole; whole is 0 for a packet that is not cut.
func ip(p packet.Packet, piece []byte, tag uint32, offset, whole int) []byte {
	number, _ := packet.ProtocolNumber(p.Protocol)
	cut, more := whole > 0, offset+len(piece) < whole
	if p.Src.Is4() {
		h := make([]byte, 20)
		h[0] = 4<<4 | 5
		put16(h[2:], 20+len(piece))
		put16(h[4:], int(tag&0xffff))
		put16(h[6:], offset/8)
		if more {
			h[6] |= 0x20
		}
		h[8], h[9] = 64, byte(number)
		copy(h[12:], p.Src.AsSlice())
		copy(h[16:], p.Dst.AsSlice())
		put16(h[10:], checksum(h))
		return append(h, piece...)
	}
	h := make([]byte, 40)
	h[0] = 6 << 4
	h[6], h[7] = byte(number), 64
	copy(h[8:], p.Src.AsSlice())
	copy(h[24:], p.Dst.AsSlice())
	if cut {
		f := []byte{byte(number), 0, 0, 0}
		put16(f[2:], offset)
		if more {
			f[3] |= 1
		}
		h[6] = fragmentHeader
		h = append(h, binary.BigEndian.AppendUint32(f, tag)...)
	}
	put16(h[4:], len(h)-40+len(piece))
	return append(h, piece...)
}

// put16 writes a number in network order.
func put16(b []byte, n int) { binary.BigEndian.PutUint16(b, uint16(n)) }

// checksum is the Internet checksum (RFC 1071).
func checksum(b []byte) int {
	var sum uint32
	for ; len(b) > 1; b = b[2:] {
		sum += uint32(b[0])<<8 | uint32(b[1])
	}
	if len(b) == 1 {
		sum += uint32(b[0]) << 8
	}
	for sum > 0xffff {
		sum = sum>>16 + sum&0xffff
	}
	return int(^uint16(sum))
}

// tagOf finds the tag of one of our packets in what was received: of the packet
// itself, or quoted by an ICMP error; own says that the error is a packet of ours.
func tagOf(b []byte) (tag uint32, own, ok bool) {
	for i := len(b) - payloadLength; i >= 0; i-- {
		if m := string(b[i : i+4]); m == magic || m == quotedMagic {
			return binary.BigEndian.Uint32(b[i+4:]), m == quotedMagic, true
		}
	}
	return 0, false, false
}

// resetFor finds which packet of ours an IP packet resets: the number of a SYN is
// acknowledged, that which another acknowledges is taken up.
func resetFor(b []byte) (tag uint32, ok bool) {
	if len(b) < 1 {
		return 0, false
	}
	header, protocol := 40, 0
	if b[0]>>4 == 4 {
		header = int(b[0]&0xf) * 4
	}
	if len(b) < header+20 {
		return 0, false
	}
	if protocol = int(b[6]); b[0]>>4 == 4 {
		protocol = int(b[9])
	}
	tcp := b[header:]
	if protocol != packet.TCP || tcp[13]&0x04 == 0 {
		return 0, false
	}
	if tcp[13]&packet.ACK == 0 {
		return binary.BigEndian.Uint32(tcp[4:]), true
	}
	return binary.BigEndian.Uint32(tcp[8:]) - 1 - payloadLength, true
}

// isICMPError says that an IP packet is an ICMP error.
func isICMPError(b []byte) bool {
	switch {
	case len(b) > 28 && b[0]>>4 == 4 && b[9] == packet.ICMP:
		t := b[int(b[0]&0xf)*4]
		return t == 3 || t == 11 || t == 12
	case len(b) > 48 && b[0]>>4 == 6 && b[6] == packet.ICMPv6:
		return b[40] < 128
	}
	return false
}
