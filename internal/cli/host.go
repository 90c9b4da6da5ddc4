package cli

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/netip"
	"net/url"
	"os"
	"os/signal"
	"path/filepath"
	"strings"
	"syscall"
	"time"

	"github.com/spf13/cobra"

	"yellowfence.example/yfence/core/compare"
	"yellowfence.example/yfence/internal/api"
	"yellowfence.example/yfence/internal/client"
	"yellowfence.example/yfence/internal/host"
)

// here is this host, for the commands that run on one.
type here struct {
	app       *app
	name, dir string // flags
	machine   host.Machine
	identity  *host.Identity
	svc       *client.Client // nil where none is named and none is needed
}

// onHost adds the flags of a command that runs on a host.
func (a *app) onHost(c *cobra.Command) *here {
	h := &here{app: a}
	c.Flags().StringVar(&h.name, "host", "", "this host's name in the fleet, if it is not enrolled and the name is not the machine's")
	c.Flags().StringVar(&h.dir, "state", "", "the folder of what this host keeps (YFENCE_STATE; "+host.StateDir+")")
	return h
}

// find finds out who this host is and who serves it.
func (h *here) find() (err error) {
	a := h.app
	if h.machine.Dir, err = filepath.Abs(cmp.Or(h.dir, a.getenv("YFENCE_STATE"), host.StateDir)); err != nil {
		return err
	}
	if err := h.machine.Resume(); err != nil { // a change that waits for its keep may have nobody who watches it
		a.say("yfence: %s", err)
	}
	if h.identity, err = h.machine.Identity(); err != nil {
		return err
	}
	if h.name == "" && h.identity != nil {
		h.name = h.identity.Host
	}
	if h.name == "" {
		if h.name, err = os.Hostname(); err != nil {
			return err
		}
	}
	server, token, err := a.address()
	if err != nil {
		return err
	}
	if h.identity != nil { // what is said explicitly counts more
		server, token = cmp.Or(server, h.identity.Server), cmp.Or(token, h.identity.Token)
	}
	if server == "" || token == "" {
		return nil
	}
	authorities, err := a.authorities()
	if err != nil {
		return err
	}
	if authorities == nil && h.identity != nil && h.identity.CA != "" {
		authorities = []byte(h.identity.CA)
	}
	h.svc, err = a.client(server, token, authorities)
	return err
}

// service finds this host, and that it has a service.
func (h *here) service() (*client.Client, error) {
	if err := h.find(); err != nil {
		return nil, err
	}
	if h.svc == nil {
		return nil, errors.New("this host is not enrolled (yfence attend --enrol FILE), and no service is named: give --server URL and --token-file FILE")
	}
	return h.svc, nil
}

// services are the addresses at which this host finds the service.
func (h *here) services() (out []netip.AddrPort) {
	if h.svc == nil {
		return nil
	}
	u, err := url.Parse(h.svc.URL())
	if err != nil {
		return nil
	}
	port := cmp.Or(u.Port(), map[string]string{"http": "80", "https": "443"}[u.Scheme])
	names, err := net.LookupHost(u.Hostname())
	if err != nil {
		return nil
	}
	for _, name := range names {
		if at, err := netip.ParseAddrPort(net.JoinHostPort(name, port)); err == nil {
			out = append(out, at)
		}
	}
	return out
}

func (a *app) reportCommand() *cobra.Command {
	var from string
	var show, spool bool
	c := &cobra.Command{
		Use:   "report",
		Short: "On a host: send what is in force",
		Long: `Report reads what the kernel has in force and sends it to the service. What the
service knows already is sent as its hash only.

A host whose rules shut it off cannot reach the service. Print its report at its
console, and send it from where the service can be reached: report --from FILE.`,
		Args: cobra.NoArgs,
	}
	h := a.onHost(c)
	c.RunE = func(cmd *cobra.Command, _ []string) error {
		if from != "" {
			data, err := a.readFile(from)
			if err != nil {
				return err
			}
			var r api.Report
			if err := json.Unmarshal(data, &r); err != nil || r.Host == "" {
				return fmt.Errorf("%s is not what yfence report --print gives", from)
			}
			svc, err := a.service()
			if err != nil {
				return err
			}
			d, err := svc.Report(cmd.Context(), r)
			if err != nil {
				return err
			}
			return a.printReported(d)
		}
		if show {
			if err := h.find(); err != nil {
				return err
			}
			r, err := h.machine.Report(cmd.Context(), h.name)
			if err != nil {
				return err
			}
			a.output = "json"
			return a.print(r, nil)
		}
		if _, err := h.service(); err != nil {
			return err
		}
		d, err := h.report(cmd.Context(), spool)
		if err != nil {
			return err
		}
		return a.printReported(d)
	}
	c.Flags().BoolVar(&show, "print", false, "print the report and send nothing")
	c.Flags().StringVar(&from, "from", "", "send a report that was printed before, - for standard input")
	c.Flags().BoolVar(&spool, "spool", false, "keep the report on disk if the service is away, and send what was kept first")
	return c
}

// report reads what is in force and sends it.
func (h *here) report(ctx context.Context, spool bool) (d api.HostDrift, err error) {
	r, err := h.machine.Report(ctx, h.name)
	if err != nil {
		return d, err
	}
	if spool {
		err := h.machine.Unspool(func(old api.Report) error {
			d, err := h.svc.Report(ctx, old)
			var p *client.Problem
			if errors.As(err, &p) && p.Status == 422 { // it will never be taken
				return nil
			}
			if err == nil {
				h.machine.Reported(old, d.Hash)
			}
			return err
		})
		if err != nil {
			return d, errors.Join(err, h.machine.Spool(r))
		}
	}
	if short, ok := h.machine.Short(r); ok {
		if d, err = h.svc.Report(ctx, short); err == nil {
			h.machine.Reported(r, d.Hash)
			return d, nil
		}
	}
	if d, err = h.svc.Report(ctx, r); err != nil {
		if spool {
			err = errors.Join(err, h.machine.Spool(r))
		}
		return d, err
	}
	h.machine.Reported(r, d.Hash)
	return d, nil
}

// printReported prints what the service makes of a report.
func (a *app) printReported(d api.HostDrift) error {
	return a.print(map[string]any{"version": api.Version, "host": d}, func(w io.Writer) { a.writeReported(w, d) })
}

func (a *app) writeReported(w io.Writer, d api.HostDrift) {
	_, _ = fmt.Fprintf(w, "%s: reported, %s\n", d.Host, d.State)
	if d.Why != "" {
		_, _ = fmt.Fprintf(w, "    %s\n", d.Why)
	}
	for _, f := range d.Findings {
		if f.Kind != compare.Cosmetic {
			a.printFinding(w, f, a.paint(w))
		}
	}
}

type settleFlags struct {
	within                time.Duration
	minimal, pause, force bool
	pair, task            int64
	why                   string
}

func (a *app) settleCommand() *cobra.Command {
	var f settleFlags
	c := &cobra.Command{
		Use:   "settle",
		Short: "On a host: put what is published in force",
		Long: `Settle fetches this host's rules, keeps a copy of what is in force, has the
kernel's own tools check the rules, and puts them in force in one transaction. Then
it reports.

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
	c.Flags().BoolVar(&f.minimal, "minimal", false, "the ground and the ways in alone")
	c.Flags().BoolVar(&f.force, "force", false, "go on where the change cuts off log-ins or the service; it is undone by itself all the same")
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

func (a *app) settle(cmd *cobra.Command, h *here, f settleFlags) error {
	ctx := cmd.Context()
	svc, err := h.service()
	if err != nil {
		return err
	}
	if f.within < time.Second || f.within > 24*time.Hour {
		return fmt.Errorf("--within is from 1s to 24h, not %s", f.within)
	}
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
	kind := ""
	w := host.Wanted{Change: api.HostChange{Kind: "settle", Why: f.why, Task: f.task}, Within: f.within, Force: f.force, Service: h.services()}
	if f.pause {
		kind = "pause"
		rules, err = svc.RulesOf(ctx, h.name, kind)
		w.Passing, w.Change.Kind = true, "pause"
	} else {
		kind = map[bool]string{true: "ground"}[f.minimal]
		rules, err = svc.SettlePair(ctx, h.name, kind, f.pair)
	}
	if err != nil {
		return err
	}
	wanted := f.pair
	if f.pause {
		wanted = 0 // everything is admitted for a while, by whatever is published
	}
	if err := h.machine.Accept(rules, h.name, kind, wanted); err != nil {
		return fmt.Errorf("nothing was changed: %w", err)
	}
	w.Files, w.Change.Revision, w.Change.Generation, w.Change.Pair = rules.Files, rules.Revision, rules.Generation, rules.Pair
	w.Change.What = fmt.Sprintf("revision %d", rules.Revision)
	switch {
	case f.pause:
		w.Change.What = "the pause"
	case f.minimal:
		w.Change.What = "the ground of " + w.Change.What
	}
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
	for _, who := range made.Absent {
		out.Said = append(out.Said, fmt.Sprintf("there is no %s here; what only it may send is not admitted", who))
	}
	for _, cut := range made.Cut {
		out.Said = append(out.Said, "it cuts off "+cut)
	}
	if made.Change.Kind == "settle" {
		ctx, cancel := context.WithTimeout(cmd.Context(), lookTime)
		left, _ := h.machine.Unadmitted(ctx, h.name, h.services(), false) // what it found in that time; nothing where conntrack is not installed
		cancel()
		if len(left) > 0 {
			out.Said = append(out.Said, fmt.Sprintf("%s would no longer be admitted, as %s from %s to %s (yfence connections)", plural(len(left), "open connection"), left[0].Protocol, left[0].From, left[0].To))
		}
	}
	for _, s := range out.Said {
		a.say("%s: %s", h.name, s)
	}
	d, err := h.tell(cmd.Context(), &made.Change, min(tellTime, time.Until(made.Change.Until)/2))
	if err != nil && !force && made.Change.Kind == "settle" {
		c, back := h.machine.Back(fmt.Sprintf("the service could no longer be reached: %s", err))
		out.Change = &c
		if back != nil || c.Phase != api.WentBack {
			return errors.Join(errors.New("the service could no longer be reached, and the change could not be taken back yet: it goes back by itself"), err, back)
		}
		return errors.Join(errors.New("nothing was changed in the end: the service could no longer be reached, and what was in force before is in force again"), err)
	}
	if err == nil {
		out.Host = &d
	} else {
		a.say("%s: the service could not be told: %s", h.name, err)
	}
	return a.print(out, func(w io.Writer) {
		until := made.Change.Until.Local().Format(time.TimeOnly)
		if made.Change.Kind == "pause" {
			_, _ = fmt.Fprintf(w, "%s: the filter is paused until %s, when it comes back by itself\n", h.name, until)
		} else {
			_, _ = fmt.Fprintf(w, "%s: %s is in force, and goes back at %s unless it is kept: log in anew and run yfence keep\n", h.name, made.Change.What, until)
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

func (a *app) takeBack(cmd *cobra.Command, h *here, why string) error {
	if err := h.find(); err != nil {
		return err
	}
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
		_, _ = fmt.Fprintf(w, "%s: %s %s, %s\n", h.name, c.What, map[api.Phase]string{api.Kept: "is kept", api.WentBack: "went back"}[c.Phase], c.Why)
		if out.Host != nil {
			a.writeReported(w, *out.Host)
		}
	})
}

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

func (a *app) keepCommand() *cobra.Command {
	var console bool
	c := &cobra.Command{
		Use:   "keep",
		Short: "On a host: make the last change last",
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
	c.Flags().BoolVar(&console, "at-console", false, "you sit at the machine itself; only where the fleet file says that it has its own console")
	return c
}

func (a *app) undoCommand() *cobra.Command {
	var why string
	c := &cobra.Command{
		Use:   "undo",
		Short: "On a host: take the last change back, before it is kept",
		Long: `Undo has what was in force before the last change in force again, at once, as it
would be by itself if nobody kept the change. What was kept is taken back by restoring a
copy: yfence copies restore --here NUMBER.`,
		Args: cobra.NoArgs,
	}
	h := a.onHost(c)
	c.RunE = func(cmd *cobra.Command, _ []string) error {
		return a.takeBack(cmd, h, cmp.Or(why, "taken back on the host"))
	}
	because(c, &why)
	return c
}

// bootCommand is what the unit runs when the host starts: what was last kept is put in force.
func (a *app) bootCommand() *cobra.Command {
	c := &cobra.Command{Use: "boot", Short: "On a host: put in force what was last kept, as when it starts", Hidden: true, Args: cobra.NoArgs}
	h := a.onHost(c)
	c.RunE = func(cmd *cobra.Command, _ []string) error { return a.loadKept(cmd, h) }
	return c
}

// refillCommand is what attend runs when a unit starts anew: the rules in force are told which
// users and units there are now.
func (a *app) refillCommand() *cobra.Command {
	c := &cobra.Command{Use: "refill", Short: "On a host: tell the rules in force who its users and units are now", Hidden: true, Args: cobra.NoArgs}
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

func (a *app) attendCommand() *cobra.Command {
	var enrol string
	var plain bool
	var every, look time.Duration
	c := &cobra.Command{
		Use:   "attend",
		Short: "On a host: stay and serve",
		Long: `Attend stays on a host. It reports every so often and whenever rules change, and
does what the service asks: settle, keep, go back, open a connection to try it. It
opens no port, and changes no rules that nobody asked it to change; when a unit starts
anew that rules ask for, they are told what the kernel knows it by now.

A new host is enrolled once: yfence fleet enrol HOST gives a one-time token, and
attend --enrol FILE --server URL trades it for the host's own, and trusts the
service's key from then on.`,
		Args: cobra.NoArgs,
	}
	h := a.onHost(c)
	c.RunE = func(cmd *cobra.Command, _ []string) error {
		ctx, stop := signal.NotifyContext(cmd.Context(), os.Interrupt, syscall.SIGTERM)
		defer stop()
		if enrol != "" {
			if err := a.enrolHere(ctx, h, enrol, plain); err != nil {
				return err
			}
		}
		svc, err := h.service()
		if err != nil {
			return err
		}
		if _, err := svc.Keys(ctx); err == nil || ctx.Err() != nil {
			a.say("%s attends to %s", h.name, svc.URL())
		}
		common := []string{"--host", h.name, "--state", h.machine.Dir}
		if a.server != "" {
			common = append(common, "--server", a.server)
		}
		if a.caFile != "" {
			common = append(common, "--ca-file", a.caFile)
		}
		if a.tokenFile != "" {
			common = append(common, "--token-file", a.tokenFile)
		}
		at := host.Attendant{Machine: h.machine, Host: h.name, Service: svc, Every: every, Told: !cmd.Flags().Changed("every"), Look: look,
			Run: host.RunProgram("/proc/self/exe", common), Say: func(format string, args ...any) { a.say(time.Now().Format(time.TimeOnly)+" "+format, args...) }}
		return at.Attend(ctx)
	}
	c.Flags().StringVar(&enrol, "enrol", "", "a file with the one-time token, - for standard input; needed once")
	c.Flags().BoolVar(&plain, "without-tls", false, "enrol with a service that does not speak TLS, over a network that nobody else is on")
	lengthVar(c, &every, "every", 5*time.Minute, "how often to report where nothing changes; if not said, what the service says")
	lengthVar(c, &look, "look", 30*time.Second, "how often to look at what the kernel does not tell of: legacy iptables and ipset")
	return c
}

// speaksTLS refuses a service that anybody on the way could listen to, or speak for.
func speaksTLS(server string) error {
	u, err := url.Parse(server)
	if err != nil || u.Scheme == "https" {
		return err
	}
	if at, err := netip.ParseAddr(u.Hostname()); err == nil && at.IsLoopback() || u.Hostname() == "localhost" {
		return nil
	}
	return fmt.Errorf("%s does not speak TLS: whoever is on the way could take this host's token, or give it keys of his own; give an https URL (and --ca-file FILE for authorities of your own), or say --without-tls", server)
}

// enrolHere trades a one-time token for this host's own.
func (a *app) enrolHere(ctx context.Context, h *here, file string, plain bool) error {
	data, err := a.readFile(file)
	if err != nil {
		return err
	}
	server, _, err := a.address()
	if err != nil {
		return err
	}
	if server == "" {
		return errors.New("no service is named: give --server URL")
	}
	if err := h.find(); err != nil {
		return err
	}
	if err := speaksTLS(server); err != nil && !plain {
		return err
	}
	authorities, err := a.authorities()
	if err != nil {
		return err
	}
	svc, err := a.client(server, "", authorities)
	if err != nil {
		return err
	}
	req := host.About(ctx)
	req.Token = strings.TrimSpace(string(data))
	e, err := svc.Enrol(ctx, req)
	if err != nil {
		return err
	}
	if err := h.machine.Enrol(host.Identity{Host: e.Host, Server: server, Token: e.Secret, CA: string(authorities)}, e.Keys); err != nil {
		return fmt.Errorf("the host is enrolled, and could not keep its token: enrol it again once this is mended: %w", err)
	}
	h.name = e.Host
	a.say("this host is %s, and trusts the service's key %s", e.Host, e.Keys[0])
	return nil
}
