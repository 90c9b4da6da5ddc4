package cli

import (
	"fmt"
	"io"

	"github.com/spf13/cobra"

	"yellowfence.example/yfence/api"
	"yellowfence.example/yfence/internal/host"
)

// loadKept loads what is kept, at a start of the machine, before the network is up. What cannot
// be loaded is told, and nothing half of it stays.
func (a *app) loadKept(cmd *cobra.Command, h *here) error {
	if err := h.find(); err != nil {
		return err
	}
	k, absent, err := h.machine.LoadKept(cmd.Context())
	if err != nil {
		return err
	}
	if k == nil {
		return fmt.Errorf("nothing was ever kept in %s", h.machine.Dir)
	}
	for _, who := range absent {
		a.say("%s: there is no %s here yet; what only it may send is not admitted", h.name, who)
	}
	return a.print(settled{Version: api.Version, Change: &k.Change}, func(w io.Writer) {
		_, _ = fmt.Fprintf(w, "%s: %s is in force, as it was kept\n", h.name, k.Change.What)
	})
}

// bootCommand is what the unit runs when the host starts: what was last kept is put in force.
func (a *app) bootCommand() *cobra.Command {
	c := &cobra.Command{Use: "boot", Short: "On a host: load the rules that were last kept, as at the start of the machine", Hidden: true,
		Args: cobra.NoArgs}
	h := a.onHost(c)
	c.RunE = func(cmd *cobra.Command, _ []string) error { return a.loadKept(cmd, h) }
	return c
}

// refillCommand is what attend runs when a unit starts anew: the rules in force are told which
// users and units there are now.
func (a *app) refillCommand() *cobra.Command {
	c := &cobra.Command{Use: "refill", Short: "On a host: update user and unit numbers in the rules", Hidden: true, Args: cobra.NoArgs}
	h := a.onHost(c)
	c.RunE = func(cmd *cobra.Command, _ []string) error {
		if err := h.find(); err != nil {
			return err
		}
		return h.machine.Refill(cmd.Context())
	}
	return c
}

// rehearseCommand is the process that loads what is loaded at the start, in a network of its own.
func (a *app) rehearseCommand() *cobra.Command {
	return &cobra.Command{Use: "rehearse", Hidden: true, Args: cobra.NoArgs, RunE: func(cmd *cobra.Command, _ []string) error {
		return host.Rehearse(cmd.Context(), a.stdin, a.raw)
	}}
}

// watchdogCommand is the process that puts things back. Settle begins it.
func (a *app) watchdogCommand() *cobra.Command {
	var dir, change string
	var standby bool
	c := &cobra.Command{Use: "watchdog", Hidden: true, Args: cobra.NoArgs, RunE: func(*cobra.Command, []string) error {
		return (&host.Machine{Dir: dir}).Watch(change, standby, a.raw)
	}}
	c.Flags().StringVar(&dir, "state", host.StateDir, "")
	c.Flags().StringVar(&change, "change", "", "")
	c.Flags().BoolVar(&standby, "standby", false, "")
	return c
}
