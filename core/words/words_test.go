package words_test

import (
	"flag"
	"os"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"yellowfence.example/yfence/core/words"
)

var update = flag.Bool("update", false, "write docs/glossary.md anew")

// TestTheGlossary is the page, in order, and in sentences that are short.
func TestTheGlossary(t *testing.T) {
	const page = "../../docs/glossary.md"
	if *update {
		require.NoError(t, os.WriteFile(page, []byte(words.Page()), 0o644))
	}
	have, err := os.ReadFile(page)
	require.NoError(t, err)
	require.Equal(t, words.Page(), string(have), "run `make generate` and commit what it writes")
	require.True(t, slices.IsSortedFunc(words.All, func(a, b words.Word) int { return strings.Compare(a.Name, b.Name) }))
	for _, w := range words.All {
		got, ok := words.Find(strings.ToUpper(w.Name))
		require.True(t, ok)
		require.Equal(t, w, got)
		require.FileExists(t, "../../docs/"+w.See+".md")
		for _, sentence := range strings.Split(w.Means, ". ") {
			require.LessOrEqual(t, len(strings.Fields(sentence)), 30, "%s: %s", w.Name, sentence)
		}
	}
	_, ok := words.Find("anything else")
	require.False(t, ok)
}
