package cli

import (
	_ "embed" // the files that a new folder gets
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"regexp"
	"strings"

	"github.com/spf13/cobra"

	"yellowfence.example/yfence/core/fence"
	"yellowfence.example/yfence/internal/api"
)

//go:embed new/policy.fence
var newPolicy string

//go:embed new/fleet.yaml
var newFleet string

// newCommand makes `yfence new`.
func (a *app) newCommand() *cobra.Command {
	return &cobra.Command{
		Use:   "new DIR",
		Short: "Begin a policy: its folder, with a fleet of three hosts",
		Long: `New makes the folder DIR with a small policy and a fleet file, which are sound as they
are and say in comments what each line is for. Change them to what you have. DIR must not
hold anything yet; its name is the policy's.`,
		Example: "  yfence new harbour && yfence check harbour",
		Args:    cobra.ExactArgs(1),
		RunE: func(_ *cobra.Command, args []string) error {
			dir := filepath.Clean(args[0])
			name, err := policyName(dir)
			if err != nil {
				return err
			}
			if err := os.MkdirAll(dir, 0o755); err != nil {
				return err
			}
			if there, err := os.ReadDir(dir); err != nil {
				return err
			} else if len(there) > 0 {
				return fmt.Errorf("%s holds %s already: name a folder that is new, or empty", dir, there[0].Name())
			}
			files := map[string]string{"policy.fence": strings.Replace(newPolicy, "policy example ", "policy "+name+" ", 1),
				"fleet.yaml": newFleet}
			for file, text := range files {
				if err := os.WriteFile(filepath.Join(dir, file), []byte(text), 0o644); err != nil {
					return err
				}
			}
			made := []string{filepath.Join(dir, "policy.fence"), filepath.Join(dir, "fleet.yaml")}
			return a.print(map[string]any{"version": api.Version, "files": made}, func(w io.Writer) {
				_, _ = fmt.Fprintf(w, "wrote %s and %s; what is next:\n\n", made[0], made[1])
				for _, next := range [][2]string{
					{"yfence check " + dir, "tells what is wrong with it"},
					{"yfence ask --policy " + dir + " 'everywhere -> db : postgresql'", "tells what becomes of traffic"},
					{"yfence rules web-01 --policy " + dir, "prints a host's rules"},
					{"yfence tidy -w " + dir, "lays it out"},
				} {
					_, _ = fmt.Fprintf(w, "  %-*s  %s\n", 52+len(dir), next[0], next[1])
				}
			})
		},
	}
}

// noName is what cannot stand in a policy's name.
var noName = regexp.MustCompile(`[^a-z0-9]+`)

// policyName is a name made of a folder's.
func policyName(dir string) (string, error) {
	whole, err := filepath.Abs(dir)
	if err != nil {
		return "", err
	}
	name := strings.Trim(noName.ReplaceAllString(strings.ToLower(filepath.Base(whole)), "-"), "-0123456789")
	if name = name[:min(len(name), 60)]; name == "" {
		return "", errors.New("a policy has its folder's name, and this one holds no letter: name the folder as the policy is to be called")
	}
	if !fence.IsName(name) { // a word of the language
		name += "-1"
	}
	return name, nil
}
