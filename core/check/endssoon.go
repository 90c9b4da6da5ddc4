package check

import "yellowfence.example/yfence/core/source"

// soon is how long before an end it is told, in seconds.
const soon = 14 * 86400

// endsSoon leaves out rules that have ended, which `ended` tells of.
var endsSoon = Check{
	Code:     "ends-soon",
	Severity: source.Warning,
	Doc: `A rule ends within two weeks.

When it does, what it admits is refused without anybody acting. Look whether somebody
still needs it.
`,
	run: func(p *pass) {
		for _, r := range p.rules() {
			if r.Until != 0 && r.Until-p.now <= soon {
				p.warn(r, "give it a later end if it is still needed", "the rule %q ends with %s", r.Name, r.Decl.Until.Text)
			}
		}
	},
}
