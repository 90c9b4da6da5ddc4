package cli

import (
	"context"
	"fmt"
	"io"
	"time"

	"github.com/spf13/cobra"

	"yellowfence.example/yfence/api"
	"yellowfence.example/yfence/client"
	"yellowfence.example/yfence/core/packet"
	"yellowfence.example/yfence/core/traffic"
	"yellowfence.example/yfence/internal/limits"
)

// seenCommand makes `yfence traffic seen`.
func (a *app) seenCommand() *cobra.Command {
	var f groupsFlags
	c := &cobra.Command{
		Use:   "seen [--here]",
		Short: "Tell which connections there are, by role and service, and who admits them",
		Long: `Seen tells which connections began on hosts whose agent listens to that (yfence attend --seen; it
does not unless it is told to): from whom to whom, to which service, how often, and which statement of
the policy admits them. Of strangers' addresses the service keeps the prefix alone, of 24 or 48 bits,
and all of it for 30 days at most.

Where nothing but an open stance admits a connection a statement is given that would: with --draft
these are printed alone, so that a direction can be closed without an outage. yfence compare and
yfence publish say which connections that were seen a change would refuse.`,
		Example: "  yfence traffic seen\n  yfence traffic seen --since 1d\n  yfence traffic seen --draft > outbound.fence\n" +
			"  yfence traffic seen --here --for 1m",
		Args: cobra.NoArgs,
	}
	h := a.onHost(c)
	c.RunE = func(cmd *cobra.Command, _ []string) (err error) {
		if err := f.sound(); err != nil {
			return err
		}
		var s api.SeenConnections
		if f.on {
			s, err = a.seenHere(cmd.Context(), h, f)
		} else {
			var svc *client.Client
			if svc, err = a.service(); err == nil {
				s, err = svc.Seen(cmd.Context(), f.since, f.most)
			}
		}
		if err != nil {
			return err
		}
		return a.print(s, func(w io.Writer) {
			if !f.draft {
				a.printSeen(w, s)
				return
			}
			var rules []string
			for _, one := range s.Seen {
				rules = append(rules, one.Rule)
			}
			draft(w, rules)
		})
	}
	f.of(c, "kinds of connections")
	return c
}

// seenHere is which connections begin on this host in a while.
func (a *app) seenHere(ctx context.Context, h *here, f groupsFlags) (out api.SeenConnections, err error) {
	l, r, err := a.listenHere(ctx, h, true, f.listen)
	if err != nil {
		return out, err
	}
	now := time.Now().UTC()
	out = api.SeenConnections{Version: api.Version, Now: now, Since: now.Add(-f.listen), Watching: 1, Over: r.Seen.Over, Lost: r.Lost}
	err = within(limits.JudgeCases, "telling what was seen", func(b packet.Budget) error {
		out.Seen, out.More = traffic.Connections(b, l.pol, map[string]*traffic.Record{h.name: r}, out.Since.Unix()-1, now.Unix(), f.most)
		return nil
	})
	return out, err
}

// printSeen prints which connections there were.
func (a *app) printSeen(w io.Writer, s api.SeenConnections) {
	p := a.paint(w)
	line := func(format string, args ...any) { _, _ = fmt.Fprintf(w, format+"\n", args...) }
	line("%s  %s listen to which connections begin", p(bold, "since "+momentText(s.Since, s.Now)), plural(s.Watching, "host"))
	if s.Watching == 0 {
		line("none does: yfence attend --seen on a host has its agent listen")
	}
	// A kind each: from whom to whom, where it was seen, and the statement that admits it or would.
	for _, one := range s.Seen {
		line("")
		line("%s  %s", p(bold, one.Group.String()), a.often(w, one.Group, s.Now))
		where := map[string]string{"in": "seen where it comes in", "out": "seen where it goes out",
			"through": "seen on its way"}[one.Direction]
		if one.Both {
			where = "seen at both ends"
		}
		line("    %s, from %s", where, sendersText(one.Group))
		switch {
		case one.Stated:
			line("    admitted by %s%s", one.By, place(one.Place))
		default:
			line("    %s", p(amber, "no statement admits it, the open stance alone does"))
			line("    to say it: %s", one.Rule)
		}
	}
	a.untold(w, s.More, "kinds of connections", s.Over, s.Lost)
}

// printCuts prints which connections that were seen a change would refuse.
func (a *app) printCuts(w io.Writer, c *api.Cuts) {
	if c == nil || c.Watching == 0 {
		return
	}
	p := a.paint(w)
	line := func(format string, args ...any) { _, _ = fmt.Fprintf(w, format+"\n", args...) }
	line("")
	if len(c.Cut) == 0 {
		line("of the connections that %s saw since %s it refuses none", plural(c.Watching, "host"), dateText(c.Since))
		return
	}
	line("%s", p(red, fmt.Sprintf("it refuses connections that are in use: of those that %s saw since %s", plural(c.Watching, "host"),
		dateText(c.Since))))
	now := time.Now()
	for _, one := range c.Cut {
		line("  %s  %s", p(bold, one.Group.String()), a.often(w, one.Group, now))
		line("    refused by %s%s; until now admitted by %s", one.By, place(one.Place), one.Was)
		line("    from %s", sendersText(one.Group))
	}
}
