// Package check finds what is wrong with a policy before it bites. Each check
// stands in a file of its own, with its documentation beside it.
//
//	pol, problems := check.Policy(sources, fl, now)
package check

import (
	"fmt"

	"yellowfence.example/yfence/core/compile"
	"yellowfence.example/yfence/core/fence"
	"yellowfence.example/yfence/core/fleet"
	"yellowfence.example/yfence/core/packet"
	"yellowfence.example/yfence/core/policy"
)

// A Source is one file of a policy.
type Source = policy.Source

// A Check is one thing that can be wrong with a policy that reads well.
type Check struct {
	Code string
	Doc  string
	run  func(*pass)
}

// Checks lists all checks, in the order in which they run.
var Checks = []Check{
	noGuard, guardRefused, noWayIn, cannotCarry, expectation, // errors
	neverMatches, contradicted, covered, repeated, limitPointless,
	emptyRole, unnamedRole, stanceOverridden, unused, shadowed, onlyBlocked, emptyList,
	redirectUnadmitted, redirectAround, leaveAll, dhcpUnaddressed,
	sharedTrust, wideOpen, wideSource, allPorts, allICMP, oneFamily, bothProtocols,
	ownAddress, partOfNetwork, onUncovered, noPath, senderOpen, outboundBlind, ended, endsSoon,
	staleKnowingly, // last: by then the others have said what they accept
}

// pass is one run of the checks over one policy.
type pass struct {
	pol      *policy.Policy
	files    []*fence.File // it was read from
	sp       *packet.Space
	plans    map[*fleet.Host]*compile.Plan
	classes  map[string]*compile.Plan
	alone    map[*fleet.Host]bool // hosts that are a class of their own
	decided  map[*compile.Plan]attribution
	spoken   map[end]packet.Set
	all      map[*policy.Rule]wide
	where    map[*fleet.Host]*whereabouts
	budget   packet.Budget
	now      int64
	codes    []string // of all checks
	accepted map[acceptance]bool
	problems []fence.Problem
}

// acceptance is a warning that a rule accepts with `knowingly`.
type acceptance struct {
	rule *policy.Rule
	code string
}

// warn reports a warning about a rule, unless the rule accepts it.
func (p *pass) warn(r *policy.Rule, code, hint, format string, args ...any) {
	for _, k := range r.Decl.Knowingly {
		if k.Code == code {
			p.accepted[acceptance{r, code}] = true
			return
		}
	}
	p.report(fence.Warningf(r.Pos, len(r.Name), code, format, args...).Hinted("%s", hint))
}

// rules are those that count: a rule that is off, or has ended, is no mistake.
func (p *pass) rules() (out []*policy.Rule) {
	for _, r := range p.pol.Rules {
		if r.InForce(p.now) {
			out = append(out, r)
		}
	}
	return out
}

// ends calls f for each host at which a rule is rendered, with the packets it
// speaks of there before the ground and others have their say.
func (p *pass) ends(r *policy.Rule, f func(plan *compile.Plan, dir policy.Direction, speaks packet.Set)) {
	for dir, hosts := range map[policy.Direction][]*fleet.Host{policy.Inbound: r.To.Hosts, policy.Outbound: r.From.Hosts, policy.Forward: routers(r)} {
		seen := map[*compile.Plan]bool{}
		for _, h := range hosts {
			if plan := p.plan(h); !seen[plan] {
				seen[plan] = true
				f(plan, dir, p.speaks(plan, r, dir))
			}
		}
	}
}

// routers are the hosts that a rule goes through.
func routers(r *policy.Rule) (hosts []*fleet.Host) {
	for _, role := range r.Through {
		hosts = append(hosts, role.Hosts...)
	}
	return hosts
}

// end is a rule at the hosts of one plan, in one direction.
type end struct {
	plan *compile.Plan
	rule *policy.Rule
	dir  policy.Direction
}

// speaks is plan.RuleSet, worked out once.
func (p *pass) speaks(plan *compile.Plan, r *policy.Rule, dir policy.Direction) packet.Set {
	e := end{plan, r, dir}
	set, ok := p.spoken[e]
	if !ok {
		set = plan.RuleSet(p.sp, r, dir)
		p.spoken[e] = set
	}
	return set
}

// wide is a rule's packets at any end there could be: no host has more of them.
type wide [2]packet.Set

func (p *pass) wide(r *policy.Rule) wide {
	w, ok := p.all[r]
	if !ok {
		terms := p.services(r.Terms)
		w = wide{p.sp.And(terms, p.sp.Addrs(packet.Src, r.From.Addrs)), p.sp.And(terms, p.sp.Addrs(packet.Dst, r.To.Addrs))}
		p.all[r] = w
	}
	return w
}

// services is the packets that terms speak of.
func (p *pass) services(terms []policy.Term) packet.Set {
	set := packet.Empty
	for _, t := range terms {
		set = p.sp.Or(set, compile.TermSet(p.sp, t))
	}
	return set
}

// segmented says that what a rule matches differs from host to host, or is less
// than its sides and services say.
func segmented(r *policy.Rule) bool {
	return len(r.Spans) > 1 || r.On != nil || r.Arriving != nil || len(r.From.At)+len(r.To.At) > 0 || r.Since != 0 || r.Until != 0 || r.IPsec || len(r.Decl.Senders) > 0
}

// plan is that of a host, or of another of its class, which is the same.
func (p *pass) plan(h *fleet.Host) *compile.Plan {
	if p.plans[h] == nil {
		class := compile.Class(p.pol, h, p.alone)
		if p.classes[class] == nil {
			p.classes[class] = compile.Host(p.sp, p.pol, h, p.now)
		}
		p.plans[h] = p.classes[class]
	}
	return p.plans[h]
}

// attributed is a plan's decision with who decides, worked out once.
func (p *pass) attributed(plan *compile.Plan) (packet.Decision, []compile.Decider) {
	a, ok := p.decided[plan]
	if !ok {
		a.decision, a.deciders = plan.Attributed(p.sp)
		p.decided[plan] = a
	}
	return a.decision, a.deciders
}

type attribution struct {
	decision packet.Decision
	deciders []compile.Decider
}

func (p *pass) report(pr fence.Problem) { p.problems = append(p.problems, pr) }

// Policy reads a policy's files, resolves them against a fleet and runs all
// checks, for an instant in seconds since 1970. The checks run only where nothing
// before them is an error.
func Policy(sources []Source, fl *fleet.Fleet, now int64) (*policy.Policy, []fence.Problem) {
	return run(packet.Budget{}, sources, fl, now)
}

// PolicyWithin is Policy within a budget. The error says that it did not suffice, or why the
// work was to end.
func PolicyWithin(b packet.Budget, sources []Source, fl *fleet.Fleet, now int64) (pol *policy.Policy, problems []fence.Problem, err error) {
	err = packet.Untangled(func() { pol, problems = run(b, sources, fl, now) })
	return pol, problems, err
}

func run(b packet.Budget, sources []Source, fl *fleet.Fleet, now int64) (*policy.Policy, []fence.Problem) {
	in, problems := policy.Read(sources, fl)
	if in.Files == nil && problems != nil { // it is too large, and nothing of it was read
		return &policy.Policy{Fleet: fl}, problems
	}
	in.Budget = b
	pol, found := policy.Resolve(in)
	problems = append(problems, found...)
	if !fence.HasErrors(problems) {
		p := &pass{pol: pol, files: in.Files, budget: b, sp: b.Space(), plans: map[*fleet.Host]*compile.Plan{}, classes: map[string]*compile.Plan{}, alone: compile.Alone(pol),
			decided: map[*compile.Plan]attribution{}, spoken: map[end]packet.Set{}, all: map[*policy.Rule]wide{}, where: map[*fleet.Host]*whereabouts{}, now: now, accepted: map[acceptance]bool{}}
		p.sp.Since(now)
		for _, c := range Checks {
			p.codes = append(p.codes, c.Code)
		}
		for _, c := range Checks {
			b.Check()
			c.run(p)
		}
		problems = append(problems, p.problems...)
	}
	fence.SortProblems(problems)
	return pol, problems
}

// Summary counts problems, as in "2 errors, 1 warning".
func Summary(problems []fence.Problem) string {
	errors, warnings := 0, 0
	for _, p := range problems {
		if p.Severity == fence.Error {
			errors++
		} else {
			warnings++
		}
	}
	plural := func(n int, what string) string {
		if n == 1 {
			return fmt.Sprintf("1 %s", what)
		}
		return fmt.Sprintf("%d %ss", n, what)
	}
	switch {
	case errors+warnings == 0:
		return "no problems"
	case warnings == 0:
		return plural(errors, "error")
	case errors == 0:
		return plural(warnings, "warning")
	}
	return plural(errors, "error") + ", " + plural(warnings, "warning")
}
