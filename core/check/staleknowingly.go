package check

import (
	"slices"

	"yellowfence.example/yfence/core/fence"
	"yellowfence.example/yfence/core/source"
)

// staleKnowingly runs after all other checks, when it is known which acceptances were of use.
// Those of rules that are off or over count as used.
var staleKnowingly = Check{
	Code:     staleKnowinglyCode,
	Severity: source.Warning,
	Doc: `A warning is accepted that is no longer there.

What was accepted has been put right, or never was. Take the knowingly away, so that
the warning is heard if it comes back.
`,
	run: func(p *pass) {
		idle := map[source.Pos]bool{} // rules that do not count: nothing is told of them
		for _, r := range p.pol.Rules {
			idle[r.Pos] = !r.InForce(p.now)
		}
		p.eachAccepted(func(s fence.Stmt, k fence.Knowingly) {
			switch {
			case !slices.Contains(p.codes, k.Code):
				p.report(p.at(k.Pos, len("knowingly"), "no check has the code %q", k.Code).
					Hinted("%s", nearestCode(k.Code, p.codes)))
			case p.accepted[k.Pos] == nil && !idle[s.Declared().Pos]:
				p.report(p.at(k.Pos, len("knowingly"), "%q accepts %s, which is no longer told", s.Declared().Name, k.Code).
					Hinted("take the knowingly away"))
			}
		})
	},
}

// staleKnowinglyCode is the code as others name it: it is told after all other checks have run,
// when it is known what was accepted for nothing.
const staleKnowinglyCode = "stale-knowingly"

// nearestCode is a hint for a code that no check has.
func nearestCode(code string, codes []string) string {
	if near := source.Nearest(code, codes); near != "" {
		return "did you mean " + near + "?"
	}
	return "yfence check --explain CODE tells what a code means"
}
