package cli

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"

	"github.com/spf13/cobra"

	"yellowfence.example/yfence/api"
	"yellowfence.example/yfence/client"
	"yellowfence.example/yfence/core/compare"
	"yellowfence.example/yfence/core/traffic"
)

// reportCommand makes `yfence report`; what cannot be sent is kept in the spool, and sent by
// the next.
func (a *app) reportCommand() *cobra.Command {
	var from string
	var show, spool bool
	c := &cobra.Command{
		Use:   "report",
		Short: "On a host: report the rules in force to the service",
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
		if err := h.tellTraffic(cmd.Context()); err != nil {
			a.say("%s: what was counted is kept, and told later: %s", h.name, err)
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

// tellTraffic tells the service what was counted and seen since it was last told.
func (h *here) tellTraffic(ctx context.Context) error {
	return h.machine.TellTraffic(func(b traffic.Batch) error {
		err := h.svc.TellTraffic(ctx, h.name, b)
		var p *client.Problem
		if errors.As(err, &p) && (p.Status == 404 || p.Status == 413 || p.Status == 422) { // it will never be taken
			return nil
		}
		return err
	})
}

// printReported prints what the service makes of a report.
func (a *app) printReported(d api.HostDrift) error {
	return a.print(map[string]any{"version": api.Version, "host": d}, func(w io.Writer) { a.writeReported(w, d) })
}

// writeReported prints how the service says that the host stands.
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
