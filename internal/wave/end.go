package wave

import (
	"fmt"
	"time"

	"yellowfence.example/yfence/api"
)

// GoOn lets a wave go on that waits after a step.
func GoOn(w api.Wave, now time.Time) api.Wave {
	m := begin(w, Observed{}, now)
	m.goOn()
	return m.Wave
}

// goOn goes to the next step, or ends the wave behind the last.
func (m *machine) goOn() {
	if m.State = api.WaveRunning; m.Step == m.Steps {
		m.State, m.Ended = api.WaveDone, new(m.now.UTC())
		return
	}
	m.Step++
	m.Trials, m.Rounds = nil, 0
}

// Stop ends a wave: what is in force on a host and not kept is undone at once. It needs what
// NeedsOf names of Asked, and the agents.
func Stop(w api.Wave, seen Observed, why string, now time.Time) (api.Wave, Commands) {
	m := begin(w, seen, now)
	m.stop(why)
	return m.Wave, m.todo
}

// SetAside ends a wave that cannot be stepped, and asks nobody anything: what is not kept is
// undone by the hosts themselves.
func SetAside(w api.Wave, why string, now time.Time) api.Wave {
	w.State, w.Stopped, w.Ended = api.WaveStopped, why, new(now.UTC())
	return w
}

// stop stops the wave: hosts whose change is in force and not kept take it back, instances get
// the groups that they had before.
func (m *machine) stop(why string) {
	m.State, m.Stopped, m.Ended = api.WaveStopped, why, new(m.now.UTC())
	for i := range m.Hosts {
		h := &m.Hosts[i]
		if h.Cloud != "" {
			m.instanceBack(h, "the wave stopped")
			continue
		}
		switch h.Phase {
		case api.HostInForce, api.HostProbed, api.HostKeeping:
			c := m.seen.Agents[h.Name].Change
			if c != nil && c.ID == h.Change && c.Until.Sub(m.now) < byItself {
				h.Phase, h.Why = api.HostBack, "it goes back by itself"
				continue
			}
			m.task(api.Task{Host: h.Name, Do: api.DoTakeBack, Change: h.Change, Why: fmt.Sprintf("wave %d stopped: %s", m.Number, why)})
			h.Phase, h.Why = api.HostBack, "the wave stopped"
		case api.HostAsked: // if it gets to it, nobody keeps it
			h.Phase, h.Why = api.HostBack, "the wave stopped before it was in force"
		}
	}
}

// Told says in a wave that has stopped why one of its hosts undid its change.
func Told(w api.Wave, host string, c api.HostChange) api.Wave {
	m := begin(w, Observed{}, time.Time{})
	for i := range m.Hosts {
		if h := &m.Hosts[i]; w.State == api.WaveStopped && h.Name == host && h.Change == c.ID && h.Phase == api.HostBack {
			h.Why = c.Why
		}
	}
	return m.Wave
}
