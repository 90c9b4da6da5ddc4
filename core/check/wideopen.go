package check

import (
	"yellowfence.example/yfence/core/policy"
	"yellowfence.example/yfence/core/source"
)

// wideOpen looks for `everywhere` as it is written. A prefix that comes to nearly as much is
// wide-source's.
var wideOpen = Check{
	Code:     "wide-open",
	Severity: source.Warning,
	Doc: `Everybody is admitted to a service that not everybody should reach.

Log-in, databases, caches and management are what is tried first. Narrow who may
connect; or, if it must be, accept it with a reason:

    allow front-door: everywhere -> jump : ssh  knowingly wide-open "pilots on the road"
`,
	run: func(p *pass) {
		for _, r := range p.rules() {
			if r.Block || !r.From.Everywhere || !r.To.Named {
				continue
			}
			for _, t := range r.Terms {
				if name := sensitiveIn(t); name != "" {
					p.warn(r, "name who is meant, or accept it: knowingly wide-open \"why\"", "the allow %q lets everybody reach %s",
						r.Name, name)
					break
				}
			}
		}
	},
}

// sensitiveIn names a sensitive service that a term admits, "" if none.
func sensitiveIn(t policy.Term) string {
	for _, s := range policy.Sensitive {
		if t.Has(s.Protocol, s.Port) {
			return s.What
		}
	}
	return ""
}
