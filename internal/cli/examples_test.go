package cli

import (
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/spf13/cobra"
	"github.com/stretchr/testify/require"
)

// TestEveryCommandHasExamples: whose flags are its own.
func TestEveryCommandHasExamples(t *testing.T) {
	var look func(c *cobra.Command)
	look = func(c *cobra.Command) {
		for _, sub := range c.Commands() {
			look(sub)
		}
		if c.Hidden || !c.HasParent() || c.Name() == "help" || c.Parent().Name() == "completion" || c.Name() == "completion" {
			return
		}
		require.NotEmpty(t, c.Example, c.CommandPath())
		for _, line := range strings.Split(c.Example, "\n") {
			for _, command := range strings.Split(line, "&& ") {
				words := strings.Fields(command)
				require.Equal(t, "yfence", words[0], line)
				of, _, err := c.Root().Find(words[1:])
				require.NoError(t, err, line)
				for _, w := range words {
					if name, _, _ := strings.Cut(strings.TrimPrefix(w, "--"), "="); strings.HasPrefix(w, "--") && name != "" {
						require.NotNil(t, of.Flag(name), "%s: no flag %s", line, w)
						require.NoError(t, refuseForeign(of), line)
					}
				}
			}
		}
	}
	look((&app{}).root())
}

// TestTheConsolesCommands: what a page says to run there is, and takes the flags that it names.
func TestTheConsolesCommands(t *testing.T) {
	says := regexp.MustCompile("yfence ([a-z][a-z-]*(?: [a-z-]+)*)")
	found := 0
	require.NoError(t, filepath.WalkDir("../../console/src", func(path string, d fs.DirEntry, err error) error {
		if err != nil || filepath.Ext(path) != ".tsx" {
			return err
		}
		text, err := os.ReadFile(path)
		require.NoError(t, err)
		for _, m := range says.FindAllStringSubmatch(string(text), -1) {
			words := strings.Fields(m[1])
			of, _, err := (&app{}).root().Find(words)
			require.NoError(t, err, "%s: %s", path, m[0])
			for _, w := range words {
				if strings.HasPrefix(w, "--") {
					require.NotNil(t, of.Flag(strings.TrimPrefix(w, "--")), "%s: %s", path, m[0])
				}
			}
			found++
		}
		return nil
	}))
	require.Greater(t, found, 20)
}
