package check

import (
	"go4.org/netipx"

	"yellowfence.example/yfence/core/fence"
	"yellowfence.example/yfence/core/source"
)

// wideSource takes ranges apart into prefixes, so that a range cannot say what a prefix may
// not.
var wideSource = Check{
	Code:     "wide-source",
	Severity: source.Warning,
	Doc: `A rule's source is nearly everybody, and does not say so.

A prefix shorter than /8 (IPv4) or /16 (IPv6) holds far more than one organisation.
If everybody is meant, write everywhere, which can be seen and searched for.
`,
	run: func(p *pass) {
		for _, r := range p.rules() {
			if r.Block {
				continue
			}
			for _, peer := range r.Decl.From.Items {
				if peer.Kind != fence.AddressPeer || !peer.Addr.From.IsValid() {
					continue
				}
				for _, prefix := range netipx.IPRangeFrom(peer.Addr.From, peer.Addr.To).Prefixes() {
					if prefix.Addr().Is4() && prefix.Bits() < 8 || prefix.Addr().Is6() && prefix.Bits() < 16 {
						p.warn(r, "write everywhere if everybody is meant, else a narrower prefix",
							"the allow %q takes %s as a source, which is nearly everybody", r.Name, peer.Text)
						break
					}
				}
			}
		}
	},
}
