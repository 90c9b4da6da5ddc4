package cli

import (
	"errors"
	"fmt"
	"io"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"yellowfence.example/yfence/api"
	"yellowfence.example/yfence/client"
	"yellowfence.example/yfence/core/compare"
	"yellowfence.example/yfence/core/say"
	"yellowfence.example/yfence/internal/live"
)

// driftCommand makes `yfence drift`, of dumps and files or of the service's hosts.
func (a *app) driftCommand() *cobra.Command {
	var dumps []string
	var on bool
	c := &cobra.Command{
		Use:   "drift [HOST|--here]",
		Short: "Show where the rules in force differ from the published policy",
		Long: `Drift holds what hosts have in force against what the policy means for them, for
every packet there can be. What somebody changed on a host is told from what was
published since and is not settled there yet ("behind"). It exits with status 1 if a host is
anything but in step.

On files alone it takes what ` + "`yfence report --print`" + ` gives there, or listings, which do not
tell who their users are: of ` + "`TZ=UTC nft list ruleset`" + ` (with -j or without), or of
` + "`iptables-save`, `ip6tables-save` and `ipset save`" + `, one --dump for each.`,
		Example: "  yfence drift logbook-01\n  yfence drift --here\n" +
			"  yfence drift --policy saltmarsh --fleet saltmarsh/fleet.json logbook-01 --dump listing.json",
		Args: cobra.MaximumNArgs(1),
	}
	h := a.onHost(c)
	at := momentVar(c, "at", "how the host differed then: a date and time, a time of day, or how long ago")
	c.RunE = func(cmd *cobra.Command, args []string) (err error) {
		var d api.Drift
		switch {
		case !at.at.IsZero() && (on || a.onFiles() || dumps != nil):
			return errAtService
		case !at.at.IsZero() && len(args) == 0:
			return errors.New("at a time one host is looked at: drift HOST --at TIME")
		case !at.at.IsZero():
			var svc *client.Client
			if svc, err = a.service(); err == nil {
				d, err = svc.DriftAt(cmd.Context(), args[0], at.at)
			}
		case on:
			d, err = a.driftHere(cmd.Context(), h)
		default:
			d, err = a.drift(cmd, strings.Join(args, ""), dumps)
		}
		if err != nil {
			return err
		}
		if err := a.print(d, func(w io.Writer) { a.printDrift(w, d) }); err != nil {
			return err
		}
		for _, h := range d.Hosts {
			if h.State != api.InStep && h.State != api.Others {
				return errFound
			}
		}
		for _, c := range d.Clouds {
			if len(c.Notes) > 0 || c.Failing != "" {
				return errFound
			}
		}
		return nil
	}
	c.Flags().BoolVar(&on, "here", false, "of the host that this runs on, by the policy in files that it follows")
	c.Flags().BoolVar(&a.complete, "complete", false, "the dumps are all there is: no rules of iptables for the other family")
	c.Flags().StringArrayVar(&dumps, "dump", nil, "[HOST=]FILE with a report or a listing of the host's rules; - for standard input")
	return c
}

// drift tells how hosts differ: by the service's word, or worked out here from dumps.
func (a *app) drift(cmd *cobra.Command, host string, dumps []string) (api.Drift, error) {
	if !a.onFiles() {
		if dumps != nil {
			return api.Drift{}, errors.New("--dump goes with --policy DIR and --fleet FILE: the service takes dumps as reports")
		}
		svc, err := a.service()
		if err != nil {
			return api.Drift{}, err
		}
		return svc.Drift(cmd.Context(), host)
	}
	if host == "" && len(dumps) > 0 { // a report says whose it is
		host, _, _ = a.whose(dumps[0])
	}
	if host == "" || dumps == nil {
		return api.Drift{}, errors.New("on files, say whose rules to look at: drift HOST --dump FILE")
	}
	for _, d := range dumps {
		if of, _, named := a.named(d); named && of != host {
			return api.Drift{}, fmt.Errorf("%s is a dump of %s, and %s is asked about: look at one host at a time", d, of, host)
		}
	}
	pol, err := a.sound()
	if err != nil {
		return api.Drift{}, err
	}
	h := pol.Fleet.Host(host)
	if h == nil {
		return api.Drift{}, unknownHost(host, pol.Fleet.Names())
	}
	f, err := a.inForce(dumps)
	if err != nil {
		return api.Drift{}, err
	}
	res, err := live.Drift([]live.Stage{{Policy: pol, Host: h}}, say.NamesOf(pol), time.Now().Unix(), f, time.Time{})
	if err != nil { // what cannot be read is no host without rules: it is unread
		res = &compare.Result{Unread: []string{unreadable(dumps, err)}, Findings: []compare.Finding{}}
	}
	return api.Drift{Version: api.Version,
		Hosts: []api.HostDrift{{Host: host, State: api.State(res.State()), Findings: res.Findings, Unread: res.Unread}}}, nil
}

// toneColours are how states look; every state is said in words too.
var toneColours = map[api.Tone]string{api.Good: green, api.Care: amber, api.Bad: red, api.Plain: dim}

// printDrift prints hosts and their findings, and how many are in which state.
func (a *app) printDrift(w io.Writer, d api.Drift) {
	p := a.paint(w)
	count := map[api.State]int{}
	width := 0
	for _, h := range d.Hosts {
		width = max(width, len(h.Host))
	}
	for _, h := range d.Hosts {
		count[h.State]++
		why := ""
		if h.Why != "" {
			why = ", " + h.Why
		}
		_, _ = fmt.Fprintf(w, "%s  %s%s\n", p(bold, fmt.Sprintf("%-*s", width, h.Host)),
			p(toneColours[h.State.Note().Tone], string(h.State)), why)
		for _, f := range h.Findings {
			a.printFinding(w, f, p)
		}
		for _, u := range h.Unread {
			_, _ = fmt.Fprintf(w, "    %s  %s\n", p(amber, "unread  "), u)
		}
	}
	var parts []string
	for _, s := range api.States {
		if n := count[s.State]; n > 0 {
			parts = append(parts, fmt.Sprintf("%d %s", n, s.State))
		}
	}
	for _, c := range d.Clouds {
		a.printCloud(w, c, p)
	}
	_, _ = fmt.Fprintf(w, "\n%s: %s\n", plural(len(d.Hosts), "host"), strings.Join(parts, ", "))
	printInForce(w, d.Revision, d.Tally)
}

// printInForce tells on how many hosts which revision is in force.
func printInForce(w io.Writer, published int64, t api.Tally) {
	if published == 0 || t.Total == 0 {
		return
	}
	has := map[int64]int{}
	for _, r := range t.InForce {
		has[r.Revision] = r.Hosts
	}
	parts := []string{fmt.Sprintf("revision %d, which is published, is in force on %d of %s", published, has[published],
		plural(t.Total, "host"))}
	for _, r := range t.InForce {
		if r.Revision != published && r.Revision != 0 {
			parts = append(parts, fmt.Sprintf("revision %d on %d", r.Revision, r.Hosts))
		}
	}
	if has[0] > 0 {
		parts = append(parts, fmt.Sprintf("no published revision on %d", has[0]))
	}
	_, _ = fmt.Fprintln(w, strings.Join(parts, ", "))
}

// printCloud tells how a cloud stands, and what of its groups is not as it is to be.
func (a *app) printCloud(w io.Writer, c api.CloudStatus, p func(string, string) string) {
	_, _ = fmt.Fprintf(w, "\ncloud %s  %s, %s, read %s\n", p(bold, c.Cloud), plural(c.Instances, "instance"), plural(c.Groups, "group"),
		ago(c.ReadAt))
	if c.Failing != "" {
		_, _ = fmt.Fprintf(w, "    %s  %s\n", p(red, "failing "), c.Failing)
	}
	for _, what := range c.Waits {
		_, _ = fmt.Fprintf(w, "    %s  %s\n", p(amber, "asked   "), what)
	}
	for _, n := range c.Notes {
		_, _ = fmt.Fprintf(w, "    %s  %s\n              %s     %s\n", p(red, fmt.Sprintf("%-8s", n.Kind)), n.Says, p(dim, "to do"), n.Hint)
	}
}

// kindColours are the colours of kinds of findings; the words say the same.
var kindColours = map[compare.Kind]string{compare.Opened: red, compare.Shut: red, compare.Altered: amber, compare.Boot: amber,
	compare.Cosmetic: dim}

// printFinding prints one finding: what, a packet that shows it, either side, and what to do.
func (a *app) printFinding(w io.Writer, f compare.Finding, p func(string, string) string) {
	_, _ = fmt.Fprintf(w, "    %s  %s\n", p(kindColours[f.Kind], fmt.Sprintf("%-8s", f.Kind)), f.Sentence)
	line := func(label, format string, args ...any) {
		_, _ = fmt.Fprintf(w, "              %s %s\n", p(dim, fmt.Sprintf("%-9s", label)), fmt.Sprintf(format, args...))
	}
	if f.Packet != nil {
		line("packet", "%s", f.Packet)
		line("live", "%s by `%s`%s", f.Live.Verdict, f.Live.Rule, place(f.Live.At))
		line("published", "%s by %s%s", f.Published.Verdict, f.Published.By, place(f.Published.At))
	} else if f.Live.Rule != "" {
		line("live", "%s", f.Live.Rule)
	}
	if f.Because == compare.Changed && f.Revision != 0 {
		line("because", "somebody changed the rules on the host itself; revision %d was in force there", f.Revision)
	}
	line("to do", "%s", f.Hint)
}

// place is a place behind a text, if there is one.
func place(at string) string {
	if at == "" {
		return ""
	}
	return "  (" + at + ")"
}

// plural is a number of things.
func plural(n int, what string) string {
	if n == 1 {
		return "1 " + what
	}
	return fmt.Sprintf("%d %ss", n, what)
}
