package cli

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"yellowfence.example/yfence/api"
	"yellowfence.example/yfence/core/kernel"
	"yellowfence.example/yfence/core/packet"
	"yellowfence.example/yfence/internal/host/inventory"
	"yellowfence.example/yfence/internal/live"
)

// liveCommand makes `yfence live`: of this host, of dumps, or of a host's last report.
func (a *app) liveCommand() *cobra.Command {
	var dumps []string
	var on, follow bool
	var every time.Duration
	c := &cobra.Command{
		Use:   "live HOST|--here",
		Short: "Show the rules in force in the order in which a packet meets them, with their counts",
		Long: `Live lists what a kernel has in force, everybody's rules, hook by hook: the chains of each by
priority, and where a rule goes on in another chain, that chain below it. What is "not ours" other
programs or people made. Rules have numbers in front, the statement of the policy that they come
from, and what their counters stood at. Below stand the sets that they ask by name.

It shows the host that it runs on (--here, as root), listings (--dump), or what a host last
reported to the service. --follow shows the counts of this host as they change.`,
		Example: "  yfence live logbook-01\n  yfence live --here\n  yfence live --here --follow\n  yfence live --dump listing.nft",
		Args:    cobra.MaximumNArgs(1),
	}
	h := a.onHost(c)
	at := momentVar(c, "at", "what the host had in force then: a date and time, a time of day, or how long ago")
	c.RunE = func(cmd *cobra.Command, args []string) error {
		switch ways := len(args) + map[bool]int{true: 1}[on] + map[bool]int{true: 1}[dumps != nil]; {
		case ways != 1:
			return errors.New("name a host, or say --here on one, or --dump FILE")
		case !at.at.IsZero() && len(args) == 0:
			return errAtService
		case follow && !on:
			return errors.New("--follow goes with --here: only this host's counts can be read as they change")
		case follow && (every < 100*time.Millisecond || every > time.Hour):
			return fmt.Errorf("--every is from 100ms to 1h, not %s", every)
		}
		read := func() (inOrder, error) { return a.liveOf(cmd.Context(), h, args, on, dumps, at.at) }
		now, err := read()
		if err != nil {
			return mustBeRoot(err)
		}
		if err := a.print(now, func(w io.Writer) { a.printLive(w, now) }); err != nil || !follow {
			return err
		}
		for {
			select {
			case <-cmd.Context().Done():
				return nil
			case <-time.After(every):
			}
			next, err := read()
			if err != nil {
				return err
			}
			a.printCounted(now, next)
			now = next
		}
	}
	c.Flags().BoolVar(&on, "here", false, "of the host that this runs on")
	c.Flags().BoolVar(&follow, "follow", false, "with --here: go on, and print what is counted")
	lengthVar(c, &every, "every", 2*time.Second, "how often --follow looks")
	c.Flags().StringArrayVar(&dumps, "dump", nil, "a file with a report or a listing of rules; - for standard input")
	return c
}

// inOrder is what live prints as JSON.
type inOrder struct {
	Version int         `json:"version"`
	Host    string      `json:"host"`
	TakenAt *time.Time  `json:"taken_at,omitempty"`
	Hooks   []live.Hook `json:"hooks"`

	Sets []api.NamedSet `json:"sets"`
}

// liveOf reads rules: of this host, of dumps, or as the service has them.
func (a *app) liveOf(ctx context.Context, h *here, args []string, on bool, dumps []string, at time.Time) (
	out inOrder, err error) {
	out.Version = api.Version
	var f api.InForce
	var counts []api.Count
	switch {
	case on:
		if err := h.find(); err != nil {
			return out, err
		}
		taken := time.Now().UTC()
		out.Host, out.TakenAt = h.name, &taken
		if f, counts, err = inventory.InForce(ctx); err != nil {
			return out, err
		}
	case dumps != nil:
		out.Host, _, _ = a.whose(dumps[0])
		if f, err = a.inForce(dumps); err != nil {
			return out, err
		}
		f.Complete = true // what is not listed is not shown
	default:
		svc, err := a.service()
		if err != nil {
			return out, err
		}
		said, err := svc.Live(ctx, args[0])
		if !at.IsZero() {
			said, err = svc.LiveAt(ctx, args[0], at)
		}
		if err == nil && said.Unread != "" {
			err = fmt.Errorf("what %s reported cannot be read: %s", args[0], said.Unread)
		}
		out.Host, out.TakenAt, out.Hooks, out.Sets = said.Host, said.TakenAt, live.InOrder(said.Chains), said.Sets
		return out, err
	}
	err = reading(f, func(_ *packet.Space, rs *kernel.Ruleset) {
		out.Hooks, out.Sets = live.InOrder(live.Chains(rs, counts)), live.Sets(f)
	})
	return out, err
}

// hookMeans says in words what a hook sees.
var hookMeans = map[string]string{"ingress": "as it comes off the wire", "prerouting": "all that comes, before it is known where it goes",
	"input": "what comes in to this host", "forward": "what is forwarded", "output": "what this host sends",
	"postrouting": "all that leaves", "egress": "as it goes on the wire", "": "nothing leads here: these do nothing"}

// printLive prints rules in order.
func (a *app) printLive(w io.Writer, l inOrder) {
	p := a.paint(w)
	line := func(format string, args ...any) { _, _ = fmt.Fprintf(w, format+"\n", args...) }
	if l.TakenAt != nil {
		line("%s  as it was %s", p(bold, l.Host), ago(l.TakenAt))
	}
	if len(l.Hooks) == 0 {
		line("no rules are in force: everything passes")
	}
	for i, h := range l.Hooks {
		if i > 0 || l.TakenAt != nil {
			line("")
		}
		line("%s  %s", p(bold, orHook(h.Name)), p(dim, hookMeans[h.Name]))
		for _, t := range h.Lines {
			indent := fmt.Sprintf("%*s", 2+4*t.Depth, "")
			if c := t.Chain; c != nil {
				what := "chain " + c.Place
				if !c.Ours {
					what += ", not ours"
				}
				if c.Priority != nil {
					what += fmt.Sprintf(", priority %d, then %s", *c.Priority, c.Policy)
				}
				switch {
				case c.Again != 0 && c.Rules > 0:
					what += fmt.Sprintf(": as from %d on", c.Again)
				case c.Rules == 0:
					what += ": no rules"
				}
				line("%s%s", indent, p(dim, what))
				continue
			}
			text := fmt.Sprintf("%s%4d  %s", indent, t.Number, cmp.Or(t.Rule.Text, "goes on"))
			if t.Rule.By != "" {
				text += "  " + p(dim, "("+t.Rule.By+")")
			}
			if t.Rule.Packets != nil {
				text += "  " + p(green, counted(t.Rule))
			}
			line("%s", text)
		}
	}
	a.printSets(w, l.Sets)
}

// shownElements is how many elements of a set are printed.
const shownElements = 40

// widestSet is how much room the names of sets get in front of what they hold.
const widestSet = 44

// printSets prints sets with what they hold.
func (a *app) printSets(w io.Writer, sets []api.NamedSet) {
	if len(sets) == 0 {
		return
	}
	p := a.paint(w)
	_, _ = fmt.Fprintf(w, "\n%s  %s\n", p(bold, "sets"), p(dim, "what rules ask by name"))
	called := func(s api.NamedSet) string {
		if s.Table == "" {
			return s.Name
		}
		return s.Table + "/@" + s.Name
	}
	width := 0
	for _, s := range sets {
		width = max(width, min(len(called(s)), widestSet))
	}
	for _, s := range sets {
		shown := s.Elements[:min(len(s.Elements), shownElements)]
		text := cmp.Or(strings.Join(shown, ", "), p(dim, "nothing"))
		if more := s.Total - len(shown); more > 0 {
			text += fmt.Sprintf(" and %d more", more)
		}
		if s.Changes {
			text += p(dim, " (elements come and go by themselves)")
		}
		_, _ = fmt.Fprintf(w, "  %-*s  %s\n", width, called(s), text)
	}
}

// orHook is a hook's name, or what is said of no hook.
func orHook(name string) string {
	if name == "" {
		return "no hook"
	}
	return name
}

// counted is what a rule's counter stood at.
func counted(r *api.Rule) string {
	text := plural(int(*r.Packets), "packet")
	if r.Bytes != nil {
		text += fmt.Sprintf(", %s", bytesText(*r.Bytes))
	}
	return text
}

// bytesText is a number of bytes as people read it.
func bytesText(n int64) string {
	for _, u := range []struct {
		name string
		size int64
	}{{"TiB", 1 << 40}, {"GiB", 1 << 30}, {"MiB", 1 << 20}, {"KiB", 1 << 10}} {
		if n >= u.size {
			return fmt.Sprintf("%.1f %s", float64(n)/float64(u.size), u.name)
		}
	}
	return fmt.Sprintf("%d B", n)
}

// printCounted prints what was counted between two looks, a line for each rule.
func (a *app) printCounted(before, now inOrder) {
	was := map[string]int64{}
	each := func(l inOrder, do func(t live.Tried)) {
		for _, h := range l.Hooks {
			for _, t := range h.Lines {
				if t.Rule != nil && t.Rule.Packets != nil {
					do(t)
				}
			}
		}
	}
	each(before, func(t live.Tried) { was[t.Rule.At] = *t.Rule.Packets })
	each(now, func(t live.Tried) {
		then, known := was[t.Rule.At]
		if more := *t.Rule.Packets - then; known && more > 0 {
			_, _ = fmt.Fprintf(a.out, "%s  +%-6d %4d  %s  (%s)\n", clockText(*now.TakenAt), more, t.Number, t.Rule.Text,
				t.Rule.By)
		}
	})
}
