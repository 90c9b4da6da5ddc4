package service

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"time"

	"yellowfence.example/yfence/api"
	"yellowfence.example/yfence/core/ask"
	"yellowfence.example/yfence/core/compare"
	"yellowfence.example/yfence/core/compile"
	"yellowfence.example/yfence/core/fleet"
	"yellowfence.example/yfence/core/packet"
	"yellowfence.example/yfence/core/policy"
	"yellowfence.example/yfence/internal/limits"
	"yellowfence.example/yfence/internal/store"
	"yellowfence.example/yfence/internal/wave"
)

// maxTrials is how many connections a step of a wave tries.
const maxTrials = 60

// errNotOne says that a connection's verdict is mixed or uncertain, so that trying it shows
// nothing.
var errNotOne = errors.New("the policy gives it no single verdict")

// admits says whether the policy admits a trial, for the addresses that are used: by what
// each end has in force, where that is not m.
func (s *Service) admits(ctx context.Context, m *model, t api.Trial) (bool, error) {
	q := connection(cmp.Or(t.Source, t.From), t.Address, t.Probe())
	verdict := func(pair int64, part string) (admitted bool, err error) {
		by := m
		if pair != 0 {
			if by, err = s.modelOf(ctx, pair); err != nil {
				return false, err
			}
		}
		answer := by.answer(q, s.Clock().Unix())
		if answer == nil {
			return false, errNotOne
		}
		if translated(answer) {
			return false, errors.New("it is translated on its way")
		}
		said := answer.Verdict
		if part != "" {
			if said, err = partOf(answer, part); err != nil {
				return false, err
			}
		}
		if said == ask.Mixed || said == ask.Uncertain || said == "" {
			return false, errNotOne
		}
		return said == packet.Admit.String(), nil
	}
	if t.FromPair == 0 && t.ToPair == 0 {
		return verdict(0, "")
	}
	out, err := verdict(t.FromPair, " outbound")
	if err != nil {
		return false, err
	}
	in, err := verdict(t.ToPair, " inbound")
	return out && in, err
}

// partOf is the verdict of one end alone.
func partOf(answer *ask.Answer, part string) (verdict string, err error) {
	for _, step := range answer.Steps {
		switch {
		case strings.HasSuffix(step.Where, " forwarded"):
			return "", errNotOne
		case !strings.HasSuffix(step.Where, part):
		case verdict != "" && verdict != step.Verdict:
			return ask.Mixed, nil
		default:
			verdict = step.Verdict
		}
	}
	return verdict, nil
}

// choose picks connections that show what a step has put in force, between hosts that have the
// wave's pair; each has a host at one end that this step has settled.
func (s *Service) choose(ctx context.Context, w api.Wave, statuses map[string]store.AgentStatus) (*wave.Chosen, error) {
	out := &wave.Chosen{}
	number := wave.PairOf(w)
	if number == 0 { // hosts go back to different revisions
		return out, nil
	}
	m, err := s.modelOf(ctx, number)
	if err != nil {
		return nil, err
	}
	t, err := s.trying(ctx, w, m, statuses)
	if err != nil {
		return nil, err
	}
	changed, left, err := s.changed(ctx, w, m)
	if err != nil {
		return nil, err
	}
	out.Left = left
	shown := map[string]bool{}
	for _, p := range w.Proofs { // what earlier steps could not try yet
		shown[p.Statement] = p.Passed != "" && p.Refused != ""
		if shown[p.Statement] || slices.ContainsFunc(changed, func(st changedStatement) bool { return st.Rule.Title() == p.Statement }) {
			continue
		}
		for _, r := range m.policy.Rules {
			if r.Title() == p.Statement && r.InForce(s.Clock().Unix()) {
				changed = append(changed, changedStatement{Statement: compare.Statement{Rule: r, Change: p.Change}})
			}
		}
	}
	for _, st := range changed {
		out.Statements = append(out.Statements, api.Proof{Statement: st.Rule.Title(), Change: st.Change})
		if !shown[st.Rule.Title()] {
			out.Trials = append(out.Trials, t.statement(st)...)
		}
	}
	for _, e := range m.policy.Expects {
		if !e.Off {
			out.Trials = append(out.Trials, t.expectation(e)...)
		}
	}
	if n := len(out.Trials); n > maxTrials {
		out.Left = append(out.Left, fmt.Sprintf("%d of %d connections after step %d: no more than %d are tried", n-maxTrials, n, w.Step,
			maxTrials))
		out.Trials = out.Trials[:maxTrials]
	}
	return out, nil
}

// trying is who can try connections after a step of a wave, and with which pair in force.
func (s *Service) trying(ctx context.Context, w api.Wave, m *model, statuses map[string]store.AgentStatus) (*trying, error) {
	t := &trying{Service: s, ctx: ctx, m: m, mine: map[string]bool{}, over: ends(choosing), can: map[*fleet.Host]bool{},
		pairs: map[string]int64{}}
	settled := map[string]bool{}
	for _, h := range w.Hosts {
		if h.Phase == api.HostKept {
			t.mine[h.Name], settled[h.Name] = t.mine[h.Name] || h.Step == w.Step, true
		}
	}
	current, err := s.newest(ctx)
	if err != nil {
		return nil, err
	}
	heard, err := s.Store.LastReports(ctx)
	if err != nil {
		return nil, err
	}
	reading := patient(ctx, ends(readerWaits))
	var others []*fleet.Host // those of this step first
	for _, h := range m.fleet.Hosts {
		switch {
		case !s.attends(statuses[h.Name]):
		case settled[h.Name]:
			t.can[h] = true
		default: // it may have another pair, as it was published
			res, err := s.status(reading, current, h, heard[h.Name], statuses[h.Name])
			if err != nil {
				return nil, err
			}
			if t.can[h] = res.State == api.InStep || res.State == api.Behind; t.can[h] && heard[h.Name].Pair != m.pair.Number {
				t.pairs[h.Name] = heard[h.Name].Pair
			}
		}
		if t.mine[h.Name] {
			t.hosts = append(t.hosts, h)
		} else {
			others = append(others, h)
		}
	}
	t.hosts = append(t.hosts, others...)
	return t, nil
}

// The bounds of choosing what to try after a step.
const (
	choosing       = 8 * time.Second // that choosing what to try may take
	mostStatements = 25              // that are proven after one step
	mostChoices    = 40              // connections that are looked at to find one for a statement
	mostAlike      = 100             // classes of hosts of a step whose statements are compared
)

// changed are the statements that hosts of a step have otherwise than before it.
func (s *Service) changed(ctx context.Context, w api.Wave, m *model) (out []changedStatement, left []string, err error) {
	now := s.Clock().Unix()
	sp := packet.Budget{Edges: limits.JudgeCases, Halt: ctx.Err}.Space()
	seen, classes := map[string]bool{}, compile.ClassesOf(m.policy)
	known := map[string]int{}
	tangled := packet.Try(func() {
		// Hosts of this step that are alike, and had the same before, changed in the same statements.
		for _, one := range w.Hosts {
			h := m.host(one.Name)
			if one.Step != w.Step || one.Phase != api.HostKept || h == nil || len(seen) >= mostAlike {
				continue
			}
			var before *model
			if one.Had != 0 {
				if before, err = s.modelOf(ctx, one.Had); err != nil {
					return
				}
			}
			class := classes.Of(h)
			var was *compile.Plan
			if before != nil && before.host(h.Name) != nil {
				class += fmt.Sprint("\n", before.pair.Number)
				if !seen[class] {
					was = compile.ForHost(sp, before.policy, before.host(h.Name), now)
				}
			}
			if seen[class] {
				continue
			}
			seen[class] = true
			for _, st := range compare.Statements(sp, was, compile.ForHost(sp, m.policy, h, now)) {
				if i, there := known[st.Rule.Title()]; there {
					out[i].hosts[h] = true
					continue
				}
				known[st.Rule.Title()] = len(out)
				out = append(out, changedStatement{st, before, map[*fleet.Host]bool{h: true}})
			}
		}
	})
	// A step that is too tangled to say what it changed is told so; it is no reason to stop the wave.
	if err == nil && tangled != nil {
		left = append(left, "which statements this step changed: "+tangled.Error())
	}
	if len(out) > mostStatements {
		left = append(left, fmt.Sprintf("%d of the %d statements that step %d changed: no more than %d are tried",
			len(out)-mostStatements, len(out), w.Step, mostStatements))
		out = out[:mostStatements]
	}
	return out, left, err
}

// changedStatement is a statement that some hosts have otherwise than before.
type changedStatement struct {
	compare.Statement
	before *model // nil where nothing of ours was there
	hosts  map[*fleet.Host]bool
}

// trying chooses connections.
type trying struct {
	*Service
	ctx   context.Context
	m     *model
	hosts []*fleet.Host // those of this step first
	mine  map[string]bool
	can   map[*fleet.Host]bool // that have a pair in force as it was published, and attend
	pairs map[string]int64     // which, if it is not the wave's
	over  time.Time
}

// at makes a trial of a connection.
func (t *trying) at(c trial, change string) api.Trial {
	out := api.Trial{For: c.about, Change: change, From: c.from.Name, To: c.to.Name, Address: c.at.String(), Service: c.service(),
		FromPair: t.pairs[c.from.Name], ToPair: t.pairs[c.to.Name]}
	for _, i := range c.from.Interfaces { // what the kernel will take for it
		for _, p := range i.Addresses {
			if p.Masked().Contains(c.at) && out.Source == "" {
				out.Source = p.Addr().String()
			}
		}
	}
	return out
}

// statement are connections that show a statement: one that must pass and one that must not,
// such that fared otherwise before if there are any.
func (t *trying) statement(st changedStatement) (out []api.Trial) {
	r := st.Rule
	// One end is of the statement or is not: from there come connections that must pass, and such that
	// must not.
	in := func(s *policy.Side) func(*fleet.Host) bool {
		return func(h *fleet.Host) bool {
			return s.Names(h) || slices.ContainsFunc(h.Own(), func(a netip.Addr) bool { return s.Addrs != nil && s.Addrs.Contains(a) })
		}
	}
	own, can := in(&r.From), func(h *fleet.Host) bool { return t.can[h] }
	from, others := firsts(t.hosts, can, own, nil), firsts(t.hosts, can, func(h *fleet.Host) bool { return !own(h) }, nil)
	to := firsts(t.hosts, can, in(&r.To), from)
	choices := slices.Concat(tries(from, to, r.Terms, r.Title()), tries(others, to, r.Terms, r.Title()),
		tries(from, to, beside(r.Terms), r.Title()))
	// Of each kind the best is one whose verdict the step has turned: it shows the change, and not only
	// that something works.
	type best struct {
		api.Trial
		found, turned bool
	}
	var passes, refused best
	looked := 0
	for _, c := range choices {
		if !t.mine[c.from.Name] && !t.mine[c.to.Name] || over(t.over) {
			continue
		}
		if looked++; looked > mostChoices || passes.turned && refused.turned {
			break
		}
		one := t.at(c, st.Change)
		var err error
		if one.Admitted, err = t.admits(t.ctx, t.m, one); err != nil {
			continue
		}
		turned := false
		if st.before != nil {
			then := one
			then.FromPair, then.ToPair = 0, 0
			was, err := t.admits(t.ctx, st.before, then)
			turned = err == nil && was != one.Admitted
		}
		side := &refused
		if one.Admitted {
			side = &passes
		}
		if !side.found || turned && !side.turned {
			*side = best{one, true, turned}
		}
	}
	for _, b := range []best{passes, refused} {
		if b.found {
			out = append(out, b.Trial)
		}
	}
	return out
}

// beside are the ports next to those of some terms: mostly nobody admits them.
func beside(terms []policy.Term) (out []policy.Term) {
	for _, term := range terms {
		if term.HasPorts() && term.Ports.Hi < 65535 {
			term.Ports.Lo, term.Ports.Hi = term.Ports.Hi+1, term.Ports.Hi+1
			out = append(out, term)
		}
	}
	return out
}

// expectation are the connections that show whether an expectation holds, and if there are
// any such, one that must pass and one that must not.
func (t *trying) expectation(e *policy.Expectation) (out []api.Trial) {
	can := func(h *fleet.Host) bool { return t.can[h] }
	has := map[bool]bool{}
	add := func(choices []trial, wanted func(admitted bool) bool) {
		looked := 0
		for _, c := range choices {
			if !t.mine[c.from.Name] && !t.mine[c.to.Name] || len(out) >= maxTrials || looked > mostChoices || over(t.over) {
				continue
			}
			looked++
			one := t.at(c, "")
			var err error
			if one.Admitted, err = t.admits(t.ctx, t.m, one); err == nil && wanted(one.Admitted) {
				has[one.Admitted] = true
				out = append(out, one)
			}
		}
	}
	add(expected(e, t.hosts, can), func(bool) bool { return true })
	add(contrary(e, t.hosts, can), func(admitted bool) bool { return !has[admitted] })
	return out
}
