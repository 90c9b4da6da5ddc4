package check

import (
	"net/netip"
	"slices"

	"yellowfence.example/yfence/core/packet"
	"yellowfence.example/yfence/core/policy"
	"yellowfence.example/yfence/core/source"
)

// dhcpUnaddressed knows DHCP of IPv4 by its ports (RFC 2131): a client that has no address
// sends from 0.0.0.0, which belongs to no segment.
var dhcpUnaddressed = Check{
	Code:     "dhcp-unaddressed",
	Severity: source.Warning,
	Doc: `An allow admits DHCP from the addresses of a segment.

Who asks for an address has none yet: the question comes from 0.0.0.0, which no segment
holds. Say where it arrives instead:

    allow leases: everywhere -> depot : udp 67  arriving quay-lan
`,
	run: func(p *pass) {
		server := policy.Term{Family: policy.AnyFamily, Protocol: packet.UDP}
		for _, r := range p.rules() {
			if r.Block || len(r.To.Hosts) == 0 || r.From.Addrs.Contains(netip.IPv4Unspecified()) {
				continue
			}
			one := slices.ContainsFunc(r.Terms, func(t policy.Term) bool {
				return t.Protocol == packet.UDP && t.Ports.Lo == 67 &&
					t.Ports.Hi <= 68
			})
			if !one || !opens(r, server, 67) {
				continue
			}
			for _, seg := range p.pol.Segments() {
				if slices.Contains(r.From.Refs, seg.Name) {
					p.warn(r, "write `everywhere -> … : udp 67  arriving "+seg.Name+"`",
						"the allow %q admits DHCP from %s, and who asks for an address has none yet", r.Name, seg.Name)
					break
				}
			}
		}
	},
}
