package layout

import (
	"fmt"
	"math"
	"slices"

	"yellowfence.example/yfence/core/kernel"
	"yellowfence.example/yfence/core/packet"
)

// byPort has a chain's lines that accept by a port found by it: what a packet costs then
// does not grow with the number of rules. Of lines that only accept, one after the
// other, the order does not matter.
func (w *liner) byPort(c *Chain) {
	plain := func(l Line) bool { return l.Action == kernel.Accept && !l.Leaves() && l.Log == "" && l.Bucket == nil }
	for i := 0; i < len(c.Lines); {
		if !plain(c.Lines[i]) {
			i++
			continue
		}
		end := i
		for end < len(c.Lines) && plain(c.Lines[end]) {
			end++
		}
		of, others := map[int][]Line{}, []Line(nil)
		for _, l := range c.Lines[i:end] {
			if l.Ports != nil {
				of[l.Protocol] = append(of[l.Protocol], l)
			} else {
				others = append(others, l)
			}
		}
		var maps []Line
		for _, protocol := range packet.PortProtocols {
			if lines := of[protocol]; len(lines) >= w.Options.ByPort && w.ByRange {
				maps = append(maps, w.ranges(c, protocol, lines)...)
			} else if len(lines) >= w.Options.ByPort {
				maps = append(maps, w.cases(c, protocol, lines))
			} else {
				others = append(others, lines...)
			}
		}
		if maps != nil {
			c.Lines = slices.Concat(c.Lines[:i], maps, others, c.Lines[end:])
		}
		i += len(maps) + len(others)
	}
}

// ranges gives lines that jump to those of some lines which are for ports of a range:
// about as many ranges as there are lines behind each.
func (w *liner) ranges(c *Chain, protocol int, lines []Line) (out []Line) {
	starts := startsOf(lines)
	most := int(math.Sqrt(float64(len(lines)))) + 1
	for first := 0; first < len(starts)-1; {
		var these []Line
		last := first
		for next := first + 1; next < len(starts); next++ {
			within := slices.DeleteFunc(slices.Clone(lines), func(l Line) bool {
				return !slices.ContainsFunc(l.Ports, func(p packet.PortRange) bool { return p.Lo < starts[next] && starts[first] <= p.Hi })
			})
			if len(within) > most && next > first+1 {
				break
			}
			these, last = within, next
		}
		if len(these) > 0 {
			run := packet.PortRange{Lo: starts[first], Hi: starts[last] - 1}
			helper := w.helper(fmt.Sprintf("%s.%s-%d", c.Name, packet.ProtocolName(protocol), run.Lo))
			helper.Direction, helper.Lines = c.Direction, these
			by := Line{Box: anything(w.Family), Note: "by port", Action: kernel.Jump, Target: helper.Name}
			by.Protocol, by.Ports = protocol, []packet.PortRange{run}
			out = append(out, by)
		}
		first = last
	}
	return out
}

// startsOf are where runs of ports begin that all lines treat alike, and where the last ends.
func startsOf(lines []Line) (starts []int) {
	for _, l := range lines {
		for _, p := range l.Ports {
			starts = append(starts, p.Lo, p.Hi+1)
		}
	}
	slices.Sort(starts)
	return slices.Compact(starts)
}

// cases gives the line that jumps to those of some lines which are for a packet's port.
func (w *liner) cases(c *Chain, protocol int, lines []Line) Line {
	starts := startsOf(lines)
	by := Line{Box: anything(w.Family), Note: "by port", Action: kernel.Pass}
	by.Protocol = protocol
	chains := map[string]int{} // cases by the lines that they are for
	for i, lo := range starts[:len(starts)-1] {
		run := packet.PortRange{Lo: lo, Hi: starts[i+1] - 1}
		var these []Line
		key := ""
		for k, l := range lines {
			if slices.ContainsFunc(l.Ports, func(p packet.PortRange) bool { return p.Lo <= run.Lo && run.Hi <= p.Hi }) {
				these = append(these, l)
				key += fmt.Sprint(k, " ")
			}
		}
		if these == nil {
			continue
		}
		k, known := chains[key]
		if !known {
			helper := w.helper(fmt.Sprintf("%s.%s-%d", c.Name, packet.ProtocolName(protocol), lo))
			helper.Direction, helper.Lines = c.Direction, these
			k = len(by.Cases)
			chains[key], by.Cases = k, append(by.Cases, Case{Target: helper.Name})
		}
		by.Cases[k].Ports = append(by.Cases[k].Ports, run)
	}
	return by
}
