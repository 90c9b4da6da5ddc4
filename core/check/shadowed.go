package check

import (
	"strings"

	"yellowfence.example/yfence/core/compile"
	"yellowfence.example/yfence/core/policy"
	"yellowfence.example/yfence/core/source"
)

// shadowed compares what the two mean as sets of packets: another spelling of the registered
// service is no other service.
var shadowed = Check{
	Code:     "shadowed",
	Severity: source.Warning,
	Doc: `A service is declared under the name of a registered one, and admits something else.

The declared one counts wherever the policy names it. Whoever knows the registered one reads
the rule wrongly. Choose another name, or say what the registered one says.
`,
	run: func(p *pass) {
		for _, s := range p.pol.Services {
			registered := policy.ServiceTerms(s.Name)
			if registered == nil || compile.TermsSet(p.sp, registered) == compile.TermsSet(p.sp, s.Terms) {
				continue
			}
			p.report(p.named(s.Pos, s.Name, "the service %q is registered as %s, and means something else here", s.Name,
				strings.Join(policy.Registered(s.Name), ", ")).
				Hinted("choose another name, such as %s-here", s.Name))
		}
	},
}
