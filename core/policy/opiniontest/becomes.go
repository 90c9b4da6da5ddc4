package opiniontest

import (
	"cmp"
	"net/netip"
	"slices"
	"strconv"
	"strings"

	"yellowfence.example/yfence/core/fence"
	"yellowfence.example/yfence/core/fleet"
	"yellowfence.example/yfence/core/packet"
)

// Becomes says how a packet that comes in at a host, or is forwarded by it, is translated if it is
// admitted: "redirected to port 8443", "sent on to 10.0.0.2:80", "masqueraded", the last two
// together, or nothing.
func (o *Opinion) Becomes(h *fleet.Host, p packet.Packet) string {
	if p.State != "new" || p.Hook == packet.Out {
		return ""
	}
	own := h.Addresses().Contains(p.Dst)
	if own == (p.Hook == packet.Through) { // that cannot be
		return ""
	}
	toAll := h.Broadcast().Contains(p.Dst) || packet.Loopback.Contains(p.Dst)
	redirects := slices.DeleteFunc(slices.Clone(o.redirects), func(d *fence.Redirect) bool {
		here := d.Through == nil && own && o.carries(d.To, h) || !own && !toAll && routes(d.Through, h)
		return !here || !o.holds(d.From, p.Src) || !o.holds(d.To, p.Dst) || !place{o, h, p}.speaks(d.Service)
	})
	slices.SortStableFunc(redirects, func(a, b *fence.Redirect) int {
		return cmp.Or(cmp.Compare(yes(a.Through != nil), yes(b.Through != nil)), cmp.Compare(a.Name, b.Name))
	})
	for _, d := range redirects {
		port := d.Port.Ports.Lo
		if d.Target == nil {
			return "redirected to port " + strconv.Itoa(port)
		}
		for _, a := range o.Addresses() {
			if o.holds(fence.Peers{Items: []fence.Peer{*d.Target}}, a) && a.Is4() == p.Dst.Is4() {
				q := p
				q.Dst = a
				return o.behind(h, q, "sent on to "+netip.AddrPortFrom(a, uint16(port)).String())
			}
		}
	}
	if p.Hook == packet.In {
		return ""
	}
	return o.behind(h, p, "")
}

// behind adds that a packet leaves a router as the router's own.
func (o *Opinion) behind(h *fleet.Host, p packet.Packet, how string) string {
	for _, m := range o.masks {
		if routes(m.Through, h) && o.holds(m.From, p.Src) && !h.Addresses().Contains(p.Src) && o.holds(m.To, p.Dst) &&
			(m.Via == nil || byOne(m.Via, p.Out)) {
			if how == "" {
				return "masqueraded"
			}
			return how + ", masqueraded"
		}
	}
	return how
}

// byOne says that an interface is one of those names, where * ends a prefix.
func byOne(names []fence.Label, iface string) bool {
	return slices.ContainsFunc(names, func(i fence.Label) bool {
		prefix, star := strings.CutSuffix(i.Text, "*")
		return iface == i.Text || star && iface != "" && strings.HasPrefix(iface, prefix)
	})
}

func yes(b bool) int {
	if b {
		return 1
	}
	return 0
}
