package adopt

import (
	"fmt"
	"slices"
	"strings"

	"yellowfence.example/yfence/core/fence"
	"yellowfence.example/yfence/core/packet"
)

// page is a policy file that is put together statement by statement.
type page struct {
	file fence.File
	line int
}

// blank leaves a line free, above what comes next.
func (p *page) blank() { p.line++ }

// put adds statements, each on a line of its own.
func (p *page) put(all ...fence.Stmt) {
	for _, s := range all {
		p.line++
		p.file.Stmts, p.file.Lines = append(p.file.Stmts, s), append(p.file.Lines, [2]int{p.line, p.line})
	}
}

// comment adds a line that is for people.
func (p *page) comment(format string, args ...any) {
	p.line++
	text := strings.TrimRight("# "+fmt.Sprintf(format, args...), " ")
	p.file.Comments = append(p.file.Comments, fence.Comment{Text: text, Line: p.line, Own: true})
}

// text is the policy in its standard layout.
func (w *writer) text() string {
	p := &page{}
	p.put(&fence.PolicyDecl{Ident: fence.Ident{Name: w.name}, Language: 1})
	p.blank()
	// Only what is used is declared: a policy with names that nothing means draws warnings.
	if slices.ContainsFunc(w.segments, func(s segment) bool { return w.used[s.name] }) {
		p.comment("the networks that hosts are attached to")
		for _, s := range w.segments {
			if w.used[s.name] {
				p.put(s.declared())
			}
		}
		p.blank()
	}
	for _, n := range w.networks {
		p.put(n)
	}
	if w.networks != nil {
		p.blank()
	}
	p.comment("hosts with like rules")
	for _, role := range w.told {
		decl := stances(w.members[role.Name][0])
		decl.Ident, decl.Description = fence.Ident{Name: role.Name}, plain(strings.Join(some(role.Hosts), ", "))
		p.put(decl)
	}
	if w.off != nil {
		p.blank()
		p.comment("what hosts do not have of the ground that others stand on")
		ground := &fence.GroundDecl{}
		for _, key := range w.off {
			direction, part, _ := strings.Cut(key, " ")
			ground.Parts = append(ground.Parts, fence.GroundPart{Direction: direction, Name: part, Off: true})
		}
		p.put(ground)
	}
	p.blank()
	for _, l := range w.lines {
		p.put(l.of(l.roles))
	}
	// What is left stands in the text, where whoever reads the policy cannot miss it.
	if w.left != nil {
		p.blank()
		p.comment("What hosts have in force and this policy does not say, or says otherwise:")
		for _, l := range w.left {
			p.comment("")
			p.comment("%s: %s: %s", strings.Join(some(l.Hosts), ", "), l.Kind, oneLine(l.Says))
			if l.Rule != "" {
				p.comment("  %s  %s", l.At, oneLine(l.Rule))
			}
		}
	}
	return fence.Print(&p.file)
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

// stances are what a role of hosts like one says of what no rule decides.
func stances(s *sketch) *fence.RoleDecl {
	role := &fence.RoleDecl{}
	say := func(d packet.Direction) {
		role.Stances = append(role.Stances, fence.Stance{Direction: d.String(), Closed: !s.ends[d].open})
	}
	in, out, through := s.ends[packet.In], s.ends[packet.Out], s.ends[packet.Through]
	if !in.filtered || in.open {
		role.Stances = append(role.Stances, fence.Stance{Direction: packet.Inbound.String()})
	}
	if out.filtered && !out.open {
		say(packet.Outbound)
	}
	if through.filtered {
		say(packet.Forward)
	}
	for _, e := range []end{in, out, through} {
		if e.log.set() { // it is the same for all
			role.LogRefused = e.log.written()
			break
		}
	}
	if in.filtered && !in.open && in.reject || (!in.filtered || in.open) && (out.reject || through.reject) {
		role.RefuseBy = &fence.Choice{Word: "reject"}
	}
	return role
}
