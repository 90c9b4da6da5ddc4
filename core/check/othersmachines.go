package check

import (
	"yellowfence.example/yfence/core/source"
)

// othersMachines tells each such host once, under the first of its roles.
var othersMachines = Check{
	Code:     "others",
	Severity: source.Warning,
	Doc: `Machines that this policy names have no filter of ours.

The fleet file gives them the dialect none and no instance: they are others' machines, or ones
that nobody may touch. What rules say of them is carried out at the other end alone, and they
are taken to admit everything. If that is so, accept it where the role is declared:

    role printer "the lessor's"  knowingly others "the lessor looks after them"

Else give the hosts the filter that they have.
`,
	run: func(p *pass) {
		for _, role := range p.pol.Roles {
			var names []string
			for _, h := range role.Hosts {
				if h.Others() && h.Roles[0] == role.Name {
					names = append(names, h.Name)
				}
			}
			if names == nil {
				continue
			}
			verb := " has"
			if len(names) > 1 {
				verb = " have"
			}
			p.report(p.named(role.Pos, role.Name,
				"%s%s no filter of ours: what is said of the role %q is carried out at the other end alone", some(names), verb, role.Name).
				Hinted("accept it, if they are others' machines: knowingly others \"why\"; else name their filter in the fleet file"))
		}
	},
}
