package kernel

import (
	"fmt"
	"slices"
	"strings"

	"yellowfence.example/yfence/core/packet"
)

// hook is what happens to packets that reach a hook by some ways; next is what
// happens to those that all its chains accept.
func (e *evaluation) hook(rs *Ruleset, name string, next ways, by ...int) ways {
	early, late := rs.on(name)
	next = e.chainsOf(late, name, next, by)
	for _, way := range by {
		switch {
		case !rs.Fragments:
		case hooks[way][0] == name: // it begins to be handled here
			next[way] = e.whole(next[way], rs.Tracks)
		case name == "input": // what is for the host itself is put together before
			next[way] = e.whole(next[way], [2]bool{packet.IPv4: true})
		}
	}
	return e.chainsOf(early, name, next, by)
}

// chainsOf goes over chains of a hook. Those of one priority run in an order that
// no dump records: where it matters, the order is an unknown.
func (e *evaluation) chainsOf(chains []*Chain, name string, next ways, by []int) ways {
	for end := len(chains); end > 0; {
		start := end - 1
		for start > 0 && chains[start-1].Priority == chains[start].Priority {
			start--
		}
		next = e.tied(chains[start:end], name, next, by)
		end = start
	}
	return next
}

// maxTied bounds how many chains of one priority are tried in every order.
const maxTied = 4

// tied runs chains of one hook and one priority. A dump does not say which comes first: if it
// matters, the answer depends on an unknown for each order.
func (e *evaluation) tied(chains []*Chain, hook string, next ways, by []int) ways {
	d := e.inOrder(chains, next, by)
	// Which of two chains comes first shows only in how a packet is refused or
	// logged: one that is admitted passed them all.
	if len(chains) > 1 && len(chains) <= maxTied && !apart(chains) {
		for i, order := range permutations(chains)[1:] {
			if e.attributed {
				break // the orders differ in who decides; the first is as good as any
			}
			other := e.inOrder(order, next, by)
			first := e.sp.Unknown(fmt.Sprintf("which of the %s chains of priority %d runs first (%d)", hook, chains[0].Priority, i+1))
			for _, way := range by {
				d[way] = e.sp.Choose(first, other[way], d[way])
			}
		}
	}
	return d
}

// apart says that no packet is seen by two of some chains.
func apart(chains []*Chain) bool {
	return len(chains) == 2 && chains[0].Family != chains[1].Family && chains[0].Family != "inet" && chains[1].Family != "inet"
}

// inOrder goes over chains that run one after the other.
func (e *evaluation) inOrder(chains []*Chain, next ways, by []int) ways {
	for _, c := range slices.Backward(chains) {
		behind := next
		for _, way := range by {
			e.way, e.next = way, ways{}
			if e.unrouted = c.Hook == "prerouting"; e.unrouted {
				e.next = behind
			}
			next[way] = e.base(c, behind[way])
		}
	}
	return next
}

// permutations are all orders of a few chains.
func permutations(chains []*Chain) (out [][]*Chain) {
	if len(chains) <= 1 {
		return [][]*Chain{chains}
	}
	for i := range chains {
		rest := slices.Concat(chains[:i], chains[i+1:])
		for _, p := range permutations(rest) {
			out = append(out, append([]*Chain{chains[i]}, p...))
		}
	}
	return out
}

// outside is a chain that we do not model: it may drop what would fare as in next.
func (e *evaluation) outside(c *Chain, hook int, next packet.Decision) packet.Decision {
	may := e.sp.Unknown(c.Outside)
	if c.Family == "bridge" && e.links != nil { // which has what bridges carry, and nothing else
		bridges := e.links.Bridges()
		may = e.sp.And(may, e.sp.Or(e.sp.Interfaces(packet.InIface, bridges...), e.sp.Interfaces(packet.OutIface, bridges...)))
	} else if c.Devices != nil {
		field := packet.InIface
		if hook == packet.Out {
			field = packet.OutIface
		}
		may = e.sp.And(may, e.sp.Interfaces(field, c.Devices...))
	}
	return e.sp.Choose(may, e.sp.Leaf(packet.Outcome{Verdict: packet.Drop, By: e.by(Decider{Chain: c})}), next)
}

// base is a base chain before next, for the packets of its family.
func (e *evaluation) base(c *Chain, next packet.Decision) packet.Decision {
	by := e.by(Decider{Chain: c})
	end := next
	if c.Policy == packet.Drop {
		end = e.sp.Leaf(packet.Outcome{Verdict: packet.Drop, By: by})
	} else if e.attributed {
		end = e.attribute(next, by, false)
	}
	d := e.chain(c, end, next)
	if c.Type == "nat" {
		d = e.first(c, d, next)
	}
	if c.Hook == "ingress" {
		return e.sp.Choose(e.arrives(c), d, next)
	}
	return e.sp.Choose(c.sees(e.sp), d, next)
}

// arrives is the packets that come over the devices of a chain at ingress: those of the
// interfaces of that name. What comes by another interface may have come over one of them, as
// what a bridge or a VLAN gives on; nothing that a host says to itself has.
func (e *evaluation) arrives(c *Chain) packet.Set {
	own := e.sp.Interfaces(packet.InIface, c.Devices...)
	if slices.Contains(c.Devices, "lo") {
		return own
	}
	if e.links != nil {
		upper := e.links.Over(c.Devices)
		return e.sp.Or(own, e.sp.And(e.sp.Interfaces(packet.InIface, upper...),
			e.sp.Unknown("whether packets of "+strings.Join(upper, ", ")+" come over "+strings.Join(c.Devices, ", "))))
	}
	over := e.sp.Unknown("whether packets of other interfaces come over " + strings.Join(c.Devices, ", ") +
		", as those of a bridge or a VLAN do")
	return e.sp.Or(own, e.sp.Minus(over, e.sp.Interfaces(packet.InIface, "lo")))
}

// sees is the packets of the chain's family.
func (c *Chain) sees(sp *packet.Space) packet.Set {
	switch c.Family {
	case "ip":
		return sp.Value(packet.Family, packet.IPv4)
	case "ip6":
		return sp.Value(packet.Family, packet.IPv6)
	}
	return packet.All
}

// first is d for the packets that a nat chain sees: the first of a connection.
// What comes after it fares as it did, which nobody knows of a connection that stands.
func (e *evaluation) first(c *Chain, d, next packet.Decision) packet.Decision {
	sp := e.sp
	seen := sp.Value(packet.State, packet.New)
	if c.Hook == "prerouting" {
		was := sp.Unknown("whether chain " + c.Place() + " changed the target of a connection that stands")
		seen = sp.Or(seen, sp.And(sp.Values(packet.State, packet.Established, packet.Related), was))
	}
	if own, known := e.routes.Kind("local"); known && e.way == packet.Through { // what is for the host itself never goes through
		seen = sp.Minus(seen, sp.Addrs(packet.Dst, own))
	} else if here, known := e.routes.Arriving(); known && e.way == packet.In { // nor does what is not arrive there
		seen = sp.And(seen, sp.Addrs(packet.Dst, here))
	}
	// Of what is not the first it is the connection that was translated.
	plain := sp.Map(d, func(o packet.Outcome) packet.Outcome {
		if o.Verdict == packet.Admit {
			o.Translated = packet.Translation{}
		}
		return o
	})
	return sp.Choose(seen, sp.Choose(sp.Value(packet.State, packet.New), d, plain), next)
}
