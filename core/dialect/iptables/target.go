package iptables

import (
	"net/netip"
	"strconv"
	"strings"

	"yellowfence.example/yfence/core/kernel"
	"yellowfence.example/yfence/core/packet"
)

// target reads what a rule does, behind -j.
func (r *reader) target(c *kernel.Chain, out *kernel.Rule, m *matching) {
	out.Comment = m.comment
	name := m.next()
	all := func(a kernel.Action) []kernel.Branch { return plain[a] }
	marking := func(to packet.Marking) {
		writes := packet.All
		if to.To == packet.OfConnection || to.From == packet.OfConnection {
			writes = m.connected()
		}
		out.Branches = []kernel.Branch{{Match: writes, Marks: []packet.Marking{to}, Action: kernel.Pass}}
	}
	unknown := func(to packet.Mark) {
		marking(packet.Marking{To: to, Unknown: strings.Join(append([]string{name}, m.words...), " ") + " (" + out.At + ")"})
	}
	var options map[string]string
	for i, word := range m.words {
		if strings.HasPrefix(word, "--") {
			if options == nil {
				options = map[string]string{}
			}
			options[word] = ""
			if i+1 < len(m.words) && !strings.HasPrefix(m.words[i+1], "--") {
				options[word] = m.words[i+1]
			}
		}
	}
	switch name {
	case "ACCEPT":
		out.Branches = all(kernel.Accept)
	case "DROP":
		out.Branches = all(kernel.Drop)
	case "RETURN":
		out.Branches = all(kernel.Return)
	case "REJECT":
		with, known := answers[options["--reject-with"]]
		if !known {
			with = packet.Reply(options["--reject-with"])
		}
		answered := m.answered()
		out.Branches = []kernel.Branch{{Match: answered, Action: kernel.Reject, Reply: with}}
		if answered != packet.All {
			out.Branches = append(out.Branches, kernel.Branch{Match: packet.All, Action: kernel.Drop})
		}
	case "MASQUERADE", "SNAT":
		out.Branches = all(kernel.SourceNAT)
	case "REDIRECT":
		ports, said := options["--to-ports"]
		port, err := strconv.Atoi(ports)
		if said && err != nil {
			out.Branches = []kernel.Branch{{Match: packet.All, Action: kernel.Unmodelled,
				Why: strings.Join(append([]string{name}, m.words...), " ")}}
			return
		}
		out.Branches = []kernel.Branch{{Match: packet.All, Action: kernel.Redirect, Port: port}}
	case "DNAT":
		to, port, ok := target(options["--to-destination"])
		if from, last, _ := strings.Cut(options["--to-destination"], "-"); last != "" {
			if out.Branches, ok = r.spread(from, last); ok {
				return
			}
		}
		if !ok {
			out.Branches = []kernel.Branch{{Match: packet.All, Action: kernel.Unmodelled,
				Why: strings.Join(append([]string{name}, m.words...), " ")}}
			return
		}
		out.Branches = []kernel.Branch{{Match: packet.All, Action: kernel.DestinationNAT, To: to, Port: port}}
	case "CT", "NOTRACK":
		// By zones the tracker tells connections apart: a packet's state is what it is in its own.
		if _, untracks := options["--notrack"]; untracks || name == "NOTRACK" {
			out.Branches = []kernel.Branch{{Match: packet.All, Action: kernel.Pass, Untracks: true}}
		}
	case "LOG", "NFLOG", "ULOG":
		out.Log = true
	case "AUDIT", "TRACE", "CHECKSUM", "CLASSIFY", "CONNSECMARK", "SECMARK", "HMARK", "LED", "RATEEST", "TEE", "TCPMSS", "TCPOPTSTRIP",
		"TTL", "HL", "DSCP", "TOS", "ECN", "SET", "IDLETIMER":
		// goes on with the next rule, and changes nothing that we ask for
		if name == "HMARK" {
			unknown(packet.OfPacket)
		}
	case "MARK":
		value, mask, ok := valueAndMask(options["--set-xmark"])
		if !ok {
			unknown(packet.OfPacket)
			return
		}
		marking(packet.Marking{To: packet.OfPacket, From: packet.OfPacket, And: ^mask, Xor: value})
	case "CONNMARK":
		value, mask, ok := valueAndMask(options["--set-xmark"])
		_, restores := options["--restore-mark"]
		_, saves := options["--save-mark"]
		_, ours, okOurs := valueAndMask("0/" + options["--nfmask"])
		_, theirs, okTheirs := valueAndMask("0/" + options["--ctmask"])
		masked := okOurs && okTheirs
		switch {
		case ok:
			marking(packet.Marking{To: packet.OfConnection, From: packet.OfConnection, And: ^mask, Xor: value})
		// What is copied is turned into what stands there outside the mask (connmark_tg in the
		// kernel's xt_connmark.c), so the copied bits must be among those that are cleared.
		case restores && masked && theirs&^ours == 0:
			marking(packet.Marking{To: packet.OfPacket, From: packet.OfConnection, And: theirs, Keep: ^ours})
		case saves && masked && ours&^theirs == 0:
			marking(packet.Marking{To: packet.OfConnection, From: packet.OfPacket, And: ours, Keep: ^theirs})
		case restores:
			unknown(packet.OfPacket)
		default:
			unknown(packet.OfConnection)
		}
	default:
		if r.chains[name] != nil {
			out.Branches = []kernel.Branch{{Match: packet.All, Action: kernel.Jump, Target: name}}
			return
		}
		out.Branches = []kernel.Branch{{Match: packet.All, Action: kernel.Unmodelled,
			Why: strings.Join(append([]string{name}, m.words...), " ")}}
	}
}

// plain are what most rules do with all of their packets. Nobody changes them.
var plain = map[kernel.Action][]kernel.Branch{
	kernel.Accept: {{Match: packet.All, Action: kernel.Accept}}, kernel.Drop: {{Match: packet.All, Action: kernel.Drop}},
	kernel.Return: {{Match: packet.All, Action: kernel.Return}}, kernel.SourceNAT: {{Match: packet.All, Action: kernel.SourceNAT}},
}

// spread is what DNAT does with a range of addresses: one of a few, nobody knows which.
func (r *reader) spread(first, last string) ([]kernel.Branch, bool) {
	last, text, said := strings.Cut(last, ":")
	port, errPort := strconv.Atoi(text)
	from, errFrom := netip.ParseAddr(first)
	to, errTo := netip.ParseAddr(last)
	if errFrom != nil || errTo != nil || said && errPort != nil || !from.Is4() || !to.Is4() {
		return nil, false
	}
	return kernel.Spread(r.sp, "DNAT --to-destination "+first+"-"+last, from, to, port)
}

// target reads where --to-destination sends: 10.0.0.2, 10.0.0.2:80, [2001:db8::2]:80, or to another port alone.
func target(text string) (to netip.Addr, port int, ok bool) {
	if alone, is := strings.CutPrefix(text, ":"); is {
		port, err := strconv.Atoi(alone)
		return to, port, err == nil && port > 0 && port < 1<<16
	}
	if ap, err := netip.ParseAddrPort(text); err == nil {
		return ap.Addr(), int(ap.Port()), true
	}
	to, err := netip.ParseAddr(strings.Trim(text, "[]"))
	return to, 0, err == nil
}

// answers are the kinds of refusals by the one name that both families use.
var answers = map[string]packet.Reply{
	"": packet.PortUnreachable, "tcp-reset": packet.TCPReset,
	"icmp-net-unreachable": "no-route", "icmp-host-unreachable": "host-unreachable", "icmp-port-unreachable": packet.PortUnreachable,
	"icmp-proto-unreachable": "prot-unreachable",
	"icmp-net-prohibited":    "net-prohibited", "icmp-host-prohibited": "host-prohibited", "icmp-admin-prohibited": "admin-prohibited",
	"icmp6-no-route": "no-route", "icmp6-adm-prohibited": "admin-prohibited", "icmp6-addr-unreachable": "host-unreachable",
	"icmp6-port-unreachable": packet.PortUnreachable,
	"icmp6-policy-fail":      "policy-fail", "icmp6-reject-route": "reject-route",
}
