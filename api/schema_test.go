package api_test

import (
	"bytes"
	"encoding/json"
	"flag"
	"os"
	"reflect"
	"strings"
	"testing"

	"github.com/danielgtaylor/huma/v2"
	"github.com/stretchr/testify/require"

	"yellowfence.example/yfence/api"
	"yellowfence.example/yfence/core/dialect/group"
	"yellowfence.example/yfence/core/dialect/portable"
	"yellowfence.example/yfence/core/fleet"
)

var update = flag.Bool("update", false, "write the schemas in docs/formats anew")

// schemas are the formats of our own that others write or read, made from the Go types.
var schemas = []struct {
	name, title string
	of          reflect.Type
}{
	{"fleet", "Yellow Fence fleet file", reflect.TypeFor[fleet.Fleet]()},
	{"groups", "Yellow Fence security groups", reflect.TypeFor[group.Document]()},
	{"portable", "Yellow Fence portable rules", reflect.TypeFor[portable.Document]()},
	{"report", "Yellow Fence report", reflect.TypeFor[api.Report]()},
}

// schema is a JSON Schema (2020-12) of a type, everything it refers to in it.
func schema(t *testing.T, title string, of reflect.Type) []byte {
	registry := huma.NewMapRegistry("#/$defs/", huma.DefaultSchemaNamer)
	root := registry.Schema(of, true, title)
	defs := map[string]any{}
	for name, s := range registry.Map() {
		defs[name] = s
	}
	if defs["Peer"] != nil { // which writes and reads its own JSON
		defs["Peer"] = map[string]any{"oneOf": []any{
			map[string]any{"type": "string", "description": "a prefix of either family"},
			map[string]any{"type": "object", "additionalProperties": false, "required": []string{"group"},
				"properties": map[string]any{"group": map[string]any{"type": "string", "description": "whatever is in this group"}}},
		}}
	}
	doc := map[string]any{"$schema": "https://json-schema.org/draft/2020-12/schema", "title": title, "$ref": root.Ref, "$defs": defs}
	text, err := json.Marshal(doc)
	require.NoError(t, err)
	var out bytes.Buffer
	require.NoError(t, json.Indent(&out, text, "", "  "))
	return append(out.Bytes(), '\n')
}

// TestSchemas keeps the published schemas what the Go types say.
func TestSchemas(t *testing.T) {
	for _, s := range schemas {
		file := "../docs/formats/" + s.name + ".schema.json"
		got := schema(t, s.title, s.of)
		if *update {
			require.NoError(t, os.MkdirAll("../docs/formats", 0o755))
			require.NoError(t, os.WriteFile(file, got, 0o644))
		}
		want, err := os.ReadFile(file)
		require.NoError(t, err)
		require.Equal(t, string(want), string(got), "make generate writes it anew")
	}
}

// TestTheSchemaAcceptsWhatTheReaderAccepts, and refuses what it refuses.
func TestTheSchemaAcceptsWhatTheReaderAccepts(t *testing.T) {
	registry := huma.NewMapRegistry("#/$defs/", huma.DefaultSchemaNamer)
	root := registry.Schema(reflect.TypeFor[fleet.Fleet](), true, "Fleet")
	saltmarsh, err := os.ReadFile("../demo/saltmarsh/fleet.json")
	require.NoError(t, err)
	for text, sound := range map[string]bool{
		string(saltmarsh):          true,
		`{"hosts": []}`:            true,
		`{}`:                       false,
		`{"hosts": [], "hots": 1}`: false,
		`{"hosts": [{"name": "a", "roles": ["r"], "interfaces": [{"name": "e", "addresses": ["10.0.0.1/8"]}]}]}`: true,
		`{"hosts": [{"name": "a", "roles": ["r"]}]}`:                                                             false,
		`{"hosts": [{"name": "a", "roles": "r", "interfaces": []}]}`:                                             false,
		`{"hosts": [{"name": "a", "roles": ["r"], "dialect": "ntf", "interfaces": []}]}`:                         false,
		strings.Replace(string(saltmarsh), `"port": 8480`, `"port": "8480"`, 1):                                  false,
	} {
		var doc any
		require.NoError(t, json.Unmarshal([]byte(text), &doc))
		res := &huma.ValidateResult{}
		huma.Validate(registry, root, huma.NewPathBuffer([]byte{}, 0), huma.ModeWriteToServer, doc, res)
		_, problems := fleet.Read("fleet.json", []byte(text))
		require.Equal(t, sound, len(problems) == 0, "the reader on %.80s: %v", text, problems)
		require.Equal(t, sound, len(res.Errors) == 0, "the schema on %.80s: %v", text, res.Errors)
	}
}
