package cli

import (
	"context"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"
)

// completeTime is how long a shell waits for names.
const completeTime = 2 * time.Second

// completeHosts has a shell complete names of hosts, and of roles where commands take them,
// for as many arguments as they take: from the fleet file, else from the service.
func (a *app) completeHosts(c *cobra.Command, most int, roles bool) {
	c.ValidArgsFunction = func(cmd *cobra.Command, args []string, _ string) ([]string, cobra.ShellCompDirective) {
		if most > 0 && len(args) >= most {
			return nil, cobra.ShellCompDirectiveNoFileComp
		}
		ctx, cancel := context.WithTimeout(cmd.Context(), completeTime)
		defer cancel()
		names := a.hostNames(ctx, roles)
		return slices.DeleteFunc(names, func(n string) bool { return slices.Contains(args, n) }), cobra.ShellCompDirectiveNoFileComp
	}
}

// hostNames are the names of hosts, and of their roles if wanted; none where nobody tells them.
func (a *app) hostNames(ctx context.Context, roles bool) (names []string) {
	add := func(host string, of []string) {
		names = append(names, host)
		for _, r := range of {
			if roles && !slices.Contains(names, r) {
				names = append(names, r)
			}
		}
	}
	if a.fleetFile != "" && a.fleetFile != "-" {
		if fl, _, _, err := a.fleet(); err == nil && fl != nil {
			for _, h := range fl.Hosts {
				add(h.Name, h.Roles)
			}
		}
		return names
	}
	svc, err := a.service()
	if err != nil {
		return nil
	}
	fl, err := svc.Fleet(ctx)
	if err != nil {
		return nil
	}
	for _, h := range fl.Hosts {
		add(h.Name, h.Roles)
	}
	return names
}

// completions has shells complete what commands take.
func (a *app) completions(root *cobra.Command) {
	for path, takes := range map[string]struct {
		most  int
		roles bool
	}{"rules": {0, false}, "drift": {1, false}, "listeners": {1, false}, "connections": {1, false}, "pause": {1, false},
		"resume": {1, false},
		"copies": {1, false}, "copies show": {1, false}, "copies restore": {1, false}, "past": {1, false}, "fleet show": {1, false},
		"fleet enrol": {1, false}, "waves start": {0, true}} {
		if c, _, err := root.Find(strings.Fields(path)); err == nil {
			a.completeHosts(c, takes.most, takes.roles)
		}
	}
	if c, _, err := root.Find([]string{"rules"}); err == nil {
		_ = c.RegisterFlagCompletionFunc("dialect", cobra.FixedCompletions(ruleKinds, cobra.ShellCompDirectiveNoFileComp))
	}
}
