package cli

import (
	"errors"
	"fmt"
	"io"

	"github.com/spf13/cobra"

	"yellowfence.example/yfence/api"
	"yellowfence.example/yfence/internal/host/inventory"
)

// connectionsCommand makes `yfence connections`, on this host or by its agent.
func (a *app) connectionsCommand() *cobra.Command {
	var cut, on bool
	c := &cobra.Command{
		Use:   "connections HOST|--here",
		Short: "List connections of a host that its rules would no longer admit",
		Long: `A connection that was opened before a change keeps running, since answers and what
belongs to a connection are let through. Connections lists those that the rules in
force would not let be opened now, those from before there were rules too. With --cut it
ends them, and looks that they are gone: sockets of the host are closed, what it forwards
is forgotten and then refused. It exits with status 1 if there are any.`,
		Args: cobra.MaximumNArgs(1),
	}
	h := a.onHost(c)
	c.RunE = func(cmd *cobra.Command, args []string) error {
		if on == (len(args) == 1) {
			return errors.New("name a host, or say --here on one")
		}
		found := api.Connections{Version: api.Version}
		if on {
			if err := h.find(); err != nil {
				return err
			}
			var err error
			found.Host = h.name
			if found.Connections, err = inventory.Unadmitted(cmd.Context(), h.services(), cut); err != nil {
				return err
			}
		} else {
			svc, err := a.service()
			if err != nil {
				return err
			}
			status, err := svc.AskHost(cmd.Context(), args[0], api.Task{Do: api.DoConnections, Cut: cut})
			switch {
			case err != nil:
				return err
			case status.Result == nil:
				return fmt.Errorf("%s has not answered yet; try again", args[0])
			case status.Result.Failed != "":
				return fmt.Errorf("%s: %s", args[0], status.Result.Failed)
			}
			found.Host, found.Connections = args[0], status.Result.Connections
			if found.Connections == nil {
				found.Connections = []api.OpenConnection{}
			}
		}
		if err := a.print(found, func(w io.Writer) {
			if len(found.Connections) == 0 {
				_, _ = fmt.Fprintf(w, "%s: all that is open would be admitted again\n", found.Host)
			}
			for _, o := range found.Connections {
				did := ""
				if o.Cut {
					did = "  cut"
				} else if o.Why != "" {
					did = "  not cut: " + o.Why
				}
				_, _ = fmt.Fprintf(w, "%s: %s from %s to %s%s\n", found.Host, o.Protocol, o.From, o.To, did)
			}
		}); err != nil {
			return err
		}
		if len(found.Connections) > 0 {
			return errFound
		}
		return nil
	}
	c.Flags().BoolVar(&cut, "cut", false, "cut them")
	c.Flags().BoolVar(&on, "here", false, "of the host that this runs on")
	return c
}
