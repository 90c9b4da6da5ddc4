package fence

import (
	"os"
	"regexp"
	"testing"

	"github.com/stretchr/testify/require"
)

// TestTheDocumentationParses reads every example of the language reference.
func TestTheDocumentationParses(t *testing.T) {
	text, err := os.ReadFile("../../docs/language.md")
	require.NoError(t, err)
	examples := regexp.MustCompile("(?s)```fence\n(.*?)```").FindAllStringSubmatch(string(text), -1)
	require.NotEmpty(t, examples)
	for _, e := range examples {
		_, problems := Parse("language.md", e[1])
		require.Empty(t, problems)
	}
	for _, s := range statements {
		require.Regexp(t, "(?m)`"+s.Keyword+"\\b|^`allow\\|block", string(text), "the reference says nothing of %s", s.Keyword)
	}
	for _, m := range modifiers {
		require.Contains(t, string(text), "| `"+m.Keyword, "the reference says nothing of %s", m.Keyword)
	}
}
