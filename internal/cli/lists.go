package cli

import (
	"fmt"
	"io"
	"text/tabwriter"
	"time"

	"github.com/spf13/cobra"

	"yellowfence.example/yfence/api"
)

// listsCommand makes `yfence lists` and what is under it.
func (a *app) listsCommand() *cobra.Command {
	c := &cobra.Command{
		Use:   "lists",
		Short: "Show lists of addresses that the service fetches",
		Long: `A network may name an https address that its list is read from anew:

    network pests from "lists/pests.txt" fetched "https://lists.example/pests.txt" every 1h changing 10 percent

What is read is published as a revision by itself, and hosts follow. Where more of it
changes than the policy lets through, it waits for lists take. What cannot be read, or
holds nothing, changes nothing: the last good copy stays.

It exits with status 1 if a list fails or waits.`,
		Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			svc, err := a.service()
			if err != nil {
				return err
			}
			list, err := svc.Lists(cmd.Context())
			if err != nil {
				return err
			}
			return a.printLists(list)
		},
	}
	take := &cobra.Command{
		Use:   "take NETWORK",
		Short: "Fetch a list now and accept it, however much of it changed",
		Args:  cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			svc, err := a.service()
			if err != nil {
				return err
			}
			list, err := svc.TakeList(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			return a.printLists(list)
		},
	}
	c.AddCommand(take)
	return c
}

// printLists prints lists; the exit code is 1 where one could not be read.
func (a *app) printLists(list api.Lists) error {
	wrong := false
	err := a.print(list, func(w io.Writer) {
		if len(list.Lists) == 0 {
			_, _ = fmt.Fprintln(w, "no network of the policy is read from an address")
			return
		}
		t := tabwriter.NewWriter(w, 0, 0, 3, ' ', 0)
		_, _ = fmt.Fprintln(t, "NETWORK\tENTRIES\tREAD\tEVERY\tFROM")
		for _, l := range list.Lists {
			_, _ = fmt.Fprintf(t, "%s\t%d\t%s\t%s\t%s\n", l.Network, l.Entries, ago(l.ReadAt), time.Duration(l.Every)*time.Second, l.URL)
		}
		_ = t.Flush()
		for _, l := range list.Lists {
			if l.Failing != "" {
				_, _ = fmt.Fprintf(w, "%s cannot be read: %s\n", l.Network, l.Failing)
			}
			if l.Waits != "" {
				_, _ = fmt.Fprintf(w, "%s waits for a person: %s\n", l.Network, l.Waits)
			}
		}
	})
	for _, l := range list.Lists {
		wrong = wrong || l.Failing != "" || l.Waits != ""
	}
	if err == nil && wrong {
		return errFound
	}
	return err
}
