package tap

import (
	"context"
	"encoding/binary"
	"errors"
	"net/netip"
	"time"

	"github.com/mdlayher/netlink"
	"golang.org/x/sys/unix"

	"yellowfence.example/yfence/core/packet"
	"yellowfence.example/yfence/core/traffic"
)

// The kernel's numbers: linux/netfilter/nfnetlink.h and nfnetlink_conntrack.h.
const (
	groupNew = 1 // NFNLGRP_CONNTRACK_NEW, as a bit

	tupleOriginal = 1 // CTA_TUPLE_ORIG
	tupleReply    = 2
	tupleAddrs    = 1 // CTA_TUPLE_IP
	tupleProto    = 2
	v4Source      = 1 // CTA_IP_V4_SRC
	v4Target      = 2
	v6Source      = 3
	v6Target      = 4
	protoNumber   = 1 // CTA_PROTO_NUM
	protoSource   = 2
	protoTarget   = 3
	icmpType      = 5
	icmpv6Type    = 8

	headers = 20 // bytes of nlmsghdr and nfgenmsg before the attributes
)

// bufferOf is how much the kernel holds for us before it drops messages, in bytes.
const bufferOf = 4 << 20

// gather is for how long messages are left to gather: at 20,000 a second the buffer has room for a
// tenth of a second.
const gather = 50 * time.Millisecond

// hearBegun listens to connections that begin.
func (t *Tap) hearBegun(ctx context.Context) error {
	fd, err := unix.Socket(unix.AF_NETLINK, unix.SOCK_RAW|unix.SOCK_CLOEXEC|unix.SOCK_NONBLOCK, unix.NETLINK_NETFILTER)
	if err != nil {
		return err
	}
	_ = unix.SetsockoptInt(fd, unix.SOL_SOCKET, unix.SO_RCVBUFFORCE, bufferOf) // else what all have has to do
	if err := unix.Bind(fd, &unix.SockaddrNetlink{Family: unix.AF_NETLINK, Groups: groupNew}); err != nil {
		return errors.Join(err, unix.Close(fd))
	}
	go func() {
		defer func() { _ = unix.Close(fd) }()
		b := make([]byte, 1<<15)
		for ctx.Err() == nil {
			n, _, err := unix.Recvfrom(fd, b, 0)
			switch {
			case err == nil:
				t.addBegun(b[:n])
			case errors.Is(err, unix.ENOBUFS):
				t.missed()
			case !errors.Is(err, unix.EINTR): // there is none now, and being woken for each costs more than all else
				time.Sleep(gather)
			}
		}
	}()
	return nil
}

// ends are one direction of a connection, as the tracker tells it.
type ends struct {
	src, dst     netip.Addr
	protocol     int
	sport, dport int
}

// addBegun adds one connection. Its ends are those that filters see: where it goes to behind a
// redirect, and where it comes from before a masquerade.
func (t *Tap) addBegun(message []byte) {
	if len(message) < headers {
		return
	}
	original, reply, ok := readTuples(message[headers:])
	if !ok {
		return
	}
	now := time.Now()
	t.mu.Lock()
	defer t.mu.Unlock()
	t.look(now)
	f := traffic.Flow{Protocol: original.protocol, Port: original.dport}
	src, dst := original.src, reply.src
	if reply.sport != 0 {
		f.Port = reply.sport
	}
	direction := packet.Forward
	switch from, to := t.own[src], t.own[dst]; {
	case from && to:
		return
	case from:
		direction = packet.Outbound
	case to:
		direction = packet.Inbound
	}
	f.Direction = direction.Word()
	f.Src, f.Dst = netip.PrefixFrom(src, src.BitLen()), netip.PrefixFrom(dst, dst.BitLen())
	t.begun.Add(f, 1, now.Unix())
}

// readTuples reads a connection's two directions from a message's attributes.
func readTuples(attributes []byte) (original, reply ends, ok bool) {
	d, err := netlink.NewAttributeDecoder(attributes)
	if err != nil {
		return original, reply, false
	}
	for d.Next() {
		switch d.Type() {
		case tupleOriginal:
			d.Nested(original.read)
		case tupleReply:
			d.Nested(reply.read)
		}
	}
	return original, reply, d.Err() == nil && original.src.IsValid() && reply.src.IsValid()
}

// read reads one direction.
func (e *ends) read(d *netlink.AttributeDecoder) error {
	for d.Next() {
		switch d.Type() {
		case tupleAddrs:
			d.Nested(e.readAddrs)
		case tupleProto:
			d.Nested(e.readProto)
		}
	}
	return nil
}

// readAddrs reads the addresses of one direction.
func (e *ends) readAddrs(d *netlink.AttributeDecoder) error {
	for d.Next() {
		at, _ := netip.AddrFromSlice(d.Bytes())
		switch d.Type() {
		case v4Source, v6Source:
			e.src = at
		case v4Target, v6Target:
			e.dst = at
		}
	}
	return nil
}

// readProto reads the protocol and ports of one direction, which are in the network's order.
func (e *ends) readProto(d *netlink.AttributeDecoder) error {
	for d.Next() {
		b := d.Bytes()
		switch kind := d.Type(); {
		case kind == protoNumber && len(b) == 1:
			e.protocol = int(b[0])
		case (kind == icmpType || kind == icmpv6Type) && len(b) == 1:
			e.dport = int(b[0])
		case kind == protoSource && len(b) == 2:
			e.sport = int(binary.BigEndian.Uint16(b))
		case kind == protoTarget && len(b) == 2:
			e.dport = int(binary.BigEndian.Uint16(b))
		}
	}
	return nil
}
