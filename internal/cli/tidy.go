package cli

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"yellowfence.example/yfence/api"
	"yellowfence.example/yfence/core/check"
	"yellowfence.example/yfence/core/fence"
	"yellowfence.example/yfence/core/source"
)

// tidied is one file as `tidy --output json` tells of it.
type tidied struct {
	File    string `json:"file"`
	Changed bool   `json:"changed"`
	Text    string `json:"text,omitempty"`
}

// tidyCommand makes `yfence tidy`.
func (a *app) tidyCommand() *cobra.Command {
	var write, list, upgrade bool
	c := &cobra.Command{
		Use:   "tidy [PATH…]",
		Short: "Print policy files in their standard layout",
		Long: `Tidy prints policy files in their standard layout: columns, one blank at most,
modifiers in one order. Comments stay. With -w it writes them, with --list it names
those that it would change, and exits with status 1 if there are any. A PATH is a file, a
folder, or - for standard input; without one it is the policy. With --upgrade what
was written otherwise before the language was settled is written as it is now, and
means the same; give the whole folder then.`,
		Example: "  yfence tidy -w saltmarsh\n  yfence tidy --list --policy saltmarsh\n  yfence tidy --upgrade -w saltmarsh",
		RunE: func(_ *cobra.Command, args []string) error {
			if write && list {
				return errors.New("-w writes and --list only names: say one of them")
			}
			if len(args) == 0 && a.policyDir != "" {
				args = []string{a.policyDir}
			}
			if len(args) == 0 {
				return errors.New("no policy is named: give a file or a folder")
			}
			files, err := a.fenceFiles(args)
			if err != nil {
				return err
			}
			return a.tidy(files, write, list, upgrade)
		},
	}
	c.Flags().BoolVarP(&write, "write", "w", false, "write the files")
	c.Flags().BoolVar(&list, "list", false, "name the files that would change")
	c.Flags().BoolVar(&upgrade, "upgrade", false, "rewrite what an earlier version wrote differently")
	return c
}

// fenceFiles reads the policy files at paths.
func (a *app) fenceFiles(paths []string) (out []check.Source, err error) {
	for _, path := range paths {
		if path == "-" {
			text, err := a.readFile(path)
			if err != nil {
				return nil, err
			}
			out = append(out, check.Source{Name: path, Text: string(text)})
			continue
		}
		if err := filepath.WalkDir(path, func(name string, d fs.DirEntry, err error) error {
			if err != nil || d.IsDir() || name != path && filepath.Ext(name) != ".fence" {
				return err
			}
			text, err := os.ReadFile(name)
			out = append(out, check.Source{Name: name, Text: string(text)})
			return err
		}); err != nil {
			return nil, err
		}
	}
	return out, nil
}

// tidy prints files in their layout, or writes them back; one with mistakes stays as it is.
func (a *app) tidy(files []check.Source, write, list, upgrade bool) error {
	var trees []*fence.File
	var problems []source.Problem
	for _, f := range files {
		tree, found := fence.Parse(f.Name, f.Text)
		if upgrade {
			found = slices.DeleteFunc(found, func(p source.Problem) bool { return p.Code == fence.FormerCode })
		}
		problems, trees = append(problems, found...), append(trees, tree)
	}
	if problems != nil { // nothing is written unless all can be
		a.policyDir = ""
		a.explain(a.errOut, problems, files)
		return told(problems)
	}
	if upgrade {
		fence.Upgrade(trees)
	}
	done := make([]tidied, len(files))
	for i, f := range files {
		text := fence.Print(trees[i])
		done[i] = tidied{f.Name, text != f.Text, text}
	}
	changed := false
	for i, d := range done {
		changed = changed || d.Changed
		if write && d.Changed && d.File != "-" {
			if err := replaceFile(d.File, d.Text); err != nil {
				return err
			}
		}
		if write || list {
			done[i].Text = ""
		}
	}
	if err := a.print(map[string]any{"version": api.Version, "files": done}, func(w io.Writer) {
		for _, d := range done {
			switch {
			case list && d.Changed, write && d.Changed:
				_, _ = fmt.Fprintln(w, d.File)
			case !list && !write:
				_, _ = fmt.Fprint(w, d.Text)
			}
		}
	}); err != nil {
		return err
	}
	if list && changed {
		return errFound
	}
	return nil
}

// replaceFile writes a file anew: it is the old one or the new one, and never half of it.
func replaceFile(name, text string) error {
	mode := os.FileMode(0o644)
	if info, err := os.Stat(name); err == nil {
		mode = info.Mode().Perm()
	}
	next := strings.TrimSuffix(name, ".fence") + ".fence.new"
	if err := os.WriteFile(next, []byte(text), mode); err != nil {
		return err
	}
	return os.Rename(next, name)
}
