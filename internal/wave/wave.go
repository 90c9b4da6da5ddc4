package wave

import (
	"fmt"
	"net/netip"
	"slices"
	"time"

	"yellowfence.example/yfence/api"
)

// The times and counts of a wave.
const (
	// TaskWithin is the time that a host has for anything it is asked to do.
	TaskWithin = 30 * time.Second
	// CloudWithin is the time that a cloud has to put in force what it is asked for.
	CloudWithin = 5 * time.Minute
	// Tries is how often a connection is tried that does not come out as it should: it may
	// fail for reasons that are not the filter's.
	Tries = 3

	listenFor = "10s"           // as short as may be: a service that starts needs its port
	byItself  = 5 * time.Second // a change with less time left needs no task to be undone
)

// Observed is what is known when a step is taken. Only what [NeedsOf] names has to be there.
type Observed struct {
	Agents    map[string]Agent         // by host
	Tasks     map[int64]api.TaskStatus // by number
	Asked     map[string]Asked         // by subject
	Ways      map[string]Ways          // by subject
	Instances map[string]Instance      // by subject
	Chosen    *Chosen                  // what to try after this step
	Sources   map[int]Verdict          // by trial: of the address that it really came from
	Outage    Outage

	// Number gives a number that no task has yet.
	Number func() int64
}

// An Agent is what the program on a host last said.
type Agent struct {
	AskedAt time.Time       // when it last asked for tasks; zero if never
	Pair    int64           // the pair that its last change puts in force
	Change  *api.HostChange // its last change, nil if there is none
}

// Asked is which pairs a host or an instance was asked to put in force; 0 is none.
type Asked struct{ Pair, Previous int64 }

// Ways are the ways in to a host, by the pair that the wave puts in force there.
type Ways struct {
	In   []Way    // admitted, from hosts whose agents ask for tasks
	Away []string // hosts that may log in there, but do not ask for tasks; the first few
}

// TheService is who opens a connection from the service itself; no host is called that.
const TheService = "the service"

// A Way is a connection that logs in.
type Way struct {
	From   string     // a host, or TheService
	Source netip.Addr // the address it is opened from, of TheService; else the host knows it
	To     netip.AddrPort
}

// An Instance is what a cloud says of one.
type Instance struct {
	ID      string
	Unknown bool   // the pair's fleet has no such host
	Gone    bool   // the cloud has no such instance
	Failed  string // why the cloud could not put it in force
	InForce bool   // what it was last asked for is in force
	Failing string // why the cloud cannot be read
}

// A Verdict is what the policy says of a connection, or why it gives no single one.
type Verdict struct {
	Admitted bool
	Unclear  string
}

// Chosen is what to try after a step.
type Chosen struct {
	Statements []api.Proof // that came, went or changed on its hosts; nothing is shown of them yet
	Trials     []api.Trial
	Left       []string // what could not be tried, and why
}

// Commands are what has to be done besides storing the wave. They are stored with it, or not
// at all.
type Commands struct {
	Tasks []api.Task // to hand to hosts; they are numbered, but not signed
	Asks  []Ask      // to note: what a host or an instance is to have in force from now on
}

// An Ask is a pair that a subject is to put in force.
type Ask struct {
	Subject string
	Pair    int64
}

// Needs is what has to be observed before the next step of a wave.
type Needs struct {
	Tasks     []int64
	Asked     []string       // subjects
	Ways      []api.WaveHost // whose ways in are needed: one more of each than have failed
	Instances []api.WaveHost
	Trials    bool // what to try is to be chosen
}

// NeedsOf is what has to be known to take the next step of a wave.
func NeedsOf(w api.Wave) (n Needs) {
	// What a host of this step waits for depends on how far it has come.
	task := func(id int64) {
		if id != 0 {
			n.Tasks = append(n.Tasks, id)
		}
	}
	all := true
	for _, h := range w.Hosts {
		if h.Step != w.Step {
			continue
		}
		all = all && settled(h)
		switch h.Phase {
		case api.HostDue:
			n.Asked = append(n.Asked, h.Subject())
		case api.HostAsked:
			task(h.Task)
			if h.Cloud != "" {
				n.Instances = append(n.Instances, h)
			}
		case api.HostInForce:
			if h.Why == "" {
				n.Ways = append(n.Ways, h)
			}
		case api.HostProbed, api.HostKeeping:
			task(h.Task)
			task(h.Probe)
		}
		if h.Cloud != "" && undoable(h) {
			n.Asked = append(n.Asked, h.Subject())
		}
	}
	// Once all are settled: what the step changed, to choose from, and how those that are tried stand.
	if all && !w.SkipProbes {
		n.Trials = w.Rounds == 0
		for _, t := range w.Trials {
			task(t.Listen)
			task(t.Task)
		}
	}
	slices.Sort(n.Tasks)
	n.Tasks = slices.Compact(n.Tasks)
	return n
}

// settled says that a step waits for nothing more of a host.
func settled(h api.WaveHost) bool { return h.Phase == api.HostKept || h.Phase == api.HostAbsent }

// machine is a wave while its next step is worked out.
type machine struct {
	api.Wave
	seen Observed
	now  time.Time
	todo Commands
}

// begin copies what a step may change.
func begin(w api.Wave, seen Observed, now time.Time) *machine {
	w.Hosts, w.Trials = slices.Clone(w.Hosts), slices.Clone(w.Trials)
	w.Proofs, w.Left = slices.Clone(w.Proofs), slices.Clone(w.Left)
	return &machine{Wave: w, seen: seen, now: now}
}

// Next takes the next step of a wave that runs. The wave it is given is not changed; a wave
// that does not run is given back as it is.
func Next(w api.Wave, seen Observed, now time.Time) (api.Wave, Commands) {
	if w.State != api.WaveRunning {
		return w, Commands{}
	}
	m := begin(w, seen, now)
	done := true
	for i := range m.Hosts {
		h := &m.Hosts[i]
		if h.Step != m.Step {
			continue
		}
		if m.host(h); h.Phase == api.HostFailed || h.Phase == api.HostBack {
			m.stop(fmt.Sprintf("%s %s: %s", h.Name, h.Phase, h.Why))
			return m.Wave, m.todo
		}
		done = done && settled(*h)
	}
	if done && !m.SkipProbes {
		done = m.trials()
	}
	switch {
	case !done || m.State != api.WaveRunning:
	case m.PauseBetween:
		m.State = api.WaveWaiting
	default:
		m.goOn()
	}
	return m.Wave, m.todo
}

// task asks a host to do something, within TaskWithin, and gives the task's number.
func (m *machine) task(t api.Task) int64 {
	t.ID = m.seen.Number()
	if t.Until.IsZero() {
		t.Until = m.now.Add(TaskWithin)
	}
	m.todo.Tasks = append(m.todo.Tasks, t)
	return t.ID
}

// ask notes that a host is to have a pair, once the state is stored.
func (m *machine) ask(subject string, pair int64) {
	m.todo.Asks = append(m.todo.Asks, Ask{subject, pair})
}

// over says that a task is done, or that nobody did it in its time.
func (m *machine) over(t api.TaskStatus) bool { return t.Done != nil || !m.now.Before(t.Until) }
