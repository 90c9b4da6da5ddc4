package check

import (
	"yellowfence.example/yfence/core/fence"
	"yellowfence.example/yfence/core/policy"
	"yellowfence.example/yfence/core/source"
)

// onlyBlocked goes through all references of rules, expectations and translations. It asks only
// where strangers are spoken of: else it makes no difference who counts as one.
var onlyBlocked = Check{
	Code:     "only-blocked",
	Severity: source.Warning,
	Doc: `A network that only blocks name counts as known, and its addresses as no strangers.

Whoever is written in a declaration that is not shared is no stranger, so that a rule about
strangers, or an expectation about them, says nothing of those whom the policy keeps out.
Declare it shared:

    network pests = 192.0.2.0/24 shared
`,
	run: func(p *pass) {
		blocked, named, strangers := map[string]bool{}, map[string]bool{}, false
		note := func(into map[string]bool, sides ...policy.Side) {
			for _, s := range sides {
				for _, name := range s.Refs {
					into[name] = true
				}
				strangers = strangers || s.Strangers
			}
		}
		for _, r := range p.pol.Rules {
			note(map[bool]map[string]bool{true: blocked, false: named}[r.Block], r.From, r.To)
		}
		for _, e := range p.pol.Expects {
			note(map[bool]map[string]bool{true: blocked, false: named}[e.Kind == fence.Never], e.From, e.To)
		}
		for _, r := range p.pol.Redirects {
			note(named, r.From, r.To)
		}
		for _, m := range p.pol.Masquerades {
			note(named, m.From, m.To)
		}
		for _, n := range p.pol.Networks {
			if strangers && blocked[n.Name] && !named[n.Name] && !n.Shared && !(n.Segment && p.attached(n)) {
				p.report(p.named(n.Pos, n.Name, "only blocks name %q, and yet its addresses are no strangers",
					n.Name).Hinted("declare it `shared`"))
			}
		}
	},
}
