package inventory

import (
	"bufio"
	"encoding/binary"
	"encoding/hex"
	"fmt"
	"net"
	"net/netip"
	"os"
	"slices"
	"strconv"
	"strings"

	"yellowfence.example/yfence/api"
	"yellowfence.example/yfence/core/dialect/forms"
	"yellowfence.example/yfence/core/fleet"
	"yellowfence.example/yfence/core/packet"
	"yellowfence.example/yfence/internal/live"
)

// A Connection is a TCP connection of this host, as the kernel knows it.
type Connection struct {
	Local  netip.AddrPort `json:"local"`
	Remote netip.AddrPort `json:"remote"`
}

// String is the connection as people say it, the host's end first.
func (c Connection) String() string { return fmt.Sprintf("%s from %s", c.Local, c.Remote) }

// Sockets are the TCP Sockets of this network namespace.
type Sockets struct {
	Open      []Connection          // not only opened: those that are being closed too
	byNumber  map[uint64]Connection // of the sockets that are open, by inode
	listening map[uint16]bool       // ports
}

// The states of /proc/net/tcp: include/net/tcp_states.h.
const (
	stateListen   = 10
	stateTimeWait = 6
	stateClosed   = 7
)

// OpenSockets reads /proc/net/tcp and tcp6 (proc(5)).
func OpenSockets() (*Sockets, error) {
	s := &Sockets{byNumber: map[uint64]Connection{}, listening: map[uint16]bool{}}
	for _, name := range []string{"tcp", "tcp6"} {
		f, err := os.Open("/proc/thread-self/net/" + name)
		if os.IsNotExist(err) {
			continue // a kernel without IPv6
		} else if err != nil {
			return nil, err
		}
		for sc := bufio.NewScanner(f); sc.Scan(); {
			fields := strings.Fields(sc.Text())
			if len(fields) < 10 || fields[0] == "sl" {
				continue
			}
			local, ok := hexAddrPort(fields[1])
			remote, ok2 := hexAddrPort(fields[2])
			state, err := strconv.ParseUint(fields[3], 16, 8)
			if !ok || !ok2 || err != nil {
				continue
			}
			switch c := (Connection{local, remote}); state {
			case stateListen:
				s.listening[local.Port()] = true
			case stateTimeWait, stateClosed:
			default:
				s.Open = append(s.Open, c)
				if number, err := strconv.ParseUint(fields[9], 10, 64); err == nil && number != 0 {
					s.byNumber[number] = c
				}
			}
		}
		_ = f.Close()
	}
	return s, nil
}

// hexAddrPort reads "0100007F:0016": words of an address in the machine's own order.
func hexAddrPort(s string) (ap netip.AddrPort, ok bool) {
	address, port, _ := strings.Cut(s, ":")
	b, err := hex.DecodeString(address)
	n, err2 := strconv.ParseUint(port, 16, 16)
	if err != nil || err2 != nil || len(b)%4 != 0 {
		return ap, false
	}
	if binary.NativeEndian.Uint16([]byte{1, 0}) == 1 {
		for i := 0; i < len(b); i += 4 {
			slices.Reverse(b[i : i+4])
		}
	}
	a, ok := netip.AddrFromSlice(b)
	return netip.AddrPortFrom(a.Unmap(), uint16(n)), ok
}

// arrived says that somebody else opened it: it is to a port that something listens on.
func (s *Sockets) arrived(c Connection) bool { return s.listening[c.Local.Port()] }

// heldBy are the connections that a process has.
func (s *Sockets) heldBy(pid int) (out []Connection) {
	dir := fmt.Sprintf("/proc/%d/fd", pid)
	entries, err := os.ReadDir(dir)
	if err != nil {
		return nil // it ended
	}
	for _, e := range entries {
		to, err := os.Readlink(dir + "/" + e.Name())
		number, isSocket := strings.CutPrefix(to, "socket:[")
		if err != nil || !isSocket {
			continue
		}
		n, _ := strconv.ParseUint(strings.TrimSuffix(number, "]"), 10, 64)
		if c, ok := s.byNumber[n]; ok {
			out = append(out, c)
		}
	}
	return out
}

// CameBy are the connections over which a process was begun: those that it or a
// process above it has, and that somebody else opened.
func (s *Sockets) CameBy(pid int) (out []Connection) {
	for ; pid > 1; pid = parent(pid) {
		for _, c := range s.heldBy(pid) {
			if s.arrived(c) && !slices.Contains(out, c) {
				out = append(out, c)
			}
		}
	}
	return out
}

// parent is the process that began another, 0 where it is not known.
func parent(pid int) int {
	stat, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", pid))
	if err != nil {
		return 0
	}
	_, rest, _ := strings.Cut(string(stat[strings.LastIndexByte(string(stat), ')')+1:]), " ")
	if f := strings.Fields(rest); len(f) > 1 {
		n, _ := strconv.Atoi(f[1])
		return n
	}
	return 0
}

// LogIns are the connections of log-ins: those that the caller came by, and those that sshd has.
func (s *Sockets) LogIns() (out []Connection) {
	out = s.CameBy(os.Getpid())
	entries, _ := os.ReadDir("/proc")
	for _, e := range entries {
		pid, err := strconv.Atoi(e.Name())
		if err != nil {
			continue
		}
		name, _ := os.ReadFile("/proc/" + e.Name() + "/comm")
		if !strings.HasPrefix(string(name), "sshd") {
			continue
		}
		for _, c := range s.heldBy(pid) {
			if s.arrived(c) && !slices.Contains(out, c) {
				out = append(out, c)
			}
		}
	}
	return out
}

// CutOff are connections that rules would not let be opened again: log-ins, and what
// goes to one of the addresses at which the host finds the service.
func CutOff(files []api.File, service []netip.AddrPort) (out []string, err error) {
	if tangled := packet.Try(func() { out, err = cutOff(files, service) }); tangled != nil {
		return nil, fmt.Errorf("what the rules would cut off: %w", tangled)
	}
	return out, err
}

// cutOff are the connections that rules would cut off, in words: log-ins, and those to the
// service.
func cutOff(files []api.File, service []netip.AddrPort) (out []string, err error) {
	s, err := OpenSockets()
	if err != nil {
		return nil, err
	}
	at := InterfacesByAddress()
	sp := packet.Budget{Edges: live.Bound}.Space()
	rs, err := forms.Writing(files[len(files)-1].Kind).Read(sp, &fleet.Host{Name: "new"}, files)
	if err != nil {
		return nil, err
	}
	d := rs.Decision(sp)
	refused := func(p packet.Packet) bool {
		return sp.Outcome(d, p).Refused()
	}
	for _, c := range s.LogIns() {
		for _, state := range []string{"new", "established"} {
			if refused(c.packet(packet.In, at, state)) {
				out = append(out, fmt.Sprintf("the log-in at %s from %s", c.Local, c.Remote.Addr()))
				break
			}
		}
	}
	for _, to := range service {
		from, ok := SourceFor(to)
		if !ok {
			continue // there is no way to it of this family
		}
		c := Connection{netip.AddrPortFrom(from, 50000), to}
		if refused(c.packet(packet.Out, at, "new")) || refused(c.packet(packet.In, at, "established")) {
			out = append(out, fmt.Sprintf("what this host sends to the service at %s", to))
		}
	}
	return out, nil
}

// packet is a packet of the connection at a hook.
func (c Connection) packet(hook int, at map[netip.Addr]string, state string) packet.Packet {
	from, to, iface := c.Remote, c.Local, at[c.Local.Addr()]
	if hook == packet.Out {
		from, to = to, from
	}
	if c.Remote.Addr().IsLoopback() || c.Remote.Addr() == c.Local.Addr() {
		iface = "lo"
	}
	sport, dport := int(from.Port()), int(to.Port())
	p := packet.Packet{Hook: hook, Family: "ipv4", Src: from.Addr(), Dst: to.Addr(), Protocol: "tcp", SrcPort: &sport, DstPort: &dport,
		State: state}
	if p.Src.Is6() {
		p.Family = "ipv6"
	}
	if hook == packet.In {
		p.In = iface
	} else {
		p.Out = iface
	}
	return p
}

// InterfacesByAddress is which interface has which of the host's addresses.
func InterfacesByAddress() map[netip.Addr]string {
	out := map[netip.Addr]string{}
	all, _ := net.Interfaces()
	for _, i := range all {
		addresses, _ := i.Addrs()
		for _, a := range addresses {
			if p, err := netip.ParsePrefix(a.String()); err == nil {
				out[p.Addr()] = i.Name
			}
		}
	}
	return out
}

// SourceFor is the address that this host would send from.
func SourceFor(to netip.AddrPort) (from netip.Addr, ok bool) {
	c, err := net.Dial("udp", to.String()) // nothing is sent
	if err != nil {
		return from, false
	}
	defer func() { _ = c.Close() }()
	local, err := netip.ParseAddrPort(c.LocalAddr().String())
	return local.Addr().Unmap(), err == nil
}
