package check

import (
	"yellowfence.example/yfence/core/source"
)

// expectationOff stands in the way of nothing; it is there to be read, or accepted.
var expectationOff = Check{
	Code:     "expectation-off",
	Severity: source.Warning,
	Doc: `An expectation is off: nobody proves it.

A broken expectation that is turned off is silent, and what it kept safe is not looked at
any more. It says why it is off, and this warning stays until it is on again, or is
accepted:

    off expect quiet-piers: never strangers -> outdoors : ssh  because "a trial until May"
`,
	run: func(p *pass) {
		for _, e := range p.pol.Expects {
			if e.Off {
				p.report(p.named(e.Pos, e.Name, "the expectation %q is off, and nobody proves it", e.Name).
					Hinted("turn it on again, or take it away"))
			}
		}
	},
}
