package lsp_test

import (
	"context"
	"encoding/json"
	"io"
	"strings"
	"testing"
	"time"

	"github.com/sourcegraph/jsonrpc2"
	"github.com/stretchr/testify/require"

	"yellowfence.example/yfence/core/fleet"
	"yellowfence.example/yfence/core/policy"
	"yellowfence.example/yfence/core/policy/policytest"
	"yellowfence.example/yfence/internal/lsp"
)

const onDisk = "policy p language 1\nrole red\nrole blue\nrole green\nnetwork office = 198.51.100.0/24, 2001:db8:5::/48\nallow way-in: " +
	"office -> red : ssh  guard\nallow hop:    red -> fleet : ssh  guard\nallow use:    blue, green -> red : https\n"

type stream struct {
	io.Reader
	io.WriteCloser
}

// editor is the other end of the protocol.
type editor struct {
	*jsonrpc2.Conn
	t           *testing.T
	diagnostics chan published
}

type published struct {
	URI         string
	Diagnostics []struct {
		Code     string
		Severity int
		Message  string
		Range    struct{ Start, End struct{ Line, Character int } }
	}
}

func newEditor(t *testing.T) *editor {
	fl, problems := fleet.ReadJSON("fleet.json", []byte(policytest.Fleet))
	require.Empty(t, problems)
	load := func(dir string) (lsp.Policy, error) {
		require.Equal(t, "/work tree/policy", dir)
		return lsp.Policy{Sources: []policy.Source{{Name: "rules.fence", Text: onDisk}}, Fleet: fl,
			FleetFile: policy.Source{Name: "/work tree/policy/fleet.json", Text: policytest.Fleet}}, nil
	}
	fromEditor, toServer := io.Pipe()
	fromServer, toEditor := io.Pipe()
	done := make(chan error, 1)
	go func() { done <- lsp.Serve(context.Background(), fromEditor, toEditor, load) }()
	e := &editor{t: t, diagnostics: make(chan published, 100)}
	e.Conn = jsonrpc2.NewConn(context.Background(), jsonrpc2.NewBufferedStream(stream{fromServer, toServer}, jsonrpc2.VSCodeObjectCodec{}),
		jsonrpc2.HandlerWithError(func(_ context.Context, _ *jsonrpc2.Conn, req *jsonrpc2.Request) (any, error) {
			require.Equal(t, "textDocument/publishDiagnostics", req.Method)
			var p published
			require.NoError(t, json.Unmarshal(*req.Params, &p))
			e.diagnostics <- p
			return nil, nil
		}))
	t.Cleanup(func() {
		require.NoError(t, e.Notify(context.Background(), "exit", nil))
		select {
		case err := <-done:
			require.NoError(t, err)
		case <-time.After(5 * time.Second):
			t.Error("the server does not end")
		}
	})
	return e
}

const uri = "file:///work%20tree/policy/rules.fence"

// ask calls a method about a place of the document.
func ask[T any](e *editor, method string, line, character int, more map[string]any) (out T, err error) {
	params := map[string]any{"textDocument": map[string]any{"uri": uri}, "position": map[string]any{"line": line, "character": character}}
	for k, v := range more {
		params[k] = v
	}
	return out, e.Call(context.Background(), method, params, &out)
}

func (e *editor) change(text string) published {
	e.t.Helper()
	require.NoError(e.t, e.Notify(context.Background(), "textDocument/didChange",
		map[string]any{"textDocument": map[string]any{"uri": uri}, "contentChanges": []map[string]any{{"text": text}}}))
	return e.next()
}

func (e *editor) next() published {
	e.t.Helper()
	select {
	case p := <-e.diagnostics:
		return p
	case <-time.After(5 * time.Second):
		e.t.Fatal("no problems are published")
		return published{}
	}
}

// TestASessionWithAnEditor types, asks, renames and lays out, over the protocol.
func TestASessionWithAnEditor(t *testing.T) {
	e := newEditor(t)
	var hello struct {
		Capabilities struct {
			HoverProvider    bool
			PositionEncoding string
		}
	}
	require.NoError(t, e.Call(context.Background(), "initialize", map[string]any{"rootUri": "file:///work%20tree/policy"}, &hello))
	require.True(t, hello.Capabilities.HoverProvider)
	require.NoError(t, e.Notify(context.Background(), "initialized", map[string]any{}))
	require.NoError(t, e.Notify(context.Background(), "textDocument/didOpen",
		map[string]any{"textDocument": map[string]any{"uri": uri, "text": onDisk}}))
	p := e.next()
	require.Equal(t, uri, p.URI)
	require.Empty(t, p.Diagnostics, "it is sound")

	p = e.change(onDisk + "allow 😀: ofice -> red : ssh\n")
	require.NotEmpty(t, p.Diagnostics)
	p = e.change(onDisk + "allow x: office -> red : http because \"😀\" lgo\n")
	require.Len(t, p.Diagnostics, 1)
	d := p.Diagnostics[0]
	require.Equal(t, []any{"modifier", 1, 8, 43, 46},
		[]any{d.Code, d.Severity, d.Range.Start.Line, d.Range.Start.Character, d.Range.End.Character}, "UTF-16 units")
	require.Contains(t, d.Message, `did you mean "log"?`)
	fixes, err := ask[[]struct {
		Title string
		Edit  struct {
			Changes map[string][]struct{ NewText string }
		}
	}](e, "textDocument/codeAction", 8, 43,
		map[string]any{"context": map[string]any{"diagnostics": []any{map[string]any{"source": "yfence", "message": d.Message,
			"range": map[string]any{"start": map[string]any{"line": 8, "character": 43},
				"end": map[string]any{"line": 8, "character": 46}}}}}})
	require.NoError(t, err)
	require.Len(t, fixes, 1)
	require.Equal(t, []string{"Write log", "log"}, []string{fixes[0].Title, fixes[0].Edit.Changes[uri][0].NewText})
	p = e.change(onDisk + "allow x: everywhere -> red : postgresql\n")
	require.Equal(t, []any{"wide-open", 2}, []any{p.Diagnostics[0].Code, p.Diagnostics[0].Severity})
	require.Empty(t, e.change(onDisk).Diagnostics, "what is mended is taken away")

	hover, err := ask[struct{ Contents struct{ Value string } }](e, "textDocument/hover", 5, 16, nil)
	require.NoError(t, err)
	require.Contains(t, hover.Contents.Value, "**network office**")
	type location struct {
		URI   string
		Range struct{ Start struct{ Line, Character int } }
	}
	definition, err := ask[location](e, "textDocument/definition", 5, 16, nil)
	require.NoError(t, err)
	require.Equal(t, []any{uri, 4, 8}, []any{definition.URI, definition.Range.Start.Line, definition.Range.Start.Character})
	uses, err := ask[[]location](e, "textDocument/references", 1, 6, nil)
	require.NoError(t, err)
	require.Len(t, uses, 4, "red: declared once, used three times")

	renamed, err := ask[struct {
		Changes map[string][]struct{ NewText string }
	}](e, "textDocument/rename", 1, 6, map[string]any{"newName": "crimson"})
	require.NoError(t, err)
	require.Len(t, renamed.Changes[uri], 4)
	require.Len(t, renamed.Changes["file:///work%20tree/policy/fleet.json"], strings.Count(policytest.Fleet, `"red"`),
		"and in the fleet file")
	symbols, err := ask[[]struct {
		Name, Detail string
		Kind         int
	}](e, "textDocument/documentSymbol", 0, 0, nil)
	require.NoError(t, err)
	require.Contains(t, symbols, struct {
		Name, Detail string
		Kind         int
	}{"red", "role", 5})
	colours, err := ask[struct{ Data []int }](e, "textDocument/semanticTokens/full", 0, 0, nil)
	require.NoError(t, err)
	require.Zero(t, len(colours.Data)%5)
	require.Equal(t, []int{0, 0, 6, 0, 0}, colours.Data[:5], "policy, a word of the language")
	_, err = ask[any](e, "textDocument/rename", 1, 6, map[string]any{"newName": "blue"})
	require.ErrorContains(t, err, `"blue" is taken`)

	proposals, err := ask[[]struct{ Label string }](e, "textDocument/completion", 5, 30, nil)
	require.NoError(t, err)
	require.Contains(t, proposals, struct{ Label string }{"postgresql"})

	e.change("policy p   language 1\nrole   red\n")
	edits, err := ask[[]struct{ NewText string }](e, "textDocument/formatting", 0, 0, nil)
	require.NoError(t, err)
	require.Equal(t, "policy p language 1\nrole red\n", edits[0].NewText)
	e.change("role red red\n")
	_, err = ask[any](e, "textDocument/formatting", 0, 0, nil)
	require.ErrorContains(t, err, "a file with mistakes is not laid out: 1 error")

	_, err = ask[any](e, "textDocument/foldingRange", 0, 0, nil)
	require.ErrorContains(t, err, "textDocument/foldingRange is not offered")
	require.NoError(t, e.Call(context.Background(), "shutdown", nil, nil))
}
