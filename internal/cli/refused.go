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
	"yellowfence.example/yfence/client"
	"yellowfence.example/yfence/core/fence"
	"yellowfence.example/yfence/core/packet"
	"yellowfence.example/yfence/core/say"
	"yellowfence.example/yfence/core/source"
	"yellowfence.example/yfence/core/traffic"
	"yellowfence.example/yfence/internal/host/tap"
	"yellowfence.example/yfence/internal/limits"
)

// groupsFlags are those of the commands that tell what hosts saw.
type groupsFlags struct {
	since  time.Duration
	most   int
	on     bool
	listen time.Duration
	draft  bool
}

// of adds them to a command.
func (f *groupsFlags) of(c *cobra.Command, what string) {
	lengthVar(c, &f.since, "since", 7*day, "how far back")
	c.Flags().IntVar(&f.most, "most", 50, "how many "+what+" are told")
	c.Flags().BoolVar(&f.on, "here", false, "of the host that this runs on, by the policy in files that it follows: listens for a while")
	lengthVar(c, &f.listen, "for", 10*time.Second, "with --here: how long to listen")
	c.Flags().BoolVar(&f.draft, "draft", false,
		"print only the statements that would admit it, to be read, changed and put into the policy")
}

// sound refuses what they cannot mean.
func (f *groupsFlags) sound() error {
	switch {
	case f.since < time.Second || f.since > traffic.FlowDays*day:
		return fmt.Errorf("--since is from 1s to %dd: what was earlier is not kept", traffic.FlowDays)
	case f.most < 1 || f.most > 1000:
		return errors.New("--most is from 1 to 1000")
	case f.listen < time.Second || f.listen > time.Hour:
		return errors.New("--for is from 1s to 1h")
	}
	return nil
}

// refusedCommand makes `yfence traffic refused`.
func (a *app) refusedCommand() *cobra.Command {
	var f groupsFlags
	c := &cobra.Command{
		Use:   "refused [--here]",
		Short: "Tell what is refused, to whom, how often, and the statement that would admit it",
		Long: `Refused tells what rules of ours refused, or would refuse if nothing were on trial, over all hosts
that run the host agent: by whom, from where to where, how often, since when. First comes what is
refused between our own hosts, then to networks that the policy declares, then to strangers; whoever
tries port after port is told as one, last. For each stands the one statement that would admit it, if
there is one, and what that opens besides.

Of each rule the kernel tells at most 100 packets a second, so that the numbers are a lower bound.
--draft prints the statements alone. --here listens on the host that it runs on, as root.`,
		Example: "  yfence traffic refused\n  yfence traffic refused --since 1h\n  yfence traffic refused --draft > more.fence\n" +
			"  yfence traffic refused --here --for 1m",
		Args: cobra.NoArgs,
	}
	h := a.onHost(c)
	c.RunE = func(cmd *cobra.Command, _ []string) (err error) {
		if err := f.sound(); err != nil {
			return err
		}
		var r api.Refusals
		if f.on {
			r, err = a.refusedHere(cmd.Context(), h, f)
		} else {
			var svc *client.Client
			if svc, err = a.service(); err == nil {
				r, err = svc.Refused(cmd.Context(), f.since, f.most)
			}
		}
		if err != nil {
			return err
		}
		return a.print(r, func(w io.Writer) {
			if !f.draft {
				a.printRefused(w, r)
				return
			}
			var rules []string
			for _, one := range r.Refused {
				rules = append(rules, one.Rule)
			}
			draft(w, rules)
		})
	}
	f.of(c, "reasons")
	return c
}

// draft prints statements, each once, as a file of a policy lays them out.
func draft(w io.Writer, rules []string) {
	// Several reasons may come to one statement; it is printed once, as `yfence tidy` would lay it out.
	var b strings.Builder
	had := map[string]bool{"": true}
	for _, r := range rules {
		if !had[r] {
			b.WriteString(r + "\n")
			had[r] = true
		}
	}
	text := b.String()
	if file, problems := fence.Parse("draft", text); !source.HasErrors(problems) {
		text = fence.Print(file)
	}
	_, _ = io.WriteString(w, text)
}

// listenHere listens on this host for a while.
func (a *app) listenHere(ctx context.Context, h *here, connections bool, wait time.Duration) (l local, r *traffic.Record, err error) {
	if l, err = a.onThis(h); err != nil {
		return l, nil, err
	}
	// What the kernel tells meanwhile is added up as the host agent does it, and kept nowhere.
	listening, stop := context.WithCancel(ctx)
	defer stop()
	t, refused, begun := tap.Open(listening, connections)
	if err := errors.Join(refused, begun); err != nil {
		return l, nil, mustBeRoot(fmt.Errorf("the kernel cannot be listened to: %w", err))
	}
	a.say("listening for %s", wait)
	select {
	case <-ctx.Done():
	case <-time.After(wait):
	}
	b := t.Drain()
	b.Epoch, b.Number = "here", 1
	r = traffic.NewRecord()
	r.Take(b, time.Now().Unix(), func(f traffic.Flow) traffic.Flow { return f })
	return l, r, nil
}

// refusedHere is what this host refuses in a while.
func (a *app) refusedHere(ctx context.Context, h *here, f groupsFlags) (out api.Refusals, err error) {
	l, r, err := a.listenHere(ctx, h, false, f.listen)
	if err != nil {
		return out, err
	}
	now := time.Now().UTC()
	out = api.Refusals{Version: api.Version, Now: now, Since: now.Add(-f.listen), Telling: 1, Over: r.Refused.Over, Lost: r.Lost}
	err = within(limits.JudgeCases, "telling what was refused", func(b packet.Budget) error {
		out.Refused, out.More = traffic.Refusals(b, say.NamesOf(l.pol), map[string]*traffic.Record{h.name: r}, out.Since.Unix()-1,
			now.Unix(), f.most)
		return nil
	})
	return out, err
}

// printRefused prints what is refused, a reason after the other.
func (a *app) printRefused(w io.Writer, r api.Refusals) {
	p := a.paint(w)
	line := func(format string, args ...any) { _, _ = fmt.Fprintf(w, format+"\n", args...) }
	line("%s  told by %s", p(bold, "since "+momentText(r.Since, r.Now)), plural(r.Telling, "host"))
	if len(r.Refused) == 0 {
		line("nothing was refused")
	}
	// A reason each: what it is, who refuses it and why, who sent it, and what would admit it.
	for _, one := range r.Refused {
		line("")
		line("%s  %s", p(bold, one.Group.String()), a.often(w, one.Group, r.Now))
		manner := map[string]string{"": "refused by", "on trial": "would be refused, but for the trial, by",
			"over its limit": "over the limit of",
			"paused":         "would be refused, but for the pause, by"}[one.Manner]
		line("    %s %s%s", manner, one.By, place(one.Place))
		line("    from %s", sendersText(one.Group))
		switch {
		case one.Search:
			line("    somebody looks for open ports")
		case one.Passes:
			line("    %s", p(green, "what is published admits it: it is not in force there yet, or was refused before"))
		case one.Rule != "":
			line("    to admit it: %s", one.Rule)
			if one.Opens != "" {
				line("    %s", p(dim, "which opens it besides "+one.Opens))
			}
		}
	}
	a.untold(w, r.More, "reasons", r.Over, r.Lost)
}

// often is how often there was a group, and when.
func (a *app) often(w io.Writer, g traffic.Group, now time.Time) string {
	text := fmt.Sprintf("%s, last %s", plural(int(g.Times), "time"), dayText(g.Last, now))
	if g.HostsOf > 1 {
		text += fmt.Sprintf(", on %d hosts", g.HostsOf)
	}
	return a.paint(w)(dim, text)
}

// sendersText are who sent most, by address.
func sendersText(g traffic.Group) string {
	var all []string
	for _, s := range g.Senders {
		text := s.Address.String()
		if s.Address.IsSingleIP() {
			text = s.Address.Addr().String()
		}
		all = append(all, text)
	}
	if more := g.SendersOf - len(g.Senders); more > 0 {
		all = append(all, fmt.Sprintf("%d more", more))
	}
	text := strings.Join(all, ", ")
	if g.Direction != packet.Outbound.Word() {
		return text + " to " + strings.Join(g.Hosts, ", ")
	}
	return text + " (" + strings.Join(g.Hosts, ", ") + ")"
}

// untold says what is not in an answer.
func (a *app) untold(w io.Writer, more int, what string, over, lost int64) {
	if more > 0 {
		_, _ = fmt.Fprintf(w, "\n%d %s more; --most tells more of them\n", more, what)
	}
	if over > 0 {
		_, _ = fmt.Fprintf(w, "\n%d more are in none of these: there were too many kinds to keep them apart\n", over)
	}
	if lost > 0 {
		_, _ = fmt.Fprintf(w, "\nkernels dropped messages %s: what was in them is not counted\n", plural(int(lost), "time"))
	}
}
