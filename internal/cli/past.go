package cli

import (
	"fmt"
	"io"

	"github.com/spf13/cobra"

	"yellowfence.example/yfence/api"
)

// pastCommand makes `yfence past`.
func (a *app) pastCommand() *cobra.Command {
	var before int64
	c := &cobra.Command{
		Use: "past HOST", Short: "Show each change of what was in force on a host, the newest first", Args: cobra.ExactArgs(1),
		Long: `Past lists when the rules in force on a host changed, as its reports showed it, and which
rules and elements of sets came and went. Who asked for a change the record tells: yfence record --on HOST.
What a packet met then: yfence ask --at TIME, yfence drift HOST --at TIME.`,
	}
	c.Flags().Int64Var(&before, "before", 0, "list changes before the one with this number")
	c.RunE = func(cmd *cobra.Command, args []string) error {
		svc, err := a.service()
		if err != nil {
			return err
		}
		past, err := svc.Past(cmd.Context(), args[0], before)
		if err != nil {
			return err
		}
		return a.print(past, func(w io.Writer) { a.printPast(w, past) })
	}
	return c
}

func (a *app) printPast(w io.Writer, past api.Past) {
	p := a.paint(w)
	if len(past.Changes) == 0 {
		_, _ = fmt.Fprintf(w, "%s has reported nothing that is kept\n", past.Host)
	}
	for _, c := range past.Changes {
		published := "nothing was published"
		if c.Published > 0 {
			published = fmt.Sprintf("revision %d was published", c.Published)
		}
		what := "the first report that is kept"
		switch {
		case c.First:
		case c.Unread != "":
			what = "it is not known what changed: " + c.Unread
		case c.Added+c.Removed == 0:
			what = "the listing changed, and no rule did"
		default:
			what = fmt.Sprintf("%s added, %d removed", plural(c.Added, "line"), c.Removed)
		}
		_, _ = fmt.Fprintf(w, "%s  %s; %s; last reported %s\n", p(bold, secondText(c.Began)), what, published,
			secondText(c.Until))
		for _, line := range c.Plus {
			_, _ = fmt.Fprintf(w, "  + %s\n", line)
		}
		for _, line := range c.Minus {
			_, _ = fmt.Fprintf(w, "  - %s\n", line)
		}
		if hidden := c.Added + c.Removed - len(c.Plus) - len(c.Minus); hidden > 0 {
			_, _ = fmt.Fprintf(w, "  and %s more\n", plural(hidden, "line"))
		}
	}
	if past.Next != 0 {
		_, _ = fmt.Fprintf(w, "earlier ones: yfence past %s --before %d\n", past.Host, past.Next)
	}
}
