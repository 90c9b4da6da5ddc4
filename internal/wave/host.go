package wave

import (
	"fmt"
	"strings"

	"yellowfence.example/yfence/api"
)

// host takes the next step of one host: by what it was asked to do, and what it said of it.
func (m *machine) host(h *api.WaveHost) {
	if h.Cloud != "" {
		m.instance(h)
		return
	}
	a := m.seen.Agents[h.Name]
	if h.Phase == api.HostAsked && a.Change != nil && a.Change.Task == h.Task {
		h.Change = a.Change.ID // it may be all that we hear
	}
	if c := a.Change; h.Change != "" && c != nil && c.ID == h.Change {
		switch c.Phase {
		case api.WentBack:
			h.Phase, h.Why = api.HostBack, c.Why
			return
		case api.Kept: // a person may have been faster
			h.Phase, h.Why = api.HostKept, c.Why
			return
		}
	}
	switch h.Phase {
	case api.HostDue:
		m.due(h, a)
	case api.HostAsked:
		m.asked(h, a)
	case api.HostInForce:
		m.inForce(h)
	case api.HostProbed:
		m.probed(h, a)
	case api.HostKeeping:
		m.keeping(h, a)
	}
}

// fail ends a host's part of the wave without its change.
func fail(h *api.WaveHost, why string) { h.Phase, h.Why = api.HostFailed, why }

// due asks a host to settle.
func (m *machine) due(h *api.WaveHost, a Agent) {
	m.had(h, a)
	m.ask(h.Name, h.Pair)
	h.Phase, h.Task = api.HostAsked, m.task(api.Task{Host: h.Name, Do: api.DoSettle, Pair: h.Pair, Within: m.Within, Force: m.Force,
		Why: fmt.Sprintf("wave %d", m.Number), Until: m.now.Add(2 * TaskWithin)})
}

// had notes what a host had before: what it was last asked for, or what was before that, if
// that was undone.
func (m *machine) had(h *api.WaveHost, a Agent) {
	if h.Had != 0 { // it is asked again
		return
	}
	last := m.seen.Asked[h.Subject()]
	h.Had = last.Pair
	if c := a.Change; c != nil && a.Pair == last.Pair && c.Kind == api.ChangeSettle && c.Phase == api.WentBack {
		h.Had = last.Previous
	}
}

// asked looks what became of the task to settle.
func (m *machine) asked(h *api.WaveHost, a Agent) {
	t := m.seen.Tasks[h.Task]
	switch {
	case !m.over(t):
	case t.Done == nil:
		switch m.excused(t, a) {
		case askAgain:
			h.Phase = api.HostDue // it never took the task
		case inVain:
			fail(h, "it did not answer")
		}
	case t.Result.Failed != "":
		fail(h, t.Result.Failed)
	case t.Result.Change == nil:
		fail(h, "it did not say how the change stands")
	default:
		h.Phase, h.Change, h.Said = api.HostInForce, t.Result.Change.ID, t.Result.Said
	}
}

// inForce has the host listen at its way in, so that another can open a new connection there.
func (m *machine) inForce(h *api.WaveHost) {
	if h.Why != "" { // it waits for a person
		return
	}
	way, ok := m.wayIn(h)
	if !ok {
		if away := m.seen.Ways[h.Subject()].Away; len(away) > 0 {
			h.Why = fmt.Sprintf("%s may log in there, but does not poll the service; the host waits for a person who logs in and runs "+
				"yfence keep", strings.Join(away, ", "))
			return
		}
		h.Why = "by this revision no other host may log in there, nor the service; the host waits for a person who logs in and runs " +
			"yfence keep"
		return
	}
	h.Task = m.task(api.Task{Host: h.Name, Do: api.DoListen, Probe: probeOf(way), Within: TaskWithin.String()})
	h.Phase, h.Prober, h.To, h.Probe = api.HostProbed, way.From, way.To.String(), 0
}

// wayIn is the way in to try now: of several another each time.
func (m *machine) wayIn(h *api.WaveHost) (Way, bool) {
	ways := m.seen.Ways[h.Subject()].In
	if len(ways) == 0 {
		return Way{}, false
	}
	return ways[min(h.Tried, len(ways)-1)], true
}

// probeOf is the connection that shows that a way in is open.
func probeOf(w Way) *api.Probe {
	p := &api.Probe{Protocol: "tcp", To: w.To.Addr().String(), Port: int(w.To.Port())}
	if w.Source.IsValid() {
		p.From = w.Source.String()
	}
	return p
}

// probed has another host open a connection to the way in; once that is open, the host is
// asked to keep what it has in force.
func (m *machine) probed(h *api.WaveHost, a Agent) {
	if h.Probe == 0 {
		t := m.seen.Tasks[h.Task]
		switch {
		case !m.over(t):
		case t.Done != nil:
			h.Probe = m.task(api.Task{Host: h.Prober, Do: api.DoProbe, Probe: t.Probe})
		default:
			m.unanswered(h, t, a, "it no longer answers")
		}
		return
	}
	t := m.seen.Tasks[h.Probe]
	if !m.over(t) {
		return
	}
	if t.Done == nil || t.Result.Came != api.Answered {
		if h.Tried++; h.Tried < Tries {
			h.Phase = api.HostInForce
			return
		}
		came := m.shut(h, t)
		m.task(api.Task{Host: h.Name, Do: api.DoTakeBack, Change: h.Change, Why: came})
		fail(h, came)
		return
	}
	proof := &api.KeepProof{Change: h.Change, From: h.Prober, To: h.To}
	h.Task = m.task(api.Task{Host: h.Name, Do: api.DoKeep, Change: h.Change, Proof: proof})
	h.Phase = api.HostKeeping
}

// shut says what came of the last connection to a way in.
func (m *machine) shut(h *api.WaveHost, t api.TaskStatus) string {
	if t.Done == nil {
		return h.Prober + " did not answer"
	}
	return fmt.Sprintf("the way in is shut: a new connection from %s to %s was %s", h.Prober, h.To, t.Result.Came)
}

// unanswered is what becomes of a host that has rules in force and did not answer a task.
func (m *machine) unanswered(h *api.WaveHost, t api.TaskStatus, a Agent, why string) {
	switch m.excused(t, a) {
	case askAgain:
		h.Phase = api.HostInForce
	case inVain:
		fail(h, why)
	}
}

// keeping looks whether the host keeps what is in force.
func (m *machine) keeping(h *api.WaveHost, a Agent) {
	t := m.seen.Tasks[h.Task]
	switch {
	case !m.over(t):
	case t.Done == nil:
		m.unanswered(h, t, a, "it did not answer when it was to keep it")
	case t.Result.Failed != "":
		fail(h, t.Result.Failed)
	default:
		h.Phase, h.Why = api.HostKept, fmt.Sprintf("%s opened a connection to %s", h.Prober, h.To)
	}
}
