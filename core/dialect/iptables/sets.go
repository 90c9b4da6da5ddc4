package iptables

import (
	"cmp"
	"fmt"
	"net/netip"
	"slices"
	"strconv"
	"strings"

	"yellowfence.example/yfence/core/packet"
)

// Sets are the kernel's sets of addresses and ports, by name, as rules ask for them.
type Sets map[string]*set

// set is one of them: its type's dimensions, and what it holds.
type set struct {
	dimensions []string // ip, net, port, iface or set
	family     int
	members    []member
	unread     bool // it holds something that is not read
	changing   bool // its elements come and go by themselves
}

// member is an element of a set: a part for each thing that the set's type has.
type member struct {
	parts    []string
	excepted bool // nomatch
	length   int  // of its first prefix
}

// IsSets says that a text is what ipset save prints.
func IsSets(text string) bool {
	for line := range strings.Lines(text) {
		if line = strings.TrimSpace(line); line != "" && line[0] != '#' {
			return firstWord(line) == "create"
		}
	}
	return false
}

// ReadSets reads what ipset save prints. The error is a *SyntaxError.
func ReadSets(text string) (Sets, error) {
	sets := Sets{}
	for i, line := range strings.Split(text, "\n") {
		words, ok := split(nil, strings.TrimRight(line, " \t\r"))
		errorf := func(format string, args ...any) error { return &SyntaxError{i + 1, fmt.Sprintf(format, args...)} }
		switch {
		case !ok:
			return nil, errorf("a quoted text does not end")
		case len(words) == 0 || strings.HasPrefix(words[0], "#"):
		case words[0] == "create" && len(words) >= 3:
			_, dimensions, found := strings.Cut(words[2], ":")
			if !found {
				return nil, errorf("expected a type, as in hash:ip, found %q", words[2])
			}
			s := &set{dimensions: strings.Split(dimensions, ",")}
			for k := 3; k < len(words); k++ {
				switch words[k] {
				case "inet6":
					s.family = packet.IPv6
				case "timeout":
					s.changing = true
				case "netmask", "bitmask", "markmask":
					s.unread = true
				}
			}
			for _, d := range s.dimensions {
				s.unread = s.unread || !slices.Contains([]string{"ip", "net", "port", "iface", "set"}, d)
			}
			sets[words[1]] = s
		case words[0] == "add" && len(words) >= 3:
			s := sets[words[1]]
			if s == nil {
				return nil, errorf("there is no set %s before its element", words[1])
			}
			m := member{parts: strings.Split(words[2], ","), excepted: slices.Contains(words[3:], "nomatch")}
			if len(m.parts) != len(s.dimensions) {
				return nil, errorf("set %s has elements of %d parts, found %q", words[1], len(s.dimensions), words[2])
			}
			if _, length, ok := strings.Cut(m.parts[0], "/"); ok {
				m.length, _ = strconv.Atoi(length)
			} else {
				m.length = 128
			}
			s.members = append(s.members, m)
		default:
			return nil, errorf("expected create or add with a set and what it is about, found %q", firstWord(line))
		}
	}
	for _, s := range sets { // of nets the longest that holds an address decides
		slices.SortStableFunc(s.members, func(a, b member) int { return cmp.Compare(a.length, b.length) })
	}
	return sets, nil
}

// changing says that elements of a set, or of those that it holds, come and go by themselves.
func (s Sets) changing(name string) bool {
	of := s[name]
	if of == nil || of.changing || of.dimensions[0] != "set" {
		return of != nil && of.changing
	}
	return slices.ContainsFunc(of.members, func(one member) bool { return s[one.parts[0]] != nil && s[one.parts[0]].changing })
}

// packets are those that a set has, each dimension taken from the source or the
// destination; ok is false where it is not known. A set that is held by another
// holds none itself.
func (s Sets) packets(m *matching, name string, ways []string, held bool) (all packet.Set, ok bool) {
	// A set that holds sets is what these hold, one level deep, as in the kernel.
	of := s[name]
	if of == nil || of.unread || held && of.dimensions[0] == "set" {
		return packet.Empty, false
	}
	sp := m.sp
	if of.dimensions[0] == "set" {
		for _, one := range of.members {
			one, ok := s.packets(m, one.parts[0], ways, true)
			if !ok {
				return packet.Empty, false
			}
			all = sp.Or(all, one)
		}
		return all, true
	}
	if len(ways) < len(of.dimensions) {
		return packet.Empty, false
	}
	// Most sets hold addresses alone, thousands of them: those are one set of ranges.
	if runs, ok := of.runs(); ok {
		return sp.And(sp.Ranges(pick(ways[0] == "src", packet.Src, packet.Dst), runs), sp.Value(packet.Family, of.family)), true
	}
	// Of all others each element is a box, the exceptions taken out of what stands before them.
	for _, held := range of.members {
		box := packet.All
		for i, d := range of.dimensions {
			part, ok := dimension(m, d, held.parts[i], ways[i] == "src", len(of.dimensions) == 1)
			if !ok {
				return packet.Empty, false
			}
			box = sp.And(box, part)
		}
		if all = sp.Or(all, box); held.excepted {
			all = sp.Minus(all, box)
		}
	}
	if slices.Contains(of.dimensions, "ip") || slices.Contains(of.dimensions, "net") {
		all = sp.And(all, sp.Value(packet.Family, of.family))
	}
	return all, true
}

// runs is a set of addresses alone, without exceptions, which are most.
func (s *set) runs() (runs []packet.Range, ok bool) {
	if len(s.dimensions) != 1 || s.dimensions[0] != "ip" && s.dimensions[0] != "net" {
		return nil, false
	}
	for _, held := range s.members {
		run, ok := addressRun(held.parts[0])
		if !ok || held.excepted {
			return nil, false
		}
		runs = append(runs, run)
	}
	return runs, true
}

// addressRun reads an address, a prefix, or a range.
func addressRun(text string) (run packet.Range, ok bool) {
	from, to, isRange := strings.Cut(text, "-")
	if !isRange {
		return addresses(text)
	}
	lo, errLo := netip.ParseAddr(from)
	hi, errHi := netip.ParseAddr(to)
	return packet.Range{Lo: packet.Addr(lo), Hi: packet.Addr(hi)}, errLo == nil && errHi == nil && !hi.Less(lo) && lo.Is4() == hi.Is4()
}

// pick is one of two fields, by the end that a set asks about.
func pick(src bool, a, b packet.Field) packet.Field {
	if src {
		return a
	}
	return b
}

// icmpNames are what sets call types of ICMP and ICMPv6 that have a name (ipset's lib/icmp.c and icmpv6.c), where
// those have but one code.
var icmpNames = map[string]map[string]string{
	"icmp": {"echo-reply": "0/0", "pong": "0/0", "echo-request": "8/0", "ping": "8/0", "timestamp-request": "13/0",
		"timestamp-reply": "14/0"},
	"icmpv6": {"echo-request": "128/0", "ping": "128/0", "echo-reply": "129/0", "pong": "129/0"},
}

// ofICMP reads icmp:8/0, or icmp:echo-request: of what has another name it says that it is of that protocol.
func ofICMP(sp *packet.Space, protocol, text string) (packet.Set, bool) {
	number, is := map[string]int{"icmp": packet.ICMP, "icmpv6": packet.ICMPv6, "ipv6-icmp": packet.ICMPv6}[protocol]
	if !is {
		return packet.Empty, false
	}
	of := sp.And(sp.Value(packet.Protocol, number),
		sp.Value(packet.Family, map[int]int{packet.ICMP: packet.IPv4, packet.ICMPv6: packet.IPv6}[number]))
	kind, code, _ := strings.Cut(cmp.Or(icmpNames[strings.Replace(protocol, "ipv6-icmp", "icmpv6", 1)][text], text), "/")
	n, err := strconv.ParseUint(kind, 10, 8)
	k, errCode := strconv.ParseUint(code, 10, 8)
	if err != nil || errCode != nil {
		return sp.And(of, sp.Unknown("set element "+protocol+":"+text)), true
	}
	return sp.AndAll(of, sp.Value(packet.ICMPType, int(n)), sp.Value(packet.ICMPCode, int(k))), true
}

// dimension is the packets that one part of an element holds.
func dimension(m *matching, kind, text string, src, alone bool) (packet.Set, bool) {
	sp := m.sp
	switch kind {
	case "ip", "net":
		run, ok := addressRun(text)
		return sp.Ranges(pick(src, packet.Src, packet.Dst), []packet.Range{run}), ok
	case "iface":
		return sp.Interfaces(pick(src, packet.InIface, packet.OutIface), text), !strings.Contains(text, ":")
	}
	protocol, port, said := strings.Cut(text, ":")
	protocols := []int{packet.TCP}
	switch {
	case !said && alone: // a bitmap of ports, of either
		port, protocols = protocol, []int{packet.TCP, packet.UDP}
	case !said:
		port = protocol
	default:
		n, ok := packet.ProtocolNumber(protocol)
		if s, is := ofICMP(sp, protocol, port); is {
			return sp.And(s, m.shown()), true
		}
		if !ok || !slices.Contains([]int{packet.TCP, packet.UDP, packet.SCTP, 136}, n) {
			return packet.Empty, false
		}
		protocols = []int{n}
	}
	runs, ok := portRuns(strings.Replace(port, "-", ":", 1))
	return sp.AndAll(sp.Values(packet.Protocol, protocols...), sp.Ranges(pick(src, packet.SrcPort, packet.DstPort), runs), m.shown()), ok
}
