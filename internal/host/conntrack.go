package host

import (
	"context"
	"fmt"
	"net/netip"
	"slices"
	"strconv"
	"strings"

	"yellowfence.example/yfence/core/dialect"
	"yellowfence.example/yfence/core/packet"
	"yellowfence.example/yfence/internal/api"
	"yellowfence.example/yfence/internal/live"
)

// tracked is one connection as the kernel's tracker has it, in the two directions that
// conntrack -L prints.
type tracked struct {
	protocol        string
	state           string
	original, reply tuple
}

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
// opened now. With cut they are taken out of the kernel's tracker: what comes next of
// them is refused.
func (m *Machine) Unadmitted(ctx context.Context, name string, cut bool) ([]api.OpenConnection, error) {
	out := []api.OpenConnection{}
	var all []tracked
	for _, family := range []string{"ipv4", "ipv6"} {
		text, err := tool(ctx, nil, "conntrack", "-L", "-f", family)
		if err != nil {
			return nil, err
		}
		all = append(all, readTracked(string(text))...)
	}
	if len(all) == 0 {
		return out, nil
	}
	r, err := m.Report(ctx, name)
	if err != nil {
		return nil, err
	}
	sp := packet.Budget{Edges: live.Bound, Halt: ctx.Err}.Space()
	var d packet.Decision
	if tangled := packet.Untangled(func() {
		var rs *dialect.Ruleset
		if rs, err = live.Read(sp, r.InForce); err == nil {
			d = rs.Decision(sp)
		}
	}); tangled != nil {
		err = fmt.Errorf("the rules in force: %w", tangled)
	}
	if err != nil {
		return nil, err
	}
	at := interfacesByAddress()
	for _, c := range all {
		if ctx.Err() != nil {
			return out, ctx.Err()
		}
		if slices.Contains([]string{"TIME_WAIT", "CLOSE", "SYN_SENT", "LAST_ACK"}, c.state) || c.original.src.IsLoopback() {
			continue // it is over, or was never open
		}
		refused := true
		for _, p := range c.asNew(at) {
			refused = refused && sp.Outcome(d, p).Refused()
		}
		if !refused {
			continue
		}
		o := api.OpenConnection{Protocol: c.protocol, From: netip.AddrPortFrom(c.original.src, uint16(c.original.sport)).String(),
			To: netip.AddrPortFrom(c.reply.src, uint16(c.reply.sport)).String(), State: strings.ToLower(c.state)}
		if cut {
			_, err := tool(ctx, nil, "conntrack", "-D", "-p", c.protocol, "-s", c.original.src.String(), "-d", c.original.dst.String(),
				"--sport", strconv.Itoa(c.original.sport), "--dport", strconv.Itoa(c.original.dport))
			if o.Cut = err == nil; err != nil && !strings.Contains(err.Error(), "0 flow entries") {
				return out, err
			}
		}
		out = append(out, o)
	}
	return out, nil
}

// asNew is how the filter would see a connection that is opened now: its source before
// it is translated, its destination after that. Where the interface is not known it is
// tried with each.
func (c tracked) asNew(at map[netip.Addr]string) (out []packet.Packet) {
	p := packet.Packet{Hook: packet.Through, Family: "ipv4", Src: c.original.src, Dst: c.reply.src, Protocol: c.protocol, SrcPort: new(c.original.sport), DstPort: new(c.reply.sport), State: "new"}
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
