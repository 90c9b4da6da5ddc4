package cli

import (
	"errors"
	"fmt"
	"io"
	"strconv"
	"text/tabwriter"
	"time"

	"github.com/spf13/cobra"

	"yellowfence.example/yfence/api"
	"yellowfence.example/yfence/internal/host"
)

// copiesCommand makes `yfence copies` and what is under it.
func (a *app) copiesCommand() *cobra.Command {
	noun := &cobra.Command{
		Use:   "copies",
		Short: "List, show and restore earlier rules of a host",
		Long: `Before anything is put in force on a host, a copy is kept there of all that is: our
rules and everybody else's. The first is of what was there before us.`,
	}
	var on bool
	noun.PersistentFlags().BoolVar(&on, "here", false, "of the host that this runs on, without a service")
	noun.AddCommand(a.copiesShow(&on), a.copiesPutBack(&on))
	list := a.copiesList(&on)
	list.Long = noun.Long
	return listing(noun, list)
}

// args gives the host's name and the number that arguments name; with --here no host is named.
func copyArgs(on bool, args []string, numbered bool) (name string, number int, err error) {
	want, form := 1, "HOST"
	if on {
		want, form = 0, ""
	}
	if numbered {
		want++
		form += " NUMBER"
	}
	if len(args) != want {
		return "", 0, fmt.Errorf("this takes%s, and got %d words", orNothing(form), len(args))
	}
	if !on {
		name = args[0]
	}
	if numbered {
		if number, err = strconv.Atoi(args[want-1]); err != nil || number < 1 {
			return "", 0, fmt.Errorf("%q is no copy's number; yfence copies tells them", args[want-1])
		}
	}
	return name, number, nil
}

// orNothing is how arguments are written, for a message.
func orNothing(form string) string {
	if form == "" {
		return " no words"
	}
	return " " + form
}

// copies are the copies of a host, by itself or by the service.
func (a *app) copies(cmd *cobra.Command, on bool, h *here, name string, number int) (out api.Copies, err error) {
	if on {
		if err := h.find(); err != nil {
			return out, err
		}
		out = api.Copies{Version: api.Version, Host: h.name}
		if out.Copies, err = h.machine.CopyNotes(number != 0); err != nil || number == 0 {
			return out, err
		}
		for _, c := range out.Copies {
			if c.Number == number {
				out.Copies = []api.CopyNote{c}
				return out, nil
			}
		}
		return out, fmt.Errorf("there is no copy %d; yfence copies --here tells which there are", number)
	}
	svc, err := a.service()
	if err != nil {
		return out, err
	}
	if number != 0 {
		return svc.Copy(cmd.Context(), name, number)
	}
	return svc.Copies(cmd.Context(), name)
}

// copiesList makes what `yfence copies` does alone.
func (a *app) copiesList(on *bool) *cobra.Command {
	c := &cobra.Command{Use: "list HOST|--here", Short: "List all copies of a host, the newest first"}
	h := a.onHost(c)
	c.RunE = func(cmd *cobra.Command, args []string) error {
		name, _, err := copyArgs(*on, args, false)
		if err != nil {
			return err
		}
		list, err := a.copies(cmd, *on, h, name, 0)
		if err != nil {
			return err
		}
		return a.print(list, func(w io.Writer) {
			if len(list.Copies) == 0 {
				_, _ = fmt.Fprintf(w, "%s has no copies: nothing was ever settled there\n", list.Host)
				return
			}
			t := tabwriter.NewWriter(w, 0, 0, 2, ' ', 0)
			_, _ = fmt.Fprintln(t, "COPY\tTAKEN\tRULES\tBEFORE")
			for _, c := range list.Copies {
				_, _ = fmt.Fprintf(t, "%d\t%s\t%d\t%s\n", c.Number, secondText(c.TakenAt), c.Rules, c.Before)
			}
			_ = t.Flush()
		})
	}
	return c
}

// copiesShow makes `yfence copies show`.
func (a *app) copiesShow(on *bool) *cobra.Command {
	c := &cobra.Command{Use: "show HOST|--here NUMBER", Short: "Show one copy, as the host's own tools print it"}
	h := a.onHost(c)
	c.RunE = func(cmd *cobra.Command, args []string) error {
		name, number, err := copyArgs(*on, args, true)
		if err != nil {
			return err
		}
		one, err := a.copies(cmd, *on, h, name, number)
		if err != nil {
			return err
		}
		return a.print(one, func(w io.Writer) { _, _ = io.WriteString(w, one.Copies[0].Text) })
	}
	return c
}

// copiesPutBack makes `yfence copies restore`, which is a change like any other: it goes back
// unless it is kept.
func (a *app) copiesPutBack(on *bool) *cobra.Command {
	var within time.Duration
	var force bool
	c := &cobra.Command{
		Use:   "restore HOST|--here NUMBER",
		Short: "Restore all rules of a copy",
		Long: `Put-back puts all that a copy holds in force again, everybody's rules included. As
with settle, what is in force now comes back by itself unless it is kept in time.`,
	}
	h := a.onHost(c)
	c.RunE = func(cmd *cobra.Command, args []string) error {
		name, number, err := copyArgs(*on, args, true)
		if err != nil {
			return err
		}
		if !*on {
			return a.askHost(cmd, name, api.Task{Do: api.DoPutBack, Copy: number, Within: within.String(), Force: force})
		}
		if err := h.find(); err != nil {
			return err
		}
		copied, err := h.machine.Copy(number)
		if err != nil {
			return err
		}
		w := host.Wanted{Change: api.HostChange{Kind: api.ChangePutBack, What: fmt.Sprintf("copy %d", number)}, Copy: copied,
			Within: within}
		if w.Pins, err = h.machine.Pins(); err != nil {
			return err
		}
		made, err := h.machine.Make(cmd.Context(), w)
		if err != nil {
			return err
		}
		return a.made(cmd, h, made, true)
	}
	lengthVar(c, &within, "within", 2*time.Minute, "the time for the keep")
	c.Flags().BoolVar(&force, "force", false, "go on where the change cuts off log-ins or the service")
	return c
}

// askHost asks a host to do something, and prints what became of it.
func (a *app) askHost(cmd *cobra.Command, name string, t api.Task) error {
	svc, err := a.service()
	if err != nil {
		return err
	}
	status, err := svc.AskHost(cmd.Context(), name, t)
	if err != nil {
		return err
	}
	switch r := status.Result; {
	case r == nil:
		return fmt.Errorf("%s has not answered yet; yfence fleet show %s will tell", name, name)
	case r.Failed != "":
		return fmt.Errorf("%s: %s", name, r.Failed)
	}
	return a.print(map[string]any{"version": api.Version, "task": status}, func(w io.Writer) {
		c := status.Result.Change
		switch {
		case c == nil:
			_, _ = fmt.Fprintf(w, "%s: done\n", name)
		case c.Kind == api.ChangePause && c.Phase == api.InForceYet:
			_, _ = fmt.Fprintf(w, "%s: the filter is paused until %s, when it comes back by itself\n", name,
				secondText(c.Until))
		case c.Phase == api.InForceYet:
			_, _ = fmt.Fprintf(w, "%s: %s is in force, and is undone at %s unless it is kept\n", name, c.What,
				clockText(c.Until))
		case c.Kind == api.ChangePause && c.Phase == api.WentBack:
			_, _ = fmt.Fprintf(w, "%s: the pause has ended, %s\n", name, c.Why)
		default:
			_, _ = fmt.Fprintf(w, "%s: %s %s, %s\n", name, c.What, c.Phase, c.Why)
		}
		for _, s := range status.Result.Said {
			_, _ = fmt.Fprintf(w, "    %s\n", s)
		}
	})
}

// pauseCommand makes `yfence pause`, which asks a host by the service.
func (a *app) pauseCommand() *cobra.Command {
	var length time.Duration
	var why string
	var on bool
	c := &cobra.Command{
		Use:   "pause HOST|--here --for DURATION --because WHY",
		Short: "Suspend a host's filter for a limited time",
		Long: `Pause has a host's filter admit everything, and log what it would have refused. It
ends by itself on the host, whether the service is there then or not; after a reboot
the rules are those that were kept. With --here it pauses the host that it runs on, which
goes by a policy in files.`,
		Args: cobra.MaximumNArgs(1),
	}
	h := a.onHost(c)
	c.RunE = func(cmd *cobra.Command, args []string) error {
		if _, _, err := copyArgs(on, args, false); err != nil {
			return err
		}
		if !on {
			return a.askHost(cmd, args[0], api.Task{Do: api.DoPause, Within: length.String(), Why: why})
		}
		if length < time.Second || length > 24*time.Hour {
			return fmt.Errorf("--for is from 1s to 24h, so that nobody forgets the pause, not %s", length)
		}
		l, err := a.onThis(h)
		if err != nil {
			return err
		}
		return a.settleByFiles(cmd, h, l, settleFlags{pause: true, force: true, within: length, why: why})
	}
	c.Flags().BoolVar(&on, "here", false, "of the host that this runs on, without a service")
	lengthVar(c, &length, "for", 0, "how long, as 30m or 2h")
	because(c, &why)
	_ = c.MarkFlagRequired("for")
	_ = c.MarkFlagRequired("because")
	return c
}

// resumeCommand makes `yfence resume`.
func (a *app) resumeCommand() *cobra.Command {
	var on bool
	c := &cobra.Command{Use: "resume HOST|--here", Short: "End a pause before its time", Args: cobra.MaximumNArgs(1)}
	h := a.onHost(c)
	c.RunE = func(cmd *cobra.Command, args []string) error {
		if _, _, err := copyArgs(on, args, false); err != nil {
			return err
		}
		if !on {
			return a.askHost(cmd, args[0], api.Task{Do: api.DoResume})
		}
		if err := h.find(); err != nil {
			return mustBeRoot(err)
		}
		if now, err := h.machine.Change(); err != nil || now.Kind != api.ChangePause || now.Phase != api.InForceYet {
			return errors.Join(err, fmt.Errorf("%s is not paused", h.name))
		}
		return a.takeBack(cmd, h, "resumed on the host")
	}
	c.Flags().BoolVar(&on, "here", false, "of the host that this runs on, without a service")
	return c
}
