package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"yellowfence.example/yfence/api"
	"yellowfence.example/yfence/internal/host"
	"yellowfence.example/yfence/internal/host/inventory"
)

// settleFlags are the options of settle; some are what the agent says when the service asked
// for it.
type settleFlags struct {
	within                time.Duration
	minimal, pause, force bool
	pair, task            int64
	why                   string
}

// kind is which rules are asked for: "" is those of the policy.
func (f settleFlags) kind() string {
	switch {
	case f.pause:
		return "pause"
	case f.minimal:
		return "ground"
	}
	return ""
}

// what is how the change is called, of rules of that kind.
func (f settleFlags) what(rules string) string {
	return map[string]string{"pause": "the pause", "ground": "the ground of " + rules, "": rules}[f.kind()]
}

// settleCommand makes `yfence settle`.
func (a *app) settleCommand() *cobra.Command {
	var f settleFlags
	c := &cobra.Command{
		Use:   "settle",
		Short: "On a host: put the published rules in force; they are undone unless the change is kept",
		Long: `Settle fetches this host's rules, keeps a copy of what is in force, has the
kernel's own tools check the rules, and puts them in force in one transaction. Then
it reports.

A machine without a service goes by files: settle --policy DIR writes the rules of this
host from the policy in DIR and proves them. The fleet file in DIR names the host; where it
names several, --host says which one this is.

What was in force before comes back by itself unless the change is kept in time:
log in anew, over a connection of its own, and run yfence keep. Whatever happens to
this program or to your connection meanwhile changes nothing about that.

Rules that would cut off somebody who is logged in, or the service, are refused.`,
		Args: cobra.NoArgs,
	}
	h := a.onHost(c)
	c.RunE = func(cmd *cobra.Command, _ []string) error {
		return a.settle(cmd, h, f)
	}
	lengthVar(c, &f.within, "within", 2*time.Minute, "the time for the keep")
	c.Flags().BoolVar(&f.minimal, "minimal", false, "apply only the ground and the guards")
	c.Flags().BoolVar(&f.force, "force", false,
		"go on where the change cuts off log-ins or the service; it is undone by itself all the same")
	c.Flags().BoolVar(&f.pause, "pause", false, "")
	c.Flags().Int64Var(&f.pair, "pair", 0, "")
	c.Flags().Int64Var(&f.task, "task", 0, "")
	c.Flags().StringVar(&f.why, "why", "", "")
	for _, name := range []string{"pause", "pair", "task", "why"} { // what the service asks for
		_ = c.Flags().MarkHidden(name)
	}
	return c
}

// settled is what settle prints as JSON.
type settled struct {
	Version int             `json:"version"`
	Change  *api.HostChange `json:"change"`
	Said    []string        `json:"said,omitempty"`
	Host    *api.HostDrift  `json:"host,omitempty"`
}

// settle puts rules in force that the service has signed, or those of a policy in files, and
// leaves a change that waits for its keep.
func (a *app) settle(cmd *cobra.Command, h *here, f settleFlags) error {
	ctx := cmd.Context()
	if f.within < time.Second || f.within > 24*time.Hour {
		return fmt.Errorf("--within is from 1s to 24h, not %s", f.within)
	}
	if err := h.find(); err != nil {
		return mustBeRoot(err)
	}
	if files, err := a.byFiles(h); err != nil {
		return err
	} else if files {
		l, err := a.local(h)
		if err != nil {
			return err
		}
		return mustBeRoot(a.settleByFiles(cmd, h, l, f))
	}
	svc := h.svc
	if svc == nil {
		return fmt.Errorf("%w; or name a policy in files: --policy DIR", errNoService)
	}
	// The service's keys first: what it gives is believed only if it is signed by one of them.
	keys, err := svc.Keys(ctx)
	if err != nil {
		return err
	}
	if fresh, err := h.machine.Trust(keys); err != nil {
		return err
	} else if fresh {
		a.say("%s: this host trusts the service's key %s from now on", h.name, keys.Keys[0])
	}
	var rules api.Rules
	kind := f.kind()
	w := host.Wanted{Change: api.HostChange{Kind: api.ChangeSettle, Why: f.why, Task: f.task}, Within: f.within, Force: f.force,
		Service: h.services()}
	if f.pause {
		rules, err = svc.RulesOf(ctx, h.name, kind)
		w.Passing, w.Change.Kind = true, api.ChangePause
	} else {
		rules, err = svc.SettlePair(ctx, h.name, kind, f.pair)
	}
	if err != nil {
		return err
	}
	// Nothing older than what was ever settled here is accepted, whoever signed it.
	wanted := f.pair
	if f.pause {
		wanted = 0 // everything is admitted for a while, by whatever is published
	}
	if err := h.machine.Accept(rules, h.name, kind, wanted); err != nil {
		return fmt.Errorf("nothing was changed: %w", err)
	}
	w.Files, w.Change.Revision, w.Change.Generation, w.Change.Pair = rules.Files, rules.Revision, rules.Generation, rules.Pair
	w.Change.What = f.what(fmt.Sprintf("revision %d", rules.Revision))
	if w.Pins, err = h.machine.Pins(); err != nil {
		return err
	}
	h.machine.OwnConsole = rules.OwnConsole
	made, err := h.machine.Make(ctx, w)
	if err != nil {
		if !f.pause {
			_ = svc.TellChange(ctx, h.name, rules.Pair, nil, strings.ReplaceAll(err.Error(), "\n", ": "))
		}
		return err
	}
	if !f.pause {
		if err := h.machine.Settled(rules.Pair); err != nil {
			a.say("%s: which pair was settled could not be noted: %s", h.name, err)
		}
	}
	return a.made(cmd, h, made, f.force)
}

// made tells of a change that was made: people, and the service.
func (a *app) made(cmd *cobra.Command, h *here, made host.Made, force bool) error {
	out := settled{Version: api.Version, Change: &made.Change}
	// What whoever settles should know before he keeps it.
	for _, who := range made.Absent {
		out.Said = append(out.Said, fmt.Sprintf("there is no %s here; what only it may send is not admitted", who))
	}
	for _, cut := range made.Cut {
		out.Said = append(out.Said, "it cuts off "+cut)
	}
	if made.Change.Kind == api.ChangeSettle {
		ctx, cancel := context.WithTimeout(cmd.Context(), lookTime)
		left, _ := inventory.Unadmitted(ctx, h.services(), false) // what it found in that time; nothing where conntrack is not installed
		cancel()
		if len(left) > 0 {
			out.Said = append(out.Said, fmt.Sprintf("%s would no longer be admitted, as %s from %s to %s (yfence connections)",
				plural(len(left), "open connection"), left[0].Protocol, left[0].From, left[0].To))
		}
	}
	for _, s := range out.Said {
		a.say("%s: %s", h.name, s)
	}
	// A host that can no longer reach its service could not be mended from there: that goes back now,
	// and does not wait for the end of the time.
	var d api.HostDrift
	var err error
	if h.svc != nil {
		d, err = h.tell(cmd.Context(), &made.Change, min(tellTime, time.Until(made.Change.Until)/2))
	}
	if err != nil && !force && made.Change.Kind == api.ChangeSettle {
		c, back := h.machine.Back(fmt.Sprintf("the service could no longer be reached: %s", err))
		out.Change = &c
		if back != nil || c.Phase != api.WentBack {
			return errors.Join(errors.New("the service could no longer be reached, and the change could not be taken back yet: it goes "+
				"back by itself"), err, back)
		}
		return errors.Join(errors.New("nothing was changed in the end: the service could no longer be reached, and what was in force "+
			"before is in force again"), err)
	}
	switch {
	case err != nil:
		a.say("%s: the service could not be told: %s", h.name, err)
	case h.svc != nil:
		out.Host = &d
	}
	return a.print(out, func(w io.Writer) {
		until := secondText(made.Change.Until)
		if made.Change.Kind == api.ChangePause {
			_, _ = fmt.Fprintf(w, "%s: the filter is paused until %s, when it comes back by itself\n", h.name, until)
		} else {
			_, _ = fmt.Fprintf(w, "%s: %s is in force, and is undone at %s unless it is kept: log in again and run yfence keep\n", h.name,
				made.Change.What, until)
		}
		if out.Host != nil {
			a.writeReported(w, d)
		}
	})
}

// lookTime is how long a settle looks for connections that would no longer be admitted.
const lookTime = 3 * time.Second

// tellTime is how long the service may take to hear of a change.
const tellTime = 10 * time.Second

// tell tells the service how a change stands and what is in force, over a new connection.
func (h *here) tell(ctx context.Context, c *api.HostChange, within time.Duration) (d api.HostDrift, err error) {
	h.svc.Fresh()
	ctx, cancel := context.WithTimeout(ctx, within)
	defer cancel()
	if err := h.svc.TellChange(ctx, h.name, c.Pair, c, ""); err != nil {
		return d, err
	}
	return h.report(ctx, false)
}

// takeBack takes back the change that waits on a host that was found, and says how it stands.
func (a *app) takeBack(cmd *cobra.Command, h *here, why string) error {
	c, err := h.machine.Back(why)
	if err != nil {
		return err
	}
	return a.ended(cmd, h, c)
}

// ended tells of a change that was kept or taken back.
func (a *app) ended(cmd *cobra.Command, h *here, c api.HostChange) error {
	out := settled{Version: api.Version, Change: &c}
	if h.svc != nil {
		if d, err := h.tell(cmd.Context(), &c, tellTime); err == nil {
			out.Host = &d
		} else {
			a.say("%s: the service could not be told: %s", h.name, err)
		}
	}
	return a.print(out, func(w io.Writer) {
		_, _ = fmt.Fprintf(w, "%s: %s %s, %s\n", h.name, c.What,
			map[api.Phase]string{api.Kept: "is kept", api.WentBack: "went back"}[c.Phase], c.Why)
		if out.Host != nil {
			a.writeReported(w, *out.Host)
		}
	})
}
