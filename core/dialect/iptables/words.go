package iptables

import (
	"fmt"
	"hash/fnv"
	"net/netip"
	"slices"
	"strings"
	"time"

	"go4.org/netipx"

	"yellowfence.example/yfence/core/dialect"
	"yellowfence.example/yfence/core/dialect/layout"
	"yellowfence.example/yfence/core/kernel"
	"yellowfence.example/yfence/core/packet"
	"yellowfence.example/yfence/core/policy"
)

// line writes a line, in the order in which the -save tools do.
func (w *writer) line(l layout.Line) string {
	var parts []string
	add := func(format string, args ...any) { parts = append(parts, fmt.Sprintf(format, args...)) }
	var behind []string // what costs more than a look at the ports
	for _, side := range []struct {
		addrs      *netipx.IPSet
		name       layout.SetName
		word, kind string
	}{{l.Src, l.SrcName, "-s", "src"}, {l.Dst, l.DstName, "-d", "dst"}} {
		if side.addrs == nil || side.kind == "dst" && l.OriginalDst {
			continue
		}
		if only := side.addrs.Ranges(); len(only) > 1 {
			behind = append(behind, fmt.Sprintf("-m set --match-set %s %s", w.set(side.addrs, side.name.Name), side.kind))
		} else if p, ok := only[0].Prefix(); ok && p.Bits() == 0 {
			continue // the family's own chains see it only
		} else if ok {
			add("%s %s", side.word, p)
		} else {
			behind = append(behind, fmt.Sprintf("-m iprange --%s-range %s", side.kind, only[0]))
		}
	}
	if l.Ifaces != nil {
		word, not := "-i", ""
		if l.Leaving {
			word = "-o"
		}
		if l.NotIfaces {
			not = "! "
		}
		name := l.Ifaces[0]
		if prefix, ok := strings.CutSuffix(name, "*"); ok {
			name = prefix + "+"
		}
		add("%s%s %s", not, word, name)
	}
	if l.Protocol != policy.AnyProtocol {
		add("-p %s", protocolWord(l.Protocol))
	}
	if l.Ports != nil {
		add("%s", portsWords(l.Protocol, l.Ports))
	}
	if l.Types != nil {
		code := ""
		if l.Code != policy.AnyType {
			code = fmt.Sprintf("/%d", l.Code)
		}
		add("-m %s %d%s", []string{packet.IPv4: "icmp --icmp-type", packet.IPv6: "icmp6 --icmpv6-type"}[w.family], l.Types[0], code)
	}
	parts = append(parts, behind...)
	comment := l.Comment()
	for _, from := range l.Senders {
		add(senderOptions[from.Kind]+" %s", quoted(from.Name))
		comment += FromWords + from.String()
	}
	if l.IPsec {
		add("-m policy --dir %s --pol ipsec", map[bool]string{true: "out", false: "in"}[l.Leaving])
	}
	if l.Since != 0 || l.Until != 0 {
		const second = "2006-01-02T15:04:05"
		add("-m time")
		if l.Since != 0 {
			add("--datestart %s", time.Unix(l.Since, 0).UTC().Format(second))
		}
		if l.Until != 0 { // the last second that counts
			add("--datestop %s", time.Unix(l.Until-1, 0).UTC().Format(second))
		}
	}
	if l.States != nil {
		names := make([]string, len(l.States))
		for i, s := range l.States {
			names[i] = strings.ToUpper(packet.StateNames[s])
		}
		add("-m conntrack --ctstate %s", strings.Join(names, ","))
	}
	if came := l.Translated || l.OriginalPort != 0 || l.OriginalDst; came {
		words := "-m conntrack"
		if l.Translated {
			words += " --ctstate DNAT"
		}
		if l.OriginalDst {
			words += " --ctorigdst " + l.Dst.Prefixes()[0].String()
		}
		if l.OriginalPort != 0 {
			words += fmt.Sprintf(" --ctorigdstport %d", l.OriginalPort)
		}
		add("%s", words)
	}
	if l.Bucket != nil {
		add("%s", w.bucket(l.Bucket))
	}
	add("-m comment --comment %s", quoted(comment))
	switch l.Action {
	case kernel.Accept:
		add("-j ACCEPT")
	case kernel.Drop:
		add("-j DROP")
	case kernel.Return:
		add("-j RETURN")
	case kernel.Redirect:
		add("-j REDIRECT --to-ports %d", l.Port)
	case kernel.DestinationNAT:
		add("-j DNAT --to-destination %s", netip.AddrPortFrom(l.To, uint16(l.Port)))
	case kernel.SourceNAT:
		add("-j MASQUERADE")
	case kernel.Jump, kernel.Goto:
		add("-%s %s", map[kernel.Action]string{kernel.Jump: "j", kernel.Goto: "g"}[l.Action], w.names[l.Target])
	case kernel.Reject:
		with := "tcp-reset"
		if l.Reply != packet.TCPReset {
			with = []string{packet.IPv4: "icmp-port-unreachable", packet.IPv6: "icmp6-port-unreachable"}[w.family]
		}
		add("-j REJECT --reject-with %s", with)
	}
	if l.Log != "" {
		add("-j LOG --log-prefix %s", quoted(logPrefix(l.Log)))
	}
	if l.Noted != "" {
		add("-m limit --limit %d/sec --limit-burst %d -j NFLOG --nflog-prefix %s --nflog-group %d --nflog-size %d", dialect.NoteRate,
			dialect.NoteRate, quoted(short(dialect.NoteOf+l.Noted, dialect.LongestNote)), dialect.NoteGroup, dialect.NoteBytes)
	}
	return strings.Join(parts, " ")
}

// logPrefix is what a log line begins with, as far as the tools take it: what is
// too long goes without the kind of statement, and then without the end of its name.
func logPrefix(full string) string {
	if len(full) <= longestLog {
		return full
	}
	words := strings.SplitN(strings.TrimSuffix(full, ": "), " ", 3) // yf allow NAME
	return short("yf "+words[2], longestLog-2) + ": "
}

// FromWords stand in a comment before who sends: the kernel knows it by a number.
const FromWords = "; from "

// senderOptions ask who sends.
var senderOptions = map[packet.SenderKind]string{packet.ByUser: "-m owner --uid-owner", packet.ByUnit: "-m cgroup --path"}

// quoted is a word as iptables-restore takes it.
func quoted(text string) string {
	if strings.ContainsAny(text, " \t\"\\'") {
		return fmt.Sprintf("%q", text)
	}
	return text
}

// protocolWord is a protocol as iptables-restore takes it on every machine.
func protocolWord(n int) string {
	if n == packet.ICMPv6 {
		return "ipv6-icmp"
	}
	if name := packet.ProtocolName(n); slices.Contains([]int{packet.TCP, packet.UDP, packet.SCTP, packet.ICMP}, n) {
		return name
	}
	return fmt.Sprint(n) // what others are called is each host's own file's matter
}

// portsWords is a match on ports.
func portsWords(protocol int, ports []packet.PortRange) string {
	words := make([]string, len(ports))
	for i, p := range ports {
		words[i] = fmt.Sprint(p.Lo)
		if p.Hi != p.Lo {
			words[i] = fmt.Sprintf("%d:%d", p.Lo, p.Hi)
		}
	}
	if len(words) == 1 {
		return fmt.Sprintf("-m %s --dport %s", packet.ProtocolName(protocol), words[0])
	}
	return "-m multiport --dports " + strings.Join(words, ",")
}

// bucket writes a bucket: one of a name is one for all lines that ask for it. The
// kernel keeps what it once counted under a name, so that one of another rate has another.
func (w *writer) bucket(b *layout.Bucket) string {
	n, unit, _ := b.Rate.Kernel()
	words := fmt.Sprintf("-m hashlimit --hashlimit-upto %d/%s --hashlimit-burst %d", n, shortUnits[unit], b.Rate.N)
	if b.PerSource {
		words += " --hashlimit-mode srcip"
		if w.family == packet.IPv6 {
			words += " --hashlimit-srcmask 64"
		}
	}
	words += fmt.Sprintf(" --hashlimit-name %s%s%d-%d%s", b.Name, atRate, b.Rate.N, n, shortUnits[unit])
	if b.PerSource {
		words += fmt.Sprintf(" --hashlimit-htable-max %d", b.Sources)
	}
	// What has been silent for as long as its bucket takes to fill may be forgotten.
	if full := b.Rate.Seconds; full != int(units[unit]/time.Second) {
		words += fmt.Sprintf(" --hashlimit-htable-expire %d", full*1000)
	}
	return words
}

// atRate stands in the name of a bucket before its rate.
const atRate = "@"

// set declares a set and gives its name. It is called after what it holds too: one
// of other content is another set, so that both are there while rules are changed.
func (w *writer) set(s *netipx.IPSet, name string) string {
	var elements []string
	for _, p := range s.Prefixes() {
		elements = append(elements, p.String())
	}
	h := fnv.New32a()
	for _, e := range elements {
		h.Write([]byte(e + "\n"))
	}
	start := fmt.Sprintf("yf%d.", []int{packet.IPv4: 4, packet.IPv6: 6}[w.family])
	full := fmt.Sprintf("%s%s.%08x", start, short(name, longestSet-len(start)-9), h.Sum32())
	if !w.known[full] {
		w.known[full] = true
		var b strings.Builder
		fmt.Fprintf(&b, "create %s hash:net family %s maxelem %d\n", full, []string{packet.IPv4: "inet", packet.IPv6: "inet6"}[w.family],
			max(smallestMaxim, len(elements)))
		for _, e := range elements {
			fmt.Fprintf(&b, "add %s %s\n", full, e)
		}
		w.sets = append(w.sets, b.String())
	}
	return full
}
