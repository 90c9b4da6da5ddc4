package iptables

import (
	"slices"
	"strings"

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

// next takes the next word of a rule; "" at its end.
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

// and narrows a rule by what a match asks, or by the contrary where a `!` stands before it.
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
	case m.family == packet.IPv6 && slices.Contains([]string{"rt", "hbh", "dst"}, kind), kind == "ipv6header" &&
		!slices.Contains(m.opaque, "!"):
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
var implied = map[string]string{"tcp": "tcp", "udp": "udp", "sctp": "sctp", "dccp": "dccp", "icmp": "icmp", "ipv6-icmp": "icmp6",
	"icmpv6": "icmp6"}

// readModules are the modules whose options are read.
var readModules = []string{"tcp", "udp", "udplite", "sctp", "dccp", "multiport", "icmp", "icmp6", "icmpv6", "conntrack", "state", "mark",
	"connmark", "owner", "iprange", "limit", "set", "hashlimit", "policy", "time", "cgroup", "addrtype", "recent", "connlimit",
	"statistic", "quota", "rpfilter", "pkttype"}

// read reads an option of a module; false where it is not read.
func (m *matching) read(option string) bool {
	sp := m.sp
	// Nearly every option takes a word; what has none is not of the form that is read.
	if len(m.words) == 0 && option != "--syn" && m.module != "recent" {
		return false
	}
	// An option belongs to its module: the same word means other things in others.
	switch m.module + " " + option {
	case "comment --comment":
		if m.comment = m.next(); strings.HasPrefix(m.chain.Name, Prefix) {
			m.comment, _, _ = strings.Cut(m.comment, FromWords)
		}
	case "tcp --sport", "udp --sport", "udplite --sport", "sctp --sport", "dccp --sport", "tcp --source-port", "udp --source-port":
		return m.port(packet.SrcPort)
	case "tcp --dport", "udp --dport", "udplite --dport", "sctp --dport", "dccp --dport", "tcp --destination-port",
		"udp --destination-port":
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
