package cli

import (
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
