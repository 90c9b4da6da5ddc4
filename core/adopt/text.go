package adopt

import (
	"fmt"
	"slices"
	"strings"

	"yellowfence.example/yfence/core/packet"
)

// text is the policy, as it is laid out.
func (w *writer) text() string {
	var b strings.Builder
	fmt.Fprintf(&b, "policy %s language 1\n\n", w.name)
	if slices.ContainsFunc(w.segments, func(s segment) bool { return w.used[s.name] }) {
		b.WriteString("# the networks that hosts are attached to\n")
		for _, s := range w.segments {
			if w.used[s.name] {
				fmt.Fprintf(&b, "segment %s = %s%s\n", s.name, s.text, s.mark())
			}
		}
		b.WriteString("\n")
	}
	for _, n := range w.networks {
		b.WriteString(n + "\n")
	}
	if w.networks != nil {
		b.WriteString("\n")
	}
	b.WriteString("# hosts with like rules\n")
	for _, role := range w.told {
		fmt.Fprintf(&b, "role %s %s%s\n", role.Name, quoted(strings.Join(some(role.Hosts), ", ")), stances(w.members[role.Name][0]))
	}
	if w.off != nil {
		b.WriteString("\n# what hosts do not have of the ground that others stand on\nground {\n")
		for _, key := range w.off {
			fmt.Fprintf(&b, "  %s off\n", key)
		}
		b.WriteString("}\n")
	}
	b.WriteString("\n")
	for _, l := range w.lines {
		fmt.Fprintf(&b, "%s %s: %s\n", l.head, l.name, l.rest(l.roles))
	}
	if w.left != nil {
		b.WriteString("\n# What hosts have in force and this policy does not say, or says otherwise:\n")
		for _, l := range w.left {
			fmt.Fprintf(&b, "#\n# %s: %s: %s\n", strings.Join(some(l.Hosts), ", "), l.Kind, oneLine(l.Says))
			if l.Rule != "" {
				fmt.Fprintf(&b, "#   %s  %s\n", l.At, oneLine(l.Rule))
			}
		}
	}
	return b.String()
}

// oneLine is a text without line breaks, for a comment.
func oneLine(s string) string { return strings.Join(strings.Fields(s), " ") }

// some are the first of many.
func some(names []string) []string {
	const most = 6
	if len(names) <= most {
		return names
	}
	return append(slices.Clone(names[:most]), fmt.Sprintf("and %d more", len(names)-most))
}

// stances says a role's.
func stances(s *sketch) string {
	word := func(e end) string {
		if e.open {
			return "open"
		}
		return "closed"
	}
	var parts []string
	in, out, through := s.ends[packet.In], s.ends[packet.Out], s.ends[packet.Through]
	if !in.filtered || in.open {
		parts = append(parts, "inbound open")
	}
	if out.filtered && !out.open {
		parts = append(parts, "outbound closed")
	}
	if through.filtered {
		parts = append(parts, "forward "+word(through))
	}
	for _, e := range []end{in, out, through} {
		if e.log != "" { // it is the same for all
			parts = append(parts, strings.Replace(e.log, "log", "log refused", 1))
			break
		}
	}
	if in.filtered && !in.open && in.reject || (!in.filtered || in.open) && (out.reject || through.reject) {
		parts = append(parts, "refuse by reject")
	}
	if parts == nil {
		return ""
	}
	return " { " + strings.Join(parts, "  ") + " }"
}
