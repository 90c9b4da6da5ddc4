package testbed

import (
	"encoding/binary"

	"yellowfence.example/yfence/core/packet"
)

// magic begins the payload of every packet we send; a tag of four bytes follows.
const magic = "yfnc"

const payloadLength = 8

// frame builds the IP packet that p describes, its payload carrying the tag.
// A TCP packet is a SYN, unless it is to be invalid: then it is a lone RST.
func frame(p packet.Packet, tag uint32) []byte {
	payload := binary.BigEndian.AppendUint32([]byte(magic), tag)
	number, _ := packet.ProtocolNumber(p.Protocol)
	var l4 []byte
	checksumAt := -1
	switch number {
	case packet.TCP:
		l4 = make([]byte, 20)
		put16(l4[0:], *p.SrcPort)
		put16(l4[2:], *p.DstPort)
		binary.BigEndian.PutUint32(l4[4:], tag)
		l4[12], l4[13] = 5<<4, 0x02
		if p.State == packet.StateNames[packet.Invalid] {
			l4[13] = 0x04
		}
		put16(l4[14:], 1024)
		checksumAt = 16
	case packet.UDP:
		l4 = make([]byte, 8)
		put16(l4[0:], *p.SrcPort)
		put16(l4[2:], *p.DstPort)
		put16(l4[4:], 8+payloadLength)
		checksumAt = 6
	case packet.ICMP, packet.ICMPv6:
		l4 = make([]byte, 8)
		if p.ICMPType != nil {
			l4[0], l4[1] = byte(*p.ICMPType), byte(*p.ICMPCode)
		}
		put16(l4[4:], int(tag&0xffff)) // the identifier, which makes it a connection of its own
		put16(l4[6:], int(tag>>16))    // the sequence number
		checksumAt = 2
	}
	l4 = append(l4, payload...)
	src, dst := p.Src.AsSlice(), p.Dst.AsSlice()
	if checksumAt >= 0 {
		var pseudo []byte
		if number != packet.ICMP {
			pseudo = append(append(pseudo, src...), dst...)
			pseudo = binary.BigEndian.AppendUint32(pseudo, uint32(len(l4)))
			pseudo = append(pseudo, 0, 0, 0, byte(number))
		}
		binary.BigEndian.PutUint16(l4[checksumAt:], checksum(append(pseudo, l4...)))
	}
	if p.Src.Is4() {
		h := make([]byte, 20)
		h[0] = 4<<4 | 5
		put16(h[2:], 20+len(l4))
		put16(h[4:], int(tag&0xffff))
		h[8], h[9] = 64, byte(number)
		copy(h[12:], src)
		copy(h[16:], dst)
		binary.BigEndian.PutUint16(h[10:], checksum(h))
		return append(h, l4...)
	}
	h := make([]byte, 40)
	h[0] = 6 << 4
	put16(h[4:], len(l4))
	h[6], h[7] = byte(number), 64
	copy(h[8:], src)
	copy(h[24:], dst)
	return append(h, l4...)
}

func put16(b []byte, n int) { binary.BigEndian.PutUint16(b, uint16(n)) }

// checksum is the Internet checksum (RFC 1071).
func checksum(b []byte) uint16 {
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
	return ^uint16(sum)
}

// tagOf finds the tag of one of our packets in what was received: of the packet
// itself, or quoted by an ICMP error.
func tagOf(b []byte) (tag uint32, ok bool) {
	for i := len(b) - payloadLength; i >= 0; i-- {
		if string(b[i:i+4]) == magic {
			return binary.BigEndian.Uint32(b[i+4:]), true
		}
	}
	return 0, false
}

// resetFor finds which SYN of ours an IP packet resets: its number is acknowledged.
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
