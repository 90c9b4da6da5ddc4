package check

import (
	"slices"

	"yellowfence.example/yfence/core/packet"
	"yellowfence.example/yfence/core/policy"
	"yellowfence.example/yfence/core/source"
)

// bothProtocols looks a port up in the registry of services (IANA's). It is silent where the
// registry has the port for both protocols, and where QUIC is likely (port 443).
var bothProtocols = Check{
	Code:     "both-protocols",
	Severity: source.Warning,
	Doc: `A port is opened for TCP and UDP, and the service there uses one of them.

The other one is open for nothing. Write the service's name, or the one protocol. Some
services are registered for both, and each server listens for one of them; a name then
opens both.
`,
	run: func(p *pass) {
		for _, r := range p.rules() {
			if r.Block {
				continue
			}
			for _, t := range r.Terms {
				other := map[int]int{packet.TCP: packet.UDP, packet.UDP: packet.TCP}[t.Protocol]
				if other == 0 || t.Ports.Lo != t.Ports.Hi || t.Ports.Lo == http3 || p.pol.ServiceAt(t.Protocol, t.Ports.Lo) != "" {
					continue
				}
				name := p.pol.ServiceAt(other, t.Ports.Lo)
				both := slices.ContainsFunc(r.Terms, func(o policy.Term) bool { return o.Protocol == other && o.Ports == t.Ports })
				if name != "" && both {
					p.warn(r, "write "+name, "the allow %q opens %s %d, and %s is %s only", r.Name, packet.ProtocolName(t.Protocol),
						t.Ports.Lo, name, packet.ProtocolName(other))
					break
				}
			}
			for _, service := range r.Decl.Services {
				if oneOfBoth[service.Name] {
					p.warn(r, "write the protocol that is used, as udp and the port",
						"the allow %q opens TCP and UDP, and a server of %s listens for one of them", r.Name, service.Name)
				}
			}
		}
	},
}

// http3 is the port at which web servers speak HTTP over TCP and, as HTTP/3 (RFC 9114), over UDP.
const http3 = 443

// oneOfBoth are services that are registered for TCP and UDP, of which a server uses one.
var oneOfBoth = map[string]bool{"openvpn": true, "memcache": true}
