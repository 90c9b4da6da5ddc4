package service_test

import (
	"bytes"
	"encoding/json"
	"flag"
	"os"
	"testing"

	"github.com/stretchr/testify/require"

	"yellowfence.example/yfence/internal/service"
)

var update = flag.Bool("update", false, "write golden files anew")

// TestOpenAPI keeps docs/openapi.json, which the console's client is made from,
// the document that the Go types give.
func TestOpenAPI(t *testing.T) {
	got, err := service.OpenAPI()
	require.NoError(t, err)
	var indented bytes.Buffer
	require.NoError(t, json.Indent(&indented, got, "", "  "))
	indented.WriteByte('\n')
	const golden = "../../docs/openapi.json"
	if *update {
		require.NoError(t, os.WriteFile(golden, indented.Bytes(), 0o644))
	}
	want, err := os.ReadFile(golden)
	require.NoError(t, err)
	require.Equal(t, string(want), indented.String(), "the API changed: run `make generate` and commit what it writes")
}
