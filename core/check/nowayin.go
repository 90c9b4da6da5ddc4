package check

import (
	"fmt"
	"slices"

	"yellowfence.example/yfence/core/fleet"
	"yellowfence.example/yfence/core/packet"
	"yellowfence.example/yfence/core/policy"
	"yellowfence.example/yfence/core/source"
)

// noWayIn: every host is reached by a chain of guards from outside the fleet.
var noWayIn = Check{
	Code:     "no-way-in",
	Severity: source.Error,
	Doc: `A host cannot be reached by any chain of guards.

Every host must be reachable by guards without a limit, one after the other, the first
of which begins outside the fleet. Between hosts of the fleet there must be a path: a segment that
both are on, an address that is reached from anywhere, or a through. Otherwise settling the policy may leave the host with
nobody who can log in to it. Cover it by a guard:

    allow hop: jump -> fleet : ssh  guard

A host with a console of its own needs none: say "own_console": true in the
fleet file, and this is a warning.
`,
	run: func(p *pass) {
		reached := map[*fleet.Host]bool{}
		for changed := true; changed; {
			changed = false
			for _, r := range p.pol.Rules {
				if !r.Sure() || !p.begins(r, reached) {
					continue
				}
				for _, h := range r.To.Hosts {
					if !reached[h] && p.path(r, h, reached) && p.speaks(p.planner.Plan(h), r, packet.Inbound) != packet.Empty {
						reached[h], changed = true, true
					}
				}
			}
		}
		guarded := false
		for _, r := range p.pol.Rules {
			guarded = guarded || r.Sure()
		}
		for _, h := range p.pol.Fleet.Hosts {
			if reached[h] || !guarded || h.Others() { // without any guard one problem says it all
				continue
			}
			pr := p.at(h.Pos, len(h.Name)+2, "no chain of guards reaches the host %q", h.Name).
				Hinted("add a guard that ends at one of its roles, or give it \"own_console\": true if it has one")
			if h.OwnConsole {
				pr.Severity = source.Warning
				pr = pr.Hinted("%s", fmt.Sprintf("it has its own console; a guard would make %s reachable without it", h.Name))
			}
			p.report(pr)
		}
	},
}

// begins says that a connection of the rule can be begun by somebody who is
// outside the fleet, or on a host that is reached.
func (p *pass) begins(r *policy.Rule, reached map[*fleet.Host]bool) bool {
	if len(r.From.Outside().Ranges()) > 0 {
		return true
	}
	for _, h := range r.From.Hosts {
		if reached[h] {
			return true
		}
	}
	return false
}

// path says that somebody outside the fleet, or on a host that is reached, has a way to a
// host: where nothing is known of the way it is taken to be there.
func (p *pass) path(r *policy.Rule, h *fleet.Host, reached map[*fleet.Host]bool) bool {
	if r.Through != nil || len(r.From.Outside().Ranges()) > 0 {
		return true
	}
	to := p.place(h)
	return slices.ContainsFunc(r.From.Hosts, func(from *fleet.Host) bool {
		at := p.place(from)
		return reached[from] && (at.public || to.public || len(at.segments) == 0 || len(to.segments) == 0 || at.meets(to))
	})
}
