package cli

import (
	"fmt"
	"io"

	"github.com/spf13/cobra"

	"yellowfence.example/yfence/api"
	"yellowfence.example/yfence/core/listeners"
)

// listenersCommand makes `yfence listeners`.
func (a *app) listenersCommand() *cobra.Command {
	var all, on bool
	c := &cobra.Command{
		Use:   "listeners [HOST|--here]",
		Short: "Compare what listens on hosts with what the policy admits",
		Long: `Listeners tells where something listens that nobody may come to, where it listens on
more addresses than are meant, and where the policy admits somebody to a port that
nothing listens on. Where a service of the policy names its unit it tells too of one
that runs though nobody may come to it, and of one that is down though its port is
open. Nothing is started or stopped. It exits with status 1 if there is any of that.`,
		Args: cobra.MaximumNArgs(1),
	}
	h := a.onHost(c)
	c.RunE = func(cmd *cobra.Command, args []string) error {
		var list api.Listening
		if on {
			var err error
			if list, err = a.listenersHere(cmd.Context(), h); err != nil {
				return err
			}
		} else {
			svc, err := a.service()
			if err != nil {
				return err
			}
			name := ""
			if len(args) == 1 {
				name = args[0]
			}
			if list, err = svc.Listeners(cmd.Context(), name); err != nil {
				return err
			}
		}
		found := false
		err := a.print(list, func(w io.Writer) {
			for _, h := range list.Hosts {
				heard := ""
				if h.TakenAt != nil {
					heard = "  as it was " + ago(h.TakenAt)
				}
				_, _ = fmt.Fprintf(w, "%s%s\n", h.Host, heard)
				if h.Untold != "" {
					_, _ = fmt.Fprintf(w, "    not known: %s\n", h.Untold)
				}
				said := 0
				for _, n := range h.Notes {
					if n.Kind != listeners.AsMeant && n.Kind != listeners.OwnAlone || all {
						said++
						at := ""
						if n.At != "" {
							at = "  (" + n.At + ")"
						}
						_, _ = fmt.Fprintf(w, "    %-15s %s%s\n", n.Kind, n.Says, at)
					}
				}
				if said == 0 && h.Untold == "" {
					_, _ = fmt.Fprintln(w, "    as meant")
				}
			}
		})
		for _, h := range list.Hosts {
			for _, n := range h.Notes {
				found = found || n.Kind != listeners.AsMeant && n.Kind != listeners.OwnAlone
			}
		}
		if err == nil && found {
			return errFound
		}
		return err
	}
	c.Flags().BoolVar(&on, "here", false, "of the host that this runs on, by the policy in files that it follows")
	c.Flags().BoolVar(&all, "all", false, "what is as meant too")
	return c
}
