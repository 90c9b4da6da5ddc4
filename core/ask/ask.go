package ask

import (
	"slices"
	"strconv"
	"sync"

	"yellowfence.example/yfence/core/fence"
	"yellowfence.example/yfence/core/packet"
	"yellowfence.example/yfence/core/policy"
	"yellowfence.example/yfence/core/reach"
	"yellowfence.example/yfence/core/say"
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
	names    *say.Names
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

// step is a step whose hosts are still parties.
type step struct {
	Step
	who       []reach.Party
	direction packet.Direction
}

// resolve looks a question's names up, in pol's words.
func resolve(sp *packet.Space, pol *policy.Policy, names *say.Names, q *fence.Question, now int64) (*asked, []source.Problem) {
	a := &asked{sp: sp, q: q, roles: pol.Roles, names: names, now: now, fares: map[packet.Verdict]packet.Set{}}
	var problems []source.Problem
	a.from, a.to, a.terms, problems = pol.Ask(q)
	return a, problems
}

// spoken is the packets of a question but for addresses and interfaces.
func (a *asked) spoken(r *reach.Reach) packet.Set {
	sp, q := a.sp, a.q
	s := sp.AndAll(r.Services(a.terms), sp.Typical(), sp.Value(packet.State, slices.Index(packet.StateNames, q.State)),
		sp.Minus(sp.Before(a.now+1), sp.Before(a.now)))
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
	names *say.Names // never changes

	mu    sync.Mutex
	sp    *packet.Space
	r     *reach.Reach
	since int64 // the instant sp is for, and what follows
}

// NewAsker makes an Asker.
func NewAsker(pol *policy.Policy) *Asker { return &Asker{pol: pol, names: say.NamesOf(pol)} }

// kept is how large a Space an Asker keeps, in edges.
const kept = 1_500_000

// fresh makes a Space anew where the old one is too large, or a rule has ended since.
func (k *Asker) fresh(now int64) {
	if k.sp == nil || !k.pol.SameAt(k.since, now) || now < k.since || k.sp.Size() > kept {
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

// policy answers within the Asker's Space, whose lock is held.
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
		return nil, []source.Problem{source.Errorf(a.q.From.Pos, 1, "question", "neither %s nor %s is ours: no host of the fleet decides",
			a.from.Text, a.to.Text).
			Hinted("name a host or a role of the fleet on one side")}
	}
	if len(a.steps) == 0 && a.q.Direction == "through" {
		return nil, []source.Problem{source.Errorf(a.q.From.Pos, 1, "question",
			"no rule in force says through which routers %s goes to %s", a.from.Text, a.to.Text).
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
		return wrong(a.q.To.Pos, "name a host or a role of the fleet, or the address of one",
			"nothing comes in at %s, which is no host of ours", a.to.Text)
	case a.q.Direction == "out" && !slices.ContainsFunc(senders, reach.Party.Ours):
		return wrong(a.q.From.Pos, "name a host or a role of the fleet, or the address of one",
			"nothing goes out at %s, which is no host of ours", a.from.Text)
	}
	return nil
}

// between works out what becomes of the question's packets between two parties, and by which
// steps.
func (a *asked) between(r *reach.Reach, from, to reach.Party, spoken packet.Set) {
	sp, q := a.sp, a.q
	here := sp.And(spoken, r.Addressed(from, to))
	// Which of those packets can be at all: by the interfaces that the question names, within a
	// host by its loopback alone, and else by those that the ends' networks are behind.
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
	// Who decides: both ends one after the other, or the one that the question is about.
	d := r.Between(from, to)
	switch q.Direction {
	case "in":
		d = r.End(to, packet.Inbound)
	case "out":
		d = r.End(from, packet.Outbound)
	}
	// Routers of ours that the policy sends some of it through have a say of their own.
	routes := slices.DeleteFunc(slices.Clone(r.Routes()),
		func(route reach.Route) bool { return sp.And(here, route.Packets) == packet.Empty })
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
	// The verdict comes first; the steps below say who decides at each end, in the packets' order.
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
	// What is redirected on its way does not arrive where it was sent.
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
