package compile

import (
	"strings"

	"yellowfence.example/yfence/core/fleet"
	"yellowfence.example/yfence/core/packet"
	"yellowfence.example/yfence/core/policy"
)

// Classes tells which hosts of a policy have the same plan but for their names. It may be used
// by several goroutines at once.
type Classes struct {
	pol   *policy.Policy
	alone map[*fleet.Host]bool // of which the policy speaks by their own name or addresses
}

// ClassesOf gives the classes of a policy's hosts, in time linear in its rules and hosts.
func ClassesOf(pol *policy.Policy) *Classes {
	c := &Classes{pol, map[*fleet.Host]bool{}}
	byName := pol.Fleet.Index()
	add := func(s *policy.Side) {
		for h := range s.At {
			c.alone[h] = true
		}
		for _, ref := range s.Refs {
			if h := byName[ref]; h != nil {
				c.alone[h] = true
			}
		}
	}
	for _, r := range pol.Rules {
		for _, s := range r.Spans {
			add(s.From)
			add(s.To)
		}
	}
	return c
}

// Of names a host's class: what its plan depends on. That is its roles, which interface is on
// which segment, what it leaves to others, and its name where the policy speaks of it alone.
func (c *Classes) Of(h *fleet.Host) string {
	var b strings.Builder
	b.WriteString(strings.Join(h.Roles, " "))
	for _, seg := range c.pol.Networks {
		if seg.Segment {
			if on := h.On(seg.Name, seg.Addrs); on != nil {
				b.WriteString("|" + seg.Name + ":" + strings.Join(on, ","))
			}
		}
	}
	for i := range c.pol.Leaves {
		if l := &c.pol.Leaves[i]; l.Concerns(h) {
			b.WriteString("|leave " + l.Name)
		}
	}
	alone := c.alone[h]
	for _, r := range c.pol.Redirects {
		alone = alone || r.On(h)
	}
	for _, m := range c.pol.Masquerades {
		alone = alone || m.On(h) || m.Behind(m.From.Addrs, h) // which of its own addresses are reached, it alone knows
	}
	if h.Others() {
		b.WriteString("|others")
	}
	if alone {
		b.WriteString("|" + h.Name)
	}
	return b.String()
}

// A Planner makes the plans of a policy's hosts, once for each class of them. It is for one
// goroutine, as its Space is.
type Planner struct {
	sp      *packet.Space
	pol     *policy.Policy
	now     int64
	classes *Classes

	// worked out so far
	class      map[*fleet.Host]string
	plans      map[string]*Plan
	attributed map[*Plan]attribution
}

// attribution is what Plan.Attributed gave.
type attribution struct {
	decision packet.Decision
	deciders []Decider
}

// NewPlanner makes a Planner for an instant in seconds since 1970: rules that have ended by
// then do not count.
func NewPlanner(sp *packet.Space, pol *policy.Policy, now int64) *Planner {
	return &Planner{sp: sp, pol: pol, now: now, classes: ClassesOf(pol),
		class: map[*fleet.Host]string{}, plans: map[string]*Plan{}, attributed: map[*Plan]attribution{}}
}

// Class names a host's class, as Classes.Of does: two hosts of a class differ in their names
// and addresses alone, where no rule tells them apart.
func (p *Planner) Class(h *fleet.Host) string {
	class, ok := p.class[h]
	if !ok {
		class = p.classes.Of(h)
		p.class[h] = class
	}
	return class
}

// Plan is the plan of a host, or of another of its class, which is the same but for its name.
// It is made once.
func (p *Planner) Plan(h *fleet.Host) *Plan {
	class := p.Class(h)
	plan := p.plans[class]
	if plan == nil {
		plan = ForHost(p.sp, p.pol, h, p.now)
		p.plans[class] = plan
	}
	return plan
}

// Attributed is the decision of a plan with who decides, as Plan.Attributed gives it.
func (p *Planner) Attributed(plan *Plan) (packet.Decision, []Decider) {
	a, ok := p.attributed[plan]
	if !ok {
		a.decision, a.deciders = plan.Attributed(p.sp)
		p.attributed[plan] = a
	}
	return a.decision, a.deciders
}
