// Package pagetest keeps tables of the documentation as the tables in the code are. Tests import it.
package pagetest

import (
	"flag"
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// Table wants the page to have these rows under a head: "| when | means |", for rows of two cells. With
// the test's flag -update it writes them there. What stands around the table is left alone.
func Table(t *testing.T, page, head string, rows [][]string) {
	t.Helper()
	text, err := os.ReadFile(page)
	require.NoError(t, err)
	head += "\n" + strings.Repeat("|---", strings.Count(head, "|")-1) + "|\n"
	before, rest, found := strings.Cut(string(text), head)
	require.True(t, found, "%s has no table with the head %q", page, head)
	_, after, found := strings.Cut(rest, "\n\n")
	require.True(t, found, "something must stand after the table of %s", page)
	var b strings.Builder
	b.WriteString(before + head)
	for _, cells := range rows {
		b.WriteString("| " + strings.Join(cells, " | ") + " |\n")
	}
	b.WriteString("\n" + after)
	if f := flag.Lookup("update"); f != nil && f.Value.String() == "true" {
		require.NoError(t, os.WriteFile(page, []byte(b.String()), 0o644))
		return
	}
	require.Equal(t, b.String(), string(text), "run the test with -update")
}
