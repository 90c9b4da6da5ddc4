package check

import (
	"slices"
	"strings"

	"go4.org/netipx"

	"yellowfence.example/yfence/core/compile"
	"yellowfence.example/yfence/core/fence"
	"yellowfence.example/yfence/core/fleet"
	"yellowfence.example/yfence/core/packet"
	"yellowfence.example/yfence/core/policy"
	"yellowfence.example/yfence/core/source"
)

// guardRefused: every packet of a guard must be admitted at both ends, and on its way.
var guardRefused = Check{
	Code:     "guard-refused",
	Severity: source.Error,
	Doc: `Something refuses packets that a guard speaks of.

Every packet of a guard must be admitted at both ends, and by the routers it goes through. Here a block refuses
some of them, so the way in is not sure. Make the guard an exception to the
block, or narrow the block:

    block no-pests: pests -> fleet : any
    allow way-in:   crew-vpn -> jump : ssh  guard  over no-pests

Its answers must be admitted too: where the ground's replies are off, or narrowed, a rule or
an open stance must let them go.
`,
	run: func(p *pass) {
		for _, r := range p.pol.Rules {
			if r.Guard {
				p.guardEnd(r, packet.Inbound, r.To.Hosts)
				p.guardEnd(r, packet.Outbound, r.From.Hosts)
				for _, role := range r.Routers() {
					p.guardEnd(r, packet.Forward, role.Hosts)
				}
				p.guardAnswers(r)
			}
		}
	},
}

// guardEnd reports the first host at one end of a guard where some of it is refused.
func (p *pass) guardEnd(r *policy.Rule, dir packet.Direction, hosts []*fleet.Host) {
	if dir != packet.Forward && !p.blockable(r) {
		return
	}
	seen := map[*compile.Plan]bool{}
	for _, h := range hosts {
		plan := p.planner.Plan(h)
		if seen[plan] {
			continue
		}
		seen[plan] = true
		// The ground and local segments decide before any rule and refuse only
		// packets that no peer sends: invalid ones, and forged sources.
		d, deciders := p.planner.Attributed(plan)
		speaks := p.speaks(plan, r, dir)
		if own := h.Addresses(); dir == packet.Forward { // what it sends and gets itself it does not forward
			speaks = p.sp.Minus(speaks, p.sp.Or(p.sp.Addrs(packet.Src, own), p.sp.Addrs(packet.Dst, own)))
		}
		refused := p.sp.And(speaks, p.sp.Where(d, func(o packet.Outcome) bool {
			by := deciders[o.By-1]
			return o.Refused() && by.Kind != compile.ByGround && by.Kind != compile.ByLocal &&
				(by.Kind != compile.ByAllow || r.AtMost == nil)
		}))
		if refused == packet.Empty {
			continue
		}
		taste := packet.Preferences{}
		here, ends := map[packet.Direction]packet.Field{packet.Inbound: packet.Dst, packet.Outbound: packet.Src}[dir]
		for _, i := range h.Interfaces {
			for _, a := range i.Addresses {
				if ends {
					taste.Prefer(here, a.Addr())
				}
			}
			taste.LikesInterfaces(packet.InIface, i.Name)
			taste.LikesInterfaces(packet.OutIface, i.Name)
		}
		example, _ := p.sp.Example(refused, taste)
		pr := p.named(r.Pos, r.Name, "the guard %q is refused on %s %s: %s stands in its way",
			r.Name, h.Name, dir.String(), p.refuser(d, deciders, refused))
		pr.Packet = &example
		p.report(pr.Hinted("make it an exception with `over`, or narrow what refuses it"))
		return
	}
}

// guardAnswers reports the first host that refuses the answers of a guard, where the ground leaves
// replies to others.
func (p *pass) guardAnswers(r *policy.Rule) {
	if !slices.ContainsFunc(p.pol.Ground, func(c policy.GroundChange) bool { return c.Part == fence.PartReplies }) {
		return
	}
	// What comes back on a connection of the guard: its services with the ports turned round.
	sp := p.sp
	answers := packet.Empty
	for _, t := range r.Terms {
		if t.HasPorts() {
			answers = sp.Or(answers, sp.And(sp.Value(packet.Protocol, t.Protocol), sp.Range(packet.SrcPort, t.Ports.Lo, t.Ports.Hi)))
		} else if t.Protocol != policy.AnyProtocol {
			answers = sp.Or(answers, sp.Value(packet.Protocol, t.Protocol))
		}
	}
	answers = sp.AndAll(answers, sp.Value(packet.State, packet.Established), sp.Addrs(packet.Src, r.To.Addrs),
		sp.Addrs(packet.Dst, r.From.Addrs))
	// At each end, and at the routers between, somebody other than the kernel's own loopback may
	// refuse it.
	for _, end := range []struct {
		dir   packet.Direction
		hosts []*fleet.Host
		own   []packet.Field // whose own address it is
	}{{packet.Outbound, r.To.Hosts, []packet.Field{packet.Src}}, {packet.Inbound, r.From.Hosts, []packet.Field{packet.Dst}},
		{packet.Forward, routers(r), nil}} {
		far := packet.All
		if end.dir == packet.Forward && end.hosts != nil {
			far = p.apart(r)
		}
		for _, h := range end.hosts {
			of := sp.AndAll(answers, far, sp.Crossing(end.dir))
			if end.dir == packet.Forward {
				of = sp.And(of, p.goingBack(r, h))
			}
			for _, own := range end.own {
				of = sp.And(of, sp.Addrs(own, h.Addresses()))
			}
			d, deciders := p.planner.Attributed(p.planner.Plan(h))
			refused := sp.And(of, sp.Where(d, func(o packet.Outcome) bool {
				return o.Refused() &&
					deciders[o.By-1].Kind != compile.ByLocal
			}))
			if refused == packet.Empty {
				continue
			}
			p.report(p.named(r.Pos, r.Name, "the answers of the guard %q are refused on %s %s: the ground's replies are not admitted "+
				"there, and %s refuses them",
				r.Name, h.Name, end.dir.String(), p.refuser(d, deciders, refused)).Hinted("leave `replies` on for that direction"))
			return
		}
	}
}

// goingBack is the answers of a rule that go by a router.
func (p *pass) goingBack(r *policy.Rule, h *fleet.Host) packet.Set {
	if policy.Routes(r.Through, h) {
		return packet.All
	}
	set := packet.Empty
	for i := range r.Spans {
		for _, c := range r.Spans[i].CarriedBy(h) {
			set = p.sp.Or(set, p.sp.And(p.sp.Addrs(packet.Src, c.To), p.sp.Addrs(packet.Dst, c.From)))
		}
	}
	return set
}

// apart is the answers of a rule between hosts that are on no segment together, or not both ours:
// the others have no need of a router.
func (p *pass) apart(r *policy.Rule) packet.Set {
	sp := p.sp
	set := sp.Or(sp.Addrs(packet.Dst, r.From.Outside()), sp.Addrs(packet.Src, r.To.Outside()))
	for _, from := range r.From.Hosts {
		p.budget.Check()
		var far netipx.IPSetBuilder
		for _, to := range r.To.Hosts {
			if !p.place(from).shares(p.place(to)) {
				to.AddAddresses(&far)
			}
		}
		addrs, _ := far.IPSet()
		set = sp.Or(set, sp.And(sp.Addrs(packet.Dst, from.Addresses()), sp.Addrs(packet.Src, addrs)))
	}
	return set
}

// blockable says that there is a block that could refuse some of a guard at one of its own
// ends. Only blocks can: no allow without a limit comes after another.
func (p *pass) blockable(r *policy.Rule) bool {
	mine := p.wide(r)
	for _, b := range p.rules() {
		if !b.Block || slices.Contains(r.Over, b) {
			continue
		}
		// The addresses of a side are not all of what a rule matches there, where it is delivered
		// to whatever address; the other side's are.
		other := p.wide(b)
		if p.sp.And(mine[0], other[0]) != packet.Empty || p.sp.And(mine[1], other[1]) != packet.Empty {
			return true
		}
	}
	return false
}

// refuser names what refuses packets by an attributed decision.
func (p *pass) refuser(d packet.Decision, deciders []compile.Decider, refused packet.Set) string {
	var names []string
	for _, o := range p.sp.Outcomes(p.sp.Only(d, refused)) {
		if o.Refused() {
			names = append(names, deciders[o.By-1].String())
		}
	}
	return strings.Join(names, ", ")
}
