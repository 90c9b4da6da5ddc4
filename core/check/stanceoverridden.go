package check

import (
	"yellowfence.example/yfence/core/packet"
	"yellowfence.example/yfence/core/policy"
	"yellowfence.example/yfence/core/source"
)

// stanceOverridden is told once for two roles, with the first host that has both.
var stanceOverridden = Check{
	Code:     "stance-overridden",
	Severity: source.Warning,
	Doc: `One role's stance overrides another's on a host that has both.

Closed beats open, drop beats reject. The host is as closed as the stricter of its
roles, which whoever wrote the other one may not expect.
`,
	run: func(p *pass) {
		said := map[string]bool{}
		byName := map[string]*policy.Role{}
		for _, r := range p.pol.Roles {
			byName[r.Name] = r
		}
		for _, h := range p.pol.Fleet.Hosts {
			for _, first := range h.Roles {
				for _, second := range h.Roles {
					a, b := byName[first], byName[second]
					if a == b {
						continue
					}
					what := ""
					for dir, closed := range a.Closed {
						if other, ok := b.Closed[dir]; ok && !closed && other {
							what = dir.String() + " open"
						}
					}
					if a.RefuseBy == packet.Reject && b.RefuseBy == packet.Drop {
						what = "refuse by reject"
					}
					if key := a.Name + " " + b.Name; what != "" && !said[key] {
						said[key] = true
						p.report(p.named(a.Pos, a.Name, "%q of role %q does not hold on %s, which is %q too", what, a.Name, h.Name, b.Name).
							Hinted("say the same in both roles, or give the host one of them"))
					}
				}
			}
		}
	},
}
