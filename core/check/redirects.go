package check

import (
	"slices"
	"strings"

	"go4.org/netipx"

	"yellowfence.example/yfence/core/compile"
	"yellowfence.example/yfence/core/fleet"
	"yellowfence.example/yfence/core/packet"
	"yellowfence.example/yfence/core/policy"
	"yellowfence.example/yfence/core/source"
)

// redirectUnadmitted asks which peers of the redirect any allow admits to where the connections
// end up. It is silent where inbound is open, or where a router takes connections for itself.
var redirectUnadmitted = Check{
	Code:     "redirect-unadmitted",
	Severity: source.Warning,
	Doc: `A redirect changes where connections go that nothing admits.

A redirect admits nothing by itself. What goes to another port of the same host is admitted
by an allow for the port that it came to; what goes to another host by an allow for the port
that it gets there:

    redirect door: office -> pilotage : tcp 443 to tcp 8443
    allow    pilot-web: office -> pilotage : https
`,
	run: func(p *pass) {
		for _, r := range p.pol.Redirects {
			if r.Off || r.Through != nil && r.Target == nil { // the router takes them, and what it forwards decides
				continue
			}
			to, port := r.To, r.Term.Ports.Lo
			if r.Target != nil {
				to, port = *r.Target, r.Port
			}
			if len(to.Hosts) == 0 || !p.closed(to.Hosts) || len(p.admitted(r.From.Addrs, to, r.Term, port).Ranges()) > 0 {
				continue
			}
			p.report(p.named(r.Pos, r.Name, "the redirect %q is for connections that no allow admits: %s %d to %s", r.Name,
				packet.ProtocolName(r.Term.Protocol), port, to.Text).
				Hinted("write `allow NAME: %s -> %s : %s %d`, or turn the redirect off", r.From.Text, to.Text,
					packet.ProtocolName(r.Term.Protocol), port))
		}
	},
}

// redirectAround asks who comes through the redirect and is admitted by no allow for the port
// as it is: for those, the redirect opens what an allow keeps.
var redirectAround = Check{
	Code:     "redirect-around",
	Severity: source.Warning,
	Doc: `A redirect lets peers reach a port that the policy keeps for others.

An allow says who may reach a port; by a redirect others come to it through another one.
Narrow the redirect, or the allow that admits what it takes; or, if it is meant, say so:

    allow door: everywhere -> jump : tcp 2222  knowingly redirect-around "log-in for all"
`,
	run: func(p *pass) {
		for _, r := range p.pol.Redirects {
			if r.Off || r.Through != nil || r.Target != nil || len(r.To.Hosts) == 0 {
				continue
			}
			own := p.admitted(packet.Everything(), r.To, r.Term, r.Port)
			if len(own.Ranges()) == 0 { // nobody comes to it in any other way
				continue
			}
			for _, a := range p.rules() {
				if a.Block || !opens(a, r.Term, r.Term.Ports.Lo) || !named(a.To, r.To) {
					continue
				}
				through := packet.Intersection(a.From.Addrs, r.From.Addrs)
				if len(packet.Without(through, own).Ranges()) == 0 {
					continue
				}
				var who []string
				for _, o := range p.rules() {
					if !o.Block && opens(o, r.Term, r.Port) && named(o.To, r.To) {
						who = append(who, o.Title())
					}
				}
				p.warn(a, "narrow the redirect, or this allow", "the allow %q and the redirect %q let others reach %s %d than %s does",
					a.Name, r.Name, packet.ProtocolName(r.Term.Protocol), r.Port, strings.Join(who, " and "))
			}
		}
	},
}

// closed says that some host of a side lets in only what allows admit.
func (p *pass) closed(hosts []*fleet.Host) bool {
	return slices.ContainsFunc(hosts, func(h *fleet.Host) bool {
		return slices.ContainsFunc(p.planner.Plan(h).Chains,
			func(c compile.Chain) bool { return c.Direction == packet.Inbound && c.Stance.Closed })
	})
}

// admitted are the peers that allows admit to a port of a side.
func (p *pass) admitted(from *netipx.IPSet, to policy.Side, term policy.Term, port int) *netipx.IPSet {
	all := &netipx.IPSet{}
	for _, a := range p.rules() {
		if !a.Block && opens(a, term, port) && named(a.To, to) {
			all = packet.Union(all, packet.Intersection(a.From.Addrs, from))
		}
	}
	return all
}

// opens says that an allow is for a port of a term's protocol.
func opens(a *policy.Rule, term policy.Term, port int) bool {
	return slices.ContainsFunc(a.Terms, func(t policy.Term) bool {
		return t.Has(term.Protocol, port) && (t.Family == policy.AnyFamily || term.Family == policy.AnyFamily || t.Family == term.Family)
	})
}

// named says that a side names one of another's hosts.
func named(s, of policy.Side) bool {
	return slices.ContainsFunc(of.Hosts, func(h *fleet.Host) bool { return s.Names(h) })
}
