package compare

import (
	"go4.org/netipx"

	"yellowfence.example/yfence/core/packet"
)

// example is a packet that shows a cause: a new one between neighbours on one of
// the host's interfaces if it can be, and from a stranger to the fleet where
// something was opened.
func (c *comparison) example(n *cause) packet.Packet {
	h := c.plan.Host
	here, there, iface := packet.Dst, packet.Src, packet.InIface
	if n.direction == packet.Outbound {
		here, there, iface = packet.Src, packet.Dst, packet.OutIface
	}
	taste := packet.Preferences{}
	var interfaces []string
	for _, i := range h.Interfaces {
		interfaces = append(interfaces, i.Name)
		for _, p := range i.Addresses {
			taste.Prefer(here, p.Addr())
		}
	}
	taste.LikesInterfaces(packet.InIface, interfaces...)
	taste.LikesInterfaces(packet.OutIface, interfaces...)
	taste[there] = c.names.HostsFirst
	if n.kind == Opened {
		taste[there] = c.names.StrangersFirst
	}

	fresh := c.sp.And(n.set, c.sp.Value(packet.State, packet.New))
	try := []packet.Set{}
	for _, base := range []packet.Set{c.sp.And(fresh, c.sp.Typical()), fresh, n.set} {
		if base == packet.Empty {
			continue
		}
		if n.direction == packet.Forward { // what is for one of its own addresses, or from one, is never forwarded
			if others := c.sp.Minus(base, c.sp.Or(c.sp.Addrs(packet.Src, h.Addresses()),
				c.sp.Addrs(packet.Dst, h.Addresses()))); others != packet.Empty {
				base = others
			}
		}
		var far []packet.Set
		for _, i := range h.Interfaces {
			var own, near netipx.IPSetBuilder
			for _, p := range i.Addresses {
				own.Add(p.Addr())
				near.AddPrefix(p.Masked())
				near.Remove(p.Addr())
			}
			mine, _ := own.IPSet()
			neighbours, _ := near.IPSet()
			on := c.sp.AndAll(base, c.sp.Interfaces(iface, i.Name), c.sp.Addrs(here, mine))
			try, far = append(try, c.sp.And(on, c.sp.Addrs(there, neighbours))), append(far, on)
		}
		try = append(append(try, far...), base)
	}
	for _, set := range try {
		if p, ok := c.sp.Example(set, taste); ok {
			return p
		}
	}
	return packet.Packet{} // a cause is never empty
}
