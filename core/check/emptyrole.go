package check

import (
	"yellowfence.example/yfence/core/source"
)

// emptyRole is silent where the fleet has no hosts at all, which is a fleet that nobody gave.
var emptyRole = Check{
	Code:     "empty-role",
	Severity: source.Warning,
	Doc: `A role has no hosts.

Rules that name it are on no host, and rules that admit it admit nobody. That may be
right for a role whose hosts are still to come; else a role in the fleet file is
misspelt.
`,
	run: func(p *pass) {
		for _, role := range p.pol.Roles {
			if len(role.Hosts) == 0 && len(p.pol.Fleet.Hosts) > 0 {
				p.report(p.named(role.Pos, role.Name, "no host has the role %q", role.Name).
					Hinted("give the role to a host in the fleet file, or take the role away"))
			}
		}
	},
}
