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
	noGuard, guardRefused, noWayIn, // errors
	neverMatches, contradicted, covered, repeated,
	emptyRole, unnamedRole, stanceOverridden, unused,
	sharedTrust, wideOpen, wideSource, allPorts, allICMP, oneFamily, bothProtocols,
	ownAddress, onUncovered, senderOpen, outboundBlind, ended, endsSoon,
	staleKnowingly, // last: by then the others have said what they accept
}

// pass is one run of the checks over one policy.
type pass struct {
	pol      *policy.Policy
	sp       *packet.Space
	plans    map[*fleet.Host]*compile.Plan
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
	for _, h := range r.To.Hosts {
		f(p.plan(h), policy.Inbound, p.plan(h).RuleSet(p.sp, r, policy.Inbound))
	}
	for _, h := range r.From.Hosts {
		f(p.plan(h), policy.Outbound, p.plan(h).RuleSet(p.sp, r, policy.Outbound))
	}
}

func (p *pass) plan(h *fleet.Host) *compile.Plan {
	if p.plans[h] == nil {
		p.plans[h] = compile.Host(p.sp, p.pol, h, p.now)
	}
	return p.plans[h]
}

func (p *pass) report(pr fence.Problem) { p.problems = append(p.problems, pr) }

// Policy reads a policy's files, resolves them against a fleet and runs all
// checks, for an instant in seconds since 1970. The checks run only where nothing
// before them is an error.
func Policy(sources []Source, fl *fleet.Fleet, now int64) (*policy.Policy, []fence.Problem) {
	in, problems := policy.Read(sources, fl)
	pol, found := policy.Resolve(in)
	problems = append(problems, found...)
	if !fence.HasErrors(problems) {
		p := &pass{pol: pol, sp: packet.NewSpace(), plans: map[*fleet.Host]*compile.Plan{}, now: now, accepted: map[acceptance]bool{}}
		for _, c := range Checks {
			p.codes = append(p.codes, c.Code)
		}
		for _, c := range Checks {
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
