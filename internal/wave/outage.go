package wave

import (
	"time"

	"yellowfence.example/yfence/api"
)

// How long a host may say nothing.
const (
	// Silence is how long a host may be silent and still counts as there: twice the time
	// that its question for tasks is held.
	Silence = 2 * LongestWait
	// LongestWait is how long a host's question for tasks is held. Proxies end a connection
	// that says nothing for longer.
	LongestWait = 25 * time.Second
	// AfterOutage is how long hosts may take to be heard again after an outage: they ask less
	// and less often while nobody answers.
	AfterOutage = 150 * time.Second
)

// An Outage is the last time that the service could hear nobody: its database was away, or the
// service itself was not there or frozen. What hosts did not say then counts against none of them.
type Outage struct {
	From, End time.Time // End is zero while it lasts
}

// Excuses says that a host which was last heard at a time need not have been heard since: it
// was there when the outage began, and that ended only just now.
func (o Outage) Excuses(heard, now time.Time) bool {
	return (o.End.IsZero() || now.Sub(o.End) < AfterOutage) && !heard.IsZero() && o.From.Sub(heard) < Silence
}

// Since says that there was an outage after a time.
func (o Outage) Since(at time.Time) bool { return o.End.IsZero() || o.End.After(at) }

// HeardSince says that a host that was heard at a time was heard after the outage.
func (o Outage) HeardSince(at time.Time) bool { return !o.End.IsZero() && at.After(o.End) }

// excuse is what to make of a task that nobody answered in its time.
type excuse int

// What is to be thought of a task whose time is over.
const (
	inVain   excuse = iota // the host had its time
	waitOn                 // it could not be heard, and may be soon
	askAgain               // it could not be heard, and is there again without having done it
)

// excused says whether a host that did not answer could be heard at all.
func (m *machine) excused(t api.TaskStatus, a Agent) excuse {
	o := m.seen.Outage
	switch {
	case !o.Since(t.Asked):
		return inVain
	case o.HeardSince(a.AskedAt):
		if a.Change != nil && a.Change.Task == t.ID {
			return waitOn // it has begun
		}
		return askAgain
	case o.Excuses(a.AskedAt, m.now):
		return waitOn
	}
	return inVain
}
