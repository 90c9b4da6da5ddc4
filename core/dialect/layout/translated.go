package layout

import (
	"slices"

	"go4.org/netipx"

	"yellowfence.example/yfence/core/compile"
	"yellowfence.example/yfence/core/kernel"
	"yellowfence.example/yfence/core/packet"
	"yellowfence.example/yfence/core/policy"
)

// redirected lays out what decides about packets that were redirected: the rules of
// the direction they came in, by the destination that they came with. In its chain's
// head it stands before all rules, which speak of what packets have now.
func (w *liner) redirected(plan *compile.Plan) {
	chainOf := func(d packet.Direction) *compile.Chain {
		for i := range plan.Chains {
			if plan.Chains[i].Direction == d {
				return &plan.Chains[i]
			}
		}
		return nil
	}
	heads := map[*Chain][]Line{}
	for i := range plan.Translations {
		t := &plan.Translations[i]
		if t.Masquerade {
			continue
		}
		w.dir = t.Passes()
		at := slices.IndexFunc(w.out, func(c *Chain) bool { return c.Of != nil && c.Direction == w.dir })
		if at < 0 { // nothing is filtered there, as it came or as it goes
			continue
		}
		head := w.out[at]
		rules := chainOf(t.Direction)
		enter := step{do: kernel.Accept}
		if rules != nil && (t.Direction != packet.Forward || rules.Stance.Closed || len(rules.Rules) > 0) {
			helper := w.helper(w.dir.String() + "-" + t.Name)
			enter = jump(helper)
			w.copied(helper, rules, t)
		}
		// What it asks of the packet is asked as it came; the port it has now.
		m := t.Match
		m.Terms = slices.Clone(m.Terms)
		port := m.Terms[0].Ports.Lo
		m.Terms[0].Ports = packet.PortRange{Lo: t.Port, Hi: t.Port}
		if t.Direction == packet.Forward && len(packet.Without(packet.Everything(),
			packet.Union(orAll(m.To), packet.Union(plan.Host.Addresses(),
				packet.Union(packet.Loopback, plan.Host.Broadcast())))).Ranges()) == 0 {
			m.To = nil // what it gave away of its own was asked for before
		}
		w.came = true
		entry := &Chain{}
		w.lines(entry, compile.Rule{Decider: t.Decider}, m, w.Family, enter)
		w.came = false
		for _, l := range entry.Lines {
			if _, ok := t.To(l.Family); l.Family != policy.AnyFamily && !ok {
				continue
			}
			l.Translated, l.OriginalPort, l.OriginalDst = true, port, l.Dst != nil
			heads[head] = append(heads[head], l)
		}
	}
	for c, lines := range heads {
		c.Lines = append(lines, c.Lines...)
	}
}

// orAll is a set of addresses where nil stands for all.
func orAll(s *netipx.IPSet) *netipx.IPSet {
	if s == nil {
		return packet.Everything()
	}
	return s
}

// copied fills a chain with those of a direction's rules that speak of a redirect's
// service, for packets that are known to be of it.
func (w *liner) copied(helper *Chain, rules *compile.Chain, t *compile.Translation) {
	speaks := func(m *compile.Match) bool {
		if m.Leaving { // what it takes to itself leaves by no interface, and what is sent on by none that a rule names
			return false
		}
		if m.Terms == nil {
			return true
		}
		for _, term := range m.Terms {
			if asked := t.Match.Terms[0]; term.Has(asked.Protocol, asked.Ports.Lo) { // of a redirect it is one port
				m.Terms = nil
				return true
			}
		}
		return false
	}
	w.came = true
	if rules.Trial != nil {
		w.admit = w.trial(helper.Name, rules.Trial, speaks)
	}
	for _, r := range rules.Rules {
		several := asksOnce(r)
		if said(&r, speaks) {
			w.rule(helper, r, several)
		}
	}
	w.came, w.admit = false, nil
	end := step{do: kernel.Accept}
	if rules.Stance.Closed {
		end.do = kernel.Drop
	}
	if !rules.Stance.Closed || rules.Stance.RefuseBy == packet.Drop {
		stance := compile.Decider{Kind: compile.ByStance, Name: rules.Direction.String() + " open"}
		if rules.Stance.Closed {
			stance.Name = rules.Direction.String() + " closed"
		}
		w.lines(helper, compile.Rule{Decider: stance}, compile.Match{}, w.Family, end)
	}
}

// translating lays out the chains that translate.
func (w *liner) translating(plan *compile.Plan) {
	chains := map[string]*Chain{}
	into := func(hook, name string) *Chain {
		if chains[hook] == nil {
			chains[hook] = &Chain{Name: name, Direction: compile.Anywhere, Hook: hook}
			w.out = append(w.out, chains[hook])
		}
		return chains[hook]
	}
	w.dir = compile.Anywhere
	for i := range plan.Translations {
		t := &plan.Translations[i]
		r := compile.Rule{Decider: t.Decider}
		if t.Masquerade {
			w.lines(into("postrouting", "masquerades"), r, t.Match, w.Family, step{do: kernel.SourceNAT})
			continue
		}
		c := into("prerouting", "redirects")
		for _, family := range []int{packet.IPv4, packet.IPv6} {
			to, ok := t.To(family)
			if !ok || w.Family != policy.AnyFamily && w.Family != family {
				continue
			}
			s := step{do: kernel.Redirect}
			if to.IsValid() {
				s.do = kernel.DestinationNAT
			}
			first := len(c.Lines)
			w.lines(c, r, t.Match, family, s)
			for k := range c.Lines[first:] {
				c.Lines[first+k].To, c.Lines[first+k].Port = to, t.Port
			}
		}
	}
}

// track makes the kernel track connections where no rule of ours asks for them:
// it then puts fragments together, and no piece passes as what it is not.
func (w *liner) track() {
	for _, c := range w.out {
		if slices.ContainsFunc(c.Lines, func(l Line) bool { return l.States != nil }) {
			return
		}
	}
	for _, c := range w.out {
		if c.Of != nil {
			all := Line{Box: anything(w.Family), Note: "fragments are put together", Action: kernel.Pass}
			all.States = []int{packet.Untracked}
			c.Lines = append([]Line{all}, c.Lines...)
			return
		}
	}
}
