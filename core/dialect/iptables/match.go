package iptables

import (
	"bytes"
	"cmp"
	"fmt"
	"math/bits"
	"net/netip"
	"slices"
	"strconv"
	"strings"
	"time"

	"yellowfence.example/yfence/core/kernel"
	"yellowfence.example/yfence/core/packet"
)

// matching reads the matches of one rule.
type matching struct {
	*reader
	chain   *kernel.Chain
	words   []string
	at      string
	not     bool
	module  string // the last that -m named
	comment string

	sets   []packet.Set
	opaque []string // what was said by a module that is not read
}

func (m *matching) next() string {
	if len(m.words) == 0 {
		return ""
	}
	word := m.words[0]
	m.words = m.words[1:]
	return word
}

// all is the packets that every match holds for. Its chain sees those of its
// family only, so that no rule has to say it.
func (m *matching) all() packet.Set {
	m.seal()
	return m.sp.AndAll(m.sets...)
}

func (m *matching) and(s packet.Set) {
	if m.not {
		s = m.sp.Not(s)
	}
	m.sets = append(m.sets, s)
}

// seal makes an unknown of what a module that is not read said.
func (m *matching) seal() {
	if m.opaque == nil {
		return
	}
	said := "-m " + strings.Join(m.opaque, " ")
	switch kind := m.opaque[0]; {
	case m.family == packet.IPv6 && slices.Contains([]string{"rt", "hbh", "dst"}, kind), kind == "ipv6header" && !slices.Contains(m.opaque, "!"):
		m.sets = append(m.sets, m.rarely(said, "it has no header that "+said+" asks for")) // which few packets have
	case kind == "frag":
		m.sets = append(m.sets, m.sp.Minus(m.sp.Unknown(said), m.sp.Value(packet.Fragment, packet.Whole)))
	default:
		m.sets = append(m.sets, m.sp.Unknown(said))
	}
	m.opaque = nil
}

// rarely is an unknown that usually is not so: see dialect.AsUsual.
func (r *reader) rarely(name, that string) packet.Set {
	r.seldom[name], r.rare = that, true
	return r.sp.Unknown(name)
}

// begun adds what is asked of a packet's connection: of one that begins it is what is told of
// the packet, of others nobody knows which of the two ends began.
func (m *matching) begun(said string, s packet.Set) {
	m.and(s)
	last := &m.sets[len(m.sets)-1]
	begins := m.sp.Value(packet.State, packet.New)
	*last = m.sp.And(m.connected(), m.sp.Or(m.sp.And(begins, *last), m.sp.Minus(m.sp.Unknown(said), begins)))
}

// unread keeps an option that is not read, with its arguments.
func (m *matching) unread(option string) {
	if m.opaque == nil {
		m.opaque = []string{m.module}
	}
	if m.not {
		m.opaque = append(m.opaque, "!")
	}
	m.opaque = append(m.opaque, option)
	for len(m.words) > 0 && !strings.HasPrefix(m.words[0], "-") && m.words[0] != "!" {
		m.opaque = append(m.opaque, m.next())
	}
}

// shown is the packets that show ports to the rule: the kernel lets no match on
// them hold for later fragments.
func (m *matching) shown() packet.Set {
	if m.out.Tracks[m.family] {
		return packet.All
	}
	if m.backed { // some matches are nft's own then
		return m.sp.Or(m.answered(), m.sp.Unknown(kernel.LaterPorts))
	}
	return m.answered()
}

// answered is the packets to which the kernel gives an answer where they are rejected.
func (m *matching) answered() packet.Set {
	if m.out.Tracks[m.family] {
		return packet.All
	}
	m.out.Fragments = true
	return m.sp.Not(m.sp.Value(packet.Fragment, packet.Later))
}

// connected is the packets that have a connection where the rule sees them.
func (m *matching) connected() packet.Set {
	if m.table == "raw" && m.standIns {
		return m.sp.Unknown("the state of connections before they are looked up")
	}
	if m.table == "raw" {
		return packet.Empty
	}
	return m.sp.Values(packet.State, packet.New, packet.Established, packet.Related)
}

// option reads one option and its arguments.
func (m *matching) option(option string) {
	sp := m.sp
	switch option {
	case "-m", "--match":
		m.seal()
		switch m.module = m.next(); {
		case m.module == "rpfilter": // which says something without an option
			m.reversePath()
		case m.module != "comment" && !slices.Contains(readModules, m.module):
			m.opaque = []string{m.module}
		}
		return
	case "-s", "--source", "-d", "--destination":
		field := packet.Dst
		if option == "-s" || option == "--source" {
			field = packet.Src
		}
		run, ok := addresses(m.next())
		if !ok {
			m.sets = append(m.sets, sp.Unknown(option+" in a form that is not read ("+m.at+")"))
			return
		}
		m.and(sp.Ranges(field, []packet.Range{run}))
		return
	case "-i", "--in-interface", "-o", "--out-interface":
		field := packet.OutIface
		if option == "-i" || option == "--in-interface" {
			field = packet.InIface
		}
		name := m.next()
		if prefix, ok := strings.CutSuffix(name, "+"); ok {
			name = prefix + "*"
		}
		m.and(sp.Interfaces(field, name))
		return
	case "-p", "--protocol":
		name := m.next()
		n, ok := packet.ProtocolNumber(strings.TrimSuffix(name, "-icmp"))
		if name == "ipv6-icmp" || name == "icmpv6" {
			n, ok = packet.ICMPv6, true
		}
		if name == "all" || name == "0" {
			return
		}
		if m.module == "" {
			m.module = implied[name] // as people write it; the -save tools name it
		}
		if !ok {
			m.sets = append(m.sets, sp.Unknown("-p "+name))
			return
		}
		m.and(sp.Value(packet.Protocol, n))
		return
	case "-f", "--fragment":
		m.out.Fragments = true
		m.and(sp.Value(packet.Fragment, packet.Later))
		return
	}
	if m.opaque != nil || !m.read(option) {
		m.unread(option)
	}
}

// implied are the modules whose options a protocol brings with it.
var implied = map[string]string{"tcp": "tcp", "udp": "udp", "sctp": "sctp", "dccp": "dccp", "icmp": "icmp", "ipv6-icmp": "icmp6", "icmpv6": "icmp6"}

// readModules are the modules whose options are read.
var readModules = []string{"tcp", "udp", "udplite", "sctp", "dccp", "multiport", "icmp", "icmp6", "icmpv6", "conntrack", "state", "mark", "connmark", "owner", "iprange", "limit", "set", "hashlimit", "policy", "time", "cgroup", "addrtype", "recent", "connlimit", "statistic", "quota", "rpfilter", "pkttype"}

// read reads an option of a module; false where it is not read.
func (m *matching) read(option string) bool {
	sp := m.sp
	if len(m.words) == 0 && option != "--syn" && m.module != "recent" {
		return false
	}
	switch m.module + " " + option {
	case "comment --comment":
		if m.comment = m.next(); strings.HasPrefix(m.chain.Name, Prefix) {
			m.comment, _, _ = strings.Cut(m.comment, fromWords)
		}
	case "tcp --sport", "udp --sport", "udplite --sport", "sctp --sport", "dccp --sport", "tcp --source-port", "udp --source-port":
		return m.port(packet.SrcPort)
	case "tcp --dport", "udp --dport", "udplite --dport", "sctp --dport", "dccp --dport", "tcp --destination-port", "udp --destination-port":
		return m.port(packet.DstPort)
	case "multiport --sports", "multiport --source-ports":
		return m.port(packet.SrcPort)
	case "multiport --dports", "multiport --destination-ports":
		return m.port(packet.DstPort)
	case "multiport --ports":
		runs, ok := portRuns(m.words[0])
		if !ok {
			return false
		}
		m.next()
		m.andShown(sp.Or(sp.Ranges(packet.SrcPort, runs), sp.Ranges(packet.DstPort, runs)))
	case "tcp --tcp-flags":
		if len(m.words) < 2 {
			return false
		}
		mask, okMask := flags(m.words[0])
		value, okValue := flags(m.words[1])
		if !okMask || !okValue {
			return false
		}
		m.words = m.words[2:]
		m.andShown(sp.TCPFlagsMatch(value, mask))
	case "tcp --syn":
		m.andShown(sp.TCPFlagsMatch(packet.SYN, packet.FIN|packet.SYN|packet.RST|packet.ACK))
	case "icmp --icmp-type", "icmp6 --icmpv6-type", "icmpv6 --icmpv6-type":
		return m.icmp()
	case "conntrack --ctstate", "state --state":
		return m.states()
	case "conntrack --ctorigdst":
		run, ok := addresses(m.words[0])
		if !ok {
			return false
		}
		m.next()
		m.and(m.out.OriginalDst(sp, packet.Dst, []packet.Range{run}))
		m.sets = append(m.sets, m.connected())
	case "conntrack --ctorigdstport":
		runs, ok := portRuns(m.words[0])
		if !ok {
			return false
		}
		m.next()
		m.and(m.out.OriginalDst(sp, packet.DstPort, runs))
		m.sets = append(m.sets, m.connected())
	case "conntrack --ctorigsrc":
		run, ok := addresses(m.words[0])
		if !ok {
			return false
		}
		m.begun("-m conntrack --ctorigsrc "+m.next(), sp.Ranges(packet.Src, []packet.Range{run}))
	case "conntrack --ctproto":
		n, ok := packet.ProtocolNumber(m.words[0])
		if !ok {
			return false
		}
		m.begun("-m conntrack --ctproto "+m.next(), sp.Value(packet.Protocol, n))
	case "conntrack --ctdir":
		way, known := map[string]packet.Set{"ORIGINAL": packet.All, "REPLY": packet.Empty}[m.words[0]]
		if !known {
			return false
		}
		m.begun("-m conntrack --ctdir "+m.next(), way)
	case "pkttype --pkt-type":
		kind := m.next()
		m.and(kernel.FramesTo(sp, m.host.Routes, []string{kind}, sp.Unknown("-m pkttype --pkt-type "+kind), m.rarely))
	case "mark --mark", "connmark --mark":
		value, mask, ok := valueAndMask(m.words[0])
		if !ok {
			return false
		}
		m.next()
		which := map[string]packet.Mark{"mark": packet.OfPacket, "connmark": packet.OfConnection}[m.module]
		m.and(sp.Marked(which, value, mask))
		if which == packet.OfConnection { // without one nothing holds, the contrary neither
			m.sets = append(m.sets, m.connected())
		}
	case "owner --uid-owner":
		return m.owner(packet.User, m.host.Users)
	case "owner --gid-owner":
		return m.owner(packet.Group, m.host.Groups)
	case "iprange --src-range":
		return m.addressRange(packet.Src)
	case "iprange --dst-range":
		return m.addressRange(packet.Dst)
	case "set --match-set":
		return m.set()
	case "limit --limit":
		return m.limit()
	case "hashlimit --hashlimit-upto", "hashlimit --hashlimit-above":
		return m.hashlimit(option == "--hashlimit-above")
	case "addrtype --src-type":
		return m.addressType(packet.Src)
	case "addrtype --dst-type":
		return m.addressType(packet.Dst)
	case "recent --set", "recent --update", "recent --rcheck", "recent --remove":
		return m.recent(option)
	case "connlimit --connlimit-above", "connlimit --connlimit-upto":
		words := m.options()
		at := strings.Join(words, " ")
		m.sometimes(at+" connections at once", option == "--connlimit-above")
	case "statistic --mode":
		m.options()
		m.sometimes("by chance or turn", false)
	case "quota --quota":
		m.sometimes("a quota of "+m.next()+" bytes", false)
	case "policy --dir":
		return m.ipsec()
	case "time --datestart", "time --datestop":
		return m.time(option)
	case "cgroup --path":
		m.and(sp.Named(packet.Unit, kernel.UnitOf(m.next())))
	default:
		return false
	}
	return true
}

// andShown adds what is asked of a header: its contrary, too, holds only for packets that show it.
func (m *matching) andShown(s packet.Set) {
	m.and(s)
	m.sets = append(m.sets, m.shown())
}

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
			s = m.sp.Or(s, m.rarely("whether it has been put into set "+name+" since that was listed", "nothing was put into set "+name+" since it was listed"))
		}
		m.words = m.words[2:]
		m.and(s)
	}
	return ok
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
		s = sp.Or(s, sp.Ranges(packet.Src, []packet.Range{{Lo: packet.Addr(netip.IPv6Unspecified()), Hi: packet.Addr(netip.IPv6Unspecified())}}))
	}
	if invert {
		s = sp.Not(s)
	}
	m.sets = append(m.sets, s)
}

// addressType reads --dst-type LOCAL, or several with commas: of IPv4 one of them must
// hold, of IPv6 all must (addrtype_mt6 in the kernel's xt_addrtype.c).
func (m *matching) addressType(field packet.Field) bool {
	byIface := slices.Contains(m.words, "--limit-iface-in")
	if slices.Contains(m.words, "--limit-iface-out") || byIface && (m.family == packet.IPv6 || !slices.Contains([]string{"prerouting", "input", "forward"}, m.chain.Hook)) {
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
