package cli

import (
	"io"

	"github.com/spf13/cobra"

	"yellowfence.example/yfence/internal/lsp"
)

// lspCommand makes `yfence lsp`, which an editor starts.
func (a *app) lspCommand() *cobra.Command {
	return &cobra.Command{
		Use:   "lsp",
		Short: "Help an editor: problems as you type, completion, hover, rename, layout",
		Long: `Lsp speaks the Language Server Protocol on standard input and output. The policy is
the folder that the editor opens, or --policy; the fleet is --fleet, else a file
fleet.json, fleet.yaml or fleet.csv in that folder.`,
		Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			return lsp.Serve(cmd.Context(), io.NopCloser(a.stdin), nopCloser{a.raw}, a.lspLoad)
		},
	}
}

// nopCloser is an output that the session does not close.
type nopCloser struct{ io.Writer }

// Close closes nothing.
func (nopCloser) Close() error { return nil }

// lspLoad reads a policy's folder and its fleet for an editor.
func (a *app) lspLoad(dir string) (lsp.Policy, error) {
	own := *a
	if own.policyDir == "" {
		own.policyDir = dir
	}
	if own.fleetFile == "" {
		own.fleetFile = fleetIn(own.policyDir)
	}
	fl, text, _, err := own.fleet()
	if err != nil {
		return lsp.Policy{}, err
	}
	sources, err := own.sources()
	return lsp.Policy{Sources: sources, Fleet: fl, FleetFile: text}, err
}
