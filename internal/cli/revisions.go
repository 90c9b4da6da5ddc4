package cli

import (
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strconv"
	"text/tabwriter"

	"github.com/spf13/cobra"

	"yellowfence.example/yfence/api"
	"yellowfence.example/yfence/core/check"
)

// revisionsCommand makes `yfence revisions`, which lists, and what is under it.
func (a *app) revisionsCommand() *cobra.Command {
	noun := &cobra.Command{Use: "revisions", Short: "List, show and restore the policy's revisions"}
	noun.AddCommand(a.revisionsShow(), a.revisionsRestore())
	return listing(noun, &cobra.Command{
		Use:  "revisions",
		Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			svc, err := a.service()
			if err != nil {
				return err
			}
			list, err := svc.Revisions(cmd.Context())
			if err != nil {
				return err
			}
			return a.print(list, func(w io.Writer) { printRevisions(w, list) })
		},
	})
}

// printRevisions prints the history, a revision a line.
func printRevisions(w io.Writer, list api.Revisions) {
	if len(list.Revisions) == 0 {
		_, _ = fmt.Fprintln(w, "nothing is published yet; yfence publish does it")
		return
	}
	t := tabwriter.NewWriter(w, 0, 0, 3, ' ', 0)
	_, _ = fmt.Fprintln(t, "REVISION\tIN FORCE ON\tPUBLISHED\tBY\tWHY")
	for _, r := range list.Revisions {
		number, hosts := fmt.Sprint(r.Number), ""
		if r.Published {
			number += " (newest)"
		}
		if r.Hosts > 0 || r.Published {
			hosts = fmt.Sprintf("%d of %s", r.Hosts, plural(list.Total, "host"))
		}
		_, _ = fmt.Fprintf(t, "%s\t%s\t%s\t%s\t%s\n", number, hosts, minuteText(r.PublishedAt), r.Author, r.Why+inSpite(r))
	}
	_ = t.Flush()
}

// revision asks the service for the revision that an argument names, with its files.
func (a *app) revision(cmd *cobra.Command, arg string) (r api.Revision, err error) {
	number, err := strconv.ParseInt(arg, 10, 64)
	if err != nil || number < 1 {
		return r, fmt.Errorf("%q is no revision's number; yfence revisions tells them", arg)
	}
	svc, err := a.service()
	if err != nil {
		return r, err
	}
	return svc.Revision(cmd.Context(), number)
}

// revisionsShow makes `yfence revisions show`.
func (a *app) revisionsShow() *cobra.Command {
	var into string
	c := &cobra.Command{
		Use:   "show NUMBER",
		Short: "Show a revision with its files, or write them to a folder",
		Args:  cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			r, err := a.revision(cmd, args[0])
			if err != nil {
				return err
			}
			if into != "" {
				if err := filesInto(into, r.Files); err != nil {
					return err
				}
				a.say("wrote the %s of revision %d to %s", plural(len(r.Files), "file"), r.Number, into)
			}
			return a.print(r, func(w io.Writer) {
				p := a.paint(w)
				_, _ = fmt.Fprintf(w, "%s  published %s by %s: %s%s\n", p(bold, fmt.Sprintf("revision %d", r.Number)),
					minuteText(r.PublishedAt),
					r.Author,
					r.Why, inSpite(r))
				for _, f := range r.Files {
					if into == "" {
						_, _ = fmt.Fprintf(w, "\n%s\n%s", p(dim, "# "+f.Name), f.Text)
					}
				}
			})
		},
	}
	c.Flags().StringVar(&into, "into", "", "a folder, new or empty, to write its files to")
	_ = c.MarkFlagDirname("into")
	return c
}

// filesInto writes a policy's files to a folder that is new or empty: all of them, or none.
func filesInto(dir string, files []check.Source) (err error) {
	if there, err := os.ReadDir(dir); err == nil && len(there) > 0 {
		return fmt.Errorf("%s is not empty; name a folder that is new or empty", dir)
	} else if err != nil && !errors.Is(err, os.ErrNotExist) {
		return err
	}
	dir = filepath.Clean(dir)
	if err := os.MkdirAll(filepath.Dir(dir), 0o755); err != nil {
		return err
	}
	next, err := os.MkdirTemp(filepath.Dir(dir), "."+filepath.Base(dir)+".new")
	if err != nil {
		return err
	}
	defer func() {
		if err != nil {
			err = errors.Join(err, os.RemoveAll(next))
		}
	}()
	// The names are what whoever published said: none may leave the folder.
	root, err := os.OpenRoot(next)
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, root.Close()) }()
	for _, f := range files {
		if err := root.MkdirAll(filepath.Dir(f.Name), 0o755); err != nil {
			return err
		}
		if err := root.WriteFile(f.Name, []byte(f.Text), 0o644); err != nil {
			return err
		}
	}
	if err := os.Chmod(next, 0o755); err != nil {
		return err
	}
	return os.Rename(next, dir)
}

// revisionsRestore makes `yfence revisions restore`, which publishes an earlier revision anew.
func (a *app) revisionsRestore() *cobra.Command {
	var f publishFlags
	c := &cobra.Command{
		Use:   "restore NUMBER -m WHY",
		Short: "Publish an earlier revision again, as a new one",
		Long: `Restore publishes the policy of an earlier revision as a new revision, over the fleet as it
is now. It shows what that changes and asks, as publish does; the history keeps both.
Where a network is read from a list, what the list holds now counts.

It puts nothing in force; yfence waves start does. Where a wave has just put a revision in
force that does harm, undo the wave first (yfence waves undo): that is faster.`,
		Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			req, err := f.request()
			if err != nil {
				return err
			}
			r, err := a.revision(cmd, args[0])
			if err != nil {
				return err
			}
			req.Files = r.Files
			a.policyDir = fmt.Sprintf("revision %d", r.Number) // where problems stand
			return a.publish(cmd, req, f.yes)
		},
	}
	f.of(c)
	return c
}
