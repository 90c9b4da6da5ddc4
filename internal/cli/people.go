package cli

import (
	"fmt"
	"io"
	"strings"
	"text/tabwriter"

	"github.com/spf13/cobra"

	"yellowfence.example/yfence/api"
)

// peopleCommand makes `yfence people`, which lists, and what is under it.
func (a *app) peopleCommand() *cobra.Command {
	noun := &cobra.Command{Use: "people", Short: "Who is signed in through the identity provider"}
	list := &cobra.Command{
		Use: "people", Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			svc, err := a.service()
			if err != nil {
				return err
			}
			all, err := svc.People(cmd.Context())
			if err != nil {
				return err
			}
			return a.print(all, func(w io.Writer) {
				if len(all.People) == 0 {
					_, _ = fmt.Fprintln(w, "nobody is signed in; programs have tokens (yfence tokens)")
					return
				}
				t := tabwriter.NewWriter(w, 0, 0, 3, ' ', 0)
				_, _ = fmt.Fprintln(t, "NAME\tGROUPS\tRIGHTS\tSESSIONS\tUNTIL")
				for _, p := range all.People {
					_, _ = fmt.Fprintf(t, "%s\t%s\t%s\t%d\t%s\n", p.Name, strings.Join(p.Groups, " "), strings.Join(api.Words(p.Rights),
						" "),
						p.Sessions, minuteText(p.Until))
				}
				_ = t.Flush()
			})
		},
	}
	noun.AddCommand(a.peopleSignOut())
	return listing(noun, list)
}

// peopleSignOut makes `yfence people sign-out`.
func (a *app) peopleSignOut() *cobra.Command {
	var why string
	c := &cobra.Command{
		Use: "sign-out NAME", Short: "End all sessions of a person", Args: cobra.ExactArgs(1),
		Long: `Sign-out ends all sessions of a person at once. Who may sign in is for the identity
provider to say: take somebody who leaves out of his groups there first.`,
		RunE: func(cmd *cobra.Command, args []string) error {
			svc, err := a.service()
			if err != nil {
				return err
			}
			n, err := svc.SignOutPerson(cmd.Context(), args[0], why)
			if err != nil {
				return err
			}
			return a.print(map[string]any{"version": api.Version, "ended": n},
				func(w io.Writer) { _, _ = fmt.Fprintf(w, "ended %s of %s\n", plural(int(n), "session"), args[0]) })
		},
	}
	because(c, &why)
	return c
}
