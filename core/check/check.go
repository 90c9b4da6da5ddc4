package check

import (
	"fmt"
	"slices"

	"yellowfence.example/yfence/core/compile"
	"yellowfence.example/yfence/core/fence"
	"yellowfence.example/yfence/core/fleet"
	"yellowfence.example/yfence/core/packet"
	"yellowfence.example/yfence/core/policy"
	"yellowfence.example/yfence/core/source"
)

// A Source is one file of a policy.
type Source = policy.Source

// A Check is one thing that can be wrong with a policy that reads well.
type Check struct {
	Code     string
	Severity source.Severity
	Doc      string // what it finds in one line, then why that matters and what to do
	run      func(*pass)
}

// Checks lists all checks, in the order in which they run.
var Checks = []Check{
	noGuard, guardRefused, noWayIn, cannotCarry, expectation, // errors
	expectationOff, neverMatches, contradicted, covered, repeated, limitPointless,
	emptyRole, unnamedRole, stanceOverridden, unused, shadowed, onlyBlocked, emptyList,
	othersMachines, redirectUnadmitted, redirectAround, leaveAll, dhcpUnaddressed,
	inboundOpen, sharedTrust, wideOpen, wideSource, allPorts, allICMP, oneFamily, bothProtocols,
	ownAddress, partOfNetwork, onUncovered, noPath, senderOpen, outboundBlind, ended, endsSoon, trialEnds, trialOver,
	staleKnowingly, // last: by then the others have said what they accept
}

// pass is one run of the checks over one policy.
type pass struct {
	check    Check // which runs
	pol      *policy.Policy
	files    []*fence.File // it was read from
	sp       *packet.Space
	planner  *compile.Planner
	spoken   map[end]packet.Set
	all      map[*policy.Rule]wide
	where    map[*fleet.Host]*whereabouts
	budget   packet.Budget
	now      int64
	codes    []string                        // of all checks
	says     map[string]map[int]*statement   // by file and line
	declared map[string]*statement           // networks, segments, services and roles by their names
	accepted map[source.Pos][]source.Problem // what each `knowingly` accepts
	problems []source.Problem
}

// statement is one of the policy's, with what it accepts and the names it is made of.
type statement struct {
	accepts []fence.Knowingly
	names   []string
}

// read notes where which statement stands.
func (p *pass) read() {
	p.says, p.declared, p.accepted = map[string]map[int]*statement{}, map[string]*statement{}, map[source.Pos][]source.Problem{}
	for _, h := range p.pol.Fleet.Hosts { // what is told of a host its roles can accept, too
		lines := p.says[h.Pos.File]
		if lines == nil {
			lines = map[int]*statement{}
			p.says[h.Pos.File] = lines
		}
		if lines[h.Pos.Line] == nil {
			lines[h.Pos.Line] = &statement{}
		}
		of := lines[h.Pos.Line]
		of.accepts, of.names = append(of.accepts, accepted(h)...), append(of.names, h.Roles...)
	}
	for _, file := range p.files {
		lines := map[int]*statement{}
		p.says[file.Name] = lines
		for i, s := range file.Stmts {
			of := &statement{accepts: fence.AcceptedBy(s)}
			for _, r := range fence.References(&fence.File{Stmts: file.Stmts[i : i+1]}) {
				switch {
				case r.Decl && !r.Rule:
					p.declared[r.Name] = of
				case !r.Rule:
					of.names = append(of.names, r.Name)
				}
			}
			for line := file.Lines[i][0]; line <= file.Lines[i][1]; line++ {
				lines[line] = of
			}
		}
	}
}

// accepts says that a warning is accepted where it is told, or by what the statement there names:
// the cause stands there.
func (p *pass) accepts(pr source.Problem) bool {
	of := p.says[pr.File][pr.Line]
	if of == nil || pr.Severity != source.Warning || pr.Code == staleKnowinglyCode {
		return false
	}
	by := []*statement{of}
	for _, name := range of.names {
		if d := p.declared[name]; d != nil {
			by = append(by, d)
		}
	}
	for _, s := range by {
		for _, k := range s.accepts {
			if k.Code == pr.Code {
				p.accepted[k.Pos] = append(p.accepted[k.Pos], pr)
				return true
			}
		}
	}
	return false
}

// eachAccepted calls f for each `knowingly` of the policy, in the order of the places.
func (p *pass) eachAccepted(f func(fence.Stmt, fence.Knowingly)) {
	for _, file := range p.files {
		for _, s := range file.Stmts {
			for _, k := range fence.AcceptedBy(s) {
				f(s, k)
			}
		}
	}
	for _, h := range p.pol.Fleet.Hosts {
		for _, k := range accepted(h) {
			f(fence.Ident{Name: h.Name, Pos: h.Pos}, k)
		}
	}
}

// accepted is what the fleet file accepts of a host.
func accepted(h *fleet.Host) (out []fence.Knowingly) {
	for _, a := range h.Knowingly {
		out = append(out, fence.Knowingly{Pos: a.Pos, Code: a.Code, Why: a.Because})
	}
	return out
}

// at makes a problem that the check which runs finds, width characters long.
func (p *pass) at(pos source.Pos, width int, format string, args ...any) source.Problem {
	pr := source.Errorf(pos, width, p.check.Code, format, args...)
	pr.Severity = p.check.Severity
	return pr
}

// named makes a problem that the check which runs finds, at the name of a statement.
func (p *pass) named(pos source.Pos, name, format string, args ...any) source.Problem {
	return p.at(pos, len(fence.Bare(name)), format, args...)
}

// warn reports a problem with a rule, unless it is accepted.
func (p *pass) warn(r *policy.Rule, hint, format string, args ...any) {
	p.report(p.named(r.Pos, r.Name, format, args...).Hinted("%s", hint))
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
func (p *pass) ends(r *policy.Rule, f func(plan *compile.Plan, dir packet.Direction, speaks packet.Set)) {
	for dir, hosts := range map[packet.Direction][]*fleet.Host{packet.Inbound: r.To.Hosts, packet.Outbound: r.From.Hosts,
		packet.Forward: routers(r)} {
		seen := map[*compile.Plan]bool{}
		for _, h := range hosts {
			if plan := p.planner.Plan(h); !seen[plan] {
				seen[plan] = true
				f(plan, dir, p.speaks(plan, r, dir))
			}
		}
	}
}

// routers are the hosts that a rule goes through.
func routers(r *policy.Rule) (hosts []*fleet.Host) {
	for _, role := range r.Routers() {
		hosts = append(hosts, role.Hosts...)
	}
	return hosts
}

// end is a rule at the hosts of one plan, in one direction.
type end struct {
	plan *compile.Plan
	rule *policy.Rule
	dir  packet.Direction
}

// speaks is plan.RuleSet, worked out once.
func (p *pass) speaks(plan *compile.Plan, r *policy.Rule, dir packet.Direction) packet.Set {
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

// wide is what a rule speaks of at each of its ends, whoever the host is.
func (p *pass) wide(r *policy.Rule) wide {
	w, ok := p.all[r]
	if !ok {
		terms := compile.TermsSet(p.sp, r.Terms)
		w = wide{p.sp.And(terms, p.sp.Addrs(packet.Src, r.From.Addrs)), p.sp.And(terms, p.sp.Addrs(packet.Dst, r.To.Addrs))}
		p.all[r] = w
	}
	return w
}

// segmented says that what a rule matches differs from host to host, or is less
// than its sides and services say.
func segmented(r *policy.Rule) bool {
	return len(r.Spans) > 1 || r.On != nil || r.Arriving != nil || len(r.From.At)+len(r.To.At) > 0 || r.Since != 0 || r.Until != 0 ||
		r.IPsec || len(r.Decl.Senders) > 0
}

// report tells a problem, unless it is accepted.
func (p *pass) report(pr source.Problem) {
	if !p.accepts(pr) {
		p.problems = append(p.problems, pr)
	}
}

// Policy reads a policy's files, resolves them against a fleet and runs all
// checks, for an instant in seconds since 1970. The checks run only where nothing
// before them is an error.
func Policy(sources []Source, fl *fleet.Fleet, now int64) (*policy.Policy, []source.Problem) {
	pol, problems, _ := run(packet.Budget{}, sources, fl, now)
	return pol, problems
}

// PolicyWithin is Policy within a budget. The error says that it did not suffice, or why the
// work was to end.
func PolicyWithin(b packet.Budget, sources []Source, fl *fleet.Fleet, now int64) (pol *policy.Policy, problems []source.Problem,
	err error) {
	err = packet.Try(func() { pol, problems, _ = run(b, sources, fl, now) })
	return pol, problems, err
}

// An Acceptance is a `knowingly` of a policy, with the warnings that it covers.
type Acceptance struct {
	File   string           `json:"file"`
	Line   int              `json:"line"`
	Column int              `json:"column"`
	In     string           `json:"in" doc:"the name of the rule or the declaration that says it"`
	Code   string           `json:"code"`
	Why    string           `json:"why"`
	Covers []source.Problem `json:"covers"`
}

// AcceptedWithin is all that a policy accepts, in the order of the places, within a budget, beside its
// problems; nothing where it has errors that are there before any check.
func AcceptedWithin(b packet.Budget, sources []Source, fl *fleet.Fleet, now int64) (all []Acceptance, problems []source.Problem,
	err error) {
	all = []Acceptance{}
	err = packet.Try(func() {
		var p *pass
		if _, problems, p = run(b, sources, fl, now); p == nil {
			return
		}
		p.eachAccepted(func(s fence.Stmt, k fence.Knowingly) {
			all = append(all, Acceptance{k.Pos.File, k.Pos.Line, k.Pos.Column, s.Declared().Name, k.Code, k.Why,
				slices.Concat([]source.Problem{}, p.accepted[k.Pos])})
		})
	})
	return all, problems, err
}

// run gives the pass as well, nil if the policy has errors that no check found.
func run(b packet.Budget, sources []Source, fl *fleet.Fleet, now int64) (*policy.Policy, []source.Problem, *pass) {
	in, problems := policy.Read(sources, fl)
	if in.Files == nil && problems != nil { // it is too large, and nothing of it was read
		return &policy.Policy{Fleet: fl}, problems, nil
	}
	in.Budget = b
	pol, found := policy.Resolve(in)
	problems = append(problems, found...)
	var p *pass
	if !source.HasErrors(problems) {
		p = &pass{pol: pol, files: in.Files, budget: b, sp: b.Space(), spoken: map[end]packet.Set{}, all: map[*policy.Rule]wide{},
			where: map[*fleet.Host]*whereabouts{}, now: now}
		p.planner = compile.NewPlanner(p.sp, pol, now)
		p.read()
		p.sp.Since(now)
		for _, c := range Checks {
			p.codes = append(p.codes, c.Code)
		}
		for _, c := range Checks {
			b.Check()
			p.check = c
			c.run(p)
		}
		problems = append(problems, p.problems...)
	}
	source.SortProblems(problems)
	return pol, problems, p
}

// Summary counts problems, as in "2 errors, 1 warning".
func Summary(problems []source.Problem) string {
	errors, warnings := 0, 0
	for _, p := range problems {
		if p.Severity == source.Error {
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
