package inventory

import (
	"context"
	"fmt"
	"net"
	"net/netip"
	"slices"
	"strconv"
	"strings"
	"time"

	"go4.org/netipx"

	"yellowfence.example/yfence/api"
	"yellowfence.example/yfence/core/kernel"
	"yellowfence.example/yfence/core/packet"
	"yellowfence.example/yfence/internal/live"
)

// tracked is one connection as the kernel's tracker has it, in the two directions that
// conntrack -L prints.
type tracked struct {
	protocol        string
	state           string
	original, reply tuple
}

// tuple is one direction of a connection as the kernel tracks it.
type tuple struct {
	src, dst     netip.Addr
	sport, dport int
}

// readTracked reads what conntrack -L prints (conntrack(8)), one connection a line.
func readTracked(text string) (out []tracked) {
	for line := range strings.Lines(text) {
		f := strings.Fields(line)
		if len(f) < 4 || f[0] != "tcp" && f[0] != "udp" {
			continue
		}
		c := tracked{protocol: f[0]}
		if f[0] == "tcp" {
			c.state = f[3]
		}
		at, whole := &c.original, true
		for _, word := range f[3:] {
			key, value, ok := strings.Cut(word, "=")
			if !ok {
				continue
			}
			if key == "src" && at.src.IsValid() {
				at = &c.reply
			}
			switch key {
			case "src":
				at.src, _ = netip.ParseAddr(value)
			case "dst":
				at.dst, _ = netip.ParseAddr(value)
			case "sport":
				at.sport, whole = portOf(value, whole)
			case "dport":
				at.dport, whole = portOf(value, whole)
			}
		}
		if whole && c.original.src.IsValid() && c.original.dst.IsValid() && c.reply.src.IsValid() {
			out = append(out, c)
		}
	}
	return out
}

// portOf is a port, and whether it and all before it are some.
func portOf(text string, whole bool) (int, bool) {
	n, err := strconv.ParseUint(text, 10, 16)
	return int(n), whole && err == nil
}

// Unadmitted are connections that are open and that the rules in force would not let be
// opened now: those that the kernel tracks, and sockets from before it did. What goes to one
// of the addresses of the service is this host's own. With cut they are ended: sockets are
// closed at both ends, what is forwarded is forgotten, and what comes next of it refused.
// They are looked for again afterwards, to see that nothing flows any more.
func Unadmitted(ctx context.Context, service []netip.AddrPort, cut bool) ([]api.OpenConnection, error) {
	out := []api.OpenConnection{}
	all, err := openNow(ctx)
	if err != nil || len(all) == 0 {
		return out, err
	}
	f, _, err := InForce(ctx)
	if err != nil {
		return nil, err
	}
	sp := packet.Budget{Edges: live.Bound, Halt: ctx.Err}.Space()
	var d packet.Decision
	if tangled := packet.Try(func() {
		var rs *kernel.Ruleset
		if rs, err = live.Read(sp, f); err == nil {
			d = rs.Decision(sp)
		}
	}); tangled != nil {
		err = fmt.Errorf("the rules in force: %w", tangled)
	}
	if err != nil {
		return nil, err
	}
	at := InterfacesByAddress()
	near := networksHere()
	var ended []tracked
	for _, c := range all {
		if ctx.Err() != nil {
			return out, ctx.Err()
		}
		// the tracker may have come late, and take the answers for the opening
		if c.over() || c.original.src.IsLoopback() || slices.ContainsFunc([]tuple{c.original, c.original.turned()}, func(t tuple) bool {
			return slices.Contains(service, netip.AddrPortFrom(t.dst, uint16(t.dport)))
		}) {
			continue
		}
		refused := func(c tracked) bool { // wherever it comes and goes
			return !slices.ContainsFunc(c.asNew(at, near), func(p packet.Packet) bool { return !sp.Outcome(d, p).Refused() })
		}
		if !refused(c) {
			continue
		}
		o := api.OpenConnection{Protocol: c.protocol, From: netip.AddrPortFrom(c.original.src, uint16(c.original.sport)).String(),
			To: netip.AddrPortFrom(c.reply.src, uint16(c.reply.sport)).String(), State: strings.ToLower(c.state)}
		if cut {
			if err := c.end(ctx, at); err != nil {
				return out, err
			}
			if turned := (tracked{protocol: c.protocol, original: c.reply, reply: c.original}); c.forwarded(at) && !refused(turned) {
				o.Why = "what answers would be admitted as a connection of its own: end it at one of its ends"
			}
		}
		out, ended = append(out, o), append(ended, c)
	}
	if !cut || len(out) == 0 {
		return out, nil
	}
	return out, lookAgain(ctx, out, ended)
}

// A connection that was cut may come back by itself.
const (
	cutLooks = 4 // how often what was cut is looked for
	cutLook  = 300 * time.Millisecond
)

// lookAgain notes which of some connections are gone, and tries once more to end the others:
// what was on its way when one was ended may have made the kernel track it anew.
func lookAgain(ctx context.Context, out []api.OpenConnection, ended []tracked) error {
	lasts := make([]bool, len(out)) // whatever is done here
	for i := range out {
		lasts[i] = out[i].Why != ""
		out[i].Cut = !lasts[i]
	}
	for look := range cutLooks {
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(cutLook):
		}
		all, err := openNow(ctx)
		if err != nil {
			return err
		}
		at := InterfacesByAddress()
		for i, c := range ended {
			again := slices.IndexFunc(all, func(o tracked) bool { return !o.over() && o.same(c) })
			if lasts[i] {
				continue
			}
			if out[i].Cut, out[i].Why = again < 0, ""; again < 0 {
				continue
			}
			out[i].Why = "it is still there, or there again"
			if look < cutLooks-1 {
				if err := all[again].end(ctx, at); err != nil {
					return err
				}
			}
		}
	}
	return nil
}

// openNow are the connections that the kernel tracks, and the sockets that it does not.
func openNow(ctx context.Context) (all []tracked, err error) {
	for _, family := range []string{"ipv4", "ipv6"} {
		text, err := Run(ctx, nil, "conntrack", "-L", "-f", family)
		if err != nil {
			return nil, err
		}
		all = append(all, readTracked(string(text))...)
	}
	s, err := OpenSockets()
	if err != nil {
		return nil, err
	}
	known := map[Connection]bool{}
	for _, c := range all {
		if !c.over() {
			known[c.reply.connection()], known[c.original.connection()] = true, true
		}
	}
	for _, c := range s.Open {
		if c.Local.Addr() == c.Remote.Addr() || known[c] || known[Connection{c.Remote, c.Local}] {
			continue
		}
		there := tuple{c.Remote.Addr(), c.Local.Addr(), int(c.Remote.Port()), int(c.Local.Port())}
		if !s.arrived(c) {
			there = there.turned()
		}
		all = append(all, tracked{protocol: "tcp", state: "ESTABLISHED", original: there, reply: there.turned()})
	}
	return all, nil
}

// connection is the connection, seen from its source.
func (t tuple) connection() Connection {
	return Connection{netip.AddrPortFrom(t.src, uint16(t.sport)), netip.AddrPortFrom(t.dst, uint16(t.dport))}
}

// turned is the other direction.
func (t tuple) turned() tuple { return tuple{t.dst, t.src, t.dport, t.sport} }

// over says that a connection has ended, or was never open.
func (c tracked) over() bool {
	return slices.Contains([]string{"TIME_WAIT", "CLOSE", "SYN_SENT", "LAST_ACK"}, c.state)
}

// forwarded says that neither end is here.
func (c tracked) forwarded(at map[netip.Addr]string) bool {
	_, from := at[c.original.src]
	_, to := at[c.reply.src]
	return !from && !to
}

// same says that two are one connection, whichever side the kernel takes to have opened it.
func (c tracked) same(o tracked) bool {
	return c.protocol == o.protocol && (c.original == o.original || c.original == o.original.turned() || c.original == o.reply ||
		c.reply == o.original)
}

// end ends a connection: its socket, if it is this host's own, so that whatever comes next of
// either end finds nobody, and what the tracker knows of it.
func (c tracked) end(ctx context.Context, at map[netip.Addr]string) error {
	for _, own := range []tuple{c.original, c.reply, c.reply.turned()} {
		if _, here := at[own.src]; !here {
			continue
		}
		kind := map[string]string{"tcp": "-t", "udp": "-u"}[c.protocol]
		if _, err := Run(ctx, nil, "ss", "-K", "-H", "-n", kind, "src", end(own.src, own.sport), "dst",
			end(own.dst, own.dport)); err != nil {
			return err
		}
	}
	_, err := Run(ctx, nil, "conntrack", "-D", "-p", c.protocol, "-s", c.original.src.String(), "-d", c.original.dst.String(),
		"--sport", strconv.Itoa(c.original.sport), "--dport", strconv.Itoa(c.original.dport))
	if err != nil && !strings.Contains(err.Error(), "0 flow entries") {
		return err
	}
	return nil
}

// end is an end of a connection as ss takes it.
func end(a netip.Addr, port int) string { return netip.AddrPortFrom(a, uint16(port)).String() }

// networksHere are the networks of this host's interfaces.
func networksHere() (out []netip.Prefix) {
	all, _ := net.InterfaceAddrs()
	for _, a := range all {
		if p, err := netip.ParsePrefix(a.String()); err == nil {
			out = append(out, p)
		}
	}
	return out
}

// toAll says that an address stands for many: a group, all, or all of a network here.
func toAll(a netip.Addr, near []netip.Prefix) bool {
	return a.IsMulticast() || a == netip.AddrFrom4([4]byte{255, 255, 255, 255}) || slices.ContainsFunc(near, func(p netip.Prefix) bool {
		return p.Addr().Is4() && p.Bits() < 31 && a == netipx.PrefixLastIP(p.Masked())
	})
}

// asNew is how the filter would see a connection that is opened now: its source before
// it is translated, its destination after that. Where the interface is not known it is
// tried with each.
func (c tracked) asNew(at map[netip.Addr]string, near []netip.Prefix) (out []packet.Packet) {
	p := packet.Packet{Hook: packet.Through, Family: "ipv4", Src: c.original.src, Dst: c.reply.src, Protocol: c.protocol,
		SrcPort: new(c.original.sport), DstPort: new(c.reply.sport), State: "new"}
	if p.Src.Is6() {
		p.Family = "ipv6"
	}
	in, here := at[p.Dst]
	outBy, ours := at[p.Src]
	switch {
	case here:
		p.Hook, p.In = packet.In, in
		return []packet.Packet{p}
	case ours:
		p.Hook, p.Out = packet.Out, outBy
		return []packet.Packet{p}
	}
	if toAll(p.Dst, near) { // it is for this host too
		p.Hook = packet.In
		for _, name := range at {
			p.In = name
			out = append(out, p)
		}
		return out
	}
	var names []string
	for _, name := range at {
		if !slices.Contains(names, name) && name != "lo" {
			names = append(names, name)
		}
	}
	for _, from := range names {
		for _, to := range names {
			p.In, p.Out = from, to
			out = append(out, p)
		}
	}
	return out
}
