package cli

import (
	"fmt"
	"slices"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"
)

// The flags that many commands take: what names a policy and a fleet as files, and what
// names a running service.
var (
	onFiles   = []string{"policy", "fleet"}
	onService = []string{"server", "token-file", "ca-file"}
)

// takes are the flags of many that each command takes. A command that is not here takes those
// of the service; one that stands with nil takes none.
var takes = map[string][]string{
	"new": nil, "check": slices.Concat(onFiles, onService), "tidy": onFiles, "lsp": onFiles,
	"rules": slices.Concat(onFiles, onService), "ask": slices.Concat(onFiles, onService), "compare": slices.Concat(onFiles, onService),
	"drift": slices.Concat(onFiles, onService), "settle": slices.Concat(onFiles, onService),
	"pause": slices.Concat(onFiles, onService), "listeners": slices.Concat(onFiles, onService),
	"probe": slices.Concat(onFiles, onService), "traffic": slices.Concat(onFiles, onService),
	"adopt": {"fleet"}, "publish": slices.Concat(onFiles, onService), "propose": slices.Concat(onFiles, onService),
	"serve": nil, "config": nil, "version": nil, "units": nil, "watchdog": nil, "rehearse": nil, "help": nil, "completion": nil,
}

// taken are the flags that a command takes, of those that many do.
func taken(cmd *cobra.Command) []string {
	top := cmd
	for top.HasParent() && top.Parent().HasParent() {
		top = top.Parent()
	}
	if !top.HasParent() { // the program itself shows all
		return slices.Concat(onFiles, onService)
	}
	if flags, ok := takes[top.Name()]; ok {
		return flags
	}
	return onService
}

// refuseForeign is an error where a flag is given that the command does not take.
func refuseForeign(cmd *cobra.Command) error {
	for _, name := range slices.Concat(onFiles, onService) {
		if !cmd.Flags().Changed(name) || slices.Contains(taken(cmd), name) {
			continue
		}
		why := "it asks the service"
		if slices.Contains(onService, name) {
			why = "it works on files"
		}
		if len(taken(cmd)) == 0 {
			why = "leave it out"
		}
		return fmt.Errorf("%s does not take --%s: %s", cmd.CommandPath(), name, why)
	}
	return nil
}

// helpOwn has the help of each command show those flags only that it takes.
func helpOwn(root *cobra.Command) {
	help := root.HelpFunc()
	root.SetHelpFunc(func(cmd *cobra.Command, args []string) {
		root.PersistentFlags().VisitAll(func(f *pflag.Flag) {
			many := slices.Contains(onFiles, f.Name) || slices.Contains(onService, f.Name)
			f.Hidden = many && !slices.Contains(taken(cmd), f.Name)
		})
		help(cmd, args)
	})
}

// otherwise says how else a command can be told where to look.
func otherwise(cmd *cobra.Command) string {
	if cmd != nil && slices.Contains(taken(cmd), "policy") && slices.Contains(taken(cmd), "fleet") &&
		!slices.Contains([]string{"publish", "propose"}, cmd.Name()) {
		return ", or work on files with --policy DIR --fleet FILE"
	}
	return ""
}

// because is the flag of every command that asks for a reason.
func because(c *cobra.Command, why *string) {
	c.Flags().StringVarP(why, "because", "m", "", "the reason, which others see")
}
