package cli

import (
	"fmt"
	"io"
	"strings"

	"github.com/spf13/cobra"

	"yellowfence.example/yfence/core/source"
	"yellowfence.example/yfence/core/words"
)

// helpCommand is `yfence help`: of a command, or of words.
func (a *app) helpCommand() *cobra.Command {
	return &cobra.Command{
		Use:     "help [COMMAND | words [WORD]]",
		Short:   "Explain a command, or the words that Yellow Fence uses",
		Long:    "Explain a command, or with `words` what our own words mean.",
		Example: "  yfence help waves start\n  yfence help words\n  yfence help words settle",
		RunE: func(cmd *cobra.Command, args []string) error {
			if len(args) > 0 && args[0] == "words" {
				return a.explainWords(strings.Join(args[1:], " "))
			}
			of, left, err := cmd.Root().Find(args)
			if err != nil || of == nil || len(left) > 0 && of == cmd.Root() {
				return fmt.Errorf("there is no command %q; yfence --help lists them, yfence help words lists words",
					strings.Join(args, " "))
			}
			return of.Help()
		},
	}
}

// explainWords prints one word of the glossary, or all.
func (a *app) explainWords(name string) error {
	all := words.All
	if name != "" {
		w, ok := words.Find(name)
		if !ok {
			var names []string
			for _, w := range words.All {
				names = append(names, w.Name)
			}
			hint := ""
			if near := source.Nearest(name, names); near != "" {
				hint = fmt.Sprintf(" (is %q meant?)", near)
			}
			return fmt.Errorf("%q is no word of the glossary%s; yfence help words lists them", name, hint)
		}
		all = []words.Word{w}
	}
	return a.print(map[string]any{"words": all}, func(out io.Writer) {
		for _, w := range all {
			_, _ = fmt.Fprintf(out, "%-13s %s\n", w.Name, folded(w.Means, 14, 100))
		}
	})
}

// folded breaks a text into lines of a width, each but the first indented.
func folded(text string, indent, width int) string {
	var b strings.Builder
	column := indent
	for i, w := range strings.Fields(text) {
		if i > 0 && column+1+len(w) > width {
			b.WriteString("\n" + strings.Repeat(" ", indent))
			column = indent
		} else if i > 0 {
			b.WriteByte(' ')
			column++
		}
		b.WriteString(w)
		column += len(w)
	}
	return b.String()
}
