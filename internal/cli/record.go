package cli

import (
	"fmt"
	"io"
	"maps"
	"slices"
	"strconv"
	"strings"
	"text/tabwriter"

	"github.com/spf13/cobra"

	"yellowfence.example/yfence/api"
	"yellowfence.example/yfence/client"
	"yellowfence.example/yfence/core/record"
)

// recordCommand makes `yfence record`, which lists, and what is under it.
func (a *app) recordCommand() *cobra.Command {
	noun := &cobra.Command{Use: "record", Short: "Who did what, when and why; and the proof that nothing of it was changed"}
	noun.AddCommand(a.recordShow(), a.recordVerify(), a.recordCheckpoint(), a.recordExport())
	f := client.RecordFilter{}
	list := &cobra.Command{
		Use:  "record",
		Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			if f.Limit < 1 || f.Limit > 1000 {
				return fmt.Errorf("--limit is from 1 to 1000, not %d", f.Limit)
			}
			if f.Deed != "" && !slices.ContainsFunc(record.Kinds, func(k record.Kind) bool { return k.Deed == f.Deed }) {
				return fmt.Errorf("there is no deed %q; the deeds are %s", f.Deed, strings.Join(deeds(), ", "))
			}
			svc, err := a.service()
			if err != nil {
				return err
			}
			list, err := svc.Record(cmd.Context(), f)
			if err != nil {
				return err
			}
			return a.print(list, func(w io.Writer) { printRecord(w, list) })
		},
	}
	list.Flags().StringVar(&f.By, "by", "", "only what one did, by the name of a person, token or host")
	list.Flags().StringVar(&f.Deed, "deed", "", "only what is of one kind: "+strings.Join(deeds(), ", "))
	list.Flags().StringVar(&f.On, "on", "", "only what was done to one thing, as the list names it: 'revision 7', charts-01")
	list.Flags().Int64Var(&f.Before, "before", 0, "only entries before this number")
	list.Flags().IntVar(&f.Limit, "limit", 50, "how many at most")
	return listing(noun, list)
}

// deeds are the codes of all kinds of deeds.
func deeds() (codes []string) {
	for _, k := range record.Kinds {
		codes = append(codes, k.Deed)
	}
	return codes
}

// printRecord prints entries, one a line.
func printRecord(w io.Writer, list api.Record) {
	if len(list.Entries) == 0 {
		_, _ = fmt.Fprintln(w, "the record has no such entry")
		return
	}
	t := tabwriter.NewWriter(w, 0, 0, 3, ' ', 0)
	_, _ = fmt.Fprintln(t, "ENTRY\tAT\tWHO\tDID\tWHY")
	for _, e := range list.Entries {
		_, _ = fmt.Fprintf(t, "%d\t%s\t%s\t%s %s%s\t%s\n", e.Number, secondText(e.At), e.By.Name,
			record.Said(e.Deed), e.On,
			besides(e), e.Why)
	}
	_ = t.Flush()
	if list.Next != 0 {
		_, _ = fmt.Fprintf(w, "earlier ones: yfence record --before %d\n", list.Next)
	}
}

// mostBesides is how many letters of one thing that belongs to an entry stand in the list.
const mostBesides = 24

// besides is what else belongs to an entry, in brackets.
func besides(e record.Entry) string {
	var parts []string
	for _, name := range slices.Sorted(maps.Keys(e.With)) {
		if name == "meaning" { // for programs
			continue
		}
		value := e.With[name]
		if letters := []rune(value); len(letters) > mostBesides { // record show has all of it
			value = string(letters[:mostBesides-1]) + "…"
		}
		parts = append(parts, name+" "+value)
	}
	if parts == nil {
		return ""
	}
	return " (" + strings.Join(parts, "; ") + ")"
}

// recordShow makes `yfence record show`.
func (a *app) recordShow() *cobra.Command {
	return &cobra.Command{
		Use:   "show NUMBER",
		Short: "Show one entry, and prove that it stands in the record",
		Args:  cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			number, err := strconv.ParseInt(args[0], 10, 64)
			if err != nil || number < 1 {
				return fmt.Errorf("%q is no entry's number; yfence record tells them", args[0])
			}
			svc, err := a.service()
			if err != nil {
				return err
			}
			got, err := svc.RecordEntry(cmd.Context(), number)
			if err != nil {
				return err
			}
			e, err := record.Read([]byte(got.Row.Body))
			if err != nil {
				return fmt.Errorf("entry %d was changed: it cannot be read any more", number)
			}
			head, wrong := proven(got)
			said := fmt.Sprintf("it stands in the record of %d entries, signed by %s", head.Size, head.Origin)
			if wrong != nil {
				said = "it does not stand in the record as it is shown here: " + wrong.Error() + "; yfence record verify tells more"
			}
			if err := a.print(map[string]any{"version": api.Version, "entry": e, "proven": wrong == nil, "said": said}, func(w io.Writer) {
				p := a.paint(w)
				_, _ = fmt.Fprintf(w, "%s  %s, %s %s %s\n", p(bold, fmt.Sprintf("entry %d", e.Number)),
					secondText(e.At),
					e.By.Name, record.Said(e.Deed), e.On)
				for _, line := range [][2]string{{"why", e.Why}, {"known by", e.By.SignIn}, {"from", e.By.From}} {
					if line[1] != "" {
						_, _ = fmt.Fprintf(w, "  %-9s  %s\n", line[0], line[1])
					}
				}
				for _, name := range slices.Sorted(maps.Keys(e.With)) {
					_, _ = fmt.Fprintf(w, "  %-9s  %s\n", name, e.With[name])
				}
				_, _ = fmt.Fprintln(w, said)
			}); err != nil || wrong == nil {
				return err
			}
			return errFound
		},
	}
}

// proven checks an entry against the checkpoint and the proof that came with it.
func proven(got api.RecordEntry) (h record.Head, err error) {
	if h, err = record.Open(got.Checkpoint.Head, got.Checkpoint.Key); err != nil {
		return h, err
	}
	proof, err := record.Parse(got.Proof)
	if err == nil {
		err = h.Holds(got.Row.Number, []byte(got.Row.Body), proof)
	}
	return h, err
}
