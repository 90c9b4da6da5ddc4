package testbed

import (
	"errors"
	"fmt"
	"net/netip"

	"github.com/ti-mo/conntrack"
	"golang.org/x/sys/unix"

	"yellowfence.example/yfence/core/packet"
)

// isError says that a packet is an ICMP error. Nothing is ever told to who sends one.
func isError(p packet.Packet) bool {
	switch {
	case p.ICMPType == nil:
		return false
	case p.Src.Is6():
		return *p.ICMPType < 128
	}
	return *p.ICMPType == 3 || *p.ICMPType == 11 || *p.ICMPType == 12
}

// isRelated says that it is one about a connection.
func isRelated(p packet.Packet) bool {
	return isError(p) && p.State == packet.StateNames[packet.Related]
}

// The UDP ports of the connections that our ICMP errors are about.
const quotedSource, quotedTarget = 7001, 7002

// connect puts into the kernel's tracker the connection that makes a packet what
// its state says: one that was answered, or one that another has announced.
func (j *Judge) connect(p packet.Packet, tag uint32) error {
	established := p.State == packet.StateNames[packet.Established]
	number, _ := packet.ProtocolNumber(p.Protocol)
	if p.SrcPort == nil && p.ICMPType == nil { // nothing tells it from one before, which may be marked
		_ = j.tracker.Delete(conntrack.NewFlow(uint8(number), 0, p.Src, p.Dst, 0, 0, 0, 0))
	}
	if !established && p.State != packet.StateNames[packet.Related] {
		return nil
	}
	const timeout = 600
	status := conntrack.StatusConfirmed | conntrack.StatusAssured | conntrack.StatusSeenReply
	if isRelated(p) {
		f := conntrack.NewFlow(packet.UDP, status, p.Dst, p.Src, quotedSource, quotedTarget, timeout, 0)
		_ = j.tracker.Delete(f) // one of before, with another mark
		f.Mark = p.ConnMark
		return j.tracker.Create(f)
	}
	f := conntrack.NewFlow(uint8(number), status, p.Src, p.Dst, 0, 0, timeout, p.ConnMark)
	switch number {
	case packet.ICMP, packet.ICMPv6:
		request, answer := uint8(8), uint8(0)
		if number == packet.ICMPv6 {
			request, answer = 128, 129
		}
		if uint8(*p.ICMPType) == answer {
			f = conntrack.NewFlow(uint8(number), status, p.Dst, p.Src, 0, 0, timeout, p.ConnMark)
		}
		f.TupleOrig.Proto.ICMPType, f.TupleReply.Proto.ICMPType = request, answer
		f.TupleOrig.Proto.ICMPID, f.TupleReply.Proto.ICMPID = uint16(tag), uint16(tag)
	default:
		from, to := uint16(*p.SrcPort), uint16(*p.DstPort)
		f.TupleOrig.Proto.SourcePort, f.TupleOrig.Proto.DestinationPort = from, to
		f.TupleReply.Proto.SourcePort, f.TupleReply.Proto.DestinationPort = to, from
		if established && tag%2 == 0 { // it goes the other way
			f.TupleOrig, f.TupleReply = f.TupleReply, f.TupleOrig
		}
	}
	if number == packet.TCP {
		f.ProtoInfo.TCP = &conntrack.ProtoInfoTCP{State: 3} // TCP_CONNTRACK_ESTABLISHED
	}
	if !established {
		f.Status = conntrack.StatusConfirmed
		f.TupleMaster = announcer(p.Src.Is6())
	}
	err := j.tracker.Create(f)
	if errors.Is(err, unix.EEXIST) { // a translation has made its like, in one of its directions
		_ = j.tracker.Delete(conntrack.Flow{TupleOrig: f.TupleOrig})
		_ = j.tracker.Delete(conntrack.Flow{TupleOrig: f.TupleReply})
		err = j.tracker.Create(f)
	}
	return err
}

// announcer is a connection that has announced others.
func announcer(six bool) conntrack.Tuple {
	a, b := netip.MustParseAddr("192.0.2.201"), netip.MustParseAddr("192.0.2.202")
	if six {
		a, b = netip.MustParseAddr("2001:db8::201"), netip.MustParseAddr("2001:db8::202")
	}
	return conntrack.NewFlow(packet.UDP, 0, a, b, 1, 2, 0, 0).TupleOrig
}

// track opens the way to the host's connection tracker.
func (j *Judge) track() error {
	if err := j.Host.Do(func() (err error) {
		j.tracker, err = conntrack.Dial(nil)
		return err
	}); err != nil {
		return err
	}
	return j.forget()
}

// forget takes all connections out of the host's tracker but those that announce others.
func (j *Judge) forget() error {
	if err := j.tracker.Flush(); err != nil {
		return err
	}
	for _, six := range []bool{false, true} {
		t := announcer(six)
		status := conntrack.StatusConfirmed | conntrack.StatusAssured | conntrack.StatusSeenReply
		if err := j.tracker.Create(conntrack.NewFlow(packet.UDP, status, t.IP.SourceAddress, t.IP.DestinationAddress, 1, 2, 86400,
			0)); err != nil {
			return fmt.Errorf("connection tracking: %w", err)
		}
	}
	return nil
}
