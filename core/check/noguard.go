package check

import (
	"yellowfence.example/yfence/core/source"
)

// noGuard: a policy without a guard protects no way in.
var noGuard = Check{
	Code:     "no-guard",
	Severity: source.Error,
	Doc: `No rule of the policy is marked guard.

A guard is an allow that must always hold: the way by which you log in to put
things right. Without one, a mistake in the policy can lock you out of every
host at once. One with a limit does not count: whoever uses it up keeps you out. Mark the
rules by which you reach the hosts:

    allow way-in: crew-vpn -> jump : ssh  guard
    allow hop:    jump -> fleet : ssh  guard
`,
	run: func(p *pass) {
		message := "no rule of this policy is a guard, so nothing keeps a way in"
		for _, r := range p.pol.Rules {
			if r.Sure() {
				return
			}
			if r.Guard {
				message = "every guard of this policy has a limit, so no way in is sure"
			}
		}
		pos := p.pol.Pos
		if len(p.pol.Rules) > 0 {
			pos = p.pol.Rules[0].Pos
		}
		p.report(p.at(pos, 1, "%s", message).
			Hinted("add `guard` to the allows by which you log in"))
	},
}
