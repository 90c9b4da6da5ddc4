package cli

import (
	"fmt"
	"io"
	"strings"
	"text/tabwriter"

	"github.com/spf13/cobra"

	"yellowfence.example/yfence/api"
)

// cloudsCommand makes `yfence clouds`.
func (a *app) cloudsCommand() *cobra.Command {
	return &cobra.Command{
		Use: "clouds [NAME]", Short: "Show the connected clouds, or the groups and instances of one", Args: cobra.MaximumNArgs(1),
		Long: `Clouds lists the clouds that the service is connected to, and what is wrong with each. With a
name it shows the security groups of that cloud as they were when it was last read: what its limits
are, who is in which group, which revision each instance was asked to have, and whether that is in force.
To put the policy in force again for an instance: yfence waves start HOST.`,
		RunE: func(cmd *cobra.Command, args []string) error {
			svc, err := a.service()
			if err != nil {
				return err
			}
			if len(args) == 1 {
				c, err := svc.Cloud(cmd.Context(), args[0])
				if err != nil {
					return err
				}
				return a.print(c, func(w io.Writer) { a.printCloudHas(w, c) })
			}
			fl, err := svc.Fleet(cmd.Context())
			if err != nil {
				return err
			}
			list := struct {
				Version int               `json:"version"`
				Clouds  []api.CloudStatus `json:"clouds"`
			}{api.Version, append([]api.CloudStatus{}, fl.Clouds...)}
			return a.print(list, func(w io.Writer) {
				if len(fl.Clouds) == 0 {
					_, _ = fmt.Fprintln(w, "no cloud is connected (yfence serve --clouds FILE)")
				}
				for _, c := range fl.Clouds {
					a.printCloud(w, c, a.paint(w))
				}
			})
		},
	}
}

// mayHold says how much a limit allows.
func mayHold(n int, what string) string {
	if n == 0 {
		return what + " without a limit"
	}
	return plural(n, what)
}

// printCloudHas says how a cloud stands, and what it has.
func (a *app) printCloudHas(w io.Writer, c api.Cloud) {
	a.printCloud(w, c.CloudStatus, a.paint(w))
	_, _ = fmt.Fprintf(w, "  limits   %s in each direction of a group, %s for an instance\n", mayHold(c.Limits.RulesPerGroup, "rule"),
		mayHold(c.Limits.GroupsPerInstance, "group"))
	t := tabwriter.NewWriter(w, 0, 0, 3, ' ', 0)
	_, _ = fmt.Fprintln(t, "\nGROUP\tWHOSE\tRULES IN\tRULES OUT\tINSTANCES")
	for _, g := range c.HasGroups {
		whose := "not ours"
		if g.Ours {
			whose = "ours"
		}
		_, _ = fmt.Fprintf(t, "%s\t%s\t%d\t%d\t%d\n", g.Name, whose, g.Inbound, g.Outbound, g.Members)
	}
	_, _ = fmt.Fprintln(t, "\nINSTANCE\tHOST\tASKED FOR\tIN FORCE\tGROUPS")
	for _, i := range c.HasInstances {
		host, asked, is := i.Host, "", "no"
		if host == "" {
			host = "not in the fleet"
		}
		if i.Asked > 0 {
			asked = fmt.Sprintf("revision %d", i.Asked)
		}
		switch {
		case i.InForce:
			is = "yes"
		case i.Failed != "":
			is = "no: " + i.Failed
		}
		_, _ = fmt.Fprintf(t, "%s\t%s\t%s\t%s\t%s\n", i.ID, host, asked, is, strings.Join(i.Groups, ", "))
	}
	_ = t.Flush()
	if c.More > 0 {
		_, _ = fmt.Fprintf(w, "%d more are left out\n", c.More)
	}
}
