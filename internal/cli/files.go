package cli

import (
	"cmp"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"yellowfence.example/yfence/api"
	"yellowfence.example/yfence/core/check"
	"yellowfence.example/yfence/core/fence"
	"yellowfence.example/yfence/core/fleet"
	"yellowfence.example/yfence/core/kernel"
	"yellowfence.example/yfence/core/packet"
	"yellowfence.example/yfence/core/policy"
	"yellowfence.example/yfence/core/source"
	"yellowfence.example/yfence/internal/limits"
	"yellowfence.example/yfence/internal/live"
)

// sources reads the policy's files; their names are those within its folder.
func (a *app) sources() ([]check.Source, error) {
	if a.policyDir == "" {
		return nil, errors.New("no policy is named: give its folder with --policy DIR")
	}
	var out []check.Source
	root, err := os.OpenRoot(a.policyDir)
	if err != nil {
		return nil, err
	}
	defer func() { _ = root.Close() }()
	err = filepath.WalkDir(a.policyDir, func(path string, d fs.DirEntry, err error) error {
		switch {
		case err != nil:
			return err
		case d.IsDir() && path != a.policyDir && strings.HasPrefix(d.Name(), "."):
			return fs.SkipDir
		case d.IsDir() || filepath.Ext(path) != ".fence":
			return nil
		}
		name, err := filepath.Rel(a.policyDir, path)
		if err != nil {
			return err
		}
		text, err := readRegular(root, name)
		if err != nil {
			return err
		}
		out = append(out, check.Source{Name: filepath.ToSlash(name), Text: string(text)})
		return err
	})
	if err == nil && len(out) == 0 {
		err = fmt.Errorf("%s holds no .fence files; a policy is a folder of them", a.policyDir)
	}
	if err != nil {
		return nil, err
	}
	return a.lists(out)
}

// lists adds the lists of addresses that a policy's files refer to, as far as
// they are there and lie in its folder; the rest is a problem of the policy's.
func (a *app) lists(out []check.Source) ([]check.Source, error) {
	root, err := os.OpenRoot(a.policyDir)
	if err != nil {
		return nil, err
	}
	defer func() { _ = root.Close() }()
	seen := map[string]bool{}
	for _, s := range out {
		file, _ := fence.Parse(s.Name, s.Text)
		for _, name := range policy.ListsOf(file) {
			if seen[name] || filepath.Ext(name) == ".fence" {
				continue
			}
			seen[name] = true
			text, err := readRegular(root, filepath.FromSlash(name))
			if err == nil {
				out = append(out, check.Source{Name: name, Text: string(text)})
			} else if !errors.Is(err, fs.ErrNotExist) {
				a.say("yfence: the list %s is not read: %s", name, err)
			}
		}
	}
	return out, nil
}

// fleet reads the fleet file; none is a fleet without hosts.
func (a *app) fleet() (*fleet.Fleet, check.Source, []source.Problem, error) {
	if a.fleetFile == "" {
		return &fleet.Fleet{}, check.Source{}, nil, nil
	}
	data, err := a.readFile(a.fleetFile)
	if err != nil {
		return nil, check.Source{}, nil, err
	}
	fl, problems := fleet.Read(a.fleetFile, data)
	return fl, check.Source{Name: a.fleetFile, Text: string(data)}, problems, nil
}

// checked reads policy and fleet and runs all checks.
func (a *app) checked() (pol *policy.Policy, texts []check.Source, problems []source.Problem, err error) {
	texts, problems, err = a.checkedBy(func(b packet.Budget, files []check.Source, fl *fleet.Fleet, now int64) (found []source.Problem,
		err error) {
		pol, found, err = check.PolicyWithin(b, files, fl, now)
		return found, err
	})
	return pol, texts, problems, err
}

// checkedBy reads policy and fleet and has them checked within what a service would give it.
func (a *app) checkedBy(run func(packet.Budget, []check.Source, *fleet.Fleet, int64) ([]source.Problem, error)) (texts []check.Source,
	problems []source.Problem, err error) {
	files, err := a.sources()
	if err != nil {
		return nil, nil, err
	}
	fl, fleetText, problems, err := a.fleet()
	if err != nil {
		return nil, nil, err
	}
	if source.HasErrors(problems) { // held against a broken fleet, a sound policy looks broken
		_, found := policy.Read(files, fl)
		problems = append(problems, found...)
		source.SortProblems(problems)
		return append(files, fleetText), problems, nil
	}
	err = within(limits.Cases, "checking the policy", func(b packet.Budget) (err error) {
		found, err := run(b, files, fl, time.Now().Unix())
		problems = append(problems, found...)
		return err
	})
	return append(files, fleetText), problems, err
}

// reading reads what is in force, within the bound of that, for whoever does something with it. The
// error is about the text, or a *packet.TooComplexError.
func reading(f api.InForce, do func(sp *packet.Space, rules *kernel.Ruleset)) (err error) {
	tangled := packet.Try(func() {
		sp := packet.Budget{Edges: live.Bound}.Space()
		var rules *kernel.Ruleset
		if rules, err = live.Read(sp, f); err == nil {
			do(sp, rules)
		}
	})
	return cmp.Or(tangled, err)
}

// within does work on files with as many cases as a service would give it, and says in the
// service's words why it was not done: what cannot be published is not held to be sound.
func within(cases int, what string, work func(b packet.Budget) error) (err error) {
	tangled := packet.Try(func() { err = work(packet.Budget{Edges: cases}) })
	if tangled == nil && !errors.As(err, new(*packet.TooComplexError)) {
		return err
	}
	return fmt.Errorf("%s: %w; rules with fewer distinct ports and addresses take less", what, cmp.Or(tangled, err))
}

// sound is checked for commands that answer by a policy. Where it has errors they are told, and
// the command cannot answer; an expectation that is broken is told, and does not keep it from
// answering: whoever asks may want to know why.
func (a *app) sound() (*policy.Policy, error) {
	var missing []string
	if a.policyDir == "" {
		missing = append(missing, "no policy is named: give its folder with --policy DIR")
	}
	if a.fleetFile == "" {
		missing = append(missing, "no fleet is named: give its file with --fleet FILE")
	}
	if missing != nil {
		return nil, errors.New(strings.Join(missing, "; "))
	}
	pol, texts, problems, err := a.checked()
	if err != nil {
		return nil, err
	}
	return pol, a.usable(problems, texts)
}

// usable tells the errors among problems, and is an error where nothing can be answered for them.
func (a *app) usable(problems []source.Problem, texts []check.Source) error {
	problems = slices.DeleteFunc(problems, func(p source.Problem) bool { return p.Severity != source.Error })
	if len(problems) > 0 {
		a.explain(a.errOut, forgiven(problems), texts)
	}
	if source.HasErrors(problems) {
		return told(problems)
	}
	return nil
}

// forgiven turns errors that only publishing is kept from into warnings, where there are no others.
func forgiven(problems []source.Problem) []source.Problem {
	if slices.ContainsFunc(problems, func(p source.Problem) bool { return p.Code != check.BrokenExpectation }) {
		return problems
	}
	for i := range problems {
		problems[i].Severity = source.Warning
	}
	return problems
}

// fleetFiles are what a fleet's file is called where it lies in the policy's folder.
var fleetFiles = []string{"fleet.json", "fleet.yaml", "fleet.csv"}

// locate finds what a command works on where it is not said: the policy whose folder it is in, if
// no service is named, and the fleet file of a policy's folder. What it found it names.
func (a *app) locate(cmd *cobra.Command, args []string) error {
	if !slices.Contains(taken(cmd), "policy") || !slices.Contains(taken(cmd), "fleet") {
		return nil
	}
	if worksHere(cmd) {
		return nil
	}
	found, name := "", cmd.Name()
	if name == "check" && len(args) == 1 {
		if a.policyDir != "" {
			return errors.New("name the policy's folder as an argument, or with --policy, not both")
		}
		a.policyDir = args[0]
	}
	// A command says by its own flags that it works on something else.
	dump := cmd.Flags().Lookup("dump")
	explain := cmd.Flags().Lookup("explain")
	switch { // some need no policy, find their own, or change the fleet where one is said
	case name == "tidy", name == "lsp", name == "publish", name == "propose", name == "compare" && a.policyDir == "", name == "ask" &&
		dump.Changed &&
		a.policyDir == "",
		explain != nil && explain.Changed:
		return nil
	// A service that is named, in whatever way, is what is meant; else the folder one stands in.
	case a.policyDir == "":
		server := ""
		if name != "check" {
			var err error
			if server, _, err = a.address(); err != nil {
				return err
			}
		}
		if server == "" {
			if a.policyDir = policyFolder("."); a.policyDir != "" {
				found = "the policy is that of this folder"
			}
		}
	}
	if a.fleetFile == "" && a.policyDir != "" {
		if a.fleetFile = fleetIn(a.policyDir); a.fleetFile != "" {
			found = strings.TrimPrefix(found+", the fleet is "+a.fleetFile, ", ")
		}
	}
	if found != "" {
		a.say("yfence: %s", found)
	}
	return nil
}

// policyFolder is a folder if it is a policy's, else "".
func policyFolder(dir string) string {
	if files, _ := filepath.Glob(filepath.Join(dir, "*.fence")); len(files) == 0 {
		return ""
	}
	return dir
}

// fleetIn is the fleet file in a policy's folder, "" if there is none.
func fleetIn(dir string) string {
	for _, name := range fleetFiles {
		if info, err := os.Stat(filepath.Join(dir, name)); err == nil && info.Mode().IsRegular() {
			return filepath.Join(dir, name)
		}
	}
	return ""
}

// onFiles says that the command is to work on files and not on a service.
func (a *app) onFiles() bool { return a.policyDir != "" }
