package check

import (
	"yellowfence.example/yfence/core/fence"
	"yellowfence.example/yfence/core/source"
)

// unnamedRole counts every place where a name can stand, in all parts of the policy. A role
// without hosts is told as empty.
var unnamedRole = Check{
	Code:     "unnamed-role",
	Severity: source.Warning,
	Doc: `No rule names a role.

Its hosts have their stance, the ground, and what is said of the whole fleet. If that
is all they need the role need not exist; mostly a rule was forgotten.
`,
	run: func(p *pass) {
		named := map[string]bool{}
		for _, file := range p.files {
			for _, r := range fence.References(file) {
				named[r.Name] = named[r.Name] || !r.Decl && !r.Rule
			}
		}
		for _, role := range p.pol.Roles {
			if !named[role.Name] && len(role.Hosts) > 0 {
				p.report(p.named(role.Pos, role.Name, "no rule names the role %q", role.Name).
					Hinted("say who may talk to it"))
			}
		}
	},
}
