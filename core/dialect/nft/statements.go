package nft

import (
	"cmp"
	"net/netip"
	"slices"
	"strconv"

	"yellowfence.example/yfence/core/kernel"
	"yellowfence.example/yfence/core/packet"
)

// statements reads a rule's expressions and adds it to out. It is more than one
// rule where a log stands before further matches: the line is written for all it matched.
func (r *reader) statements(c *kernel.Chain, exprs []expr, at string, out []kernel.Rule) []kernel.Rule {
	r.at = at
	if slices.ContainsFunc(exprs, func(e expr) bool { return e.kind == kindLog && e.part == noted }) {
		return append(out, kernel.Rule{Match: packet.Empty}) // whatever it asks, it does nothing
	}
	cur := kernel.Rule{Match: packet.All}
	before := packet.All // cur.Match without the latest match
	flush := func() {
		out = append(out, cur)
		cur = kernel.Rule{Match: cur.Match}
	}
	for i := range exprs {
		e := &exprs[i]
		kind := e.kind
		if k, ok := verdictWords[e.text]; ok && kind == kindWord { // some verdicts may stand as bare words
			kind = k
		}
		if cur.Log && (kind == kindMatch || kind == kindLimit || kind == kindLimitNamed || kind == kindSetWrite || kind == kindVmap) {
			flush()
		}
		switch kind {
		case kindMatch:
			after := r.sp.And(cur.Match, r.compare(c, e.arg(0), e.text, e.arg(1)))
			if i > 0 && runTogether(&exprs[i-1], e) {
				after = r.sp.Or(after, r.sp.And(before, r.loaded(c, &exprs[i-1], e)))
			}
			before, cur.Match = cur.Match, after
		case kindAccept:
			cur.Branches = accepting
		case kindDrop:
			cur.Branches = dropping
		case kindReturn:
			cur.Branches = returning
		case kindCounter, kindPassing:
		case kindLog:
			cur.Log = e.part != "audit"
		case kindJump:
			cur.Branches = []kernel.Branch{{Match: packet.All, Action: kernel.Jump, Target: e.text}}
		case kindGoto:
			cur.Branches = []kernel.Branch{{Match: packet.All, Action: kernel.Goto, Target: e.text}}
		case kindReject:
			match, with := r.reject(e)
			cur.Match = r.sp.And(cur.Match, match)
			cur.Branches = []kernel.Branch{{Match: packet.All, Action: kernel.Reject, Reply: with}}
			if answered := r.answered(c); answered != packet.All {
				cur.Branches = []kernel.Branch{{Match: answered, Action: kernel.Reject, Reply: with},
					{Match: packet.All, Action: kernel.Drop}}
			}
		case kindRedirect:
			cur.Branches = r.redirects(c, e)
		case kindSourceNAT:
			cur.Branches = []kernel.Branch{{Match: packet.All, Action: kernel.SourceNAT}}
		case kindTargetNAT:
			cur.Branches = r.targets(c, e)
		case kindUntrack:
			switch {
			case runsEarly(c) && c.Priority < trackingPriority:
				cur.Branches = []kernel.Branch{{Match: packet.All, Action: kernel.Pass, Untracks: true}}
				flush()
			case c.Hook == "" || runsEarly(c):
				cur.Branches = unmodelled(e)
				flush()
			}
		case kindFlow: // from then on what else stands here is spared to the connection's packets, when the kernel gets to it
			offloaded := r.sp.And(r.sp.Value(packet.State, packet.Established),
				r.sp.Not(r.happens(e, "not handed over by "+e.String()+" yet")))
			cur.Branches = []kernel.Branch{{Match: offloaded, Action: kernel.Bypass}}
			flush()
		case kindVmap:
			cur.Branches = r.vmap(c, e, at)
		case kindMangle:
			if rules, ok := r.markings(c, cur, e, exprs[i+1:], at, out); ok {
				return rules
			}
			switch m, ok := r.marking(e, at); {
			case ok:
				return r.marks(c, cur, m, exprs[i+1:], at, out)
			case !harmless(e.arg(0)):
				cur.Branches = unmodelled(e)
				flush()
			case e.arg(0).kind == kindPayload: // what does not have the header goes no further in the rule
				cur.Match = r.sp.And(cur.Match, r.scope(c, aField{header: e.arg(0).text}))
			case e.arg(0).kind == kindExthdr && i < len(exprs)-1: // nor what does not have the option
				cur.Match = r.sp.AndAll(cur.Match, r.scope(c, aField{header: "tcp"}), r.sp.Unknown(e.arg(0).String()))
			}
		case kindLimit, kindLimitNamed, kindSetWrite, kindCounted:
			cur.Match = r.sp.And(cur.Match, r.slowed(c, e, at))
		default:
			// It may decide the packet's fate, or be a match, or both.
			cur.Branches = unmodelled(e)
			flush()
			cur.Match = r.sp.And(cur.Match, r.sp.Unknown(e.String()+" ("+at+")"))
		}
	}
	return append(out, cur)
}

// runTogether says that nft (1.0.6 at least) loads two matches as one: it joins
// neighbouring fields of a header into one comparison, with != too, and then
// `tcp sport != 22 tcp dport != 80` refuses only packets with both ports. It
// lists them as they were written, so which of the two a kernel holds is
// not to be seen.
func runTogether(a, b *expr) bool {
	if a.kind != kindMatch || b.kind != kindMatch || a.text != "!=" || b.text != "!=" {
		return false
	}
	_, plainA := a.arg(1).int()
	_, plainB := b.arg(1).int()
	f, okF := fieldOf(a.arg(0))
	g, okG := fieldOf(b.arg(0))
	neighbours := f.field == packet.SrcPort && g.field == packet.DstPort || f.field == packet.ICMPType && g.field == packet.ICMPCode
	return okF && okG && f.header == g.header && neighbours && plainA && (plainB || f.names != nil)
}

// loaded is the packets that two matches run together let by, if they were.
func (r *reader) loaded(c *kernel.Chain, a, b *expr) packet.Set {
	equal := func(e *expr) packet.Set { return r.compare(c, e.arg(0), "==", e.arg(1)) }
	f, _ := fieldOf(a.arg(0))
	why := r.sp.Unknown(a.String() + " " + b.String() + ", which nft may have loaded as one comparison")
	return r.sp.AndAll(r.scope(c, f), why, r.sp.Not(r.sp.And(equal(a), equal(b))))
}

// unmodelled is what a statement does that we do not know: anything, by the name that it is
// listed with.
func unmodelled(e *expr) []kernel.Branch {
	return []kernel.Branch{{Match: packet.All, Action: kernel.Unmodelled, Why: e.String()}}
}

// harmless says that a mangle statement sets what no match that we model asks for.
func harmless(target *expr) bool {
	switch target.kind {
	case kindMeta:
		return slices.Contains([]string{"priority", "nftrace"}, target.text)
	case kindCT:
		// By zones the tracker tells connections apart: a packet's state is what it is in its own.
		return slices.Contains([]string{"label", "event", "helper", "timeout", "zone"}, target.text)
	case kindPayload:
		return slices.Contains([]string{"ip dscp", "ip ecn", "ip ttl", "ip6 dscp", "ip6 ecn", "ip6 hoplimit", "ip6 flowlabel"},
			target.text+" "+target.part)
	case kindExthdr:
		return target.text == "tcp option maxseg"
	}
	return false
}

// reject gives what a reject statement asks of a packet by itself, and its answer.
func (r *reader) reject(e *expr) (packet.Set, packet.Reply) {
	switch e.text {
	case "tcp reset":
		return r.sp.Value(packet.Protocol, packet.TCP), packet.TCPReset
	case "icmp":
		return r.sp.Value(packet.Family, packet.IPv4), answer(e.part)
	case "icmpv6":
		return r.sp.Value(packet.Family, packet.IPv6), answer(e.part)
	}
	return packet.All, answer(e.part)
}

// answer gives ICMP errors the one name that both families use.
func answer(expr string) packet.Reply {
	switch expr {
	case "":
		return packet.PortUnreachable
	case "net-unreachable":
		return "no-route"
	case "addr-unreachable":
		return "host-unreachable"
	}
	return packet.Reply(expr)
}

// vmap reads a verdict map: the branches of its elements.
func (r *reader) vmap(c *kernel.Chain, e *expr, at string) (out []kernel.Branch) {
	elements, unknown := r.elements(c, e.arg(1))
	for i := range elements {
		pair := &elements[i]
		if pair.kind != kindList || len(pair.args) != 2 {
			unknown = true
			continue
		}
		verdict := r.statements(c, pair.args[1:], at, nil)
		match := r.compare(c, e.arg(0), "==", pair.args[0].value())
		for _, b := range verdict[0].Branches {
			b.Match = match
			out = append(out, b)
		}
	}
	if unknown {
		out = append(out, kernel.Branch{Match: packet.All, Action: kernel.Unmodelled, Why: "vmap " + e.arg(1).String()})
	}
	return out
}

// targets reads a change of the destination: to an address, or to those of a map.
func (r *reader) targets(c *kernel.Chain, e *expr) (out []kernel.Branch) {
	target := func(match packet.Set, address, port string) bool {
		a, err := netip.ParseAddr(address)
		n, errPort := strconv.Atoi(cmp.Or(port, "0"))
		if err != nil || errPort != nil {
			return false
		}
		family := packet.IPv4 // the others no such rule is for
		if a.Is6() {
			family = packet.IPv6
		}
		out = append(out, kernel.Branch{Match: r.sp.And(match, r.sp.Value(packet.Family, family)), Action: kernel.DestinationNAT, To: a,
			Port: n})
		return true
	}
	// A span of addresses, one of which the kernel takes, nobody knows which.
	if len(e.args) == 1 {
		return r.spread(e)
	}
	// Another port alone, or one address for all.
	if e.args == nil && e.text == "" {
		if port, err := strconv.Atoi(e.part); err == nil {
			return []kernel.Branch{{Match: packet.All, Action: kernel.DestinationNAT, Port: port}}
		}
		return unmodelled(e)
	}
	if e.args == nil {
		if !target(packet.All, e.text, e.part) {
			return unmodelled(e)
		}
		return out
	}
	// A map: for each of its elements, the address that it leads to. One that changes by itself may
	// hold others.
	elements, unknown := r.elements(c, e.arg(1))
	for i := range elements {
		pair := &elements[i]
		if pair.kind != kindList || len(pair.args) != 2 {
			return unmodelled(e)
		}
		address, port := pair.args[1].text, ""
		if to := pair.args[1]; to.kind == kindJoined && len(to.args) == 2 {
			address, port = to.args[0].text, to.args[1].text
		}
		if !target(r.compare(c, e.arg(0), "==", pair.args[0].value()), address, port) {
			return unmodelled(e)
		}
	}
	if unknown {
		return unmodelled(e)
	}
	return out
}
