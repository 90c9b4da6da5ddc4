package api_test

import (
	"flag"
	"fmt"
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"yellowfence.example/yfence/core/record"
	"yellowfence.example/yfence/internal/api"
)

// TestEventsPage: every deed makes an event, and the page lists every type, as the table has it.
func TestEventsPage(t *testing.T) {
	types := map[string]bool{}
	for _, k := range api.EventKinds {
		types[k.Type] = true
	}
	for _, k := range record.Kinds {
		require.True(t, types[api.EventOf(k.Deed)], "the deed %s makes no event that is listed", k.Deed)
	}
	const page, table = "../../docs/events.md", "| type | tells |\n|---|---|\n"
	text, err := os.ReadFile(page)
	require.NoError(t, err)
	head, rest, found := strings.Cut(string(text), table)
	require.True(t, found)
	_, tail, found := strings.Cut(rest, "\n\n")
	require.True(t, found)
	var b strings.Builder
	b.WriteString(head + table)
	for _, k := range api.EventKinds {
		fmt.Fprintf(&b, "| `%s` | %s |\n", k.Type, k.Says)
	}
	b.WriteString("\n" + tail)
	if flag.Lookup("update") != nil && flag.Lookup("update").Value.String() == "true" {
		require.NoError(t, os.WriteFile(page, []byte(b.String()), 0o644))
		return
	}
	require.Equal(t, b.String(), string(text), "run the test with -update")
}
