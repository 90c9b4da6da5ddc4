package wave

import (
	"fmt"
	"slices"

	"yellowfence.example/yfence/api"
)

// trials tries what a step has put in force. First something listens at the far end of each
// chosen connection, then the connections are opened. done says that all came out as they
// should. If one does not, however often it is tried, the wave stops.
func (m *machine) trials() (done bool) {
	if m.Rounds == 0 && !m.choose() {
		return false
	}
	switch {
	case len(m.Trials) == 0:
		return true
	case m.Trials[0].Listen == 0:
		m.listen()
		return false
	case !m.allOver(func(t api.Trial) int64 { return t.Listen }):
		return false
	case m.Trials[0].Task == 0:
		m.open()
		return false
	case !m.allOver(func(t api.Trial) int64 { return t.Task }):
		return false
	}
	return m.judge()
}

// choose takes over what is to be tried; it gives false where that is not known yet.
func (m *machine) choose() bool {
	c := m.seen.Chosen
	if c == nil {
		return false
	}
	for _, s := range c.Statements {
		if !slices.ContainsFunc(m.Proofs, func(p api.Proof) bool { return p.Statement == s.Statement }) {
			m.Proofs = append(m.Proofs, s)
		}
	}
	m.Trials, m.Left = slices.Clone(c.Trials), append(m.Left, c.Left...)
	if len(m.Trials) == 0 && m.Step == m.Steps {
		m.Left = append(m.Left, unproven(m.Proofs)...)
	}
	return true
}

// allOver says that tasks of all trials have ended, or will not.
func (m *machine) allOver(task func(api.Trial) int64) bool {
	return !slices.ContainsFunc(m.Trials, func(t api.Trial) bool { return task(t) != 0 && !m.over(m.seen.Tasks[task(t)]) })
}

// listen has something listen at each place that is tried.
func (m *machine) listen() {
	at := map[string]int64{}
	for i := range m.Trials {
		t := &m.Trials[i]
		where := t.Address + " " + t.Service
		if at[where] == 0 {
			at[where] = m.task(api.Task{Host: t.To, Do: api.DoListen, Probe: new(t.Probe()), Within: listenFor})
		}
		t.Listen = at[where]
	}
	m.Rounds++
}

// open has all connections of the trials opened.
func (m *machine) open() {
	for i := range m.Trials {
		t := &m.Trials[i]
		t.Task = m.task(api.Task{Host: t.From, Do: api.DoProbe, Probe: new(t.Probe())})
	}
}

// judge compares what came of the connections with what the policy says.
func (m *machine) judge() (done bool) {
	var wrong []api.Trial
	for i := range m.Trials {
		t := &m.Trials[i]
		why := m.came(i, t)
		switch t.Agrees {
		case "yes":
			m.Held++
			m.proven(*t)
		case "no":
			wrong = append(wrong, *t)
		default:
			m.Left = append(m.Left, fmt.Sprintf("%s: %s: %s", t.For, t.Connection(), why))
		}
	}
	switch {
	case len(wrong) == 0:
		if m.Step == m.Steps {
			m.Left = append(m.Left, unproven(m.Proofs)...)
		}
		return true
	case m.Rounds < Tries: // only those again
		for i := range wrong {
			wrong[i].Listen, wrong[i].Task = 0, 0
		}
		m.Trials = wrong
	default:
		m.stop(wrong[0].String())
	}
	return false
}

// came notes what came of a trial; why says what leaves it open.
func (m *machine) came(i int, t *api.Trial) (why string) {
	tried, listened := m.seen.Tasks[t.Task].Result, m.seen.Tasks[t.Listen].Result
	t.Came, t.Agrees = "untried", "open"
	switch {
	case tried == nil:
		return t.From + " did not answer"
	case tried.Came == "":
		return tried.Failed
	}
	if from := tried.From; from != "" && from != t.Source { // the verdict is for what was really used
		t.Source = from
		v := m.seen.Sources[i]
		if v.Unclear != "" {
			return v.Unclear
		}
		t.Admitted = v.Admitted
	}
	t.Came = tried.Came
	p := t.Probe()
	t.Agrees = api.Agrees(t.Came, t.Admitted, listened != nil && listened.Answers(p.Protocol), p.Protocol)
	if tried.Failed != "" {
		return tried.Failed
	}
	return "it was " + t.Came + ", which may be since nobody listens there"
}

// OtherSources are the trials of a wave, by their index, that were opened from another address
// than was thought: what the policy says of that has to be observed.
func OtherSources(w api.Wave, tasks map[int64]api.TaskStatus) (out []int) {
	for i, t := range w.Trials {
		if r := tasks[t.Task].Result; t.Task != 0 && r != nil && r.From != "" && r.From != t.Source {
			out = append(out, i)
		}
	}
	return out
}

// proven notes what a connection showed of a statement.
func (m *machine) proven(t api.Trial) {
	for i := range m.Proofs {
		p := &m.Proofs[i]
		switch {
		case t.Change == "" || p.Statement != t.For:
		case t.Admitted:
			p.Passed = t.Connection()
		default:
			p.Refused = t.Connection()
		}
	}
}

// unproven says of which statements nothing, or only half, was shown.
func unproven(proofs []api.Proof) (left []string) {
	for _, p := range proofs {
		missing := ""
		switch {
		case p.Passed == "" && p.Refused == "":
			missing = "none of the hosts that attend and are settled can open a connection that shows it"
		case p.Passed == "":
			missing = "no connection that must pass could be tried"
		case p.Refused == "":
			missing = "no connection that must be refused could be tried"
		default:
			continue
		}
		left = append(left, fmt.Sprintf("%s, which is %s: %s", p.Statement, p.Change, missing))
	}
	return left
}

// PairOf is the pair that a wave puts in force; 0 where hosts get back different ones.
func PairOf(w api.Wave) (number int64) {
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
