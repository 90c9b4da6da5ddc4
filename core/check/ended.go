package check

import "yellowfence.example/yfence/core/source"

// ended asks for an instant, so that the same policy is told of it one day and not the day
// before.
var ended = Check{
	Code:     "ended",
	Severity: source.Warning,
	Doc: `A rule has ended.

Its until has passed: it is in force nowhere any more. Take it away, or give it a new
end.
`,
	run: func(p *pass) {
		for _, r := range p.pol.Rules {
			if r.Until != 0 && p.now >= r.Until && !r.Off {
				p.warn(r, "take it away, or give it a new end", "the rule %q ended with %s", r.Name, r.Decl.Until.Text)
			}
		}
	},
}
