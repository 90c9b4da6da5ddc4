package check

import (
	"strings"

	"yellowfence.example/yfence/core/fleet"
	"yellowfence.example/yfence/core/packet"
	"yellowfence.example/yfence/core/source"
)

// outboundBlind is exact: name resolution and time are looked for in the host's own decision,
// in either family, and answers count as well as questions.
var outboundBlind = Check{
	Code:     "outbound-blind",
	Severity: source.Warning,
	Doc: `Outbound is closed and the host can neither look up names nor set its clock.

Nearly every program needs both, and fails in ways that look like something else.
Admit them:

    allow lookups: fleet -> suppliers : domain
    allow clock:   fleet -> suppliers : ntp
`,
	run: func(p *pass) {
		for _, role := range p.pol.Roles {
			if !role.Closed[packet.Outbound] {
				continue
			}
			for _, h := range role.Hosts {
				if h.Others() {
					continue
				}
				missing := p.cannotReach(h)
				if len(missing) > 0 {
					p.report(p.named(role.Pos, role.Name, "outbound is closed for %q, and %s gets no answer from %s", role.Name, h.Name,
						strings.Join(missing, " and ")).
						Hinted("admit name resolution (domain) and time (ntp) to whoever serves them"))
					break
				}
			}
		}
	},
}

// cannotReach lists what a host with outbound closed cannot reach anywhere.
func (p *pass) cannotReach(h *fleet.Host) (missing []string) {
	d, _ := p.planner.Attributed(p.planner.Plan(h))
	admitted := p.sp.Where(d, func(o packet.Outcome) bool { return o.Verdict == packet.Admit })
	for _, need := range []struct {
		what     string
		protocol int
		port     int
	}{{"name servers (domain)", packet.UDP, 53}, {"time servers (ntp)", packet.UDP, 123}} {
		ask := p.sp.AndAll(p.sp.Value(packet.Hook, packet.Out), p.sp.Value(packet.Protocol, need.protocol),
			p.sp.Value(packet.DstPort, need.port),
			p.sp.Value(packet.State, packet.New), p.sp.Not(p.sp.Interfaces(packet.OutIface, "lo")))
		if p.sp.And(ask, admitted) == packet.Empty {
			missing = append(missing, need.what)
		}
	}
	return missing
}
