package cli

import (
	"errors"
	"fmt"
	"io"
	"strings"
	"text/tabwriter"
	"time"

	"github.com/spf13/cobra"

	"yellowfence.example/yfence/core/check"
	"yellowfence.example/yfence/core/fleet"
	"yellowfence.example/yfence/internal/api"
)

func (a *app) fleetCommand() *cobra.Command {
	c := &cobra.Command{Use: "fleet", Short: "The hosts: list them, import them"}
	list := &cobra.Command{
		Use:   "list [PART-OF-A-NAME]",
		Short: "All hosts and what they are",
		Args:  cobra.MaximumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			svc, err := a.service()
			if err != nil {
				return err
			}
			fl, err := svc.Fleet(cmd.Context())
			if err != nil {
				return err
			}
			if len(args) == 1 {
				hosts := []api.HostStatus{}
				for _, h := range fl.Hosts {
					if strings.Contains(h.Name, args[0]) {
						hosts = append(hosts, h)
					}
				}
				fl.Hosts = hosts
			}
			return a.print(fl, func(w io.Writer) { printFleet(w, fl) })
		},
	}
	var why string
	var merge, preview bool
	imported := &cobra.Command{
		Use:   "import FILE",
		Short: "Replace the fleet by a fleet file, or merge one into it",
		Long: `Import makes a fleet file the fleet: JSON, YAML or CSV, told by its ending. With
--merge hosts of the same name are replaced, others added, and none removed. With
--preview it tells what would change and changes nothing.`,
		Example: "  yfence fleet import saltmarsh/fleet.json\n  yfence fleet import new-hosts.csv --merge --preview",
		Args:    cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			data, err := a.readFile(args[0])
			if err != nil {
				return err
			}
			a.fleetFile = args[0]
			svc, err := a.service()
			if err != nil {
				return err
			}
			done, err := svc.Import(cmd.Context(), api.ImportRequest{File: args[0], Text: string(data), Why: why, Merge: merge, Preview: preview})
			return a.changed(done, err, []check.Source{{Name: args[0], Text: string(data)}}, func(w io.Writer) {
				printChanges(w, done.Changes)
				if preview {
					_, _ = fmt.Fprintf(w, "nothing is imported yet; generation %d is in force\n", done.Generation)
					return
				}
				_, _ = fmt.Fprintf(w, "imported generation %d of the fleet\n", done.Generation)
			})
		},
	}
	imported.Flags().StringVarP(&why, "message", "m", "", "the reason")
	imported.Flags().BoolVar(&merge, "merge", false, "put its hosts over those that are there, and remove none")
	imported.Flags().BoolVar(&preview, "preview", false, "tell what would change, and change nothing")
	var format string
	exported := &cobra.Command{
		Use:   "export",
		Short: "Print the fleet as a fleet file",
		Args:  cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			svc, err := a.service()
			if err != nil {
				return err
			}
			file, err := svc.Export(cmd.Context(), format)
			if err != nil {
				return err
			}
			return a.print(file, func(w io.Writer) { _, _ = fmt.Fprint(w, file.Text) })
		},
	}
	exported.Flags().StringVar(&format, "format", "json", "json, yaml or csv")
	_ = exported.RegisterFlagCompletionFunc("format", cobra.FixedCompletions([]string{"json", "yaml", "csv"}, cobra.ShellCompDirectiveNoFileComp))
	c.AddCommand(list, imported, exported)
	return c
}

// printChanges prints what an import changes, a line each.
func printChanges(w io.Writer, changes []fleet.Change) {
	if len(changes) == 0 {
		_, _ = fmt.Fprintln(w, "it changes nothing")
	}
	for _, c := range changes {
		_, _ = fmt.Fprintf(w, "%-8s %s\n", c.Kind, strings.TrimSpace(c.Host+"  "+c.What))
	}
}

func printFleet(w io.Writer, fl api.Fleet) {
	if len(fl.Hosts) == 0 {
		_, _ = fmt.Fprintln(w, "no host; yfence fleet import adds them")
		return
	}
	t := tabwriter.NewWriter(w, 0, 0, 3, ' ', 0)
	_, _ = fmt.Fprintln(t, "HOST\tROLES\tSTATE\tFINDINGS\tLAST HEARD\tADDRESSES")
	for _, h := range fl.Hosts {
		heard := "never"
		if h.HeardAt != nil {
			heard = time.Since(*h.HeardAt).Round(time.Second).String() + " ago"
		}
		findings := ""
		if h.Findings > 0 {
			findings = fmt.Sprint(h.Findings)
		} else if h.Cosmetic > 0 {
			findings = "cosmetic"
		}
		var addresses []string
		for _, i := range h.Interfaces {
			for _, p := range i.Addresses {
				addresses = append(addresses, p.Addr().String())
			}
		}
		_, _ = fmt.Fprintf(t, "%s\t%s\t%s\t%s\t%s\t%s\n", h.Name, strings.Join(h.Roles, ", "), h.State, findings, heard, strings.Join(addresses, " "))
	}
	_ = t.Flush()
}

func (a *app) tokensCommand() *cobra.Command {
	c := &cobra.Command{Use: "tokens", Short: "Access to the service: make and revoke tokens"}
	var host string
	var rights []string
	create := &cobra.Command{
		Use:     "make NAME",
		Short:   "Make a token and print its secret, this once",
		Example: "  yfence tokens make pat --right read --right publish\n  yfence tokens make logbook-01 --host logbook-01 > token",
		Args:    cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			svc, err := a.service()
			if err != nil {
				return err
			}
			req := api.TokenRequest{Name: args[0], Host: host}
			for _, r := range rights {
				req.Rights = append(req.Rights, api.Right(r))
			}
			t, err := svc.NewToken(cmd.Context(), req)
			if err != nil {
				return err
			}
			a.say("token %d for %s; it is printed this once", t.ID, t.Name)
			return a.print(map[string]any{"version": api.Version, "token": t}, func(w io.Writer) { _, _ = fmt.Fprintln(w, t.Secret) })
		},
	}
	create.Flags().StringVar(&host, "host", "", "the host whose own token it is to be")
	create.Flags().StringArrayVar(&rights, "right", nil, "read, publish, settle or tokens; once for each")
	list := &cobra.Command{
		Use: "list", Short: "All tokens", Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			svc, err := a.service()
			if err != nil {
				return err
			}
			tokens, err := svc.Tokens(cmd.Context())
			if err != nil {
				return err
			}
			return a.print(tokens, func(w io.Writer) {
				t := tabwriter.NewWriter(w, 0, 0, 3, ' ', 0)
				_, _ = fmt.Fprintln(t, "TOKEN\tNAME\tRIGHTS\tHOST\tMADE\tREVOKED")
				for _, k := range tokens.Tokens {
					words := make([]string, len(k.Rights))
					for i, r := range k.Rights {
						words[i] = string(r)
					}
					revoked := ""
					if k.RevokedAt != nil {
						revoked = k.RevokedAt.Format("2006-01-02 15:04 MST")
					}
					_, _ = fmt.Fprintf(t, "%d\t%s\t%s\t%s\t%s\t%s\n", k.ID, k.Name, strings.Join(words, ", "), k.Host, k.CreatedAt.Format("2006-01-02 15:04 MST"), revoked)
				}
				_ = t.Flush()
			})
		},
	}
	revoke := &cobra.Command{
		Use: "revoke NUMBER", Short: "Revoke a token; whoever has it is out at once", Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			var id int64
			if _, err := fmt.Sscan(args[0], &id); err != nil {
				return errors.New("name the token by its number; yfence tokens list tells it")
			}
			svc, err := a.service()
			if err != nil {
				return err
			}
			if err := svc.RevokeToken(cmd.Context(), id); err != nil {
				return err
			}
			return a.print(map[string]any{"version": api.Version, "revoked": id}, func(w io.Writer) { _, _ = fmt.Fprintf(w, "revoked token %d\n", id) })
		},
	}
	c.AddCommand(create, list, revoke)
	return c
}
