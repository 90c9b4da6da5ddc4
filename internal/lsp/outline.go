package lsp

import (
	"cmp"
	"regexp"
	"slices"
	"strings"
	"unicode/utf8"

	"yellowfence.example/yfence/core/assist"
	"yellowfence.example/yfence/core/fence"
	"yellowfence.example/yfence/core/fleet"
	"yellowfence.example/yfence/core/policy"
	"yellowfence.example/yfence/core/source"
)

// symbolKinds are the protocol's numbers for what a name stands for.
var symbolKinds = map[string]int{"role": 5, "peers": 5, "network": 3, "segment": 3, "service": 11, "rule": 12}

// symbols are what a file declares, in order.
func (s *server) symbols(a *assist.Analysis, sources []policy.Source, file string) []map[string]any {
	out := []map[string]any{}
	for _, n := range a.Names(file) {
		if !n.Decl {
			continue
		}
		line := lineOf(textOf(sources, file), n.Pos.Line-1)
		whole := s.span(sources, source.Pos{File: file, Line: n.Pos.Line, Column: 1}, utf8.RuneCountInString(line))
		word, _, _ := strings.Cut(strings.TrimSpace(line), " ")
		out = append(out, map[string]any{"name": n.Name, "detail": word, "kind": cmp.Or(symbolKinds[n.Kind], 13), "range": whole,
			"selectionRange": s.location(sources, n.Ident).Range})
	}
	return out
}

// tokenTypes are those that we colour: what stands for each kind of thing.
var tokenTypes = []string{"keyword", "class", "namespace", "interface", "function", "string", "number", "comment", "operator"}

// typeOf are the protocol's numbers for kinds of names, by the order that we told the editor.
var typeOf = map[string]int{"role": 1, "peers": 1, "network": 2, "segment": 2, "service": 3, "rule": 4}

// tokens are a file's pieces as the protocol lists them: five numbers for each, places told from
// those of the piece before.
func tokens(a *assist.Analysis, file, text string) []int {
	type piece struct{ line, column, width, kind, declares int }
	var pieces []piece
	names := map[[2]int]assist.Name{}
	for _, n := range a.Names(file) {
		names[[2]int{n.Pos.Line, n.Pos.Column}] = n
	}
	all, comments := fence.Tokens(file, text)
	lines := strings.Split(text, "\n")
	for _, c := range comments {
		line := lines[c.Line-1]
		at := utf8.RuneCountInString(line[:max(strings.Index(line, c.Text), 0)])
		pieces = append(pieces, piece{c.Line, at + 1, utf8.RuneCountInString(c.Text), 7, 0})
	}
	for _, t := range all {
		p := piece{t.Pos.Line, t.Pos.Column, t.Width, -1, 0}
		n, named := names[[2]int{t.Pos.Line, t.Pos.Column}]
		switch {
		case named:
			p.width = utf8.RuneCountInString(n.Name)
			if kind, known := typeOf[n.Kind]; known {
				p.kind = kind
			}
			if n.Decl {
				p.declares = 1
			}
		case t.Kind == fence.String:
			p.kind = 5
		case t.Kind == fence.Arrow:
			p.kind = 8
		case t.Kind == fence.Word && fence.Reserved(strings.TrimSuffix(t.Text, ":")):
			p.kind = 0
		case t.Kind == fence.Word && t.Text[0] >= '0' && t.Text[0] <= '9':
			p.kind = 6
		}
		if p.kind >= 0 {
			pieces = append(pieces, p)
		}
	}
	slices.SortFunc(pieces, func(a, b piece) int { return cmp.Or(a.line-b.line, a.column-b.column) })
	out := []int{}
	line, unit := 0, 0
	for _, p := range pieces {
		text := lines[p.line-1]
		begin := lspPos(text, source.Pos{Line: p.line, Column: p.column})
		end := lspPos(text, source.Pos{Line: p.line, Column: p.column + p.width})
		if begin.Line != line {
			unit = 0
		}
		out = append(out, begin.Line-line, begin.Character-unit, end.Character-begin.Character, p.kind, p.declares)
		line, unit = begin.Line, begin.Character
	}
	return out
}

// suggested is what a message proposes to write instead.
var suggested = regexp.MustCompile(`(?:did you mean|write) "([^"\n]+)"`)

// actions put right what a problem says how to.
func (s *server) actions(p params) []map[string]any {
	out := []map[string]any{}
	for _, d := range p.Context.Diagnostics {
		m := suggested.FindStringSubmatch(d.Message)
		if m == nil || d.Source != "yfence" {
			continue
		}
		out = append(out, map[string]any{"title": "Write " + m[1], "kind": "quickfix", "diagnostics": []diagnostic{d}, "isPreferred": true,
			"edit": map[string]any{"changes": map[string][]textEdit{p.TextDocument.URI: {{d.Range, m[1]}}}}})
	}
	return out
}

// inFleet is where a role or a segment stands in the fleet file, which goes with its name.
func (s *server) inFleet(file policy.Source, kind, name string) (out []location, err error) {
	if file.Name == "" || kind != "role" && kind != "segment" {
		return nil, nil
	}
	places, err := fleet.Places(file.Name, []byte(file.Text), kind, name)
	for _, pos := range places {
		out = append(out, s.location([]policy.Source{file}, fence.Ident{Name: name, Pos: pos}))
	}
	return out, err
}
