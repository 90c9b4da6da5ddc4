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

	"yellowfence.example/yfence/core/ask"
	"yellowfence.example/yfence/core/compare"
	"yellowfence.example/yfence/core/compile"
	"yellowfence.example/yfence/core/fence"
	"yellowfence.example/yfence/core/fleet"
	"yellowfence.example/yfence/core/packet"
	"yellowfence.example/yfence/core/policy"
	"yellowfence.example/yfence/internal/api"
	"yellowfence.example/yfence/internal/limits"
	"yellowfence.example/yfence/internal/store"
)

// maxTrials is how many connections a step of a wave tries.
const maxTrials = 60

// stepTrials tries what a step has put in force: of each statement that came, went or changed
// on its hosts a connection that must pass and one that must not, and what the policy expects
// of them. First something listens at the far end, then the connections are opened. done says
// that all came out as they should; if one does not, however often it is tried, the wave stops.
func (s *Service) stepTrials(ctx context.Context, w *api.Wave, step *store.WaveStep, attending map[string]store.AgentStatus) (done bool, err error) {
	over := func(id int64) (t api.TaskStatus, over bool, err error) {
		if id == 0 {
			return t, true, nil
		}
		t, err = s.Store.Task(ctx, id)
		return t, t.Done != nil || time.Now().After(t.Until), err
	}
	if w.Rounds == 0 {
		if w.Trials, err = s.trials(ctx, w, attending); err != nil {
			return false, err
		}
		if len(w.Trials) == 0 && w.Step == w.Steps {
			w.Left = append(w.Left, unproven(w)...)
		}
	}
	if len(w.Trials) == 0 {
		return true, nil
	}
	probe := func(t *api.Trial) (p api.Probe) {
		p.To = t.Address
		if p.Protocol = "icmp"; t.Service != "ping" {
			_, _ = fmt.Sscan(t.Service, &p.Protocol, &p.Port) // as tries wrote it
		}
		return p
	}
	if w.Trials[0].Listen == 0 {
		asked := map[string]int64{}
		for i := range w.Trials {
			t := &w.Trials[i]
			at := t.Address + " " + t.Service
			if asked[at] == 0 {
				p := probe(t)
				asked[at] = step.Task(api.Task{Host: t.To, Do: "listen", Probe: &p, Within: listenFor, Until: time.Now().Add(taskWithin)})
			}
			t.Listen = asked[at]
		}
		w.Rounds++
		return false, nil
	}
	for _, t := range w.Trials {
		if _, over, err := over(t.Listen); err != nil || !over {
			return false, err
		}
	}
	if w.Trials[0].Task == 0 {
		for i := range w.Trials {
			t := &w.Trials[i]
			p := probe(t)
			t.Task = step.Task(api.Task{Host: t.From, Do: "probe", Probe: &p, Until: time.Now().Add(taskWithin)})
		}
		return false, nil
	}
	m, err := s.modelOf(ctx, pairOf(w))
	if err != nil {
		return false, err
	}
	var wrong []api.Trial
	held := 0
	for i := range w.Trials {
		t := &w.Trials[i]
		listened, _, err := over(t.Listen)
		if err != nil {
			return false, err
		}
		tried, over, err := over(t.Task)
		if err != nil || !over {
			return false, err
		}
		if t.Came, t.Agrees = "untried", "open"; tried.Result != nil && tried.Result.Came != "" {
			t.Came = tried.Result.Came
			if from := tried.Result.From; from != "" && from != t.Source { // the verdict is for what was really used
				t.Source = from
				if t.Admitted, err = s.admits(ctx, m, *t); err != nil {
					t.Came = "untried"
					w.Left = append(w.Left, fmt.Sprintf("%s: %s: %s", t.For, t.Connection(), err))
					continue
				}
			}
			listening := listened.Result != nil && answers(*listened.Result, probe(t).Protocol)
			t.Agrees = api.Agrees(t.Came, t.Admitted, listening, probe(t).Protocol)
		}
		switch t.Agrees {
		case "yes":
			held++
			proven(w, *t)
		case "no":
			wrong = append(wrong, *t)
		default:
			why := "it was " + t.Came + ", which may be since nobody listens there"
			if tried.Result == nil {
				why = t.From + " did not answer"
			} else if tried.Result.Failed != "" {
				why = tried.Result.Failed
			}
			w.Left = append(w.Left, fmt.Sprintf("%s: %s: %s", t.For, t.Connection(), why))
		}
	}
	w.Held += held
	if len(wrong) == 0 {
		if w.Step == w.Steps {
			w.Left = append(w.Left, unproven(w)...)
		}
		return true, nil
	}
	if w.Rounds < probeTries { // only those again
		for i := range wrong {
			wrong[i].Listen, wrong[i].Task = 0, 0
		}
		w.Trials = wrong
		return false, nil
	}
	return false, s.stop(ctx, w, step, attending, wrong[0].String())
}

// pairOf is the pair that a wave puts in force; 0 where hosts go back to different ones.
func pairOf(w *api.Wave) (number int64) {
	for _, h := range w.Hosts {
		if h.Phase != api.HostKept {
			continue
		}
		if number != 0 && number != h.Pair {
			return 0
		}
		number = h.Pair
	}
	return number
}

// proven notes what a connection showed of a statement.
func proven(w *api.Wave, t api.Trial) {
	for i := range w.Proofs {
		if p := &w.Proofs[i]; p.Statement == t.For && t.Change != "" {
			if t.Admitted {
				p.Passed = t.Connection()
			} else {
				p.Refused = t.Connection()
			}
		}
	}
}

// unproven says of which statements nothing, or only half, was shown.
func unproven(w *api.Wave) (left []string) {
	for _, p := range w.Proofs {
		switch {
		case p.Passed == "" && p.Refused == "":
			left = append(left, fmt.Sprintf("%s, which is %s: none of the hosts that attend and are settled can open a connection that shows it", p.Statement, p.Change))
		case p.Passed == "":
			left = append(left, fmt.Sprintf("%s, which is %s: no connection that must pass could be tried", p.Statement, p.Change))
		case p.Refused == "":
			left = append(left, fmt.Sprintf("%s, which is %s: no connection that must be refused could be tried", p.Statement, p.Change))
		}
	}
	return left
}

var errNotOne = errors.New("the policy gives it no single verdict")

// admits says whether the policy admits a trial, for the addresses that are used: by what
// each end has in force, where that is not m.
func (s *Service) admits(ctx context.Context, m *model, t api.Trial) (bool, error) {
	q, problems := fence.ParseQuestion(fmt.Sprintf("%s -> %s : %s", cmp.Or(t.Source, t.From), t.Address, t.Service))
	if problems != nil {
		return false, errNotOne
	}
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

// trials are connections that show what a step has put in force, between hosts that have
// the wave's pair; each has a host at one end that this step has settled.
func (s *Service) trials(ctx context.Context, w *api.Wave, attending map[string]store.AgentStatus) (out []api.Trial, err error) {
	number := pairOf(w)
	if number == 0 { // hosts go back to different revisions
		return nil, nil
	}
	m, err := s.modelOf(ctx, number)
	if err != nil {
		return nil, err
	}
	t := &trying{Service: s, ctx: ctx, m: m, mine: map[string]bool{}, over: time.Now().Add(choosing), can: map[*fleet.Host]bool{}, pairs: map[string]int64{}}
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
	reading := patient(ctx, time.Now().Add(readerWaits))
	var others []*fleet.Host // those of this step first
	for _, h := range m.fleet.Hosts {
		switch {
		case !s.attends(attending[h.Name]):
		case settled[h.Name]:
			t.can[h] = true
		default: // it may have another pair, as it was published
			res, err := s.status(reading, current, h, heard[h.Name], attending[h.Name])
			if err != nil {
				return nil, err
			}
			if t.can[h] = res.State == api.InStep || res.State == api.Behind; t.can[h] && heard[h.Name].Pair != number {
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
	changed, left, err := s.changed(ctx, w, m)
	if err != nil {
		return nil, err
	}
	w.Left = append(w.Left, left...)
	for _, p := range w.Proofs { // what earlier steps could not try yet
		if (p.Passed == "" || p.Refused == "") && !slices.ContainsFunc(changed, func(st changedStatement) bool { return st.Rule.Title() == p.Statement }) {
			for _, r := range m.policy.Rules {
				if r.Title() == p.Statement && r.InForce(s.Clock().Unix()) {
					changed = append(changed, changedStatement{Statement: compare.Statement{Rule: r, Change: p.Change}})
				}
			}
		}
	}
	for _, st := range changed {
		at := slices.IndexFunc(w.Proofs, func(p api.Proof) bool { return p.Statement == st.Rule.Title() })
		if at < 0 {
			at = len(w.Proofs)
			w.Proofs = append(w.Proofs, api.Proof{Statement: st.Rule.Title(), Change: st.Change})
		}
		if p := w.Proofs[at]; p.Passed == "" || p.Refused == "" {
			out = append(out, t.statement(st)...)
		}
	}
	for _, e := range m.policy.Expects {
		if !e.Off {
			out = append(out, t.expectation(e)...)
		}
	}
	if len(out) > maxTrials {
		w.Left = append(w.Left, fmt.Sprintf("%d of %d connections after step %d: no more than %d are tried", len(out)-maxTrials, len(out), w.Step, maxTrials))
		out = out[:maxTrials]
	}
	return out, nil
}

const (
	choosing       = 8 * time.Second // that choosing what to try may take
	mostStatements = 25              // that are proven after one step
	mostChoices    = 40              // connections that are looked at to find one for a statement
	mostAlike      = 100             // classes of hosts of a step whose statements are compared
)

// changed are the statements that hosts of a step have otherwise than before it.
func (s *Service) changed(ctx context.Context, w *api.Wave, m *model) (out []changedStatement, left []string, err error) {
	now := s.Clock().Unix()
	sp := packet.Budget{Edges: limits.JudgeCases, Halt: ctx.Err}.Space()
	seen, alone := map[string]bool{}, compile.Alone(m.policy)
	known := map[string]int{}
	tangled := packet.Try(func() {
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
			class := compile.Class(m.policy, h, alone)
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
	if err == nil && tangled != nil {
		left = append(left, "which statements this step changed: "+tangled.Error())
	}
	if len(out) > mostStatements {
		left = append(left, fmt.Sprintf("%d of the %d statements that step %d changed: no more than %d are tried", len(out)-mostStatements, len(out), w.Step, mostStatements))
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
	out := api.Trial{For: c.about, Change: change, From: c.from.Name, To: c.to.Name, Address: c.at.String(), Service: c.service(), FromPair: t.pairs[c.from.Name], ToPair: t.pairs[c.to.Name]}
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
	in := func(s *policy.Side) func(*fleet.Host) bool {
		return func(h *fleet.Host) bool {
			return s.Names(h) || slices.ContainsFunc(h.Own(), func(a netip.Addr) bool { return s.Addrs != nil && s.Addrs.Contains(a) })
		}
	}
	own, can := in(&r.From), func(h *fleet.Host) bool { return t.can[h] }
	from, others := firsts(t.hosts, can, own, nil), firsts(t.hosts, can, func(h *fleet.Host) bool { return !own(h) }, nil)
	to := firsts(t.hosts, can, in(&r.To), from)
	choices := slices.Concat(tries(from, to, r.Terms, r.Title()), tries(others, to, r.Terms, r.Title()), tries(from, to, beside(r.Terms), r.Title()))
	type best struct {
		api.Trial
		found, turned bool
	}
	var passes, refused best
	looked := 0
	for _, c := range choices {
		if !t.mine[c.from.Name] && !t.mine[c.to.Name] || !time.Now().Before(t.over) {
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
			if !t.mine[c.from.Name] && !t.mine[c.to.Name] || len(out) >= maxTrials || looked > mostChoices || !time.Now().Before(t.over) {
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
