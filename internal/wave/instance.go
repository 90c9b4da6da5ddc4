package wave

import (
	"cmp"
	"fmt"
	"slices"

	"yellowfence.example/yfence/api"
)

// instance takes the next step of a host's instance: the cloud is asked for its groups, and
// once they are in force another host opens a new connection by a way in. The cloud can be
// asked whatever the groups admit, so that nothing need be undone by itself.
func (m *machine) instance(h *api.WaveHost) {
	switch h.Phase {
	case api.HostDue:
		m.had(h, Agent{})
		h.Phase, h.Until = api.HostAsked, new(m.now.Add(CloudWithin))
		m.ask(h.Subject(), h.Pair)
	case api.HostAsked:
		m.instanceAsked(h)
	case api.HostInForce:
		m.instanceInForce(h)
	case api.HostProbed:
		m.instanceProbed(h)
	}
}

// failInstance asks for what an instance had before, and says why.
func (m *machine) failInstance(h *api.WaveHost, why string) {
	m.instanceBack(h, why)
	h.Phase, h.Why = api.HostFailed, cmp.Or(h.Why, why)
}

// instanceAsked waits until the cloud has put an instance's groups in force.
func (m *machine) instanceAsked(h *api.WaveHost) {
	i, known := m.seen.Instances[h.Subject()]
	switch {
	case !known: // it could not be looked at
	case i.Unknown:
		m.failInstance(h, fmt.Sprintf("it is not in the fleet of pair %d", h.Pair))
	case i.Gone: // nobody is open by that
		h.Phase, h.Why = api.HostAbsent, fmt.Sprintf("%s has no instance %s", h.Cloud, i.ID)
	case i.Failed != "":
		m.failInstance(h, i.Failed)
	case i.InForce:
		h.Phase, h.Said = api.HostInForce, nil
	case m.now.After(*h.Until):
		why := cmp.Or(i.Failing, "some of what was asked for is not in force")
		m.failInstance(h, fmt.Sprintf("%s did not have it in force within %s: %s", h.Cloud, CloudWithin, why))
	}
}

// instanceInForce tries the way in to an instance whose groups are in force, by a host that may
// log in there. Where hosts of the same step have no kept change yet it waits for these: they
// may be the only way.
func (m *machine) instanceInForce(h *api.WaveHost) {
	way, ok := m.wayIn(h)
	switch {
	case ok:
		h.Phase, h.Prober, h.To = api.HostProbed, way.From, way.To.String()
		h.Probe = m.task(api.Task{Host: way.From, Do: api.DoProbe, Probe: probeOf(way)})
	case slices.ContainsFunc(m.Hosts, func(o api.WaveHost) bool { return o.Step == h.Step && o.Cloud == "" && o.Phase != api.HostKept }):
		// it is kept with the hosts of its step, or undone with them
	default:
		h.Phase, h.Why = api.HostKept, h.Cloud+" has it in force; by this revision no other host may log in there, so that it is not tried"
	}
}

// instanceProbed takes what came of that: kept, tried by another host, or back.
func (m *machine) instanceProbed(h *api.WaveHost) {
	t := m.seen.Tasks[h.Probe]
	if !m.over(t) {
		return
	}
	if t.Done != nil {
		switch t.Result.Came {
		case api.Answered:
			h.Phase, h.Why = api.HostKept, fmt.Sprintf("%s has it in force; %s opened a connection to %s", h.Cloud, h.Prober, h.To)
			return
		case "refused": // it got there: a group refuses without a word
			h.Phase, h.Why = api.HostKept, fmt.Sprintf("%s has it in force; %s got to %s, where nothing listens", h.Cloud, h.Prober, h.To)
			return
		}
	}
	if h.Tried++; h.Tried < Tries {
		h.Phase = api.HostInForce
		return
	}
	m.failInstance(h, m.shut(h, t))
}

// undoable says that a host or instance may have something in force that is not kept.
func undoable(h api.WaveHost) bool {
	return h.Phase == api.HostAsked || h.Phase == api.HostInForce || h.Phase == api.HostProbed
}

// instanceBack asks for what an instance had before, where that was ours. What was there before
// anybody asked for anything stays away: whoever is cut off by that can ask the cloud.
func (m *machine) instanceBack(h *api.WaveHost, why string) {
	if !undoable(*h) {
		return
	}
	previous := m.seen.Asked[h.Subject()].Previous
	if previous == 0 {
		fail(h, why+"; nothing of ours was in force there before that could be put back")
		return
	}
	h.Phase, h.Why = api.HostBack, why
	m.ask(h.Subject(), previous)
}
