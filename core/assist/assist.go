package assist

import (
	"cmp"
	"fmt"
	"slices"
	"sort"
	"strings"

	"yellowfence.example/yfence/core/fence"
	"yellowfence.example/yfence/core/fleet"
	"yellowfence.example/yfence/core/policy"
	"yellowfence.example/yfence/core/source"
)

// An Analysis is what is known of a policy's texts at one moment. It never changes.
type Analysis struct {
	texts map[string][]string // lines of each file
	files []*fence.File
	refs  []fence.Reference
	pol   *policy.Policy
}

// Analyse reads a policy's files, sound or not, and holds them against a fleet.
func Analyse(sources []policy.Source, fl *fleet.Fleet) *Analysis {
	in, _ := policy.Read(sources, fl)
	a := &Analysis{texts: map[string][]string{}, files: in.Files}
	for _, s := range sources {
		a.texts[s.Name] = strings.Split(s.Text, "\n")
	}
	for _, f := range in.Files {
		a.refs = append(a.refs, fence.References(f)...)
	}
	a.pol, _ = policy.Resolve(in)
	if len(a.pol.Parts) > 0 { // whose files say their names in full by now
		i := 0
		for _, f := range in.Files {
			for _, r := range fence.References(f) {
				a.refs[i].Name = r.Name
				i++
			}
		}
	}
	return a
}

// place is where a name itself stands, without the part's before it.
func place(r fence.Reference) fence.Ident {
	bare := fence.Bare(r.Name)
	pos := r.Pos
	pos.Column += r.Width - len(bare)
	return fence.Ident{Name: bare, Pos: pos}
}

// at is the reference that stands at a place.
func (a *Analysis) at(pos source.Pos) (fence.Reference, bool) {
	for _, r := range a.refs {
		if r.Pos.File == pos.File && r.Pos.Line == pos.Line && r.Pos.Column <= pos.Column && pos.Column <= r.Pos.Column+r.Width {
			return r, true
		}
	}
	return fence.Reference{}, false
}

// Kind says what the name at a place is: role, peers, network, segment, service or rule; "" if none stands there.
func (a *Analysis) Kind(pos source.Pos) string {
	if r, ok := a.at(pos); ok {
		return a.kindOf(r)
	}
	return ""
}

// kindOf is what a name stands for: a role, a network, a rule.
func (a *Analysis) kindOf(r fence.Reference) string {
	if r.Rule {
		return "rule"
	}
	for _, kind := range []string{"role", "peers", "network", "segment", "service"} {
		if slices.ContainsFunc(a.things(kind), func(p Proposal) bool { return p.Text == r.Name }) {
			return kind
		}
	}
	return ""
}

// A Name is a place where a name stands, and what it is.
type Name struct {
	fence.Ident
	Kind string
	Decl bool // it is declared there
}

// Names are all of a file, in the order in which they stand.
func (a *Analysis) Names(file string) (out []Name) {
	kinds := map[fence.Reference]string{}
	for _, r := range a.refs {
		if r.Pos.File != file {
			continue
		}
		key := fence.Reference{Ident: fence.Ident{Name: r.Name}, Rule: r.Rule}
		kind, known := kinds[key]
		if !known {
			kind = a.kindOf(r)
			kinds[key] = kind
		}
		as := r.Ident
		if r.Width < len(r.Name) {
			as.Name = fence.Bare(r.Name)
		}
		out = append(out, Name{as, kind, r.Decl})
	}
	slices.SortFunc(out, func(a, b Name) int { return cmp.Or(a.Pos.Line-b.Pos.Line, a.Pos.Column-b.Pos.Column) })
	return out
}

// Definition is where the name at a place is declared.
func (a *Analysis) Definition(pos source.Pos) (fence.Ident, bool) {
	r, ok := a.at(pos)
	if !ok {
		return fence.Ident{}, false
	}
	for _, d := range a.refs {
		if d.Decl && d.Rule == r.Rule && d.Name == r.Name {
			return place(d), true
		}
	}
	return fence.Ident{}, false
}

// Uses is every place where the name at a place stands, its declaration included.
func (a *Analysis) Uses(pos source.Pos) (out []fence.Ident) {
	r, ok := a.at(pos)
	if !ok {
		return nil
	}
	for _, o := range a.refs {
		if o.Rule == r.Rule && o.Name == r.Name {
			out = append(out, place(o))
		}
	}
	return out
}

// Rename is the places to change for the name at a place to become another. The
// error says why it cannot.
func (a *Analysis) Rename(pos source.Pos, name string) ([]fence.Ident, error) {
	r, ok := a.at(pos)
	if _, declared := a.Definition(pos); !ok || !declared {
		return nil, fmt.Errorf("no name that this policy declares stands here")
	}
	if !fence.IsName(name) {
		return nil, fmt.Errorf("%q is not a name: small letters, digits and hyphens, a letter first, and no word of the language", name)
	}
	full := strings.TrimSuffix(r.Name, fence.Bare(r.Name)) + name
	taken := !r.Rule && slices.Contains(policy.RegisteredNames(), name)
	for _, o := range a.refs {
		taken = taken || o.Decl && o.Rule == r.Rule && o.Name == full
	}
	if taken && full != r.Name {
		return nil, fmt.Errorf("%q is taken", name)
	}
	return a.Uses(pos), nil
}

// Hover says what stands at a place: a name with what it resolves to, or a word
// of the language with how it is written. It is Markdown; "" is nothing to say.
func (a *Analysis) Hover(pos source.Pos) string {
	if r, ok := a.at(pos); ok {
		if r.Rule {
			return a.hoverRule(r.Name)
		}
		return a.hoverName(r.Name)
	}
	word := a.word(pos)
	if h := a.pol.Fleet.Host(word); h != nil {
		return fmt.Sprintf("**host %s**: %s\n\n%s", h.Name, strings.Join(h.Roles, ", "), addresses(h.Addresses().Prefixes()))
	}
	if form, means, ok := fence.Help(word); ok {
		return fmt.Sprintf("`%s`\n\n%s", form, means)
	}
	return ""
}

// hoverRule is what is shown of a rule: both sides with their hosts, why it is there, and who
// carries it out.
func (a *Analysis) hoverRule(name string) string {
	r := a.pol.Rule(name)
	if r == nil {
		return ""
	}
	text := fmt.Sprintf("**%s**: from %s to %s\n\n%s", r.Title(), hosts(r.From.Hosts, r.From.Text), hosts(r.To.Hosts, r.To.Text),
		r.Decl.Because)
	for i, role := range r.Routers() {
		text += []string{"\n\ncarried out by " + role.Name, ", " + role.Name}[min(i, 1)]
	}
	return text
}

// hosts is a side with how many hosts it has.
func hosts(list []*fleet.Host, text string) string {
	if len(list) == 0 {
		return text
	}
	return fmt.Sprintf("%s (%s)", text, count(len(list), "host"))
}

// hoverName is what is shown of a network, a service, a role or peers.
func (a *Analysis) hoverName(name string) string {
	for _, n := range a.pol.Networks {
		if n.Name != name {
			continue
		}
		kind := "network"
		if n.Segment {
			kind = "segment"
		}
		marks := ""
		if n.Shared {
			marks = ", shared: strangers are on it"
		}
		text := fmt.Sprintf("**%s %s**%s\n\n%s\n\n%s", kind, name, marks, n.Description, addresses(n.Addrs.Prefixes()))
		for _, j := range a.pol.Joins {
			if slices.Contains(j.Networks, n) {
				text += "\n\n" + strings.TrimSpace(j.Decl.String()+"  "+j.Description)
			}
		}
		return text
	}
	for _, r := range a.pol.Roles {
		if r.Name == name {
			names := make([]string, len(r.Hosts))
			for i, h := range r.Hosts {
				names[i] = h.Name
			}
			return fmt.Sprintf("**role %s**, %s\n\n%s\n\n%s", name, count(len(names), "host"), r.Description, some(names, 12))
		}
	}
	for _, p := range a.pol.Peers {
		if p.Name == name {
			return fmt.Sprintf("**peers %s**, %s\n\n%s\n\n%s", name, hosts(p.Side.Hosts, p.Side.Text), p.Description,
				addresses(p.Side.Addrs.Prefixes()))
		}
	}
	if terms := a.pol.TermsOf(name); terms != nil {
		return fmt.Sprintf("**service %s**\n\n%s", name, strings.Join(terms, ", "))
	}
	return ""
}

// count is a number of things, in the singular for one.
func count(n int, what string) string {
	if n == 1 {
		return "1 " + what
	}
	return fmt.Sprintf("%d %ss", n, what)
}

// some joins a list, at most n of it.
func some(list []string, n int) string {
	if len(list) > n {
		return strings.Join(list[:n], ", ") + fmt.Sprintf(" and %d more", len(list)-n)
	}
	return strings.Join(list, ", ")
}

// addresses are addresses, single ones without their length, the first dozen.
func addresses[P fmt.Stringer](prefixes []P) string {
	texts := make([]string, len(prefixes))
	for i, p := range prefixes {
		texts[i] = strings.TrimSuffix(strings.TrimSuffix(p.String(), "/32"), "/128")
	}
	return some(texts, 12)
}

// word is the word that stands at a place.
func (a *Analysis) word(pos source.Pos) string {
	line := []rune(a.line(pos))
	isWord := func(c rune) bool {
		return c == '-' || c == '.' || c >= '0' && c <= '9' || c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z'
	}
	at := min(max(pos.Column-1, 0), len(line))
	start, end := at, at
	for start > 0 && isWord(line[start-1]) {
		start--
	}
	for end < len(line) && isWord(line[end]) {
		end++
	}
	return string(line[start:end])
}

// line is a line of the text that was analysed; "" where there is none.
func (a *Analysis) line(pos source.Pos) string {
	if lines := a.texts[pos.File]; pos.Line >= 1 && pos.Line <= len(lines) {
		return lines[pos.Line-1]
	}
	return ""
}

// inWith says that a line stands in the braces of a with, where each begins a statement.
func (a *Analysis) inWith(pos source.Pos) bool {
	for up := pos.Line - 1; up >= 1; up-- {
		line := a.line(source.Pos{File: pos.File, Line: up})
		if words := strings.Fields(line); len(words) > 0 && line[0] != ' ' && line[0] != '\t' {
			return words[0] == "with" && !strings.Contains(line, "}")
		}
	}
	return false
}

// A Proposal is one thing that could be written at a place.
type Proposal struct {
	Text string
	Kind string // statement, modifier, role, network, segment, service, rule, host or word
	Note string
}

// Complete lists what could be written at a place: statements at the start of a
// line, names in the sides of a rule, services behind the colon, modifiers behind
// the services. An indented line goes on with the one above.
func (a *Analysis) Complete(pos source.Pos) []Proposal {
	out := a.complete(pos)
	for _, p := range a.pol.Parts { // whose own names go there without the part's
		for i := range out {
			if p.Holds(pos.File) {
				out[i].Text = strings.TrimPrefix(out[i].Text, p.Name+".")
			}
		}
	}
	return out
}

// complete is what can stand at a place, by what stands before it in the statement.
func (a *Analysis) complete(pos source.Pos) (out []Proposal) {
	// A statement that is broken over several lines is read as one, up to the place.
	line := []rune(a.line(pos))
	before := string(line[:min(max(pos.Column-1, 0), len(line))])
	if a.inWith(pos) {
		before = strings.TrimLeft(before, " \t")
	}
	for up := pos.Line - 1; up >= 1 && (strings.HasPrefix(before, " ") || strings.HasPrefix(before, "\t")); up-- {
		before = a.line(source.Pos{File: pos.File, Line: up}) + " " + strings.TrimLeft(before, " \t")
	}
	words := strings.Fields(before)
	if !strings.HasSuffix(before, " ") && len(words) > 0 {
		words = words[:len(words)-1] // the word that is being written
	}
	statementWords, _ := fence.Keywords()
	// At the beginning of a line any statement can begin.
	if len(words) == 0 {
		for _, w := range statementWords {
			form, _, _ := fence.Help(w)
			out = append(out, Proposal{w, "statement", form})
		}
		return out
	}
	// Behind its first word it depends on what stands before: a word that takes one kind of name,
	// then the colon, behind which services come, and behind those the modifiers.
	arrow, colon := slices.Index(words, "->"), slices.Index(words, ":")
	last := words[len(words)-1]
	switch {
	case last == "on" || last == "arriving":
		return a.things("segment")
	case last == "through":
		return a.things("role")
	case last == "over":
		for _, r := range a.pol.Rules {
			if r.Block {
				out = append(out, Proposal{r.Name, "rule", r.String()})
			}
		}
		return out
	case last == "host":
		for _, h := range a.pol.Fleet.Hosts {
			out = append(out, Proposal{h.Name, "host", strings.Join(h.Roles, ", ")})
		}
		return out
	case colon > arrow && arrow > 0 && (last == ":" || strings.HasSuffix(last, ",")):
		return a.things("service")
	case colon > arrow && arrow > 0:
		for _, w := range fence.ModifiersOf(words[0]) {
			form, _, _ := fence.Help(w)
			out = append(out, Proposal{w, "modifier", form})
		}
		return out
	// Else it is a declaration, or one of the two sides of a rule.
	case words[0] == "network" || words[0] == "segment" || words[0] == "join":
		return append(a.things("network"), a.things("segment")...)
	case words[0] == "service":
		return a.things("service")
	case len(words) > 1:
		out = slices.Concat(a.things("role"), a.things("peers"), a.things("network"), a.things("segment"))
		for _, w := range []string{"fleet", "everywhere", "strangers", "broadcast", "multicast", "host"} {
			out = append(out, Proposal{w, "word", ""})
		}
	}
	return out
}

// things lists the names of one kind.
func (a *Analysis) things(kind string) (out []Proposal) {
	switch kind {
	case "role":
		for _, r := range a.pol.Roles {
			out = append(out, Proposal{r.Name, kind, r.Description})
		}
	case "peers":
		for _, p := range a.pol.Peers {
			out = append(out, Proposal{p.Name, kind, p.Side.Text})
		}
	case "service":
		for _, s := range a.pol.Services {
			out = append(out, Proposal{s.Name, kind, strings.Join(a.pol.TermsOf(s.Name), ", ")})
		}
		for _, name := range policy.RegisteredNames() {
			if !slices.ContainsFunc(a.pol.Services, func(s *policy.Service) bool { return s.Name == name }) {
				out = append(out, Proposal{name, kind, strings.Join(a.pol.TermsOf(name), ", ")})
			}
		}
	default:
		for _, n := range a.pol.Networks {
			if n.Segment == (kind == "segment") {
				out = append(out, Proposal{n.Name, kind, n.Description})
			}
		}
	}
	sort.Slice(out, func(i, j int) bool { return out[i].Text < out[j].Text })
	return out
}
