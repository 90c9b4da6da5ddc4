package fence

import (
	"flag"
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

var update = flag.Bool("update", false, "write golden files and the reference's tables anew")

const reference = "../../docs/language.md"

// TestTheDocumentationParses reads every example of the language reference, and
// prints it as it stands there.
func TestTheDocumentationParses(t *testing.T) {
	text, err := os.ReadFile(reference)
	require.NoError(t, err)
	examples := regexp.MustCompile("(?s)```fence\n(.*?)```").FindAllStringSubmatch(string(text), -1)
	require.NotEmpty(t, examples)
	for _, e := range examples {
		file, problems := Parse("language.md", e[1])
		require.Empty(t, problems)
		if *update {
			text = []byte(strings.Replace(string(text), e[1], Print(file), 1))
			require.NoError(t, os.WriteFile(reference, text, 0o644))
			continue
		}
		require.Equal(t, e[1], Print(file), "the reference shows the standard layout")
	}
}

// TestTheReferenceListsEverything: the tables of statements and modifiers are
// those that the parser and the printer work by.
func TestTheReferenceListsEverything(t *testing.T) {
	var statementRows, modifierRows strings.Builder
	cell := func(s string) string { return strings.ReplaceAll(s, "|", `\|`) }
	for _, s := range statements {
		fmt.Fprintf(&statementRows, "| `%s` | %s |\n", cell(s.Form), cell(s.Means))
	}
	for _, m := range modifiers {
		with := ""
		if m.on != "" && m.on != "allow block" {
			with = "(" + strings.ReplaceAll(m.on, " ", ", ") + ") "
		}
		fmt.Fprintf(&modifierRows, "| `%s` | %s%s |\n", cell(m.Form), with, cell(m.Means))
	}
	text, err := os.ReadFile(reference)
	require.NoError(t, err)
	want := string(text)
	for name, rows := range map[string]string{"statement": statementRows.String(), "modifier": modifierRows.String()} {
		table := regexp.MustCompile(`(?s)(\| ` + name + ` \| meaning \|\n\|---\|---\|\n).*?\n\n`)
		require.Regexp(t, table, want)
		want = table.ReplaceAllStringFunc(want, func(old string) string {
			head := strings.Join(strings.SplitAfterN(old, "\n", 3)[:2], "")
			return head + rows + "\n"
		})
	}
	if *update {
		require.NoError(t, os.WriteFile(reference, []byte(want), 0o644))
		return
	}
	require.Equal(t, want, string(text), "go test ./core/fence -update writes the tables")
}

// TestSaltmarshSaysEverything: the demo's policy has every statement and every
// modifier of the language, so that whoever learns it finds each in use.
func TestSaltmarshSaysEverything(t *testing.T) {
	paths, err := filepath.Glob("../../demo/saltmarsh/*.fence")
	require.NoError(t, err)
	said := map[string]bool{}
	for _, path := range paths {
		text, err := os.ReadFile(path)
		require.NoError(t, err)
		file, problems := Parse(filepath.Base(path), string(text))
		require.Empty(t, problems)
		for i, stmt := range file.Stmts {
			said[strings.Fields(strings.Split(string(text), "\n")[file.Lines[i][0]-1])[0]] = true
			into := modified{}
			switch s := stmt.(type) {
			case *Rule:
				into = modified{s, &s.Common}
			case *Redirect:
				into.common = &s.Common
			case *Masquerade:
				into.common = &s.Common
			case *Expectation:
				into = modified{s.asRule(), &s.Common}
			case *Leave:
				into.common = &s.Common
			}
			said["with"] = said["with"] || WithOf(stmt) != nil
			for _, m := range modifiers {
				if into.common != nil && (into.rule != nil || m.on == "") && m.print(&into) != "" {
					said[m.Keyword] = true
				}
			}
		}
	}
	for _, s := range statements {
		require.True(t, said[s.Keyword], "no statement %q", s.Keyword)
	}
	for _, m := range modifiers {
		require.True(t, said[m.Keyword], "no modifier %q", m.Keyword)
	}
}
