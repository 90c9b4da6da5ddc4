package check

import (
	"slices"

	"yellowfence.example/yfence/core/fence"
)

// staleKnowingly: see its documentation.
var staleKnowingly = Check{
	Code: "stale-knowingly",
	Doc: `A rule accepts a warning that is no longer there.

What was accepted has been put right, or never was. Take the knowingly away, so that
the warning is heard if it comes back.
`,
	run: func(p *pass) {
		for _, r := range p.rules() {
			for _, k := range r.Decl.Knowingly {
				switch {
				case !slices.Contains(p.codes, k.Code):
					p.report(fence.Warningf(k.Pos, len("knowingly"), "stale-knowingly", "no check has the code %q", k.Code).
						Hinted("%s", nearestCode(k.Code, p.codes)))
				case !p.accepted[acceptance{r, k.Code}]:
					p.report(fence.Warningf(k.Pos, len("knowingly"), "stale-knowingly", "the rule %q accepts %s, which it no longer gives", r.Name, k.Code).
						Hinted("take the knowingly away"))
				}
			}
		}
	},
}

func nearestCode(code string, codes []string) string {
	if near := fence.Nearest(code, codes); near != "" {
		return "did you mean " + near + "?"
	}
	return "yfence check --explain CODE tells what a code means"
}
