package cli

import (
	"cmp"
	"fmt"
	"io"
	"maps"
	"os"
	"path/filepath"
	"slices"

	"github.com/spf13/cobra"

	"yellowfence.example/yfence/api"
	"yellowfence.example/yfence/internal/host"
	"yellowfence.example/yfence/internal/host/inventory"
)

// unitsCommand makes `yfence units`.
func (a *app) unitsCommand() *cobra.Command {
	var into, state string
	c := &cobra.Command{
		Use:   "units",
		Short: "On a host: print the systemd units that run the agent and load kept rules at the start",
		Long: `Units prints two systemd units, or writes them into a folder: one has yfence attend
run, the other puts what was kept in force before the network is up. Then

    systemctl daemon-reload
    systemctl enable --now yfence-boot.service yfence-attend.service`,
		Example: "  yfence units --into /etc/systemd/system",
		Args:    cobra.NoArgs,
		RunE: func(*cobra.Command, []string) error {
			program, err := os.Executable()
			if err != nil {
				return err
			}
			units := inventory.Units(program, cmp.Or(state, a.getenv("YFENCE_STATE"), host.StateDir))
			names := slices.Sorted(maps.Keys(units))
			if into != "" {
				for _, name := range names {
					if err := os.WriteFile(filepath.Join(into, name), []byte(units[name]), 0o644); err != nil {
						return err
					}
				}
			}
			return a.print(map[string]any{"version": api.Version, "units": units}, func(w io.Writer) {
				for _, name := range names {
					if into != "" {
						_, _ = fmt.Fprintln(w, filepath.Join(into, name))
					} else {
						_, _ = fmt.Fprintf(w, "# %s\n%s\n", name, units[name])
					}
				}
			})
		},
	}
	c.Flags().StringVar(&into, "into", "", "a folder to write them to")
	c.Flags().StringVar(&state, "state", "", "the folder where this host keeps its state (YFENCE_STATE; "+host.StateDir+")")
	return c
}
