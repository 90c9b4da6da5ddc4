package cli_test

import (
	"bytes"
	"encoding/json"
	"fmt"
	"os"
	"slices"
	"strings"
	"testing"

	"github.com/goccy/go-yaml"
	"github.com/stretchr/testify/require"

	"yellowfence.example/yfence/internal/cli"
)

// wrongBy says where a value is not as a JSON Schema wants it, as far as ours say.
func wrongBy(schema map[string]any, v any, at string) (wrong []string) {
	switch v := v.(type) {
	case map[string]any:
		properties, _ := schema["properties"].(map[string]any)
		for key, inner := range v {
			of, known := properties[key].(map[string]any)
			if more, is := schema["additionalProperties"].(map[string]any); !known && is {
				of, known = more, true
			}
			if !known {
				wrong = append(wrong, at+"/"+key+" is not known")
				continue
			}
			wrong = append(wrong, wrongBy(of, inner, at+"/"+key)...)
		}
		required, _ := schema["required"].([]any)
		for _, name := range required {
			if _, there := v[name.(string)]; !there {
				wrong = append(wrong, fmt.Sprintf("%s/%s is missing", at, name))
			}
		}
	case []any:
		if either, is := schema["oneOf"].([]any); is {
			schema = either[1].(map[string]any)
		}
		items, is := schema["items"].(map[string]any)
		if !is {
			return []string{at + " is no list"}
		}
		for n, inner := range v {
			wrong = append(wrong, wrongBy(items, inner, fmt.Sprint(at, "/", n))...)
		}
	case string:
		if of, is := schema["enum"].([]any); is && !slices.Contains(of, any(v)) {
			wrong = append(wrong, at+" is "+v)
		}
	}
	return wrong
}

// TestConfigSchema: the published schema is what the program prints, takes the examples of the documentation, and
// refuses what the program refuses.
func TestConfigSchema(t *testing.T) {
	var out bytes.Buffer
	require.Zero(t, cli.Main([]string{"config", "schema"}, strings.NewReader(""), &out, os.Stderr, func(string) string { return "" }))
	const file = "../../docs/formats/service.schema.json"
	if *update {
		require.NoError(t, os.WriteFile(file, out.Bytes(), 0o644))
	}
	want, err := os.ReadFile(file)
	require.NoError(t, err)
	require.Equal(t, string(want), out.String(), "run the test with -update")
	var schema map[string]any
	require.NoError(t, json.Unmarshal(out.Bytes(), &schema))
	tried := 0
	for _, page := range []string{"running.md", "events.md", "proposals.md"} {
		text, err := os.ReadFile("../../docs/" + page)
		require.NoError(t, err)
		for _, block := range strings.Split(string(text), "```yaml\n")[1:] {
			example, _, _ := strings.Cut(block, "```")
			var v map[string]any
			require.NoError(t, yaml.Unmarshal([]byte(example), &v), "%s", example)
			require.Empty(t, wrongBy(schema, v, page))
			tried++
		}
	}
	require.Greater(t, tried, 3)
	for text, says := range map[string]string{"keeep: 3d": "/keeep is not known",
		"approvals: [{when: moves}]":         "/approvals/0/when is moves",
		"events: [{url: https://x.example}]": "/events/0/name is missing", "sign-in: {issuer: x, secret: y}": "/sign-in/secret is not " +
			"known"} {
		var v map[string]any
		require.NoError(t, yaml.Unmarshal([]byte(text), &v))
		require.Contains(t, wrongBy(schema, v, ""), says)
	}
}
