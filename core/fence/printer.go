package fence

import (
	"fmt"
	"strings"
	"unicode/utf8"
)

// Where things stand in a line: they do not depend on other lines, so that a change of one shows
// as that line alone. What is longer moves what follows on its own line.
const (
	bodyStop = 24  // behind `allow positions:`, `network office`
	tailStop = 64  // a declaration's description
	widest   = 120 // how long a line may get before it is broken
	step     = "    "
)

// Print gives a file in the one standard layout. Comments stay with the
// statement they stand above or behind; those in the middle of one move above
// it. Blank lines stay, one at a time. The parts of statements stand in columns
// that are the same for all. What is printed parses to the same tree, and printing it
// again changes nothing. The file must have been parsed without problems.
func Print(file *File) string {
	var out strings.Builder
	next, last := 0, 0 // the next comment, the last line that was printed
	indent := ""
	lead := func(until int) {
		for next < len(file.Comments) && file.Comments[next].Line < until {
			c := file.Comments[next]
			if last > 0 && c.Line > last+1 {
				out.WriteByte('\n')
			}
			out.WriteString(indent + c.Text + "\n")
			last = c.Line
			next++
		}
	}
	// A row stands on the lines from begin to end.
	put := func(r row, begin, end int) {
		lead(begin)
		if last > 0 && begin > last+1 {
			out.WriteByte('\n')
		}
		// Comments within the statement go above it, the one behind it stays.
		for next < len(file.Comments) && file.Comments[next].Line <= end {
			if c := file.Comments[next]; c.Line == end && !c.Own {
				r.comment = c.Text
			} else {
				out.WriteString(indent + c.Text + "\n")
			}
			next++
		}
		r.write(&out, indent)
		last = end
	}
	var with *With
	open := func(w *With) {
		if with != nil {
			lead(with.End.Line)
			indent = ""
			put(row{head: "}"}, last, with.End.Line)
		}
		if with = w; w != nil {
			put(w.row(), w.Pos.Line, w.Pos.Line)
			indent = step
		}
	}
	for i, stmt := range file.Stmts {
		if w := WithOf(stmt); w != with {
			open(w)
		}
		put(rowOf(stmt), file.Lines[i][0], file.Lines[i][1])
	}
	open(nil)
	lead(1 << 30)
	return out.String()
}

// row is a statement in pieces that are set in columns: its head, and what
// follows. Pieces after that are set apart by two blanks.
type row struct {
	head    string   // `allow positions:`, `network office`
	body    string   // `beacon -> broker : ssh`, `= 10.0.0.0/8`
	pieces  []string // modifiers
	tail    string   // a description, which is a column of its own
	comment string
}

// write puts a row's pieces into their columns, and breaks the line before a modifier that does
// not fit.
func (r row) write(out *strings.Builder, indent string) {
	line := padded(indent+r.head, r.body, bodyStop, " ")
	if r.tail != "" {
		line = padded(line, r.tail, tailStop, "  ")
	}
	length := width(line)
	for _, piece := range r.pieces {
		if length+2+width(piece) > widest {
			line += "\n" + indent + step + piece
			length = len(indent+step) + width(piece)
			continue
		}
		line += "  " + piece
		length += 2 + width(piece)
	}
	if r.comment != "" {
		line += "  " + r.comment
	}
	out.WriteString(strings.TrimRight(line, " ") + "\n")
}

// Line gives a statement as one line of text without columns, as messages quote one.
func Line(stmt Stmt) string {
	r := rowOf(stmt)
	parts := []string{strings.TrimRight(r.head+" "+r.body, " ")}
	if r.tail != "" {
		parts = append(parts, r.tail)
	}
	return strings.Join(append(parts, r.pieces...), "  ")
}

// about is the row of a declaration with its description and what it accepts.
func (r row) about(description string, a Accepted) row {
	if r.pieces = acceptances(a.Knowingly); description != "" {
		r.tail = quote(description)
	}
	return r
}

// padded is a line that goes on with a text at a stop, or behind least if it is longer already.
func padded(line, text string, stop int, least string) string {
	if text == "" {
		return line
	}
	if pad := stop - width(line); pad > len(least) {
		least = strings.Repeat(" ", pad)
	}
	return line + least + text
}

// width is how many columns a text takes: one for each letter.
func width(s string) int { return utf8.RuneCountInString(s) }

// rowOf lays a statement out. It knows all statements there are, or it panics.
func rowOf(stmt Stmt) row {
	switch d := stmt.(type) {
	case *PolicyDecl:
		r := row{head: "policy " + d.Name}
		if d.Description != "" {
			r.head += " " + quote(d.Description)
		}
		r.head += fmt.Sprintf(" language %d", d.Language) + by(d.By)
		return r
	case *NetworkDecl:
		r := row{head: "network " + d.Name, body: "= " + addresses(d.Addrs)}
		if d.Segment {
			r.head = "segment " + d.Name
		}
		if d.List != nil {
			r.body = "from " + quote(d.List.Text)
			if f := d.Fetch; f != nil {
				r.body += " fetched " + quote(f.URL.Text)
				if f.Every != nil {
					r.body += " every " + f.Every.Text
				}
				if f.UpTo != 0 {
					r.body += fmt.Sprintf(" up to %d", f.UpTo)
				}
				if f.Changing != 0 {
					r.body += fmt.Sprintf(" changing %d percent", f.Changing)
				}
			}
		}
		r.body += said(" shared", d.Shared) + said(" local", d.Local)
		return r.about(d.Description, d.Accepted)
	case *ServiceDecl:
		r := row{head: "service " + d.Name, body: "= " + services(d.Terms)}
		if d.Units != nil {
			r.body += "  unit " + words(d.Units)
		}
		return r.about(d.Description, d.Accepted)
	case *RoleDecl:
		r := roleRow(d)
		r.pieces = acceptances(d.Knowingly)
		return r
	case *PeersDecl:
		return row{head: "peers " + d.Name, body: "= " + d.Peers.String()}.about(d.Description, d.Accepted)
	case *PartDecl:
		r := row{head: "part " + d.Name, body: "from " + quote(d.Folder.Text) + apart(named("for ", d.For)) + by(d.By)}
		return r.about(d.Description, d.Accepted)
	case *JoinDecl:
		return row{head: "join", body: d.ways()}.about(d.Description, d.Accepted)
	case *GroundDecl:
		return row{head: groundText(d.Parts)}
	case *Rule:
		word := "allow "
		if d.Block {
			word = "block "
		}
		return ruleRow(word+d.Name, d.From.String()+" -> "+d.To.String()+" : "+services(d.Services), &modified{d, &d.Common})
	case *Redirect:
		body := d.From.String() + " -> " + d.To.String() + " : " + d.Service.Text
		if d.Through != nil {
			body += " " + through(d.Through)
		}
		body += " to "
		if d.Target != nil {
			body += d.Target.Text + " : "
		}
		return ruleRow("redirect "+d.Name, body+d.Port.Text, &modified{nil, &d.Common})
	case *Masquerade:
		return ruleRow("masquerade "+d.Name, d.From.String()+" -> "+d.To.String()+" "+through(d.Through)+via(d.Via),
			&modified{nil, &d.Common})
	case *Leave:
		return ruleRow("leave "+d.Name, d.Peers.String()+" : "+d.Direction+via(d.Interfaces), &modified{nil, &d.Common})
	case *Expectation:
		return ruleRow("expect "+d.Name, string(d.Kind)+" "+d.From.String()+" -> "+d.To.String()+" : "+services(d.Services),
			&modified{d.asRule(), &d.Common})
	}
	panic(fmt.Sprintf("fence: no layout for %T", stmt))
}

// apart sets a text apart from the one before; nothing if there is none.
func apart(text string) string {
	if text == "" {
		return ""
	}
	return " " + text
}

// groundText is changes to the ground, as a statement or in a role's braces.
func groundText(changes []GroundPart) string {
	parts := make([]string, len(changes))
	for i, p := range changes {
		parts[i] = p.Name + " off"
		if !p.Off {
			parts[i] = p.Name + " from " + p.From.String()
		}
		if p.Direction != "" {
			parts[i] = p.Direction + " " + parts[i]
		}
	}
	return strings.TrimSpace("ground { "+strings.Join(parts, "   ")) + " }"
}

// roleRow lays a role out: its description, and in braces what it says besides.
func roleRow(d *RoleDecl) row {
	r := row{head: "role " + d.Name}
	var inside []string
	for _, s := range d.Stances {
		inside = append(inside, s.Direction+map[bool]string{true: " closed", false: " open"}[s.Closed]+apart(printTrial(s.Trial)))
	}
	if d.RefuseBy != nil {
		inside = append(inside, "refuse by "+d.RefuseBy.Word)
	}
	if d.LogRefused != nil {
		inside = append(inside, printLog("log refused", d.LogRefused))
	}
	if d.Ground != nil {
		inside = append(inside, groundText(d.Ground))
	}
	braces := ""
	if inside != nil {
		braces = "{ " + strings.Join(inside, "   ") + " }"
	}
	if d.Description == "" {
		r.body = braces
		return r
	}
	r.body = quote(d.Description)
	if braces != "" {
		r.body += " " + braces
	}
	return r
}

// ruleRow lays out a statement with modifiers, in the order of their table. What a `with`
// around it says is left to that.
func ruleRow(head, body string, m *modified) row {
	if w := m.common.With; w != nil {
		m = w.own(m)
	}
	r := row{head: said("off ", m.common.Off != nil) + head + ":", body: body}
	for _, mod := range modifiers {
		if m.rule == nil && mod.on != "" {
			continue
		}
		if s := mod.print(m); s != "" {
			r.pieces = append(r.pieces, s)
		}
	}
	return r
}

// wordText is a single word as it must be written: quoted where it would be read as something else.
func wordText(s string) string {
	for i := range len(s) {
		if !wordBytes[s[i]] {
			return quote(s)
		}
	}
	if strings.Contains(s, "->") || s == ":" {
		return quote(s)
	}
	return s
}
