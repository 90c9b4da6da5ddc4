package cli

import (
	"errors"
	"fmt"
	"io"
	"os"
	"slices"
	"strings"
	"text/tabwriter"
	"time"

	"github.com/spf13/cobra"

	"yellowfence.example/yfence/api"
	"yellowfence.example/yfence/client"
	"yellowfence.example/yfence/core/check"
	"yellowfence.example/yfence/core/fleet"
)

// fleetCommand makes `yfence fleet` and what is under it.
func (a *app) fleetCommand() *cobra.Command {
	c := &cobra.Command{Use: "fleet", Short: "List, import and export hosts"}
	show := &cobra.Command{
		Use:   "show HOST",
		Short: "Show one host, and how its last change stands",
		Args:  cobra.ExactArgs(1),
		RunE:  a.showHost,
	}
	c.AddCommand(show, a.fleetImportCommand(), a.fleetExportCommand(), a.enrolCommand())
	return listing(c, a.fleetListCommand())
}

// fleetListCommand makes what `yfence fleet` does alone: it lists hosts.
func (a *app) fleetListCommand() *cobra.Command {
	var q client.HostsQuery
	var states []string
	list := &cobra.Command{
		Use:   "list [PART-OF-A-NAME]",
		Short: "List all hosts and their states",
		Args:  cobra.MaximumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			svc, err := a.service()
			if err != nil {
				return err
			}
			q.State = nil
			for _, state := range states {
				q.State = append(q.State, api.State(state))
			}
			if len(args) == 1 {
				q.Name = args[0]
			}
			fl, err := svc.Hosts(cmd.Context(), q)
			if err != nil {
				return err
			}
			if len(fl.Hosts) == 0 && a.output == "text" {
				switch {
				case q.Role+strings.Join(states, "") != "":
					return errors.New("no host matches these flags; yfence fleet alone lists all")
				case q.Name != "":
					return fmt.Errorf("no host has %q in its name; yfence fleet alone lists all", q.Name)
				}
			}
			return a.print(fl, func(w io.Writer) { printFleet(w, fl) })
		},
	}
	f := list.Flags()
	f.StringArrayVar(&states, "state", nil, "only hosts in this state; may be said several times")
	f.StringVar(&q.Role, "role", "", "only hosts of this role")
	f.StringVar(&q.Sort, "sort", "", "in the order of name, roles, state, in_force, findings or heard (default: the fleet file's)")
	f.BoolVar(&q.Turn, "turn", false, "turn the order round")
	words := make([]string, len(api.States))
	for i, note := range api.States {
		words[i] = string(note.State)
	}
	_ = list.RegisterFlagCompletionFunc("state", cobra.FixedCompletions(words, cobra.ShellCompDirectiveNoFileComp))
	_ = list.RegisterFlagCompletionFunc("sort", cobra.FixedCompletions([]string{"name", "roles", "state", "in_force", "findings", "heard"},
		cobra.ShellCompDirectiveNoFileComp))
	return list
}

// fleetImportCommand makes `yfence fleet import`, which shows what it would change before it
// does.
func (a *app) fleetImportCommand() *cobra.Command {
	var why string
	var after int64
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
			req := api.ImportRequest{File: args[0], Text: string(data), Why: why, Merge: merge, Preview: preview}
			if cmd.Flags().Changed("after") {
				req.After = &after
			}
			done, err := svc.Import(cmd.Context(), req)
			return a.changed(done, err, []check.Source{{Name: args[0], Text: string(data)}}, func(w io.Writer) {
				printChanges(w, done.Changes)
				if preview {
					_, _ = fmt.Fprintf(w, "nothing is imported yet; generation %d is the newest\n", done.Generation)
					return
				}
				_, _ = fmt.Fprintf(w, "imported generation %d of the fleet\n", done.Generation)
			})
		},
	}
	because(imported, &why)
	imported.Flags().Int64Var(&after, "after", 0, "import only if this generation is the newest, or only hosts and clouds changed it "+
		"since; "+
		"0 is none")
	imported.Flags().BoolVar(&merge, "merge", false, "put its hosts over those that are there, and remove none")
	imported.Flags().BoolVar(&preview, "preview", false, "show what would change, and change nothing")
	return imported
}

// fleetExportCommand makes `yfence fleet export`.
func (a *app) fleetExportCommand() *cobra.Command {
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
	_ = exported.RegisterFlagCompletionFunc("format",
		cobra.FixedCompletions([]string{"json", "yaml", "csv"}, cobra.ShellCompDirectiveNoFileComp))
	return exported
}

// enrolCommand makes `yfence fleet enrol`.
func (a *app) enrolCommand() *cobra.Command {
	var into string
	enrol := &cobra.Command{
		Use:   "enrol HOST",
		Short: "Make a one-time token for a host to enrol with",
		Long: `Enrol gives a one-time token with which one host gets a token of its own, within a
day: there, yfence attend --enrol FILE --server URL. Whatever tokens the host had
before end when it is used.`,
		Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			svc, err := a.service()
			if err != nil {
				return err
			}
			e, err := svc.NewEnrolment(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			if into != "" {
				if err := os.WriteFile(into, []byte(e.Token+"\n"), 0o600); err != nil {
					return err
				}
				e.Token = ""
			}
			return a.print(e, func(w io.Writer) {
				if into != "" {
					_, _ = fmt.Fprintf(w, "the one-time token for %s is in %s, and works until %s\n", e.Host, into,
						secondText(e.Until))
					return
				}
				_, _ = fmt.Fprintln(w, e.Token)
			})
		},
	}
	enrol.Flags().StringVar(&into, "into", "", "a file to write the token to")
	return enrol
}

// showHost prints one host.
func (a *app) showHost(cmd *cobra.Command, args []string) error {
	svc, err := a.service()
	if err != nil {
		return err
	}
	fl, err := svc.Fleet(cmd.Context())
	if err != nil {
		return err
	}
	at := slices.IndexFunc(fl.Hosts, func(h api.HostStatus) bool { return h.Name == args[0] })
	if at < 0 {
		return fmt.Errorf("no host is named %q", args[0])
	}
	h := fl.Hosts[at]
	if err := a.print(map[string]any{"version": api.Version, "host": h}, func(w io.Writer) { printHost(w, h) }); err != nil {
		return err
	}
	if h.State != api.InStep && h.State != api.Others {
		return errFound
	}
	return nil
}

// printHost prints a host, one thing a line.
func printHost(w io.Writer, h api.HostStatus) {
	row := func(name, format string, args ...any) {
		_, _ = fmt.Fprintf(w, "%-12s "+format+"\n", append([]any{name}, args...)...)
	}
	row(h.Name, "%s", h.State)
	if h.Why != "" {
		row("", "%s", h.Why)
	}
	row("roles", "%s", strings.Join(h.Roles, ", "))
	row("filter", "%s", h.Dialect)
	for _, i := range h.Interfaces {
		var addresses []string
		for _, p := range i.Addresses {
			addresses = append(addresses, p.String())
		}
		row(i.Name, "%s", strings.Join(addresses, " "))
	}
	for _, d := range h.Differs {
		row("", "but %s", d)
	}
	row("last report", "%s", ago(h.HeardAt))
	row("attends", "%s", ago(h.Attends))
	switch {
	case h.InForce != 0:
		row("in force", "revision %d", h.InForce)
	case h.Asked != 0:
		row("in force", "no published revision; last asked for revision %d", h.Asked)
	}
	if h.Findings > 0 {
		row("findings", "%d; yfence drift %s tells them", h.Findings, h.Name)
	}
	if c := h.Change; c != nil {
		row("last change", "%s: %s", c.What, c.Phase)
		row("", "%s", c.Why)
		row("", "begun %s", secondText(c.Began))
	}
}

// ago is how long ago something was.
func ago(t *time.Time) string {
	if t == nil {
		return "never"
	}
	return time.Since(*t).Round(time.Second).String() + " ago"
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

// printFleet prints hosts as a table.
func printFleet(w io.Writer, fl api.Fleet) {
	if len(fl.Hosts) == 0 {
		_, _ = fmt.Fprintln(w, "no host; yfence fleet import adds them")
		return
	}
	t := tabwriter.NewWriter(w, 0, 0, 3, ' ', 0)
	_, _ = fmt.Fprintln(t, "HOST\tROLES\tSTATE\tIN FORCE\tFINDINGS\tLAST HEARD\tADDRESSES")
	for _, h := range fl.Hosts {
		heard := ago(h.HeardAt)
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
		revision := ""
		if h.InForce != 0 {
			revision = fmt.Sprintf("revision %d", h.InForce)
		}
		_, _ = fmt.Fprintf(t, "%s\t%s\t%s\t%s\t%s\t%s\t%s\n", h.Name, strings.Join(h.Roles, ", "), h.State, revision, findings, heard,
			strings.Join(addresses, " "))
	}
	_ = t.Flush()
	for _, h := range fl.Hosts {
		if h.Why != "" {
			_, _ = fmt.Fprintf(w, "%s: %s, %s\n", h.Name, h.State, h.Why)
		}
	}
	printInForce(w, fl.Revision, fl.Tally)
}
