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
	"yellowfence.example/yfence/core/traffic"
	"yellowfence.example/yfence/internal/host/inventory"
)

// trafficCommand makes `yfence traffic` and what is below it.
func (a *app) trafficCommand() *cobra.Command {
	c := &cobra.Command{
		Use:   "traffic",
		Short: "Show which statements nothing ever hits, what is refused, and which connections there are",
		Long: `Traffic tells what hosts count and see. Rules of ours count how often each statement of the
policy decides; what they refuse, and on hosts that are told to which connections begin, the
kernel tells the host agent. The service adds it up by statement, role and day.`,
	}
	c.AddCommand(a.unusedCommand(), a.refusedCommand(), a.seenCommand())
	return c
}

// day is 24 hours.
const day = 24 * time.Hour

// unusedCommand makes `yfence traffic unused`.
func (a *app) unusedCommand() *cobra.Command {
	var since time.Duration
	var all, on, narrow bool
	c := &cobra.Command{
		Use:   "unused [--here]",
		Short: "Tell which statements decided about nothing in a while, and how sure that is",
		Long: `Unused lists statements of the policy that no packet met in the time asked for, on how many
hosts, and for how long these have counted: a statement that was in force for a day says little.
One that is used, but on no host of a role that it names, is told with that role. Of connections
the first packet counts; a guard is told apart, since it is for the day when other ways fail.
It exits with status 1 if there is any.

With --narrow it proposes narrower forms of those that are used: without the peers and services that no
connection used which was seen (yfence traffic seen). What was seen they admit all the same.`,
		Example: "  yfence traffic unused\n  yfence traffic unused --since 7d --all\n  yfence traffic unused --narrow\n" +
			"  yfence traffic unused --here",
		Args: cobra.NoArgs,
	}
	h := a.onHost(c)
	c.RunE = func(cmd *cobra.Command, _ []string) (err error) {
		if since < time.Second || since > traffic.HitDays*day {
			return fmt.Errorf("--since is from 1s to %dd: what was earlier is not kept", traffic.HitDays)
		}
		if narrow {
			if on {
				return errors.New("--narrow is a question to the service, which keeps what was seen")
			}
			return a.narrower(cmd.Context(), since)
		}
		var u api.Usages
		if on {
			u, err = a.unusedHere(cmd, h, since)
		} else {
			var svc *client.Client
			if svc, err = a.service(); err == nil {
				u, err = svc.Unused(cmd.Context(), since)
			}
		}
		if err != nil {
			return err
		}
		found := false
		for _, s := range u.Statements {
			found = found || s.Unused() && !s.Guard
		}
		if err = a.print(u, func(w io.Writer) { a.printUsages(w, u, all) }); err == nil && found {
			return errFound
		}
		return err
	}
	lengthVar(c, &since, "since", 30*day, "how far back")
	c.Flags().BoolVar(&narrow, "narrow", false, "propose narrower forms of what is used, by which connections were seen")
	c.Flags().BoolVar(&all, "all", false, "those that are used too, with how often")
	c.Flags().BoolVar(&on, "here", false, "of the host that this runs on, by the policy in files that it follows")
	return c
}

// narrower tells which statements could be narrower.
func (a *app) narrower(ctx context.Context, since time.Duration) error {
	svc, err := a.service()
	if err != nil {
		return err
	}
	n, err := svc.Narrower(ctx, since)
	if err != nil {
		return err
	}
	err = a.print(n, func(w io.Writer) {
		p := a.paint(w)
		switch {
		case n.Watching == 0:
			_, _ = fmt.Fprintln(w, "no host listens to which connections begin (yfence attend --seen), so that nothing is known of them")
		case len(n.Narrower) == 0:
			_, _ = fmt.Fprintln(w, "each part of every statement that is used was used")
		}
		for _, one := range n.Narrower {
			sure := "none of its hosts listens to connections"
			if one.Watching > 0 {
				sure = fmt.Sprintf("%d of its %s listened for %s", one.Watching, plural(one.Hosts, "host"),
					lengthText(n.Now.Sub(time.Unix(one.Since, 0))))
			}
			_, _ = fmt.Fprintf(w, "%s  %s\n    nothing used %s; %s, %s in all\n    %s\n", p(bold, one.Statement), p(dim, "("+one.Place+")"),
				strings.Join(one.Unused, ", "), sure, plural(int(one.Times), "connection"), one.Rule)
		}
	})
	if err == nil && len(n.Narrower) > 0 {
		return errFound
	}
	return err
}

// recordFile is what a host without a service keeps of what it counted and saw.
const recordFile = "record.json"

// localRecord counts on this host, and gives what it keeps of that itself.
func (a *app) localRecord(cmd *cobra.Command, h *here) (*traffic.Record, error) {
	// The same batches that a host sends to its service go into a file of its own here.
	_, counts, err := inventory.InForce(cmd.Context())
	if err != nil {
		return nil, mustBeRoot(err)
	}
	if err := h.machine.Count(counts); err != nil {
		return nil, mustBeRoot(err)
	}
	r := traffic.NewRecord()
	if err := h.machine.ReadFile(recordFile, r); err != nil {
		return nil, err
	}
	err = h.machine.TellTraffic(func(b traffic.Batch) error {
		if !r.Take(b, time.Now().Unix(), func(f traffic.Flow) traffic.Flow { return f }) {
			return nil
		}
		return h.machine.WriteFile(recordFile, r)
	})
	return r, err
}

// unusedHere is how often statements decided on this host.
func (a *app) unusedHere(cmd *cobra.Command, h *here, since time.Duration) (u api.Usages, err error) {
	l, err := a.onThis(h)
	if err != nil {
		return u, err
	}
	r, err := a.localRecord(cmd, h)
	if err != nil {
		return u, err
	}
	now := time.Now().UTC()
	u = api.Usages{Version: api.Version, Now: now, Since: now.Add(-since), Hosts: 1, Counting: 1}
	u.Statements = traffic.Usages(l.pol, map[string]*traffic.Record{h.name: r}, u.Since.Unix(), now.Unix())
	return u, nil
}

// printUsages prints statements that nothing met, and with all how often others were.
func (a *app) printUsages(w io.Writer, u api.Usages, all bool) {
	p := a.paint(w)
	line := func(format string, args ...any) { _, _ = fmt.Fprintf(w, format+"\n", args...) }
	line("%s  counted on %d of %s", p(bold, "since "+dateText(u.Since)), u.Counting, plural(u.Hosts, "host"))
	place := func(s traffic.Usage) string { return p(dim, "("+s.Place+")") }
	// What may go comes first, what is there for other days after it, and last what is used: each
	// statement stands in one list, but for those that are used at some of their ends only.
	var unused, guards, partly, uncounted, used []string
	for _, s := range u.Statements {
		switch {
		case s.Hosts == 0:
			uncounted = append(uncounted, s.Statement+"  "+place(s))
		case s.Unused() && s.Guard:
			guards = append(guards, s.Statement+"  "+place(s)+"\n      "+sureness(s.Use, u.Now))
		case s.Unused():
			unused = append(unused, s.Statement+"  "+place(s)+"\n      "+sureness(s.Use, u.Now))
		default:
			used = append(used, fmt.Sprintf("%s  %s\n      %s on %d of %s, last %s", s.Statement, place(s), plural(int(s.Packets), "time"),
				s.HitOn, plural(s.Hosts, "host"), dayText(s.Last, u.Now)))
			for _, e := range s.Ends {
				if e.Unused() {
					partly = append(partly, fmt.Sprintf("%s, where %s %s it  %s\n      %s", s.Statement, e.Role,
						map[string]string{"in": "gets", "out": "sends"}[e.Way], place(s), sureness(e.Use, u.Now)))
				}
			}
		}
	}
	part := func(title string, of []string) {
		if len(of) > 0 {
			line("\n%s\n  %s", p(bold, title), strings.Join(of, "\n  "))
		}
	}
	part("nothing met these", unused)
	part("used, but nothing met these on the hosts of a role that they name", partly)
	part("guards that nothing met: for the day when other ways fail", guards)
	part("not counted: in force on no host that tells what it counts", uncounted)
	if all {
		part("used", used)
	} else if len(used) > 0 {
		line("\n%s are used; --all shows them", plural(len(used), "statement"))
	}
}

// sureness is on how many hosts nothing met a statement, and for how long they have counted.
func sureness(u traffic.Use, now time.Time) string {
	where := "on its one host"
	if u.Hosts > 1 {
		where = fmt.Sprintf("on none of %d hosts", u.Hosts)
	}
	text := fmt.Sprintf("%s; counted for %s", where, lengthText(now.Sub(time.Unix(u.First, 0))))
	if newest := now.Sub(time.Unix(u.All, 0)); u.Hosts > 1 && u.All-u.First > int64(day.Seconds()) {
		text += fmt.Sprintf(", on the newest of them for %s", lengthText(newest))
	}
	if u.Last != 0 {
		return text + ", last met " + dayText(u.Last, now)
	}
	return text + ", never met"
}

// lengthText is a length of time as people say it.
func lengthText(d time.Duration) string {
	switch {
	case d >= 2*day:
		return fmt.Sprintf("%d days", d/day)
	case d >= 2*time.Hour:
		return fmt.Sprintf("%d hours", d/time.Hour)
	case d >= 2*time.Minute:
		return fmt.Sprintf("%d minutes", d/time.Minute)
	}
	return "a minute or less"
}

// dayText is when something was, by the day.
func dayText(at int64, now time.Time) string {
	if then := time.Unix(at, 0); now.Sub(then) < day {
		return lengthText(now.Sub(then)) + " ago"
	}
	return "on " + dateText(time.Unix(at, 0))
}
