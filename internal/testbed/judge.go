package testbed

import (
	"encoding/binary"
	"errors"
	"fmt"
	"maps"
	"net"
	"net/netip"
	"os/user"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/ti-mo/conntrack"
	"golang.org/x/sys/unix"

	"yellowfence.example/yfence/core/packet"
)

// A Judge is a host with real rules and three interfaces, and the world outside
// that sends to it and hears from it. It tells what the kernel does with a packet.
//
// The host has the addresses Own on its interfaces; which interface it sends or
// forwards to goes by the destination, see Beyond.
type Judge struct {
	Host, Outside *Namespace
	// Tracks says of each family that the rules in force make the kernel track
	// connections: a fragment is then sent with the rest of its packet.
	Tracks [2]bool

	tag       uint32
	world     int // a socket, the outside: every frame on every interface
	tracker   *conntrack.Conn
	delivered map[int]int // the host's raw sockets, by protocol and family
	senders   map[sender]int
	macs      [interfaces]net.HardwareAddr
	indexes   [interfaces]int // of the outside's interfaces
}

// interfaces is how many of each side a host has.
const interfaces = 3

// Interfaces are the host's interface names.
var Interfaces = []string{"eth0", "eth1", "wan0"}

// Own are the host's addresses, of each interface one per family.
var Own = []netip.Addr{
	netip.MustParseAddr("10.40.0.1"), netip.MustParseAddr("fd40::1"),
	netip.MustParseAddr("10.60.0.1"), netip.MustParseAddr("fd60::1"),
	netip.MustParseAddr("203.0.113.1"), netip.MustParseAddr("2001:db8:1::1"),
}

// Beyond are the prefixes that lie behind each interface; everything else lies behind wan0.
var Beyond = []string{"10.40.0.0/16 fd40::/48", "10.60.0.0/16 fd60::/48", "0.0.0.0/0 ::/0"}

// Protocols are those whose delivery the judge can see.
var Protocols = []int{packet.ICMP, packet.TCP, packet.UDP, 47, packet.ICMPv6}

// NewJudge builds the host and the world. Names of the namespaces begin with prefix.
func NewJudge(prefix string) (j *Judge, err error) {
	j = &Judge{tag: 0x10000, delivered: map[int]int{}, senders: map[sender]int{}}
	defer func() {
		if err != nil {
			_ = j.Close()
		}
	}()
	if j.Host, err = NewNamespace(prefix + "-host"); err != nil {
		return j, err
	}
	if j.Outside, err = NewNamespace(prefix + "-world"); err != nil {
		return j, err
	}
	// The kernel is to decide by the rules alone: nothing of its own that drops, answers late or guesses.
	quiet := []string{"ipv4/conf/all/rp_filter=0", "ipv4/conf/default/rp_filter=0", "ipv6/conf/default/accept_ra=0",
		"ipv6/conf/default/accept_dad=0", "ipv6/conf/default/router_solicitations=0",
		"ipv6/conf/all/forwarding=1", "ipv4/ip_forward=1", "ipv4/icmp_ratelimit=0", "ipv6/icmp/ratelimit=0",
		"ipv4/icmp_msgs_per_sec=1000000", "ipv4/icmp_msgs_burst=100000",
		"ipv4/conf/all/accept_local=1", "ipv4/conf/all/send_redirects=0", "ipv4/conf/default/send_redirects=0",
		"ipv4/icmp_echo_ignore_all=0", "netfilter/nf_conntrack_tcp_be_liberal=1"}
	if err = j.Host.Sysctl(quiet...); err != nil {
		return j, err
	}
	if err = j.Outside.Sysctl("ipv6/conf/default/disable_ipv6=1", "ipv6/conf/all/disable_ipv6=1"); err != nil {
		return j, err
	}
	// Each interface has an end in the world outside, with an address of either family.
	for i, name := range Interfaces {
		far := fmt.Sprintf("far%d", i)
		if err = j.Outside.IP(fmt.Sprintf("link add %s type veth peer name %s netns %s", far, name, j.Host.Name), "link set "+far+
			" up"); err != nil {
			return j, err
		}
		four, six := Own[2*i], Own[2*i+1]
		if err = j.Host.IP("link set "+name+" up", fmt.Sprintf("addr add %s/32 dev %s", four, name),
			fmt.Sprintf("addr add %s/128 dev %s nodad", six, name)); err != nil {
			return j, err
		}
	}
	if err = j.addressing(); err != nil {
		return j, err
	}
	if err = j.track(); err != nil {
		return j, err
	}
	return j, j.open()
}

// addressing learns the interfaces' hardware addresses and lays the routes out.
func (j *Judge) addressing() error {
	var gateways [interfaces]net.HardwareAddr
	if err := j.Outside.Do(func() error {
		for i := range gateways {
			link, err := net.InterfaceByName(fmt.Sprintf("far%d", i))
			if err != nil {
				return err
			}
			gateways[i], j.indexes[i] = link.HardwareAddr, link.Index
		}
		return nil
	}); err != nil {
		return err
	}
	if err := j.Host.Do(func() error {
		for i, name := range Interfaces {
			link, err := net.InterfaceByName(name)
			if err != nil {
				return err
			}
			j.macs[i] = link.HardwareAddr
		}
		return nil
	}); err != nil {
		return err
	}
	for i, name := range Interfaces {
		beyond := strings.Fields(Beyond[i])
		four, six := fmt.Sprintf("169.254.%d.1", i), fmt.Sprintf("fe80::%d:1", i+1)
		if err := j.Host.IP(
			fmt.Sprintf("neigh add %s lladdr %s dev %s nud permanent", four, gateways[i], name),
			fmt.Sprintf("neigh add %s lladdr %s dev %s nud permanent", six, gateways[i], name),
			fmt.Sprintf("route add %s via %s dev %s onlink", beyond[0], four, name),
			fmt.Sprintf("route add %s via %s dev %s onlink", beyond[1], six, name)); err != nil {
			return err
		}
	}
	return nil
}

// open opens the sockets that packets are sent by and seen on.
func (j *Judge) open() error {
	const allFrames = unix.ETH_P_ALL>>8 | unix.ETH_P_ALL&0xff<<8 // in network order
	if err := j.Outside.Do(func() error {
		fd, err := unix.Socket(unix.AF_PACKET, unix.SOCK_RAW|unix.SOCK_NONBLOCK, allFrames)
		j.world = fd
		if err == nil {
			err = unix.SetsockoptInt(fd, unix.SOL_SOCKET, unix.SO_RCVBUFFORCE, 16<<20)
		}
		return err
	}); err != nil {
		return err
	}
	return j.Host.Do(func() error {
		for _, protocol := range Protocols {
			for _, family := range []int{unix.AF_INET, unix.AF_INET6} {
				fd, err := unix.Socket(family, unix.SOCK_RAW|unix.SOCK_NONBLOCK, protocol)
				if err != nil {
					return err
				}
				j.delivered[protocol<<8|family] = fd
				if err := unix.SetsockoptInt(fd, unix.SOL_SOCKET, unix.SO_RCVBUFFORCE, 4<<20); err != nil {
					return err
				}
			}
		}
		return nil
	})
}

// A sender is whose socket the host sends by.
type sender struct {
	family      int
	user, group string // names that the machine knows
}

// sends is the socket of a sender, which takes whole packets and hears nothing.
func (j *Judge) sends(s sender) (fd int, err error) {
	if fd, ok := j.senders[s]; ok {
		return fd, nil
	}
	u, err := user.Lookup(s.user)
	if err != nil {
		return 0, err
	}
	g, err := user.LookupGroup(s.group)
	if err != nil {
		return 0, err
	}
	uid, _ := strconv.Atoi(u.Uid)
	gid, _ := strconv.Atoi(g.Gid)
	err = j.Host.Do(func() (err error) { // on a thread of its own: these are the thread's
		if err = errors.Join(unix.Setfsgid(gid), unix.Setfsuid(uid)); err != nil {
			return err
		}
		defer func() { err = errors.Join(err, unix.Setfsuid(0), unix.Setfsgid(0)) }()
		fd, err = unix.Socket(s.family, unix.SOCK_RAW|unix.SOCK_NONBLOCK, unix.IPPROTO_RAW)
		return err
	})
	if err == nil {
		j.senders[s] = fd
	}
	return fd, err
}

// Close takes everything down.
func (j *Judge) Close() error {
	var err error
	if j.tracker != nil {
		err = j.tracker.Close()
	}
	for _, fd := range slices.Concat(slices.Collect(maps.Values(j.delivered)), slices.Collect(maps.Values(j.senders))) {
		err = errors.Join(err, unix.Close(fd))
	}
	if j.world > 0 {
		err = errors.Join(err, unix.Close(j.world))
	}
	for _, ns := range []*Namespace{j.Host, j.Outside} {
		if ns != nil {
			err = errors.Join(err, ns.Close())
		}
	}
	return err
}

// Verdicts sends packets and tells what became of each: Admit, Drop or Reject.
// Of what the host itself sends, Reject is told as Drop: the answer stays inside.
func (j *Judge) Verdicts(packets []packet.Packet) ([]packet.Verdict, error) {
	verdicts := make([]packet.Verdict, len(packets))
	first := j.tag
	j.tag += uint32(len(packets))
	// Frames pass from end to end on the processor that sent them, in order.
	runtime.LockOSThread()
	defer runtime.UnlockOSThread()
	j.drain(func(uint32, packet.Verdict) {}) // what is left from before
	for i, p := range packets {
		if err := errors.Join(j.connect(p, first+uint32(i)), j.send(p, first+uint32(i))); err != nil {
			return nil, fmt.Errorf("sending %s: %w", p, err)
		}
		verdicts[i] = packet.Drop
	}
	hear := func(tag uint32, v packet.Verdict) {
		if i := int(tag - first); tag >= first && i < len(packets) && verdicts[i] != packet.Admit {
			verdicts[i] = v
		}
	}
	for quiet := 0; quiet < 3; quiet++ {
		time.Sleep(time.Millisecond)
		if j.drain(hear) {
			quiet = 0
		}
	}
	return verdicts, nil
}

// send sends one packet: what the host sends itself by a socket of the user that is meant, all
// else as a frame from outside.
func (j *Judge) send(p packet.Packet, tag uint32) error {
	frames := frame(p, tag, j.Tracks[map[bool]int{true: packet.IPv6, false: packet.IPv4}[p.Src.Is6()]])
	if p.Hook == packet.Out {
		to, s := unix.Sockaddr(&unix.SockaddrInet6{Addr: p.Dst.As16()}), sender{unix.AF_INET6, p.User, p.Group}
		if p.Dst.Is4() {
			to, s.family = &unix.SockaddrInet4{Addr: p.Dst.As4()}, unix.AF_INET
		}
		fd, err := j.sends(s)
		if err != nil {
			return err
		}
		if err := unix.SetsockoptInt(fd, unix.SOL_SOCKET, unix.SO_MARK, int(p.Mark)); err != nil {
			return err
		}
		err = unix.Sendto(fd, frames[0], 0, to)
		if errors.Is(err, unix.EPERM) || errors.Is(err, unix.ECONNREFUSED) || errors.Is(err, unix.EHOSTUNREACH) ||
			errors.Is(err, unix.ENETUNREACH) || errors.Is(err, unix.EACCES) {
			return nil // refused: nothing will arrive
		}
		return err
	}
	i := slices.Index(Interfaces, p.In)
	kind := uint16(unix.ETH_P_IP)
	if p.Src.Is6() {
		kind = unix.ETH_P_IPV6
	}
	header := append(slices.Clone(j.macs[i]), 2, 0, 0, 0, 0, 1)
	header = binary.BigEndian.AppendUint16(header, kind)
	for _, data := range frames {
		if err := unix.Sendto(j.world, slices.Concat(header, data), 0,
			&unix.SockaddrLinklayer{Ifindex: j.indexes[i], Halen: 6}); err != nil {
			return err
		}
	}
	return nil
}

// drain reads all sockets empty and reports what was heard of our packets; it says whether anything was.
func (j *Judge) drain(hear func(tag uint32, v packet.Verdict)) (any bool) {
	buffer := make([]byte, 2048)
	for kind, fd := range j.delivered {
		for {
			n, _, err := unix.Recvfrom(fd, buffer, 0)
			if err != nil {
				break
			}
			any = true
			// An ICMP error that quotes a packet is no delivery of it. (IPv6 raw
			// sockets give no IP header; an error then begins with its type.)
			quoted := kind&0xff == unix.AF_INET && isICMPError(buffer[:n]) || kind == packet.ICMPv6<<8|unix.AF_INET6 && n > 48 &&
				buffer[0] < 128 && buffer[8]>>4 == 6
			if tag, own, ok := tagOf(buffer[:n]); ok && (own || !quoted) {
				hear(tag, packet.Admit)
			}
		}
	}
	for {
		n, from, err := unix.Recvfrom(j.world, buffer, 0)
		if err != nil {
			return any
		}
		any = true
		if link, ok := from.(*unix.SockaddrLinklayer); !ok || link.Pkttype == unix.PACKET_OUTGOING || n < 14 {
			continue
		}
		ip := buffer[14:n]
		if tag, own, ok := tagOf(ip); ok && !own && isICMPError(ip) {
			hear(tag, packet.Reject)
		} else if ok {
			hear(tag, packet.Admit) // sent or forwarded, or echoed by the host, which then had it
		} else if tag, ok := resetFor(ip); ok {
			hear(tag, packet.Reject)
		}
	}
}
