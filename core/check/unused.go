package check

import (
	"yellowfence.example/yfence/core/policy"
	"yellowfence.example/yfence/core/source"
)

// unused leaves out segments that hosts are attached to, since answers say them, and local
// ones, which act by themselves.
var unused = Check{
	Code:     "unused",
	Severity: source.Warning,
	Doc: `Nothing uses a declaration.

No rule, network or service names it. It can go, or something that should name it
names another.
`,
	run: func(p *pass) {
		for _, n := range p.pol.Networks {
			if !n.Used && !n.Local && !(n.Segment && p.attached(n)) {
				p.report(p.named(n.Pos, n.Name, "nothing uses %q", n.Name).Hinted("take it away, or name it where it is meant"))
			}
		}
		for _, s := range p.pol.Peers {
			if !s.Used {
				p.report(p.named(s.Pos, s.Name, "nothing uses the peers %q", s.Name).Hinted("take it away, or name it where it is meant"))
			}
		}
		for _, s := range p.pol.Services {
			if !s.Used {
				p.report(p.named(s.Pos, s.Name, "nothing uses the service %q", s.Name).Hinted("take it away, or name it where it is meant"))
			}
		}
	},
}

// attached says that a host is on a segment: its name is then of use in findings.
func (p *pass) attached(n *policy.Network) bool {
	for _, h := range p.pol.Fleet.Hosts {
		if h.On(n.Name, n.Addrs) != nil {
			return true
		}
	}
	return false
}
