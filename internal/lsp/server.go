package lsp

import (
	"context"
	"encoding/json"
	"io"
	"net/url"
	"path/filepath"
	"strings"
	"sync"
	"time"
	"unicode/utf8"

	"github.com/sourcegraph/jsonrpc2"

	"yellowfence.example/yfence/core/assist"
	"yellowfence.example/yfence/core/check"
	"yellowfence.example/yfence/core/fence"
	"yellowfence.example/yfence/core/fleet"
	"yellowfence.example/yfence/core/packet"
	"yellowfence.example/yfence/core/policy"
	"yellowfence.example/yfence/core/source"
	"yellowfence.example/yfence/internal/limits"
)

// A Policy is what lies on disk: a policy's files by their names within its folder, and
// the fleet, with its file as it was found.
type Policy struct {
	Sources   []policy.Source
	Fleet     *fleet.Fleet
	FleetFile policy.Source
}

// Loader reads a policy of a folder, which is the editor's, or what a flag says.
type Loader func(dir string) (Policy, error)

// Serve speaks with one editor until it is done.
func Serve(ctx context.Context, in io.ReadCloser, out io.WriteCloser, load Loader) error {
	s := &server{load: load, open: map[string]string{}, told: map[string]bool{}}
	conn := jsonrpc2.NewConn(ctx, jsonrpc2.NewBufferedStream(pipe{in, out}, jsonrpc2.VSCodeObjectCodec{}),
		jsonrpc2.HandlerWithError(s.handle))
	select {
	case <-conn.DisconnectNotify():
		return nil
	case <-ctx.Done():
		return conn.Close()
	}
}

// pipe is the two ends of the connection with the editor as one.
type pipe struct {
	io.ReadCloser
	out io.WriteCloser
}

// Write writes to the editor.
func (p pipe) Write(b []byte) (int, error) { return p.out.Write(b) }

// Close closes both ends.
func (p pipe) Close() error {
	if err := p.ReadCloser.Close(); err != nil {
		return err
	}
	return p.out.Close()
}

// server is one editor's session.
type server struct {
	load Loader

	mu   sync.Mutex
	dir  string
	open map[string]string // texts in the editor, by name within the folder
	told map[string]bool   // files that problems were shown for
}

// The parts of the protocol that we use.
type (
	position struct {
		Line      int `json:"line"`
		Character int `json:"character"` // in UTF-16 units
	}
	span struct {
		Start position `json:"start"`
		End   position `json:"end"`
	}
	location struct {
		URI   string `json:"uri"`
		Range span   `json:"range"`
	}
	textEdit struct {
		Range   span   `json:"range"`
		NewText string `json:"newText"`
	}
	diagnostic struct {
		Range    span   `json:"range"`
		Severity int    `json:"severity"`
		Code     string `json:"code"`
		Source   string `json:"source"`
		Message  string `json:"message"`
	}
	params struct {
		TextDocument struct {
			URI  string `json:"uri"`
			Text string `json:"text"`
		} `json:"textDocument"`
		Position       position `json:"position"`
		ContentChanges []struct {
			Text string `json:"text"`
		} `json:"contentChanges"`
		NewName string `json:"newName"`
		Context struct {
			Diagnostics []diagnostic `json:"diagnostics"`
		} `json:"context"`
		RootURI string `json:"rootUri"`
	}
)

// capabilities are what we offer: whole texts on change, and what handle answers.
var capabilities = map[string]any{
	"positionEncoding": "utf-16", "textDocumentSync": 1, "hoverProvider": true, "definitionProvider": true, "referencesProvider": true,
	"renameProvider": true, "documentFormattingProvider": true,
	"completionProvider":     map[string]any{"triggerCharacters": []string{" ", ","}},
	"documentSymbolProvider": true, "codeActionProvider": map[string]any{"codeActionKinds": []string{"quickfix"}},
	"semanticTokensProvider": map[string]any{"full": true,
		"legend": map[string]any{"tokenTypes": tokenTypes, "tokenModifiers": []string{"declaration"}}},
}

// handle answers one request, or takes one notice.
func (s *server) handle(ctx context.Context, conn *jsonrpc2.Conn, req *jsonrpc2.Request) (any, error) {
	var p params
	if req.Params != nil {
		if err := json.Unmarshal(*req.Params, &p); err != nil {
			return nil, &jsonrpc2.Error{Code: jsonrpc2.CodeInvalidParams, Message: err.Error()}
		}
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	switch req.Method {
	case "initialize":
		s.dir = pathOf(p.RootURI)
		return map[string]any{"capabilities": capabilities, "serverInfo": map[string]string{"name": "yfence"}}, nil
	case "textDocument/didOpen":
		s.open[s.name(p.TextDocument.URI)] = p.TextDocument.Text
		return nil, s.diagnose(ctx, conn)
	case "textDocument/didChange":
		if n := len(p.ContentChanges); n > 0 {
			s.open[s.name(p.TextDocument.URI)] = p.ContentChanges[n-1].Text
		}
		return nil, s.diagnose(ctx, conn)
	case "textDocument/didClose":
		delete(s.open, s.name(p.TextDocument.URI))
		return nil, s.diagnose(ctx, conn)
	case "textDocument/didSave", "initialized", "$/setTrace", "$/cancelRequest", "workspace/didChangeConfiguration":
		return nil, nil
	case "shutdown":
		return nil, nil
	case "exit":
		return nil, conn.Close()
	case "textDocument/hover", "textDocument/definition", "textDocument/references", "textDocument/rename", "textDocument/completion",
		"textDocument/formatting",
		"textDocument/documentSymbol", "textDocument/codeAction", "textDocument/semanticTokens/full":
		return s.answer(req.Method, p)
	}
	return nil, &jsonrpc2.Error{Code: jsonrpc2.CodeMethodNotFound, Message: req.Method + " is not offered"}
}

// answer is what an editor asks about a place.
func (s *server) answer(method string, p params) (any, error) {
	pol, err := s.sources()
	if err != nil {
		return nil, err
	}
	sources := pol.Sources
	name := s.name(p.TextDocument.URI)
	text := textOf(sources, name)
	if method == "textDocument/formatting" {
		file, problems := fence.Parse(name, text)
		if len(problems) > 0 {
			return nil, &jsonrpc2.Error{Code: jsonrpc2.CodeInvalidRequest, Message: "a file with mistakes is not laid out: " +
				check.Summary(problems)}
		}
		return []textEdit{{span{position{}, position{strings.Count(text, "\n") + 1, 0}}, fence.Print(file)}}, nil
	}
	if method == "textDocument/codeAction" {
		return s.actions(p), nil
	}
	a := assist.Analyse(sources, pol.Fleet)
	pos := fencePos(name, text, p.Position)
	switch method {
	case "textDocument/documentSymbol":
		return s.symbols(a, sources, name), nil
	case "textDocument/semanticTokens/full":
		return map[string]any{"data": tokens(a, name, text)}, nil
	case "textDocument/hover":
		if said := a.Hover(pos); said != "" {
			return map[string]any{"contents": map[string]string{"kind": "markdown", "value": said}}, nil
		}
		return nil, nil
	case "textDocument/definition":
		if d, ok := a.Definition(pos); ok {
			return s.location(sources, d), nil
		}
		return nil, nil
	case "textDocument/references":
		out := []location{}
		for _, i := range a.Uses(pos) {
			out = append(out, s.location(sources, i))
		}
		return out, nil
	case "textDocument/rename":
		places, err := a.Rename(pos, p.NewName)
		var inFleet []location
		if err == nil {
			inFleet, err = s.inFleet(pol.FleetFile, a.Kind(pos), places[0].Name)
		}
		if err != nil {
			return nil, &jsonrpc2.Error{Code: jsonrpc2.CodeInvalidRequest, Message: err.Error()}
		}
		changes := map[string][]textEdit{}
		for _, i := range places {
			l := s.location(sources, i)
			changes[l.URI] = append(changes[l.URI], textEdit{l.Range, p.NewName})
		}
		for _, l := range inFleet {
			changes[l.URI] = append(changes[l.URI], textEdit{l.Range, p.NewName})
		}
		return map[string]any{"changes": changes}, nil
	}
	items := []map[string]any{}
	for _, c := range a.Complete(pos) {
		items = append(items, map[string]any{"label": c.Text, "kind": completionKinds[c.Kind], "detail": c.Note})
	}
	return items, nil
}

// completionKinds are the protocol's numbers for how a proposal is shown.
var completionKinds = map[string]int{"statement": 14, "modifier": 14, "word": 14, "role": 7, "network": 8, "segment": 8, "service": 6,
	"rule": 18, "host": 21}

// sources are the policy's files, with what is open in the editor over them.
func (s *server) sources() (Policy, error) {
	pol, err := s.load(s.dir)
	if err != nil && len(s.open) == 0 {
		return pol, err
	}
	if pol.Fleet == nil {
		pol.Fleet = &fleet.Fleet{}
	}
	fleetName := s.name(s.uri(pol.FleetFile.Name))
	seen := map[string]bool{fleetName: pol.FleetFile.Name != ""}
	for i := range pol.Sources {
		seen[pol.Sources[i].Name] = true
		if text, open := s.open[pol.Sources[i].Name]; open {
			pol.Sources[i].Text = text
		}
	}
	for name, text := range s.open {
		switch {
		case name == fleetName && pol.FleetFile.Name != "":
			pol.FleetFile.Text = text
		case !seen[name]:
			pol.Sources = append(pol.Sources, policy.Source{Name: name, Text: text})
		}
	}
	return pol, nil
}

// diagnose shows the policy's problems, and takes away those that are gone.
func (s *server) diagnose(ctx context.Context, conn *jsonrpc2.Conn) error {
	pol, err := s.sources()
	if err != nil {
		return err
	}
	sources := pol.Sources
	_, problems, err := check.PolicyWithin(packet.Budget{Edges: limits.Cases}, sources, pol.Fleet, time.Now().Unix())
	if err != nil && len(sources) > 0 {
		problems = []source.Problem{source.Errorf(source.Pos{File: sources[0].Name, Line: 1, Column: 1}, 1, "policy-size", "%s", err).
			Hinted("rules with fewer distinct ports and addresses take less")}
	}
	byFile := map[string][]diagnostic{}
	for _, name := range keys(s.told, s.open) {
		byFile[name] = []diagnostic{}
	}
	for _, pr := range problems {
		severity := 1
		if pr.Severity == source.Warning {
			severity = 2
		}
		message := pr.Message
		if pr.Packet != nil {
			message += "\nfor example: " + pr.Packet.String()
		}
		if pr.Hint != "" {
			message += "\n" + pr.Hint
		}
		byFile[pr.File] = append(byFile[pr.File],
			diagnostic{s.span(sources, source.Pos{File: pr.File, Line: pr.Line, Column: pr.Column}, max(pr.Width, 1)), severity, pr.Code,
				"yfence", message})
	}
	for name, list := range byFile {
		s.told[name] = len(list) > 0
		if err := conn.Notify(ctx, "textDocument/publishDiagnostics", map[string]any{"uri": s.uri(name), "diagnostics": list}); err != nil {
			return err
		}
	}
	return nil
}

// keys are files that have problems shown or are open, each once: what must be told anew.
func keys(told map[string]bool, open map[string]string) (out []string) {
	for name, any := range told {
		if any {
			out = append(out, name)
		}
	}
	for name := range open {
		out = append(out, name)
	}
	return out
}

// name is a document's name within the policy's folder.
func (s *server) name(uri string) string {
	path := pathOf(uri)
	if rel, err := filepath.Rel(s.dir, path); err == nil && filepath.IsLocal(rel) {
		return filepath.ToSlash(rel)
	}
	return path
}

// uri is a file's address as the editor knows it.
func (s *server) uri(name string) string {
	path := name
	if !filepath.IsAbs(name) {
		path = filepath.Join(s.dir, filepath.FromSlash(name))
	}
	return (&url.URL{Scheme: "file", Path: filepath.ToSlash(path)}).String()
}

// pathOf is the way back.
func pathOf(uri string) string {
	u, err := url.Parse(uri)
	if err != nil || u.Scheme != "file" {
		return uri
	}
	return filepath.FromSlash(u.Path)
}

// textOf is a file's text, "" where there is no such file.
func textOf(sources []policy.Source, name string) string {
	for _, s := range sources {
		if s.Name == name {
			return s.Text
		}
	}
	return ""
}

// lineOf is a line by its number from 0.
func lineOf(text string, n int) string {
	if lines := strings.Split(text, "\n"); n >= 0 && n < len(lines) {
		return lines[n]
	}
	return ""
}

// fencePos turns the protocol's place, in UTF-16 units from 0, into ours, in characters from 1.
func fencePos(name, text string, p position) source.Pos {
	column, units := 1, 0
	for _, r := range lineOf(text, p.Line) {
		if units >= p.Character {
			break
		}
		units += utf16Length(r)
		column++
	}
	return source.Pos{File: name, Line: p.Line + 1, Column: column}
}

// utf16Length is how many UTF-16 units a letter has.
func utf16Length(r rune) int {
	if r > 0xffff {
		return 2
	}
	return 1
}

// lspPos is the way back.
func lspPos(line string, pos source.Pos) position {
	units, column := 0, 1
	for _, r := range line {
		if column >= pos.Column {
			break
		}
		units += utf16Length(r)
		column++
	}
	return position{pos.Line - 1, units}
}

// span is a place of ours as the protocol counts.
func (s *server) span(sources []policy.Source, pos source.Pos, width int) span {
	line := lineOf(textOf(sources, pos.File), pos.Line-1)
	end := pos
	end.Column += width
	return span{lspPos(line, pos), lspPos(line, end)}
}

// location is where a name stands.
func (s *server) location(sources []policy.Source, i fence.Ident) location {
	return location{s.uri(i.Pos.File), s.span(sources, i.Pos, utf8.RuneCountInString(i.Name))}
}
