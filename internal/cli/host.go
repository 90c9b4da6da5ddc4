package cli

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"

	"github.com/spf13/cobra"

	"yellowfence.example/yfence/core/compare"
	"yellowfence.example/yfence/internal/api"
	"yellowfence.example/yfence/internal/host"
)

// hostName is the name given, else this machine's own.
func hostName(name string) (string, error) {
	if name != "" {
		return name, nil
	}
	return os.Hostname()
}

func (a *app) reportCommand() *cobra.Command {
	var name, from string
	var show bool
	c := &cobra.Command{
		Use:   "report",
		Short: "On a host: send what is in force",
		Long: `Report reads what the kernel has in force and sends it to the service.

A host whose rules shut it off cannot reach the service. Print its report at its
console, and send it from where the service can be reached: report --from FILE.`,
		Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			if from != "" {
				data, err := a.readFile(from)
				if err != nil {
					return err
				}
				var r api.Report
				if err := json.Unmarshal(data, &r); err != nil || r.Host == "" {
					return fmt.Errorf("%s is not what yfence report --print gives", from)
				}
				return a.send(cmd, r)
			}
			name, err := hostName(name)
			if err != nil {
				return err
			}
			r, err := host.Report(cmd.Context(), name)
			if err != nil {
				return err
			}
			if show {
				a.output = "json"
				return a.print(r, nil)
			}
			return a.send(cmd, r)
		},
	}
	c.Flags().StringVar(&name, "host", "", "this host's name in the fleet, if it is not the machine's")
	c.Flags().BoolVar(&show, "print", false, "print the report and send nothing")
	c.Flags().StringVar(&from, "from", "", "send a report that was printed before, - for standard input")
	return c
}

// send sends a report and prints what the service makes of it.
func (a *app) send(cmd *cobra.Command, r api.Report) error {
	svc, err := a.service()
	if err != nil {
		return err
	}
	d, err := svc.Report(cmd.Context(), r)
	if err != nil {
		return err
	}
	return a.print(map[string]any{"version": api.Version, "host": d}, func(w io.Writer) {
		_, _ = fmt.Fprintf(w, "%s: reported, %s\n", d.Host, d.State)
		for _, f := range d.Findings {
			if f.Kind != compare.Cosmetic {
				a.printFinding(w, f, a.paint(w))
			}
		}
	})
}

func (a *app) settleCommand() *cobra.Command {
	var name string
	c := &cobra.Command{
		Use:   "settle",
		Short: "On a host: put what is published in force",
		Long: `Settle fetches this host's rules, has the kernel's own tool check them, and puts
them in force in one transaction. Then it reports.

There is no timer yet that takes a change back by itself: keep a second way in
open until you have seen that the first still works.`,
		Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			name, err := hostName(name)
			if err != nil {
				return err
			}
			svc, err := a.service()
			if err != nil {
				return err
			}
			rules, err := svc.Settle(cmd.Context(), name)
			if err != nil {
				return err
			}
			absent, err := host.Load(cmd.Context(), rules.Files)
			if err != nil {
				return errors.Join(errors.New("nothing was changed"), err)
			}
			for _, who := range absent {
				a.say("%s: there is no %s here; what only it may send is not admitted", name, who)
			}
			a.say("%s: revision %d is in force", name, rules.Revision)
			r, err := host.Report(cmd.Context(), name)
			if err != nil {
				return err
			}
			return a.send(cmd, r)
		},
	}
	c.Flags().StringVar(&name, "host", "", "this host's name in the fleet, if it is not the machine's")
	return c
}
