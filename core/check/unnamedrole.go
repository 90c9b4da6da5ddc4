package check

import (
	"yellowfence.example/yfence/core/fence"
)

// unnamedRole: see its documentation.
var unnamedRole = Check{
	Code: "unnamed-role",
	Doc: `No rule names a role.

Its hosts have their stance, the ground, and what is said of the whole fleet. If that
is all they need the role need not exist; mostly a rule was forgotten.
`,
	run: func(p *pass) {
		named := map[string]bool{}
		for _, r := range p.pol.Rules {
			for _, name := range append(r.From.Refs, r.To.Refs...) {
				named[name] = true
			}
			if r.Through != nil {
				named[r.Through.Name] = true
			}
		}
		for _, e := range p.pol.Expects {
			for _, name := range append(e.From.Refs, e.To.Refs...) {
				named[name] = true
			}
		}
		for _, l := range p.pol.Leaves {
			for _, name := range l.Refs {
				named[name] = true
			}
		}
		for _, t := range p.pol.Redirects {
			for _, name := range append(t.From.Refs, t.To.Refs...) {
				named[name] = true
			}
			if t.At != nil {
				named[t.At.Name] = true
			}
			if t.Target != nil {
				for _, name := range t.Target.Refs {
					named[name] = true
				}
			}
		}
		for _, t := range p.pol.Masquerades {
			for _, name := range append(t.From.Refs, t.To.Refs...) {
				named[name] = true
			}
			named[t.Via.Name] = true
		}
		for _, role := range p.pol.Roles {
			if !named[role.Name] && len(role.Hosts) > 0 {
				p.report(fence.Warningf(role.Pos, len(role.Name), "unnamed-role", "no rule names the role %q", role.Name).
					Hinted("say who may talk to it"))
			}
		}
	},
}
