package cli

import (
	"errors"
	"fmt"
	"io"
	"strings"

	"github.com/spf13/cobra"

	"yellowfence.example/yfence/api"
	"yellowfence.example/yfence/core/ask"
)

// attentionCommand makes `yfence attention`.
func (a *app) attentionCommand() *cobra.Command {
	return &cobra.Command{
		Use: "attention", Short: "What needs a person now, the most urgent first", Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			svc, err := a.service()
			if err != nil {
				return err
			}
			all, err := svc.Attention(cmd.Context())
			if err != nil {
				return err
			}
			return a.print(all, func(w io.Writer) { printAttention(w, all) })
		},
	}
}

func printAttention(w io.Writer, all api.Attention) {
	if len(all.Concerns) == 0 && all.Reading == 0 {
		_, _ = fmt.Fprintln(w, "nothing; the fleet does what the policy says")
	}
	for _, c := range all.Concerns {
		word := c.Kind
		if c.Kind == api.ConcernState {
			word = string(c.State)
		}
		_, _ = fmt.Fprintf(w, "%-10s %s\n", word, c.Says)
		switch {
		case c.Count > 3:
			_, _ = fmt.Fprintf(w, "%-10s on %s: %s, ...\n", "", plural(c.Count, "host"), strings.Join(c.Hosts[:3], ", "))
		case c.Count > 0:
			_, _ = fmt.Fprintf(w, "%-10s on %s\n", "", strings.Join(c.Hosts, ", "))
		}
		if c.Hint != "" {
			_, _ = fmt.Fprintf(w, "%-10s %s\n", "", c.Hint)
		}
	}
	if all.More > 0 {
		_, _ = fmt.Fprintf(w, "and %d more\n", all.More)
	}
	if all.Reading > 0 {
		_, _ = fmt.Fprintf(w, "the last reports of %s are being read\n", plural(all.Reading, "host"))
	}
}

// reachCommand makes `yfence reach`.
func (a *app) reachCommand() *cobra.Command {
	var revision int64
	var from, to string
	var at *moment
	c := &cobra.Command{
		Use: "reach", Short: "Which services pass between all roles and networks", Args: cobra.NoArgs,
		Long: `Reach shows which new connections pass between all roles and networks of the published
policy. The result is exact. For a network and for everywhere, only addresses that are not
hosts of the fleet count. Packets that every host's ground admits are not shown.
~ marks services that pass between some hosts only.`,
		RunE: func(cmd *cobra.Command, _ []string) error {
			svc, err := a.service()
			if err != nil {
				return err
			}
			var all api.Reach
			switch {
			case at.at.IsZero():
				all, err = svc.Reach(cmd.Context(), revision)
			case revision > 0:
				err = errors.New("name a revision or a time (--at), not both")
			default:
				all, err = svc.ReachAt(cmd.Context(), at.at)
			}
			if err != nil {
				return err
			}
			cells := []ask.ReachCell{}
			for _, c := range all.Cells {
				if (from == "" || c.From == from) && (to == "" || c.To == to) {
					cells = append(cells, c)
				}
			}
			all.Cells = cells
			return a.print(all, func(w io.Writer) { printReach(w, all) })
		},
	}
	c.Flags().Int64Var(&revision, "revision", 0, "of this revision, over the newest fleet (default: what is published)")
	at = momentVar(c, "at", "what was published then, over the fleet of then: a date and time, a time of day, or how long ago")
	c.Flags().StringVar(&from, "from", "", "only from this role or network")
	c.Flags().StringVar(&to, "to", "", "only to this role or network")
	return c
}

func printReach(w io.Writer, all api.Reach) {
	if len(all.Cells) == 0 {
		_, _ = fmt.Fprintln(w, "nothing passes")
	}
	for _, c := range all.Cells {
		said := append([]string{}, c.All...)
		for _, s := range c.Some {
			said = append(said, "~"+s)
		}
		by := make([]string, len(c.By))
		for i, d := range c.By {
			by[i] = d.By
		}
		_, _ = fmt.Fprintf(w, "%s -> %s : %s\n    by %s\n", c.From, c.To, strings.Join(said, "; "), strings.Join(by, ", "))
	}
	if all.More > 0 {
		_, _ = fmt.Fprintf(w, "%d more roles and networks are not shown: there are too many\n", all.More)
	}
	for _, u := range all.Unread {
		_, _ = fmt.Fprintf(w, "unknown, and it could change this result: %s\n", u)
	}
}
