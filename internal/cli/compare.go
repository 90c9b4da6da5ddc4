package cli

import (
	"cmp"
	"errors"
	"fmt"
	"io"
	"os"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"yellowfence.example/yfence/api"
	"yellowfence.example/yfence/client"
	"yellowfence.example/yfence/core/check"
	"yellowfence.example/yfence/core/compare"
	"yellowfence.example/yfence/core/packet"
	"yellowfence.example/yfence/core/policy"
	"yellowfence.example/yfence/internal/limits"
)

// compareCommand makes `yfence compare`, of two folders, or of a folder or revision and what is
// published.
func (a *app) compareCommand() *cobra.Command {
	var from, to, only string
	c := &cobra.Command{
		Use:   "compare [A] [B]",
		Short: "Show what a policy change newly admits and refuses",
		Long: `Compare tells, for every packet and every host, what B newly admits, newly refuses
and otherwise does differently from A: the widest and most dangerous first. A and B are
revisions, by their numbers, or folders; where one alone is named, A is what is
published. It exits with status 1 if there is any difference.

Two folders are compared without a service, if none is named or --fleet is given; the
fleet file is then that of B, or of A.`,
		Example: "  yfence compare saltmarsh\n  yfence compare 7 8 --only opened\n  yfence compare old new",
		Args:    cobra.MaximumNArgs(2),
		RunE: func(cmd *cobra.Command, args []string) error {
			for _, side := range []*string{&to, &from} { // the last is B
				if len(args) == 0 {
					break
				}
				if *side != "" {
					return errors.New("say A and B as arguments, or with --from and --to, not both")
				}
				*side, args = args[len(args)-1], args[:len(args)-1]
			}
			if only != "" && !slices.Contains(kinds, only) {
				return fmt.Errorf("--only is one of %s, not %q", strings.Join(kinds, ", "), only)
			}
			changes, err := a.compare(cmd, from, to)
			if err != nil {
				return err
			}
			if only != "" {
				changes.Changes.Only(compare.Kind(only))
			}
			if err := a.print(changes, func(w io.Writer) {
				a.printChanges(w, changes.Changes)
				a.printCuts(w, changes.Cuts)
			}); err != nil {
				return err
			}
			if len(changes.Changes.Changes)+len(changes.Added)+len(changes.Removed) > 0 {
				return errFound
			}
			return nil
		},
	}
	c.Flags().StringVar(&from, "from", "", "the state before: a revision or a folder")
	c.Flags().StringVar(&to, "to", "", "the state after: a revision or a folder")
	c.Flags().StringVar(&only, "only", "", "differences of one kind: "+strings.Join(kinds, ", "))
	_ = c.RegisterFlagCompletionFunc("only", cobra.FixedCompletions(kinds, cobra.ShellCompDirectiveNoFileComp))
	return c
}

// kinds are the kinds that --only takes.
var kinds = []string{string(compare.Opened), string(compare.Shut), string(compare.Altered)}

// compare compares two sides, here where all of it is files, else by the service.
func (a *app) compare(cmd *cobra.Command, from, to string) (api.Comparison, error) {
	if err := a.comparesFiles(from, to); err != nil {
		return api.Comparison{}, err
	}
	if a.fleetFile != "" {
		before, err := a.soundFolder(from, "--from")
		if err != nil {
			return api.Comparison{}, err
		}
		after, err := a.soundFolder(to, "--to")
		if err != nil {
			return api.Comparison{}, err
		}
		c := api.Comparison{Version: api.Version}
		err = within(limits.Cases, "comparing", func(b packet.Budget) error {
			c.Changes = *compare.Policies(b.Space(), before, after, time.Now().Unix())
			return nil
		})
		return c, err
	}
	if from == "" && to == "" {
		return api.Comparison{}, errors.New("say what to compare what is published with: --to DIR, --from REVISION")
	}
	var req api.CompareRequest
	var texts []check.Source
	for _, side := range []struct {
		name string
		into *api.Side
	}{{from, &req.From}, {to, &req.To}} {
		n, err := strconv.ParseInt(side.name, 10, 64)
		switch {
		case side.name == "":
		case err == nil:
			side.into.Revision = n
		default:
			if side.into.Files, err = a.folder(side.name); err != nil {
				return api.Comparison{}, err
			}
			texts = side.into.Files
		}
	}
	svc, err := a.service()
	if err != nil {
		return api.Comparison{}, err
	}
	changes, err := svc.Compare(cmd.Context(), req)
	var refused *client.Problem
	if errors.As(err, &refused) && refused.Problems != nil {
		if err := a.print(map[string]any{"version": api.Version, "problems": refused.Problems},
			func(w io.Writer) { a.explain(w, refused.Problems, texts) }); err != nil {
			return changes, err
		}
		return changes, told(refused.Problems)
	}
	return changes, err
}

// comparesFiles finds the fleet file of two folders that are compared without a service.
func (a *app) comparesFiles(from, to string) error {
	isDir := func(name string) bool {
		info, err := os.Stat(name)
		return err == nil && info.IsDir()
	}
	server, _, err := a.address()
	if err != nil || a.fleetFile != "" || server != "" || !isDir(from) || !isDir(to) {
		return err
	}
	if a.fleetFile = cmp.Or(fleetIn(to), fleetIn(from)); a.fleetFile == "" {
		return fmt.Errorf("neither %s nor %s holds a fleet file (%s): give one with --fleet FILE", from, to, strings.Join(fleetFiles, ", "))
	}
	a.say("yfence: the fleet is %s", a.fleetFile)
	return nil
}

// folder reads the policy files of a folder.
func (a *app) folder(dir string) ([]check.Source, error) {
	of := *a
	of.policyDir = dir
	return of.sources()
}

// soundFolder is a folder's policy over the fleet file; it must be free of errors.
func (a *app) soundFolder(dir, flag string) (*policy.Policy, error) {
	if dir == "" {
		return nil, fmt.Errorf("on files, name both folders: %s DIR is missing", flag)
	}
	of := *a
	of.policyDir = dir
	return of.sound()
}

// printChanges prints what changes, each change with the hosts that have it.
func (a *app) printChanges(w io.Writer, c compare.Changes) {
	p := a.paint(w)
	line := func(format string, args ...any) { _, _ = fmt.Fprintf(w, format+"\n", args...) }
	count := map[compare.Kind]int{}
	for _, f := range c.Changes {
		count[f.Kind]++
		line("%s  %s", p(kindColours[f.Kind], fmt.Sprintf("%-8s", f.Kind)), f.Sentence)
		line("          %s %s", p(dim, "on    "), strings.Join(f.Hosts, ", "))
		line("          %s %s", p(dim, "packet"), f.Packet)
		line("          %s %s by %s%s", p(dim, "now   "), f.To.Manner(), f.To.By, place(f.To.At))
		line("          %s %s by %s%s", p(dim, "before"), f.From.Manner(), f.From.By, place(f.From.At))
		line("")
	}
	for what, hosts := range map[string][]string{"new": c.Added, "gone": c.Removed} {
		if len(hosts) > 0 {
			line("%-8s  %s\n", what, strings.Join(hosts, ", "))
		}
	}
	for _, w := range c.Written {
		line("%s  %s", p(bold, "written "), w)
	}
	if len(c.Written) > 0 {
		line("")
	}
	if len(c.Changes) == 0 {
		line("nothing passes that did not, and nothing is refused that was not")
		return
	}
	var parts []string
	for _, kind := range kinds {
		if n := count[compare.Kind(kind)]; n > 0 {
			parts = append(parts, fmt.Sprintf("%d %s", n, kind))
		}
	}
	line("%s: %s", plural(len(c.Changes), "change"), strings.Join(parts, ", "))
}
