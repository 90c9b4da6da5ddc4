package check

import (
	"net/netip"
	"slices"

	"yellowfence.example/yfence/core/fence"
	"yellowfence.example/yfence/core/source"
)

// ownAddress looks at single addresses that are written out. Prefixes that hold a host's
// address are mostly meant as networks.
var ownAddress = Check{
	Code:     "own-address",
	Severity: source.Warning,
	Doc: `A rule names an address that is one of our hosts' own.

When the host moves, the rule stays behind. Name the host, or its role: its peers'
rules then follow its addresses.
`,
	run: func(p *pass) {
		owners := map[netip.Addr]string{}
		for _, h := range p.pol.Fleet.Hosts {
			for _, i := range h.Interfaces {
				for _, a := range i.Addresses {
					owners[a.Addr()] = h.Name
				}
			}
		}
		for _, r := range p.rules() {
			for _, peer := range slices.Concat(r.Decl.From.Items, r.Decl.To.Items) {
				if peer.Kind != fence.AddressPeer || peer.Addr.From != peer.Addr.To {
					continue
				}
				if host := owners[peer.Addr.From]; host != "" {
					p.warn(r, "write `host "+host+"`, or its role", "the rule %q names %s, which is the address of %s", r.Name, peer.Text,
						host)
				}
			}
		}
	},
}
