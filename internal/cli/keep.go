package cli

import (
	"cmp"

	"github.com/spf13/cobra"
)

// keepCommand makes `yfence keep`, which must be run over a connection that was opened since
// the change: that is the proof that somebody can still come in.
func (a *app) keepCommand() *cobra.Command {
	var console bool
	c := &cobra.Command{
		Use:   "keep",
		Short: "On a host: confirm the last change, so that it stays in force",
		Long: `Keep confirms what settle has put in force: it lasts from now on, and is in force
after a reboot too.

It counts only over a connection that was opened after the change, which shows that
the way in is open: log in anew. A terminal that was open before, or a log-in that
shares the connection of an earlier one, shows nothing.`,
		Args: cobra.NoArgs,
	}
	h := a.onHost(c)
	c.RunE = func(cmd *cobra.Command, _ []string) error {
		if err := h.find(); err != nil {
			return err
		}
		kept, err := h.machine.Keep(nil, console)
		if err != nil {
			return err
		}
		return a.ended(cmd, h, kept)
	}
	c.Flags().BoolVar(&console, "at-console", false,
		"you sit at the machine itself; only where the fleet file says that it has its own console")
	return c
}

// undoCommand makes `yfence undo`.
func (a *app) undoCommand() *cobra.Command {
	var why string
	c := &cobra.Command{
		Use:   "undo",
		Short: "On a host: undo the change that waits to be kept",
		Long: `Undo has what was in force before the last change in force again, at once, as it
would be by itself if nobody kept the change. What was kept is taken back by restoring a
copy: yfence copies restore --here NUMBER.`,
		Args: cobra.NoArgs,
	}
	h := a.onHost(c)
	c.RunE = func(cmd *cobra.Command, _ []string) error {
		if err := h.find(); err != nil {
			return err
		}
		return a.takeBack(cmd, h, cmp.Or(why, "taken back on the host"))
	}
	because(c, &why)
	return c
}
