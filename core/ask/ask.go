// Package ask answers what becomes of traffic: by a policy, at both of its ends,
// or by what one kernel has in force. An answer is for every packet the question
// speaks of.
package ask

import (
	"slices"
	"strconv"
	"strings"
	"sync"

	"yellowfence.example/yfence/core/compare"
	"yellowfence.example/yfence/core/fence"
	"yellowfence.example/yfence/core/fleet"
	"yellowfence.example/yfence/core/kernel"
	"yellowfence.example/yfence/core/packet"
	"yellowfence.example/yfence/core/policy"
	"yellowfence.example/yfence/core/reach"
	"yellowfence.example/yfence/core/source"
)

// The verdicts of an answer, besides those of packets.
const (
	Mixed     = "mixed"     // some fare so and some otherwise
	Uncertain = "uncertain" // it depends on what was not understood
)

// An Answer is what becomes of all packets a question speaks of.
type Answer struct {
	Verdict  string    `json:"verdict" enum:"admitted,dropped,rejected,mixed,uncertain"`
	Steps    []Step    `json:"steps" nullable:"false" doc:"who decides at each end"`
	Examples []Example `json:"examples" nullable:"false" doc:"one for each verdict that some of the packets have"`
	Unread   []string  `json:"unread,omitempty" doc:"what was not understood and could change the answer"`
	Hosts    []string  `json:"-"` // of the fleet whose rules decide
	Assumed  string    `json:"assumed,omitempty" doc:"what neither the question nor the dumps say, and the answer goes by"`
}

// A Step is what one end does with packets that a question speaks of.
type Step struct {
	Where   string `json:"where" doc:"hosts and direction"`
	Verdict string `json:"verdict" enum:"admitted,dropped,rejected,uncertain"`
	AtMost  string `json:"at_most,omitempty" doc:"within which rate"`
	As      string `json:"as,omitempty" doc:"how it is translated"`
	Trial   string `json:"trial,omitempty" doc:"what would refuse some of it, if it were not on trial"`
	By      string `json:"by" doc:"the rule that decides, a part of the ground, or the stance"`
	At      string `json:"at,omitempty" doc:"where that stands"`
}

// An Example is a packet that fares in one of the ways, and what else does.
type Example struct {
	Verdict string        `json:"verdict" enum:"admitted,dropped,rejected,uncertain"`
	Traffic string        `json:"traffic" doc:"all that fares so, in the policy's own names"`
	Packet  packet.Packet `json:"packet"`
}

// manyHosts is from how many hosts on a question is answered by what speaks of it alone.
const manyHosts = 500

// verdicts are told in this order.
var verdicts = []packet.Verdict{packet.Admit, packet.Reject, packet.Drop}

// asked is a question with its sides resolved.
type asked struct {
	sp       *packet.Space
	q        *fence.Question
	names    *compare.Names
	from, to policy.Side
	terms    []policy.Term
	now      int64
	dumped   bool // it is asked of a dump
	roles    []*policy.Role

	fares  map[packet.Verdict]packet.Set // what surely fares so
	unsure packet.Set
	unread []string
	steps  []*step

	unasked packet.Set // what single hosts say to themselves
}

type step struct {
	Step
	who       []reach.Party
	direction packet.Direction
}

// resolve looks a question's names up, in pol's words.
func resolve(sp *packet.Space, pol *policy.Policy, names *compare.Names, q *fence.Question, now int64) (*asked, []source.Problem) {
	a := &asked{sp: sp, q: q, roles: pol.Roles, names: names, now: now, fares: map[packet.Verdict]packet.Set{}}
	var problems []source.Problem
	a.from, a.to, a.terms, problems = pol.Ask(q)
	return a, problems
}

// spoken is the packets of a question but for addresses and interfaces.
func (a *asked) spoken(r *reach.Reach) packet.Set {
	sp, q := a.sp, a.q
	s := sp.AndAll(r.Services(a.terms), sp.Typical(), sp.Value(packet.State, slices.Index(packet.StateNames, q.State)), sp.Minus(sp.Before(a.now+1), sp.Before(a.now)))
	if q.SrcPort != nil {
		s = sp.And(s, sp.Range(packet.SrcPort, q.SrcPort.Lo, q.SrcPort.Hi))
	}
	if q.User != "" {
		s = sp.And(s, sp.Named(packet.User, userOf(q.User)))
	}
	if q.Unit != "" {
		s = sp.And(s, sp.Named(packet.Unit, q.Unit))
	}
	if q.Encrypted {
		s = sp.And(s, sp.Value(packet.IPsec, 1))
	}
	return s
}

// userOf is a user as rules that were read name it: by its number, where nobody told the name.
func userOf(said string) string {
	switch n, err := strconv.Atoi(said); {
	case err != nil:
		return said
	case n == 0:
		return "root"
	}
	return "user number " + said
}

// An Asker answers questions of one policy. It keeps what it has worked out, so
// that the next answer comes quickly. Many may ask it at the same time.
type Asker struct {
	pol   *policy.Policy
	names *compare.Names // never changes

	mu    sync.Mutex
	sp    *packet.Space
	r     *reach.Reach
	since int64 // the instant sp is for, and what follows
}

// NewAsker makes an Asker.
func NewAsker(pol *policy.Policy) *Asker { return &Asker{pol: pol, names: compare.NamesOf(pol)} }

// kept is how large a Space an Asker keeps, in edges.
const kept = 1_500_000

// fresh makes a Space anew where the old one is too large, or a rule has ended since.
func (k *Asker) fresh(now int64) {
	ended := false
	for _, r := range k.pol.Rules {
		ended = ended || r.InForce(k.since) != r.InForce(now)
	}
	if k.sp == nil || ended || now < k.since || k.sp.Size() > kept {
		k.sp = packet.NewSpace()
		k.sp.Since(now)
		k.r, k.since = reach.New(k.sp, k.pol, now), now
	}
}

// Policy answers by what a policy means at both ends, for an instant in seconds
// since 1970. The problems are about the question.
func (k *Asker) Policy(q *fence.Question, now int64) (*Answer, []source.Problem) {
	answer, problems, _ := k.PolicyWithin(packet.Budget{}, q, now) // without a budget nothing ends it
	return answer, problems
}

// PolicyWithin is Policy within a budget. The error says that it did not suffice, or why the
// work was to end.
func (k *Asker) PolicyWithin(b packet.Budget, q *fence.Question, now int64) (answer *Answer, problems []source.Problem, err error) {
	k.mu.Lock()
	defer k.mu.Unlock()
	err = packet.Try(func() {
		k.fresh(now)
		if b.Edges > 0 {
			k.sp.Bound(k.sp.Size() + b.Edges)
		}
		k.sp.Halt(b.Halt)
		answer, problems = k.policy(q, now)
	})
	if err != nil {
		k.sp = nil // it was left in the middle of something
		return nil, nil, err
	}
	k.sp.Bound(0)
	k.sp.Halt(nil)
	return answer, problems, nil
}

func (k *Asker) policy(q *fence.Question, now int64) (*Answer, []source.Problem) {
	a, problems := resolve(k.sp, k.pol, k.names, q, now)
	if problems != nil {
		return nil, problems
	}
	r := k.r
	spoken := a.spoken(r)
	if len(k.pol.Fleet.Hosts) > manyHosts { // else what was worked out for other questions is worth more
		r = r.About(spoken)
	}
	senders, receivers := r.Parties(a.from), r.Parties(a.to)
	if problems = a.ends(senders, receivers); problems != nil {
		return nil, problems
	}
	senders, receivers = r.Alike(senders, receivers, packet.Outbound, spoken), r.Alike(receivers, senders, packet.Inbound, spoken)
	ours := false
	for _, from := range senders {
		for _, to := range receivers {
			ours = ours || from.Ours() || to.Ours() || slices.ContainsFunc(r.Routes(), func(route reach.Route) bool {
				return k.sp.AndAll(spoken, r.Addressed(from, to), route.Packets) != packet.Empty
			})
			if itself(from, to) && len(senders)+len(receivers) > 2 {
				a.unasked = k.sp.Or(a.unasked, k.sp.And(spoken, r.Addressed(from, to)))
				continue // what each host says to itself is not asked
			}
			a.between(r, from, to, spoken)
		}
	}
	if !ours {
		return nil, []source.Problem{source.Errorf(a.q.From.Pos, 1, "question", "neither %s nor %s is ours: no host of the fleet decides", a.from.Text, a.to.Text).
			Hinted("name a host or a role of the fleet on one side")}
	}
	if len(a.steps) == 0 && a.q.Direction == "through" {
		return nil, []source.Problem{source.Errorf(a.q.From.Pos, 1, "question", "no rule in force says through which routers %s goes to %s", a.from.Text, a.to.Text).
			Hinted("say it in the policy, as in `through ROLE`, or ask a router's own rules: --dump FILE")}
	}
	return a.answer(), nil
}

// ends says what is wrong with a question whose ends are nobody's.
func (a *asked) ends(senders, receivers []reach.Party) []source.Problem {
	wrong := func(p source.Pos, hint, format string, args ...any) []source.Problem {
		return []source.Problem{source.Errorf(p, 1, "question", format, args...).Hinted("%s", hint)}
	}
	switch { // an address may be a host's too
	case a.q.Direction == "in" && !slices.ContainsFunc(receivers, reach.Party.Ours):
		return wrong(a.q.To.Pos, "name a host or a role of the fleet, or the address of one", "nothing comes in at %s, which is no host of ours", a.to.Text)
	case a.q.Direction == "out" && !slices.ContainsFunc(senders, reach.Party.Ours):
		return wrong(a.q.From.Pos, "name a host or a role of the fleet, or the address of one", "nothing goes out at %s, which is no host of ours", a.from.Text)
	}
	return nil
}

func (a *asked) between(r *reach.Reach, from, to reach.Party, spoken packet.Set) {
	sp, q := a.sp, a.q
	here := sp.And(spoken, r.Addressed(from, to))
	switch {
	case q.In != "" || q.Out != "":
		for field, name := range map[packet.Field]string{packet.InIface: q.In, packet.OutIface: q.Out} {
			if name != "" {
				here = sp.And(here, sp.Interfaces(field, name))
			}
		}
	case itself(from, to):
		here = sp.AndAll(here, sp.Interfaces(packet.InIface, "lo"), sp.Interfaces(packet.OutIface, "lo")) // a host and itself
	default:
		here = sp.And(here, r.Expected(from, to))
	}
	if here == packet.Empty {
		return
	}
	d := r.Between(from, to)
	switch q.Direction {
	case "in":
		d = r.End(to, packet.Inbound)
	case "out":
		d = r.End(from, packet.Outbound)
	}
	routes := slices.DeleteFunc(slices.Clone(r.Routes()), func(route reach.Route) bool { return sp.And(here, route.Packets) == packet.Empty })
	if q.Direction == "through" {
		routed := packet.Empty
		for _, route := range routes {
			routed = sp.Or(routed, route.Packets)
		}
		d, here = r.Forwarded(q.In, q.Out), sp.And(here, routed)
	}
	if here == packet.Empty {
		return
	}
	a.count(d, here)
	if from.Ours() && (q.Direction == "" || q.Direction == "out") {
		a.tell(r, from, packet.Outbound, here)
	}
	if q.Direction == "" || q.Direction == "through" {
		for _, route := range routes {
			for _, router := range route.Routers {
				d := r.End(router, packet.Forward)
				if q.Direction == "through" {
					d = r.Forwards(router, q.In, q.Out)
				}
				a.tellOf(r, router, packet.Forward, d, sp.And(here, route.Packets))
			}
		}
	}
	arriving := here
	if q.Direction == "" {
		for _, redirect := range r.Redirects() {
			if redirect.Intercepts() {
				arriving = sp.Minus(arriving, redirect.Packets)
			}
			for _, t := range redirect.Targets {
				a.tellOf(r, t.Party, packet.Inbound, t.Decision, sp.And(here, redirect.Packets))
			}
		}
	}
	if to.Ours() && (q.Direction == "" || q.Direction == "in") {
		a.tell(r, to, packet.Inbound, arriving)
	}
}

// itself says that two parties are one and the same host.
func itself(from, to reach.Party) bool {
	return len(from.Hosts) == 1 && len(to.Hosts) == 1 && from.Hosts[0] == to.Hosts[0]
}

// count adds what becomes of packets to what is known.
func (a *asked) count(d packet.Decision, here packet.Set) {
	sp := a.sp
	d = sp.WithinLimits(d)
	left := here
	for _, v := range verdicts {
		where := sp.Where(d, func(o packet.Outcome) bool { return o.Verdict == v })
		sure := sp.And(here, sp.Certain(where))
		a.fares[v] = sp.Or(a.fares[v], sure)
		left = sp.Minus(left, sure)
		if sp.And(here, sp.Minus(sp.Possible(where), sp.Certain(where))) != packet.Empty {
			for _, name := range sp.UnknownsOf(sp.And(where, here)) {
				if !slices.Contains(a.unread, name) {
					a.unread = append(a.unread, name)
				}
			}
		}
	}
	a.unsure = sp.Or(a.unsure, left)
}

// tell notes who decides at one end.
func (a *asked) tell(r *reach.Reach, p reach.Party, dir packet.Direction, here packet.Set) {
	a.tellOf(r, p, dir, r.End(p, dir), here)
}

// tellOf is tell of a decision.
func (a *asked) tellOf(r *reach.Reach, p reach.Party, dir packet.Direction, d packet.Decision, here packet.Set) {
	part := a.sp.Only(d, here)
	would, on := r.Tried(p, dir)
	for _, o := range a.sp.Outcomes(a.sp.WithinLimits(part)) {
		by, ok := r.Decider(o.By)
		if !ok {
			continue
		}
		s := Step{Verdict: o.Verdict.String(), By: by.String()}
		if by.Pos.Line > 0 {
			s.At = by.Pos.String()
		}
		if o.Verdict == packet.Admit {
			s.As = o.With
		}
		if rule := by.Rule; rule != nil && o.Verdict == packet.Admit {
			s.AtMost = rates(a.sp, a.sp.Where(part, func(p packet.Outcome) bool { return p.Verdict == packet.Admit && p.By == o.By }))
		}
		if o.Verdict == packet.Admit && on {
			s.Trial = a.refusing(r, a.sp.Only(would, a.sp.Where(part, func(p packet.Outcome) bool { return p.Verdict == packet.Admit && p.By == o.By })))
		}
		a.note(s, dir, p)
	}
}

// refusing names who refuses by a decision.
func (a *asked) refusing(r *reach.Reach, d packet.Decision) string {
	var names []string
	for _, o := range a.sp.Outcomes(d) {
		if by, ok := r.Decider(o.By); ok && o.Refused() && !slices.Contains(names, by.String()) {
			names = append(names, by.String())
		}
	}
	return strings.Join(names, ", ")
}

func rates(sp *packet.Space, s packet.Set) string {
	var said []string
	for _, b := range packet.Buckets(sp, s) {
		if rate := b.String(); !strings.Contains(b.Name, ".log.") && !slices.Contains(said, rate) {
			said = append(said, rate)
		}
	}
	return strings.Join(said, " and ")
}

func (a *asked) note(s Step, direction packet.Direction, who ...reach.Party) {
	for _, before := range a.steps {
		if before.Step == s && before.direction == direction {
			before.who = append(before.who, who...)
			return
		}
	}
	a.steps = append(a.steps, &step{Step: s, who: who, direction: direction})
}

// labels names who decides: roles whose hosts all do, and of the others some of each party.
func labels(roles []*policy.Role, parties []reach.Party) string {
	const most = 3
	all, told := map[*fleet.Host]bool{}, map[*fleet.Host]bool{}
	for _, p := range parties {
		for _, h := range p.Hosts {
			all[h] = true
		}
	}
	whole := func(h *fleet.Host) *policy.Role {
		for _, role := range roles {
			if len(role.Hosts) > 1 && slices.Contains(role.Hosts, h) && !slices.ContainsFunc(role.Hosts, func(o *fleet.Host) bool { return !all[o] }) {
				return role
			}
		}
		return nil
	}
	var names []string
	for _, p := range parties {
		alone := 0
		for _, h := range p.Hosts {
			if told[h] {
				continue
			}
			if role := whole(h); role != nil {
				names = append(names, role.Name)
				for _, o := range role.Hosts {
					told[o] = true
				}
				continue
			}
			if alone++; alone <= most {
				names = append(names, h.Name)
			}
			told[h] = true
		}
		if alone > most {
			names[len(names)-1] += " and others"
		}
	}
	return strings.Join(names, ", ")
}

// answer sums up.
func (a *asked) answer() *Answer {
	out := &Answer{Steps: []Step{}, Examples: []Example{}, Unread: a.unread}
	order := []int{packet.Out: 0, packet.Through: 1, packet.In: 2} // what leaves, what is forwarded, what arrives
	slices.SortStableFunc(a.steps, func(s, t *step) int { return order[s.direction] - order[t.direction] })
	for _, s := range a.steps {
		s.Where = strings.TrimSpace(labels(a.roles, s.who) + " " + directionWords[s.direction])
		out.Steps = append(out.Steps, s.Step)
		for _, p := range s.who {
			for _, h := range p.Hosts {
				out.Hosts = append(out.Hosts, h.Name)
			}
		}
	}
	slices.Sort(out.Hosts)
	out.Hosts = slices.Compact(out.Hosts)
	for _, v := range verdicts {
		if set := a.fares[v]; set != packet.Empty {
			out.Verdict = v.String()
			out.Examples = append(out.Examples, a.example(v.String(), set))
		}
	}
	if len(out.Examples) > 1 {
		out.Verdict = Mixed
	}
	if a.unsure != packet.Empty {
		out.Verdict = Uncertain
		out.Examples = append(out.Examples, a.example(Uncertain, a.unsure))
	}
	return out
}

var directionWords = []string{packet.In: "inbound", packet.Out: "outbound", packet.Through: "forwarded"}

// example is a packet of a set that says nothing of a hook, as the receiving
// end sees it, or the sending one where the other is not ours.
func (a *asked) example(verdict string, set packet.Set) Example {
	sp := a.sp
	e := Example{Verdict: verdict}
	said := func(set packet.Set) string {
		shown := sp.Exists(set, append([]packet.Field{packet.Hook, packet.Fragment, packet.State, packet.TCPFlags, packet.Time}, packet.MarkFields...)...)
		if !a.dumped { // else they follow from the addresses
			shown = sp.Exists(shown, packet.InIface, packet.OutIface)
		}
		return a.names.Traffic(sp, shown, packet.Through)
	}
	e.Traffic = said(set)
	if a.unasked != packet.Empty { // which may be whatever is said more easily
		if easier := said(sp.Or(set, a.unasked)); len(easier) < len(e.Traffic) {
			e.Traffic = easier
		}
	}
	taste := packet.Preferences{}
	for field, side := range map[packet.Field]policy.Side{packet.Src: a.from, packet.Dst: a.to} {
		for _, h := range side.Hosts {
			for _, i := range h.Interfaces {
				for _, p := range i.Addresses {
					taste.Prefer(field, p.Addr())
				}
			}
		}
		for _, run := range side.Outside().Ranges() {
			if next := run.From().Next(); run.Contains(next) && !run.From().IsUnspecified() {
				taste.Prefer(field, next)
			}
		}
	}
	hooks := []int{packet.In, packet.Out, packet.Through}
	if a.q.Direction == "out" || len(a.to.Hosts) == 0 && a.q.Direction == "" {
		hooks = []int{packet.Out, packet.In, packet.Through}
	}
	for _, hook := range hooks {
		seen := sp.And(set, sp.Value(packet.Hook, hook))
		if hook != packet.Through {
			other := packet.OutIface
			if hook == packet.Out {
				other = packet.InIface
			}
			seen = sp.And(sp.Exists(seen, other), sp.Interfaces(other, ""))
		}
		if p, ok := sp.Example(seen, taste); ok {
			e.Packet = p
			return e
		}
	}
	return e
}

// Dump answers by what one kernel has in force. Where the question says no direction it is what
// the host's routes say, and in where they are not known. Names are those of pol, which may be
// a policy of nothing.
func Dump(sp *packet.Space, pol *policy.Policy, rs *kernel.Ruleset, q *fence.Question, now int64) (*Answer, []source.Problem) {
	sp.Since(now)
	a, problems := resolve(sp, pol, compare.NamesOf(pol), q, now)
	if problems != nil {
		return nil, problems
	}
	a.dumped = true
	asked := sp.AndAll(a.spoken(reach.New(sp, pol, now)), sp.Addrs(packet.Src, a.from.Addrs), sp.Addrs(packet.Dst, a.to.Addrs), sp.WellFormed())
	ways, assumed := a.ways(rs.Routes)
	all := packet.Empty
	for hook, way := range ways {
		way = sp.AndAll(asked, way, sp.Value(packet.Hook, hook))
		for field, name := range map[packet.Field]string{packet.InIface: q.In, packet.OutIface: q.Out} {
			if name != "" {
				way = sp.And(way, sp.Interfaces(field, name))
			} else {
				way = sp.Minus(way, sp.Interfaces(field, "lo"))
			}
		}
		ways[hook], all = way, sp.Or(all, way)
	}
	for _, p := range rs.Presumed {
		if sp.And(p.Of, all) != packet.Empty && !strings.Contains(assumed, p.That) {
			if assumed != "" {
				assumed += "; and "
			}
			assumed += "that " + p.That
		}
	}
	rs = rs.About(sp, all)
	a.count(rs.Decision(sp), all)
	d, deciders := rs.Attributed(sp)
	for hook, here := range ways {
		part := sp.Only(d, here)
		for _, o := range sp.Outcomes(sp.WithinLimits(sp.Only(d, sp.And(here, sp.Minus(here, a.unsure))))) {
			by := deciders[max(o.By-1, 0)]
			s := Step{Verdict: o.Verdict.String(), By: by.Text(), At: by.At()}
			if o.Verdict == packet.Admit {
				s.As = o.With
				s.AtMost = rates(sp, sp.Where(part, func(p packet.Outcome) bool { return p.Verdict == packet.Admit && p.By == o.By }))
			}
			a.note(s, packet.Direction(hook))
		}
	}
	answer := a.answer()
	answer.Assumed = assumed
	return answer, nil
}

// ways are the directions in which a question's packets cross a host, by hook: the one that it
// says, else what the host's routes say. What is for the host comes in, what is from it goes
// out, and the rest is forwarded, by the interface that leads there.
func (a *asked) ways(routes *kernel.Routes) (ways []packet.Set, assumed string) {
	sp, q := a.sp, a.q
	ways = make([]packet.Set, len(packet.Directions))
	if way, said := packet.DirectionOf(q.Direction); said {
		ways[way] = packet.All
	} else {
		for family, name := range []string{packet.IPv4: "IPv4", packet.IPv6: "IPv6"} {
			of := sp.Value(packet.Family, family)
			if !routes.Tells(family) {
				ways[packet.In] = sp.Or(ways[packet.In], of)
				if sp.AndAll(of, sp.Addrs(packet.Src, a.from.Addrs), sp.Addrs(packet.Dst, a.to.Addrs)) != packet.Empty {
					assumed = "that it is for the host itself: no dump tells its routes of " + name
				}
				continue
			}
			arriving, _ := routes.Arriving()
			own, _ := routes.Kind("local")
			here := sp.And(of, sp.Addrs(packet.Dst, arriving))
			sent := sp.Minus(sp.And(of, sp.Addrs(packet.Src, own)), here)
			ways[packet.In], ways[packet.Out] = sp.Or(ways[packet.In], here), sp.Or(ways[packet.Out], sent)
			ways[packet.Through] = sp.Or(ways[packet.Through], sp.Minus(of, sp.Or(here, sent)))
		}
	}
	if via, ok := routes.Via(); ok && q.Out == "" && q.Direction != "out" {
		for name, to := range via {
			others := sp.Minus(sp.Addrs(packet.Dst, to), sp.Interfaces(packet.OutIface, name))
			for other, also := range via { // several may lead there
				if other != name {
					others = sp.Minus(others, sp.And(sp.Addrs(packet.Dst, also), sp.Interfaces(packet.OutIface, other)))
				}
			}
			ways[packet.Through] = sp.Minus(ways[packet.Through], others)
		}
	}
	return ways, assumed
}
