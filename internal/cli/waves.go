package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os/exec"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"yellowfence.example/yfence/api"
	"yellowfence.example/yfence/client"
)

// wavesCommand makes `yfence waves` and what is under it.
func (a *app) wavesCommand() *cobra.Command {
	c := &cobra.Command{Use: "waves", Short: "Put a revision in force over the fleet, step by step"}
	c.AddCommand(a.wavesStart(), a.wavesShow(), a.wavesStop(), a.wavesReturn())
	return listing(c, a.wavesList())
}

// wavesStart makes `yfence waves start`, which stays and shows how it goes; what it started
// goes on without it.
func (a *app) wavesStart() *cobra.Command {
	var req api.WaveRequest
	var check string
	var within time.Duration
	var detach, rollBack bool
	c := &cobra.Command{
		Use:   "start [HOST|ROLE…]",
		Short: "Start a wave, and wait until it is done",
		Long: `Start has hosts settle what is published: first one host of each role, then up to a
tenth, then all. Each is kept once another host, which may log in there, has opened a
new connection to it; where there is none, a person logs in and runs yfence keep. The
first host that goes back or fails stops the wave, and what is not kept then goes
back at once.

After each step what it changed is tried by real connections between hosts that are
settled: of each statement that came, went or changed one that must pass and one that
must not, and what the policy expects; if one comes out otherwise, the wave stops. With
--check a command of yours is run besides, here, or a URL is asked for; if the command
ends with anything but 0, or the answer is no 2xx, the wave stops. What is kept by then
stays, but with --roll-back.`,
		Example: "  yfence waves start\n  yfence waves start charts --steps 1 --check './ask-the-chart-site.sh'\n  yfence waves start " +
			"--revision 6 -m 'back to what worked'",
		RunE: func(cmd *cobra.Command, args []string) error {
			if detach && (check != "" || rollBack) {
				return errors.New("--check and --roll-back need somebody to stay: leave --detach out")
			}
			svc, err := a.service()
			if err != nil {
				return err
			}
			req.Hosts, req.PauseBetween, req.Within = args, check != "", within.String()
			w, err := svc.StartWave(cmd.Context(), req)
			if err != nil {
				return err
			}
			if req.Plan {
				return a.print(waveDocument(w), func(out io.Writer) { printPlan(out, w) })
			}
			if detach {
				return a.print(waveDocument(w), func(out io.Writer) {
					_, _ = fmt.Fprintf(out, "wave %d has begun; yfence waves show %d shows how it goes\n", w.Number, w.Number)
				})
			}
			w, err = a.follow(cmd.Context(), svc, w, check)
			if err != nil {
				return err
			}
			if err := a.print(waveDocument(w), func(out io.Writer) { printWaveEnd(out, w) }); err != nil {
				return err
			}
			if w.State != api.WaveDone {
				if rollBack {
					if err := a.rollBack(cmd.Context(), svc, w); err != nil {
						return err
					}
				}
				return errFound
			}
			return nil
		},
	}
	c.Flags().BoolVar(&rollBack, "roll-back", false, "if the wave stops, roll back what it has kept")
	c.Flags().Int64Var(&req.Revision, "revision", 0, "another revision than the one that is published")
	c.Flags().StringSliceVar(&req.Sizes, "steps", nil, "how many hosts are settled by the end of each step, as 1,10%")
	lengthVar(c, &within, "within", time.Minute, "the time for a host's keep")
	c.Flags().StringVar(&check, "check", "", "a command or a URL that is asked after each step whether all is well")
	c.Flags().BoolVar(&req.SkipProbes, "skip-probes", false, "do not try real connections after each step")
	c.Flags().BoolVar(&req.Force, "force", false,
		"go on where the change cuts off log-ins or the service; it is undone by itself all the same")
	c.Flags().BoolVar(&req.Plan, "plan", false, "show which hosts each step would settle, and start nothing")
	because(c, &req.Why)
	c.Flags().BoolVar(&detach, "detach", false, "do not wait; the service continues by itself")
	return c
}

// rollBack puts back what a wave that stopped has kept, if there is anything.
func (a *app) rollBack(ctx context.Context, svc *client.Client, stopped api.Wave) error {
	if !slices.ContainsFunc(stopped.Hosts, func(h api.WaveHost) bool { return h.Phase == api.HostKept }) {
		return nil
	}
	w, err := svc.ReturnWave(ctx, stopped.Number)
	if err != nil {
		return err
	}
	a.say("wave %d puts back what wave %d has kept", w.Number, stopped.Number)
	if w, err = a.follow(ctx, svc, w, ""); err != nil {
		return err
	}
	a.say("wave %d is %s", w.Number, w.State)
	if w.State != api.WaveDone {
		return fmt.Errorf("what wave %d has kept is not all back: %s", stopped.Number, w.Stopped)
	}
	return nil
}

// waveDocument is a wave as --output json prints it.
func waveDocument(w api.Wave) any {
	return map[string]any{"version": api.Version, "wave": w}
}

// follow tells how a wave goes until it has ended, and runs the check between its steps.
func (a *app) follow(ctx context.Context, svc *client.Client, w api.Wave, check string) (api.Wave, error) {
	said := map[string]string{}
	step, failures, held := 0, 0, 0
	for {
		a.sayPhases(w, said)
		if w.Held > held {
			a.say("  %s came out as the policy says", plural(w.Held-held, "connection"))
			held = w.Held
		}
		if w.Step != step && w.State == api.WaveRunning {
			step = w.Step
			a.say("wave %d, step %d of %d, revision %d: %s", w.Number, w.Step, w.Steps, w.Revision, strings.Join(inStep(w), ", "))
		}
		switch w.State {
		case api.WaveDone, api.WaveStopped:
			return w, nil
		case api.WaveWaiting:
			next, err := a.word(ctx, svc, w, check)
			if err != nil {
				return w, err
			}
			w = next
			continue
		}
		time.Sleep(200 * time.Millisecond)
		next, err := svc.Wave(ctx, w.Number)
		var p *client.Problem
		if err != nil && (errors.As(err, &p) || failures == 100) {
			return w, err
		} else if err != nil { // the wave goes on without us
			failures++
			time.Sleep(time.Second)
			continue
		}
		failures, w = 0, next
	}
}

// sayPhases says of hosts what was not said yet, those that share it together.
func (a *app) sayPhases(w api.Wave, said map[string]string) {
	var order []string
	hosts := map[string][]string{}
	for _, h := range w.Hosts {
		telling := slices.Contains([]string{api.HostKept, api.HostBack, api.HostFailed, api.HostAbsent}, h.Phase) ||
			h.Phase == api.HostInForce && h.Why != ""
		line := h.Phase + "\x00" + h.Why
		if !telling || said[h.Subject()] == line {
			continue
		}
		said[h.Subject()] = line
		if hosts[line] == nil {
			order = append(order, line)
		}
		hosts[line] = append(hosts[line], h.Subject())
	}
	for _, line := range order {
		phase, why, _ := strings.Cut(line, "\x00")
		if names := hosts[line]; len(names) == 1 {
			a.say("  %-14s %-10s %s", names[0], phase, why)
		} else {
			a.say("  %s: %s\n      %s", phase, why, strings.Join(names, ", "))
		}
		for _, h := range w.Hosts {
			if h.Phase == api.HostKept && slices.Contains(hosts[line], h.Subject()) {
				for _, s := range h.Said {
					a.say("      %s says: %s", h.Subject(), s)
				}
			}
		}
	}
}

// word runs the user's check after a step, and says the word.
func (a *app) word(ctx context.Context, svc *client.Client, w api.Wave, check string) (api.Wave, error) {
	if err := a.runCheck(ctx, w, check); err != nil {
		a.say("the check after step %d does not hold (%s)", w.Step, err)
		return svc.StopWave(ctx, w.Number, fmt.Sprintf("the check after step %d does not hold: %s", w.Step, err))
	}
	a.say("the check after step %d holds", w.Step)
	return svc.GoOn(ctx, w.Number)
}

// checkTime is how long a URL that is a check may take.
const checkTime = 30 * time.Second

// runCheck runs a command, or asks for a URL.
func (a *app) runCheck(ctx context.Context, w api.Wave, check string) error {
	if strings.HasPrefix(check, "http://") || strings.HasPrefix(check, "https://") {
		ctx, cancel := context.WithTimeout(ctx, checkTime)
		defer cancel()
		req, err := http.NewRequestWithContext(ctx, http.MethodGet, check, nil)
		if err != nil {
			return err
		}
		// an old connection may outlive new rules
		fresh := &http.Client{Transport: &http.Transport{DisableKeepAlives: true, Proxy: http.ProxyFromEnvironment}}
		res, err := fresh.Do(req)
		if err != nil {
			return err
		}
		if err := res.Body.Close(); err == nil && res.StatusCode/100 != 2 {
			return fmt.Errorf("%s answered %s", check, res.Status)
		}
		return err
	}
	cmd := exec.CommandContext(ctx, "sh", "-c", check)
	cmd.Env = append(cmd.Environ(), "YFENCE_STEP="+strconv.Itoa(w.Step), "YFENCE_HOSTS="+strings.Join(inStep(w), " "))
	cmd.Stdout, cmd.Stderr = a.errOut, a.errOut
	return cmd.Run()
}

// inStep are the hosts of the step that a wave is at.
func inStep(w api.Wave) (names []string) {
	for _, h := range w.Hosts {
		if h.Step == w.Step && !slices.Contains(names, h.Name) {
			names = append(names, h.Name)
		}
	}
	return names
}

// printWaveEnd prints what a wave came to.
func printWaveEnd(out io.Writer, w api.Wave) {
	count := map[string]int{}
	for _, h := range w.Hosts {
		count[h.Phase]++
	}
	var parts []string
	for _, phase := range []string{api.HostKept, api.HostBack, api.HostFailed, api.HostDue, api.HostAbsent} {
		if count[phase] > 0 {
			parts = append(parts, fmt.Sprintf("%d %s", count[phase], phase))
		}
	}
	_, _ = fmt.Fprintf(out, "wave %d is %s: %s\n", w.Number, w.State, strings.Join(parts, ", "))
	printProofs(out, w)
	if w.Stopped != "" {
		_, _ = fmt.Fprintf(out, "it stopped because %s\n", w.Stopped)
		if count[api.HostKept] > 0 {
			_, _ = fmt.Fprintf(out, "what is kept stays; yfence waves undo %d puts those hosts back on what they had before\n", w.Number)
		}
	}
}

// printPlan says which hosts the steps of a wave would settle.
func printPlan(out io.Writer, w api.Wave) {
	_, _ = fmt.Fprintf(out, "revision %d would be put in force in %s; nothing was started\n", w.Revision, plural(w.Steps, "step"))
	for step := range w.Steps + 1 {
		var names []string
		for _, h := range w.Hosts {
			if h.Step == step {
				names = append(names, h.Subject())
			}
		}
		switch {
		case len(names) == 0:
		case step == 0:
			_, _ = fmt.Fprintf(out, "left out  %s: no agent there asks for tasks\n", strings.Join(names, ", "))
		default:
			_, _ = fmt.Fprintf(out, "step %-4d %s\n", step, strings.Join(names, ", "))
		}
	}
}

// printProofs tells what connections showed of what the wave changed.
func printProofs(out io.Writer, w api.Wave) {
	for _, p := range w.Proofs {
		for _, one := range []struct{ connection, came string }{{p.Passed, "passes"}, {p.Refused, "is refused"}} {
			if one.connection != "" {
				_, _ = fmt.Fprintf(out, "proved %s (%s): %s %s\n", p.Statement, p.Change, one.connection, one.came)
			}
		}
	}
	for _, left := range w.Left {
		_, _ = fmt.Fprintf(out, "not tried: %s\n", left)
	}
	if w.State == api.WaveDone && w.Held == 0 && !w.SkipProbes {
		_, _ = fmt.Fprintln(out, "no connection was tried: nothing but the ways in shows that what is in force is as the policy says")
	}
}

// wavesList makes what `yfence waves` does alone.
func (a *app) wavesList() *cobra.Command {
	return &cobra.Command{
		Use:  "list",
		Long: "Waves lists all waves, the newest last.",
		Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			svc, err := a.service()
			if err != nil {
				return err
			}
			all, err := svc.Waves(cmd.Context())
			if err != nil {
				return err
			}
			return a.print(all, func(out io.Writer) {
				if len(all.Waves) == 0 {
					_, _ = fmt.Fprintln(out, "no wave yet; yfence waves start begins one")
				}
				for _, w := range all.Waves {
					_, _ = fmt.Fprintf(out, "%4d  %-8s revision %d, step %d of %d, %d hosts, by %s %s  %s\n", w.Number, w.State,
						w.Revision, w.Step, w.Steps, w.Size(), w.By, ago(&w.Began), w.Stopped)
				}
			})
		},
	}
}

// wavesShow makes `yfence waves show`.
func (a *app) wavesShow() *cobra.Command {
	return &cobra.Command{
		Use:   "show NUMBER",
		Short: "Show one wave with its hosts",
		Args:  cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			svc, err := a.service()
			if err != nil {
				return err
			}
			number, err := strconv.ParseInt(args[0], 10, 64)
			if err != nil {
				return fmt.Errorf("%q is no wave's number", args[0])
			}
			w, err := svc.Wave(cmd.Context(), number)
			if err != nil {
				return err
			}
			return a.print(waveDocument(w), func(out io.Writer) {
				for _, h := range w.Hosts {
					_, _ = fmt.Fprintf(out, "step %d  %-14s %-10s %s\n", h.Step, h.Subject(), h.Phase, h.Why)
				}
				printWaveEnd(out, w)
			})
		},
	}
}

// wavesStop makes `yfence waves stop`.
func (a *app) wavesStop() *cobra.Command {
	var why string
	c := &cobra.Command{Use: "stop NUMBER", Short: "Stop a wave; changes that are not kept are undone", Args: cobra.ExactArgs(1)}
	c.RunE = a.onWave(func(ctx context.Context, svc *client.Client, number int64) (api.Wave, error) {
		return svc.StopWave(ctx, number, why)
	})
	because(c, &why)
	return c
}

// wavesReturn makes `yfence waves undo`, which is a wave of its own.
func (a *app) wavesReturn() *cobra.Command {
	c := &cobra.Command{Use: "undo NUMBER", Short: "Roll back a wave: its hosts get their previous rules", Args: cobra.ExactArgs(1)}
	c.RunE = a.onWave(func(ctx context.Context, svc *client.Client, number int64) (api.Wave, error) {
		w, err := svc.ReturnWave(ctx, number)
		if err != nil {
			return w, err
		}
		return a.follow(ctx, svc, w, "")
	})
	return c
}

// onWave does something to a wave and prints how it stands.
func (a *app) onWave(do func(ctx context.Context, svc *client.Client, number int64) (api.Wave, error)) func(*cobra.Command,
	[]string) error {
	return func(cmd *cobra.Command, args []string) error {
		number, err := strconv.ParseInt(args[0], 10, 64)
		if err != nil {
			return fmt.Errorf("%q is no wave's number; yfence waves show tells them", args[0])
		}
		svc, err := a.service()
		if err != nil {
			return err
		}
		w, err := do(cmd.Context(), svc, number)
		if err != nil {
			return err
		}
		return a.print(waveDocument(w), func(out io.Writer) { printWaveEnd(out, w) })
	}
}
