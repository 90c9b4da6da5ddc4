package check

import "yellowfence.example/yfence/core/source"

// sharedTrust looks at names: a part of a shared network that is written out was chosen by
// somebody.
var sharedTrust = Check{
	Code:     "shared-trust",
	Severity: source.Warning,
	Doc: `An allow trusts a shared network or segment whole.

Strangers are on it too: the neighbours in a rented rack, every site behind the same
content network. Name the hosts or addresses that are meant; or, if the service is
for everybody anyway, say so:

    allow tiles: tile-cache -> charts : tcp 8096  knowingly shared-trust "tiles are public"
`,
	run: func(p *pass) {
		shared := map[string]bool{}
		for _, n := range p.pol.Networks {
			shared[n.Name] = n.Shared
		}
		for _, r := range p.rules() {
			for _, name := range r.From.Refs {
				if shared[name] && !r.Block && r.To.Named {
					p.warn(r, "name the hosts that are meant, or accept it: knowingly shared-trust \"why\"",
						"the allow %q trusts all of %q, and strangers are on it", r.Name, name)
				}
			}
		}
	},
}
