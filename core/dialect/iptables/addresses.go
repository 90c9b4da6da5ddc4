package iptables

import (
	"bytes"
	"math/bits"
	"net/netip"
	"slices"
	"strconv"
	"strings"

	"yellowfence.example/yfence/core/packet"
)

// addressRange takes `a-b` for a field of addresses.
func (m *matching) addressRange(field packet.Field) bool {
	run, ok := addressRun(m.words[0])
	if ok {
		m.next()
		m.and(m.sp.Ranges(field, []packet.Range{run}))
	}
	return ok
}

// set reads --match-set NAME src,dst
func (m *matching) set() bool {
	if len(m.words) < 2 {
		return false
	}
	if len(m.words) > 2 && strings.HasPrefix(m.words[2], "--") { // which counts
		return false
	}
	s, ok := m.host.Sets.packets(m, m.words[0], strings.Split(m.words[1], ","), false)
	if ok {
		if name := m.words[0]; m.changes[name] || m.host.Sets.changing(name) {
			s = m.sp.Or(s, m.rarely("whether it has been put into set "+name+" since that was listed", "nothing was put into set "+name+
				" since it was listed"))
		}
		m.words = m.words[2:]
		m.and(s)
	}
	return ok
}

// addressType reads --dst-type LOCAL, or several with commas: of IPv4 one of them must
// hold, of IPv6 all must (addrtype_mt6 in the kernel's xt_addrtype.c).
func (m *matching) addressType(field packet.Field) bool {
	byIface := slices.Contains(m.words, "--limit-iface-in")
	if slices.Contains(m.words, "--limit-iface-out") || byIface &&
		(m.family == packet.IPv6 || !slices.Contains([]string{"prerouting", "input", "forward"}, m.chain.Hook)) {
		return false
	}
	s, join := packet.Empty, m.sp.Or
	if m.family == packet.IPv6 {
		s, join = packet.All, m.sp.And
	}
	for kind := range strings.SplitSeq(m.words[0], ",") {
		kind = strings.ToLower(kind)
		if byIface {
			of, ok := m.host.Routes.KindBy(m.sp, field, kind)
			if !ok {
				return false
			}
			s = join(s, of)
			continue
		}
		addrs, ok := m.host.Routes.Kind(kind)
		if !ok || m.family == packet.IPv6 && kind != "local" && kind != "multicast" {
			return false
		}
		s = join(s, m.sp.Addrs(field, addrs))
	}
	if m.next(); byIface {
		m.words = slices.DeleteFunc(slices.Clone(m.words), func(w string) bool { return w == "--limit-iface-in" })
	}
	m.and(s)
	return true
}

// addresses reads 192.0.2.0/24, 192.0.2.0/255.255.255.0 or an address.
func addresses(text string) (run packet.Range, ok bool) {
	addr, length, cut := strings.Cut(text, "/")
	a, err := netip.ParseAddr(addr)
	if err != nil {
		return run, false
	}
	if !cut {
		length = strconv.Itoa(a.BitLen())
	}
	if mask, err := netip.ParseAddr(length); err == nil {
		ones := 0
		for _, b := range mask.AsSlice() {
			ones += bits.OnesCount8(b)
		}
		// Of the masks with so many ones only this is that of a prefix.
		if p, err := allOnes(mask).Prefix(ones); err != nil || p.Addr() != mask || mask.BitLen() != a.BitLen() {
			return run, false
		}
		length = strconv.Itoa(ones)
	}
	n, err := strconv.Atoi(length)
	if err != nil {
		return run, false
	}
	p, err := a.Prefix(n)
	if err != nil {
		return run, false
	}
	return packet.PrefixRange(p), true
}

// allOnes is the last address of a family.
func allOnes(of netip.Addr) netip.Addr {
	last, _ := netip.AddrFromSlice(bytes.Repeat([]byte{0xff}, of.BitLen()/8)) // of 4 or 16 bytes
	return last
}

// valueAndMask reads a mark: 0x5 or 0x5/0xff.
func valueAndMask(text string) (value, mask uint32, ok bool) {
	v, among, cut := strings.Cut(text, "/")
	n, err := strconv.ParseUint(v, 0, 32)
	mask = 1<<32 - 1
	if cut {
		k, errMask := strconv.ParseUint(among, 0, 32)
		if mask = uint32(k); errMask != nil {
			return 0, 0, false
		}
	}
	return uint32(n), mask, err == nil
}
