package check

import (
	"maps"
	"slices"
	"strings"

	"yellowfence.example/yfence/core/compile"
	"yellowfence.example/yfence/core/packet"
	"yellowfence.example/yfence/core/policy"
	"yellowfence.example/yfence/core/source"
)

// contradicted is exact: at each host and each way where the allow speaks of any packet, the
// blocks that it is no exception to are taken away from what it speaks of. If nothing is left
// on any one way that its packets must take, it does nothing.
var contradicted = Check{
	Code:     "contradicted",
	Severity: source.Warning,
	Doc: `Blocks refuse all that an allow admits.

Wherever its connections are sent, or forwarded, or arrive, blocks that it is no
exception to refuse all of them. It does nothing. Either it is meant as an exception, which it
says with over, or one of the two is a mistake:

    block no-mail:    fleet -> everywhere : smtp
    allow alert-mail: watch -> suppliers : smtp  over no-mail
`,
	run: func(p *pass) {
		for _, r := range p.rules() {
			if r.Block || !p.mayBeRefused(r) {
				continue
			}
			var ways [3]struct { // by direction
				matches, admits bool
				blocks          map[string]bool
			}
			p.ends(r, func(plan *compile.Plan, dir packet.Direction, speaks packet.Set) {
				way, rest := &ways[dir], speaks
				for _, b := range p.rules() {
					if set := p.speaks(plan, b, dir); b.Block && b.Trial == nil && !r.Overrides(b) &&
						p.sp.And(set, speaks) != packet.Empty {
						rest = p.sp.Minus(rest, set)
						if way.blocks == nil {
							way.blocks = map[string]bool{}
						}
						way.blocks["block "+b.Name] = true
					}
				}
				way.matches = way.matches || speaks != packet.Empty
				way.admits = way.admits || rest != packet.Empty
			})
			// Others than our hosts may be at either end, and decide for themselves.
			others := [3]bool{packet.Inbound: len(r.To.Outside().Ranges()) > 0, packet.Outbound: len(r.From.Outside().Ranges()) > 0}
			for dir, way := range ways {
				if way.matches && !way.admits && !others[dir] {
					names := slices.Sorted(maps.Keys(way.blocks))
					p.warn(r, "make it an exception with `over`, or take one of them away",
						"all that the allow %q admits is refused by %s", r.Name, strings.Join(names, ", "))
					break
				}
			}
		}
	},
}

// mayBeRefused says that blocks that a rule is no exception to could between
// them refuse all of it somewhere: cheap to tell, and mostly not so.
func (p *pass) mayBeRefused(r *policy.Rule) bool {
	rest := p.wide(r)
	for _, b := range p.pol.Rules {
		if b.Block && b.Trial == nil && !r.Overrides(b) && b.InForce(p.now) {
			for i, set := range p.wide(b) {
				rest[i] = p.sp.Minus(rest[i], set)
			}
		}
	}
	return rest[0] == packet.Empty || rest[1] == packet.Empty
}
