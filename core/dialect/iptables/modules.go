package iptables

import (
	"cmp"
	"fmt"
	"net/netip"
	"slices"
	"strconv"
	"strings"
	"time"

	"yellowfence.example/yfence/core/kernel"
	"yellowfence.example/yfence/core/packet"
)

// port takes ports for a field.
func (m *matching) port(field packet.Field) bool {
	runs, ok := portRuns(m.words[0])
	if ok {
		m.next()
		m.andShown(m.sp.Ranges(field, runs))
	}
	return ok
}

// portRuns reads ports: 22, 1000:2000, or a list of those.
func portRuns(text string) (runs []packet.Range, ok bool) {
	for part := range strings.SplitSeq(text, ",") {
		lo, hi, isRange := strings.Cut(part, ":")
		if !isRange {
			hi = lo
		}
		if lo == "" {
			lo = "0"
		}
		if hi == "" {
			hi = "65535"
		}
		from, errFrom := strconv.ParseUint(lo, 10, 16)
		to, errTo := strconv.ParseUint(hi, 10, 16)
		if errFrom != nil || errTo != nil || from > to {
			return nil, false
		}
		runs = append(runs, packet.Range{Lo: packet.Num(int(from)), Hi: packet.Num(int(to))})
	}
	return runs, true
}

// flags reads TCP flags: SYN,ACK, or ALL, or NONE.
func flags(text string) (bits int, ok bool) {
	for name := range strings.SplitSeq(text, ",") {
		switch i := slices.Index(packet.TCPFlagNames, strings.ToLower(name)); {
		case i >= 0:
			bits |= 1 << i
		case name == "ALL":
			bits |= 0x3f
		case name != "NONE":
			return 0, false
		}
	}
	return bits, true
}

// icmp reads a type: 8, 3/1, or any.
func (m *matching) icmp() bool {
	if m.words[0] == "any" || m.words[0] == "255" && m.family == packet.IPv4 {
		m.next()
		m.andShown(packet.All)
		return true
	}
	kind, code, hasCode := strings.Cut(m.words[0], "/")
	n, err := strconv.ParseUint(kind, 10, 8)
	k, errCode := strconv.ParseUint(code, 10, 8)
	if err != nil || hasCode && errCode != nil {
		return false
	}
	m.next()
	s := m.sp.Value(packet.ICMPType, int(n))
	if hasCode {
		s = m.sp.And(s, m.sp.Value(packet.ICMPCode, int(k)))
	}
	m.andShown(s)
	return true
}

// states reads connection states.
func (m *matching) states() bool {
	var values []int
	translated := packet.Empty
	for name := range strings.SplitSeq(m.words[0], ",") {
		if name == "DNAT" {
			translated = m.sp.Unknown(kernel.Translated)
			continue
		}
		i := slices.Index(packet.StateNames, strings.ToLower(name))
		if i < 0 {
			return false // SNAT
		}
		values = append(values, i)
	}
	m.next()
	s := m.sp.Values(packet.State, values...)
	if m.table == "raw" {
		s = kernel.Untracked(m.sp, s)
		if m.standIns { // which are new
			s = m.sp.Unknown("the state of connections before they are looked up")
		}
	}
	m.and(m.sp.Or(s, translated))
	return true
}

// owner reads whose program sends. The contrary holds for what no program sends, too.
func (m *matching) owner(field packet.Field, names map[int]string) bool {
	if first := m.words[0][:1]; first < "0" || first > "9" { // by name, as before it is loaded
		m.and(m.sp.Named(field, m.next()))
		return true
	}
	lo, hi, ok := ownerRun(m.words[0])
	if !ok || (lo != 0 || hi != 0) && names == nil {
		return false
	}
	m.next()
	var all []string
	for n := lo; n <= hi; n++ {
		name := names[n]
		if n == 0 {
			name = "root"
		} else if name == "" && (n == lo || n == hi) { // of those between, the host has said whom it has
			name = fmt.Sprintf("%s number %d", map[packet.Field]string{packet.User: "user", packet.Group: "group"}[field], n)
		}
		if name != "" {
			all = append(all, name)
		}
	}
	m.and(m.sp.Named(field, all...))
	return true
}

// hashlimit reads --hashlimit-upto 4/min --hashlimit-burst 4 --hashlimit-mode srcip
// and what else is said of a bucket. All rules that call it by one name share it.
func (m *matching) hashlimit(above bool) bool {
	every, ok := rateOf(m.words[0])
	if !ok || m.not {
		return false
	}
	b := packet.Bucket{Every: every, Burst: 5}
	mode, mask, expire := "", "", ""
	rest := m.words[1:]
	for ; len(rest) > 1 && strings.HasPrefix(rest[0], "--hashlimit-"); rest = rest[2:] {
		n, err := strconv.ParseInt(rest[1], 10, 64)
		switch option := strings.TrimPrefix(rest[0], "--hashlimit-"); option {
		case "burst":
			b.Burst, ok = n, ok && err == nil && n > 0
		case "mode":
			mode = rest[1]
		case "name":
			b.Name, _, _ = strings.Cut(rest[1], atRate)
		case "srcmask":
			mask = rest[1]
		case "htable-max":
			b.Sources, ok = int(n), ok && err == nil && n > 0
		case "htable-expire":
			expire = rest[1]
		case "htable-size", "htable-gcinterval":
		default:
			ok = false
		}
	}
	// What it forgets before its bucket is full again, it lets by anew.
	if n, err := strconv.ParseInt(expire, 10, 64); expire != "" && (err != nil || n*int64(time.Millisecond) < b.Every*b.Burst) {
		ok = false
	}
	switch perSource := []string{packet.IPv4: "", packet.IPv6: "64"}[m.family]; {
	case mode == "srcip" && mask == perSource:
		b.Sources = max(b.Sources, 1) // what the kernel takes where nobody says is its own matter
	case mode == "":
		b.Sources = 0
	default: // it counts something else, but it is a bucket
		b.Name, b.Sources = strings.TrimSpace(b.Name+" per "+mode+" "+mask), 0
	}
	if known, again := m.buckets[b.Name]; !ok || again && known != b {
		return false // the one that is there first counts for both
	}
	m.buckets[b.Name] = b
	m.words = rest
	m.not = above
	m.and(m.sp.HasToken(b))
	return true
}

// options takes all words up to what another module says.
func (m *matching) options() (words []string) {
	for len(m.words) > 0 && m.words[0] != "-m" && m.words[0] != "-j" && m.words[0] != "-g" && m.words[0] != "!" {
		words = append(words, m.next())
	}
	return words
}

// sometimes adds a match that holds for some packets, by what came before or by
// chance, as what says; or where it is exceeded.
func (m *matching) sometimes(what string, exceeded bool) {
	s := m.sp.HasToken(packet.Bucket{Name: m.chain.Place() + " " + m.at, What: what})
	if exceeded {
		s = m.sp.Not(s)
	}
	m.and(s)
}

// recent reads a list of those whose packets were seen: --set notes one, and always
// holds; the others hold for who is on it, and was seen so often.
func (m *matching) recent(option string) bool {
	words := m.options()
	if option == "--set" {
		if m.not {
			m.sets = append(m.sets, packet.Empty)
		}
		return true
	}
	said := map[string]string{}
	for i, w := range words {
		if i+1 < len(words) {
			said[w] = words[i+1]
		}
	}
	if said["--hitcount"] != "" {
		m.sometimes(fmt.Sprintf("less than %s in %ss per source", said["--hitcount"], cmp.Or(said["--seconds"], "all ")), true)
		return true
	}
	m.sometimes("not seen lately, as list "+said["--name"]+" has it", true)
	return true
}

// reversePath reads rpfilter, by itself or with --invert: whether a packet comes by
// the interface by which its source is reached (xt: ipt_rpfilter.c and ip6t_rpfilter.c).
func (m *matching) reversePath() {
	words := m.options()
	s, ok := m.host.Routes.WayBack(m.sp)
	invert := slices.Equal(words, []string{"--invert"})
	if !ok || len(words) > 0 && !invert {
		m.opaque = append([]string{"rpfilter"}, words...)
		return
	}
	sp := m.sp
	if m.family == packet.IPv4 { // DHCP's first packets have no source yet
		none := sp.And(sp.Addrs(packet.Src, kernel.ZeroNet), sp.Addrs(packet.Dst, kernel.Multicast))
		s = sp.Or(sp.Minus(s, none), sp.And(none, sp.Addrs(packet.Dst, kernel.LocalMulticast)))
	} else { // the kernel drops what comes from nowhere later
		s = sp.Or(s, sp.Ranges(packet.Src, []packet.Range{{Lo: packet.Addr(netip.IPv6Unspecified()),
			Hi: packet.Addr(netip.IPv6Unspecified())}}))
	}
	if invert {
		s = sp.Not(s)
	}
	m.sets = append(m.sets, s)
}

// rateOf reads 4/min, as the time from one packet to the next in nanoseconds.
func rateOf(text string) (every int64, ok bool) {
	count, unit, _ := strings.Cut(text, "/")
	n, err := strconv.ParseInt(count, 10, 64)
	per, known := units[unit]
	if err != nil || !known || n <= 0 {
		return 0, false
	}
	return int64(per) / n, true
}

// ipsec reads --dir in --pol ipsec, and none.
func (m *matching) ipsec() bool {
	if len(m.words) < 3 || m.words[1] != "--pol" || len(m.words) > 3 && strings.HasPrefix(m.words[3], "--") {
		return false
	}
	value, known := map[string]int{"ipsec": 1, "none": 0}[m.words[2]]
	ways := map[string]string{"prerouting": "in", "input": "in", "forward": "in", "output": "out", "postrouting": "out"}
	if way := ways[m.chain.Hook]; !known || m.not || way != "" && way != m.words[0] {
		return false
	}
	m.words = m.words[3:]
	m.sets = append(m.sets, m.sp.Value(packet.IPsec, value))
	return true
}

// time reads --datestart and --datestop: a second of UTC, which counts.
func (m *matching) time(option string) bool {
	t, err := time.Parse("2006-01-02T15:04:05", m.words[0])
	if err != nil || m.not || len(m.words) > 1 && strings.HasPrefix(m.words[1], "--") && m.words[1] != "--datestop" {
		return false
	}
	m.next()
	s := m.sp.Before(t.Unix() + 1)
	if option == "--datestart" {
		s = m.sp.Not(m.sp.Before(t.Unix()))
	}
	m.sets = append(m.sets, s)
	return true
}

// limit reads --limit 4/min --limit-burst 8. Each rule has a bucket of its own.
func (m *matching) limit() bool {
	every, ok := rateOf(m.words[0])
	if m.not || !ok {
		return false
	}
	m.next()
	burst := int64(5)
	if len(m.words) > 1 && m.words[0] == "--limit-burst" {
		var err error
		if burst, err = strconv.ParseInt(m.words[1], 10, 64); err != nil || burst <= 0 {
			return false
		}
		m.words = m.words[2:]
	}
	m.sets = append(m.sets, m.sp.HasToken(packet.Bucket{Name: m.chain.Place() + " " + m.at, Every: every, Burst: burst}))
	return true
}
