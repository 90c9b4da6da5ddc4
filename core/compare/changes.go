package compare

import (
	"fmt"
	"math/big"
	"net/netip"
	"slices"
	"strings"

	"go4.org/netipx"

	"yellowfence.example/yfence/core/compile"
	"yellowfence.example/yfence/core/fence"
	"yellowfence.example/yfence/core/fleet"
	"yellowfence.example/yfence/core/packet"
	"yellowfence.example/yfence/core/policy"
	"yellowfence.example/yfence/core/say"
)

// Changes is all that two policies let through differently.
type Changes struct {
	Changes []Difference  `json:"changes" nullable:"false" doc:"one for each cause, the widest and most dangerous first"`
	Hosts   []HostChanges `json:"hosts" nullable:"false" doc:"the same by host"`
	Added   []string      `json:"added,omitempty" doc:"hosts that only the second fleet has"`
	Removed []string      `json:"removed,omitempty" doc:"hosts that only the first fleet has"`
	Guards  []string      `json:"guards,omitempty" doc:"guards that came, went, or hold for other packets on some host"`
	Expects []string      `json:"expects,omitempty" doc:"expectations that went, are off now, or say something else"`
	Written []string      `json:"written,omitempty" doc:"what statements say differently that is easily overlooked: that one is off, where it is on, what it goes through"`

	// Meaning stands for all of it: which packets fare differently on which host, and how; hosts,
	// guards and expectations that came or went. Changes with one meaning do the same.
	Meaning string `json:"meaning" doc:"the same for changes that do the same, however they are written"`
}

// HostChanges is what one host does differently.
type HostChanges struct {
	Host     string       `json:"host"`
	Findings []Difference `json:"findings" nullable:"false"`
}

// A Difference is one difference, on all hosts that have it.
type Difference struct {
	Kind      Kind          `json:"kind" enum:"opened,shut,altered"`
	Direction string        `json:"direction" enum:"in,out,through"`
	Traffic   string        `json:"traffic" doc:"what it is about, in the policy's own names"`
	Hosts     []string      `json:"hosts,omitempty" nullable:"false"`
	Packet    packet.Packet `json:"packet" doc:"a packet that shows it"`
	From      Fate          `json:"from" doc:"what became of it, and by what"`
	To        Fate          `json:"to" doc:"what becomes of it now, and by what"`
	Sentence  string        `json:"sentence"`
	Strangers bool          `json:"strangers,omitempty" doc:"strangers are among those at the other end"`

	width     int // everybody, a segment or network, less
	peers     *big.Int
	sensitive bool
}

// A Fate is what a policy does with packets, and the statement that says so.
type Fate struct {
	Published
	AtMost string `json:"at_most,omitempty" doc:"within which rate"`
	Logged bool   `json:"logged,omitempty"`
	As     string `json:"as,omitempty" doc:"how it is translated"`
}

// Manner says what is done: "admitted and logged at most 4 per 1m per source".
func (f Fate) Manner() string {
	s := f.Verdict
	if f.As != "" {
		s += ", " + f.As
	}
	if f.AtMost != "" {
		s += " at most " + f.AtMost
	}
	if f.Logged {
		s += " and logged"
	}
	return s
}

// Policies compares what two policies let through on every host that both their
// fleets have, for an instant in seconds since 1970.
func Policies(sp *packet.Space, from, to *policy.Policy, now int64) *Changes {
	sp.Since(now)
	out := &Changes{Changes: []Difference{}, Written: Written(from, to)}
	known := map[string]*fleet.Host{}
	for _, h := range from.Fleet.Hosts {
		known[h.Name] = h
	}
	// Hosts that are alike before and after are compared once: a pair of plans for each such class.
	type pair struct{ before, after *compile.Plan }
	plans := map[string]*pair{}
	groups := map[*pair][]*fleet.Host{}
	var order []*pair
	before, after := compile.NewPlanner(sp, from, now), compile.NewPlanner(sp, to, now)
	for _, h := range to.Fleet.Hosts {
		old := known[h.Name]
		if old == nil {
			out.Added = append(out.Added, h.Name)
			continue
		}
		delete(known, h.Name)
		class := before.Class(old) + "\n" + after.Class(h)
		p := plans[class]
		if p == nil {
			p = &pair{before.Plan(old), after.Plan(h)}
			plans[class] = p
			order = append(order, p)
		}
		groups[p] = append(groups[p], h)
	}
	for _, h := range from.Fleet.Hosts {
		if known[h.Name] != nil {
			out.Removed = append(out.Removed, h.Name)
		}
	}
	// What differs is found for each pair and told with all hosts of the class; changes of one cause
	// on several classes are one.
	c := &changing{sp: sp, to: to, names: say.NamesOf(to), guards: map[string]bool{}, of: packet.NewSums(sp)}
	for _, p := range order {
		c.plans(p.before, p.after, groups[p])
		c.guarded(p.before, p.after)
	}
	slices.Sort(c.guardNames)
	out.Guards = slices.Compact(c.guardNames)
	out.Expects = unexpected(from, to)
	out.Meaning = c.meaning(out, to.Fleet)
	// The most dangerous first, and where all else is the same, in an order that never changes.
	slices.SortStableFunc(c.found, func(a, b *change) int {
		for _, n := range []int{kindOrder[a.Kind] - kindOrder[b.Kind], a.width - b.width, boolean(b.sensitive) - boolean(a.sensitive),
			len(b.Hosts) - len(a.Hosts), strings.Compare(a.Direction, b.Direction), b.peers.Cmp(a.peers)} {
			if n != 0 {
				return n
			}
		}
		return strings.Compare(a.Traffic, b.Traffic)
	})
	for _, f := range c.found {
		slices.Sort(f.Hosts)
		f.Sentence = f.sentence()
		out.Changes = append(out.Changes, f.Difference)
	}
	out.Hosts = byHost(out.Changes)
	return out
}

// Only leaves the changes of one kind.
func (c *Changes) Only(kind Kind) {
	c.Changes = slices.DeleteFunc(c.Changes, func(f Difference) bool { return f.Kind != kind })
	c.Hosts = byHost(c.Changes)
}

// byHost is the changes by host, in the order of the hosts' names.
func byHost(changes []Difference) []HostChanges {
	out := []HostChanges{}
	index := map[string]int{}
	for _, c := range changes {
		alone := c
		alone.Hosts = nil
		for _, name := range c.Hosts {
			i, known := index[name]
			if !known {
				i = len(out)
				index[name] = i
				out = append(out, HostChanges{Host: name})
			}
			out[i].Findings = append(out[i].Findings, alone)
		}
	}
	slices.SortFunc(out, func(a, b HostChanges) int { return strings.Compare(a.Host, b.Host) })
	return out
}

// boolean is 1 for yes, to order by it.
func boolean(b bool) int {
	if b {
		return 1
	}
	return 0
}

// changing collects the differences of plans.
type changing struct {
	sp         *packet.Space
	to         *policy.Policy
	names      *say.Names
	found      []*change
	guards     map[string]bool // that differ, each with what it was and is
	guardNames []string
	sums       []string // of what each host did and does
	of         *packet.Sums
}

// change is a difference whose packets are still known, so that the same of other hosts joins
// it.
type change struct {
	Difference
	set packet.Set
}

// plans compares the plans of hosts that are alike before and after.
func (c *changing) plans(before, after *compile.Plan, hosts []*fleet.Host) {
	sp := c.sp
	was, is := before.Decision(sp), after.Decision(sp)
	if was == is {
		return
	}
	for _, h := range hosts {
		c.sums = append(c.sums, fmt.Sprintf("%s %x %x", h.Name, c.of.Of(was), c.of.Of(is)))
	}
	wasBy, wasDeciders := before.Attributed(sp)
	isBy, isDeciders := after.Attributed(sp)
	wasBy, isBy = sp.WithinLimits(wasBy), sp.WithinLimits(isBy)
	admitted := func(o packet.Outcome) bool { return o.Verdict == packet.Admit }
	did, does := sp.Where(sp.WithinLimits(was), admitted), sp.Where(sp.WithinLimits(is), admitted)
	opened, shut := sp.And(sp.Minus(does, did), sp.WellFormed()), sp.Minus(did, does)
	altered := sp.Minus(sp.AnyRoom(sp.Differ(was, is)), sp.Or(opened, shut))
	mention := c.mention(before, after)
	for kind, region := range map[Kind]packet.Set{Opened: opened, Shut: shut, Altered: altered} {
		if fresh := sp.And(region, mention); fresh != packet.Empty {
			region = fresh
		}
		for _, old := range sp.Outcomes(sp.Only(wasBy, region)) {
			part := sp.And(region, sp.Where(wasBy, func(o packet.Outcome) bool { return o == old }))
			for _, now := range sp.Outcomes(sp.Only(isBy, part)) {
				set := sp.And(part, sp.Where(isBy, func(o packet.Outcome) bool { return o == now }))
				for _, direction := range packet.Directions {
					if here := sp.And(set, sp.Crossing(direction)); here != packet.Empty {
						c.add(kind, direction, here, mention, side(old, wasDeciders), side(now, isDeciders), hosts)
					}
				}
			}
		}
	}
}

// guarded finds the guards in which two plans differ, also where other rules admit the same.
func (c *changing) guarded(before, after *compile.Plan) {
	was, is := c.guardsOf(before), c.guardsOf(after)
	for _, names := range []map[string]string{was, is} {
		for name := range names {
			if was[name] != is[name] && !c.guards[name+was[name]+is[name]] {
				c.guards[name+was[name]+is[name]] = true
				c.sums = append(c.sums, fmt.Sprintf("guard %s %s %s", name, was[name], is[name]))
				c.guardNames = append(c.guardNames, name)
			}
		}
	}
}

// guardsOf are the guards of a plan, each with the sum of the packets that it holds for.
func (c *changing) guardsOf(p *compile.Plan) map[string]string {
	out := map[string]string{}
	for _, chain := range p.Chains {
		for i := range chain.Rules {
			if r := &chain.Rules[i]; r.Rule != nil && r.Rule.Guard {
				out[r.Rule.Name] += fmt.Sprintf("%s %x;", chain.Direction.Word(), c.of.OfSet(r.Match.Set(c.sp, chain.Direction)))
			}
		}
	}
	return out
}

// mention is what a sentence is about where it can be: new packets with honest
// sources, not over loopback.
func (c *changing) mention(plans ...*compile.Plan) packet.Set {
	s := c.sp.And(c.sp.Value(packet.State, packet.New), c.sp.Typical())
	for _, p := range plans {
		for _, chain := range p.Chains {
			for _, r := range chain.Rules {
				if r.Kind == compile.ByLocal || r.Kind == compile.ByGround && r.Name == fence.PartLoopback {
					s = c.sp.Minus(s, r.Match.Set(c.sp, chain.Direction))
				}
			}
		}
	}
	return s
}

// side is what one policy does, as an answer says it, by the outcome's decider.
func side(o packet.Outcome, deciders []compile.Decider) Fate {
	by := deciders[o.By-1]
	p := Fate{Published: Published{Verdict: o.Verdict.String(), By: by.String()}, Logged: o.Logged}
	if o.Verdict == packet.Admit {
		p.As = o.Translated.String()
	}
	if by.Rule != nil && by.Rule.AtMost != nil && o.Verdict == packet.Admit {
		rate := by.Rule.AtMost
		p.AtMost = rate.String()
		if rate.PerSource {
			p.AtMost += " per source"
		}
	}
	if by.Pos.Line > 0 {
		p.At = by.Pos.String()
	}
	return p
}

// add joins a difference to the same of other hosts.
func (c *changing) add(kind Kind, direction packet.Direction, set, mention packet.Set, from, to Fate, hosts []*fleet.Host) {
	sp := c.sp
	for _, f := range c.found {
		if f.Kind == kind && f.Direction == direction.Word() && f.From == from && f.To == to && f.set == set {
			for _, h := range hosts {
				f.Hosts = append(f.Hosts, h.Name)
			}
			return
		}
	}
	f := &change{set: set, Difference: Difference{Kind: kind, Direction: direction.Word(), From: from, To: to}}
	for _, h := range hosts {
		f.Hosts = append(f.Hosts, h.Name)
	}
	care := sp.AndAll(sp.WellFormed(), sp.Crossing(direction), mention)
	if sp.And(set, care) == packet.Empty { // it is about nothing else
		care = sp.And(sp.WellFormed(), sp.Crossing(direction))
	}
	said := addressed(sp, sp.Simplify(set, care), sp.And(set, care))
	f.Traffic = c.names.Traffic(sp, said, direction).String()
	f.Packet = c.example(set, direction, hosts[0])
	peer := packet.Src
	if direction == packet.Outbound {
		peer = packet.Dst
	}
	f.width, f.peers = c.width(set, peer)
	f.sensitive = c.sensitive(set)
	f.Strangers = sp.And(sp.And(set, care), sp.Addrs(peer, c.to.Strangers)) != packet.Empty
	c.found = append(c.found, f)
}

// width tells everybody (0) from a whole segment or a large network (1) and less
// (2), with how many peers there are.
func (c *changing) width(set packet.Set, peer packet.Field) (width int, peers *big.Int) {
	sp := c.sp
	all := sp.ProjectOnto(set, packet.Family, peer)
	peers = new(big.Int)
	for family, most := range []uint{packet.IPv4: 31, packet.IPv6: 100} {
		n := sp.Count(sp.And(all, sp.Value(packet.Family, family)), packet.Family, peer)
		if peers.Add(peers, n); n.BitLen() > int(most) {
			return 0, peers
		}
	}
	for _, seg := range c.to.Segments() {
		if sp.Within(sp.Addrs(peer, seg.Addrs), all) {
			return 1, peers
		}
	}
	return 2, peers
}

// sensitive says that log-in, databases, caches or management are among it.
func (c *changing) sensitive(set packet.Set) bool {
	for _, s := range policy.Sensitive {
		if c.sp.And(set, c.sp.And(c.sp.Value(packet.Protocol, s.Protocol), c.sp.Value(packet.DstPort, s.Port))) != packet.Empty {
			return true
		}
	}
	return false
}

// example is a packet that shows a difference on a host.
func (c *changing) example(set packet.Set, direction packet.Direction, h *fleet.Host) packet.Packet {
	here, iface := packet.Dst, packet.InIface
	if direction == packet.Outbound {
		here, iface = packet.Src, packet.OutIface
	}
	taste := packet.Preferences{}
	var own []netip.Addr
	for _, i := range h.Interfaces {
		taste.LikesInterfaces(iface, i.Name)
		for _, p := range i.Addresses {
			own = append(own, p.Addr())
		}
	}
	taste.Prefer(here, own...)
	for _, i := range h.Interfaces { // by an interface of the host's, to the address it has there
		for _, p := range i.Addresses {
			var b netipx.IPSetBuilder
			b.Add(p.Addr())
			mine, _ := b.IPSet()
			if p, ok := c.sp.Example(c.sp.AndAll(set, c.sp.Interfaces(iface, i.Name), c.sp.Addrs(here, mine)), taste); ok {
				return p
			}
		}
	}
	p, _ := c.sp.Example(set, taste)
	return p
}

// sentence says a change as one would to a colleague.
func (f *change) sentence() string {
	what := map[Kind]string{Opened: "newly ", Shut: "no longer ", Altered: ""}[f.Kind]
	direction, _ := packet.DirectionOf(f.Direction)
	passes := say.Passes(direction)
	if f.Kind == Altered && f.From.As == "" && f.To.As != "" {
		return fmt.Sprintf("%s is %s, and was %s as it is.", f.Traffic, f.To.Manner(), f.From.Manner())
	}
	if f.Kind == Altered && f.From.As != "" && f.To.As == "" {
		return fmt.Sprintf("%s is %s as it is, and was %s.", f.Traffic, f.To.Manner(), f.From.Manner())
	}
	if f.Kind == Opened && f.To.As != "" {
		return fmt.Sprintf("%s %s%s, %s.", f.Traffic, what, passes, f.To.As)
	}
	if f.Kind == Altered {
		return fmt.Sprintf("%s is %s, and was %s.", f.Traffic, f.To.Manner(), f.From.Manner())
	}
	return fmt.Sprintf("%s %s%s.", f.Traffic, what, passes)
}
