package agent

import (
	"context"
	"math/rand/v2"
	"runtime/debug"
	"sync"
	"time"

	"golang.org/x/sys/unix"

	"yellowfence.example/yfence/api"
	"yellowfence.example/yfence/internal/host"
	"yellowfence.example/yfence/internal/host/inventory"
	"yellowfence.example/yfence/internal/host/tap"
)

// A Service is what an attendant says to the service. *client.Client is one.
type Service interface {
	Tasks(ctx context.Context, host string, wait time.Duration) (api.Tasks, error)
	FinishTask(ctx context.Context, host string, id int64, r api.TaskResult) error
	TellChange(ctx context.Context, host string, pair int64, change *api.HostChange, failed string) error
	PutCopies(ctx context.Context, copies api.Copies) error
}

// An Agent reports, and does what it is asked to. It
// changes no rules by itself. What takes memory it has a process of its own do, which
// is the same as a person would run by hand.
type Agent struct {
	host.Machine
	Host    string
	Service Service
	Run     func(ctx context.Context, args ...string) (output []byte, err error) // our program, with these arguments
	Every   time.Duration                                                        // how often it reports
	Told    bool                                                                 // the service says how often, instead
	Look    time.Duration                                                        // how often it looks at what raises no event
	Seen    bool                                                                 // it listens to which connections begin
	Say     func(format string, args ...any)

	report chan struct{} // a report is due

	mu     sync.Mutex
	told   string        // the change that was told last, as JSON
	done   []int64       // tasks that were done, so that none is done twice
	every  time.Duration // that the service last said; 0 if it did not
	hangUp func()        // ends the question for tasks that is open, or the wait for the next

	hush []func() // closes what listens for probes of the change that is made now
}

// longPoll is how long the service may hold a question for tasks.
const longPoll = 25 * time.Second

// Attend serves until ctx ends: it reports what is in force, asks for tasks and does them, and
// watches the units that rules name. The error says why it could not begin.
func (a *Agent) Attend(ctx context.Context) error {
	if err := a.Ready(); err != nil {
		return err
	}
	if err := a.ReadFile(host.DoneFile, &a.done); err != nil {
		a.Say("what was done before is not known: %v", err)
	}
	debug.SetGCPercent(30) // it waits most of the time, and is to take little room
	a.report, a.hangUp = make(chan struct{}, 1), func() {}
	changed := make(chan struct{}, 1)
	if err := inventory.Changes(ctx, unix.NETLINK_NETFILTER, inventory.RuleGroups, changed); err != nil {
		a.Say("the kernel does not tell when rules change: %v", err)
	}
	moved := make(chan struct{}, 1)
	if err := inventory.Changes(ctx, unix.NETLINK_ROUTE, inventory.AddressGroups, moved); err != nil {
		a.Say("the kernel does not tell when addresses change: %v", err)
	}
	t, refused, begun := tap.Open(ctx, a.Seen)
	if refused != nil {
		a.Say("what our rules refuse is not told: %v", refused)
	}
	if begun != nil {
		a.Say("which connections begin is not told: %v", begun)
	}
	defer a.keepTraffic(t) // what came since the last report
	var all sync.WaitGroup
	for _, part := range []func(context.Context){
		func(ctx context.Context) { a.reports(ctx, t) }, a.serve, a.tellChanges, a.followUnits,
		func(ctx context.Context) { a.watch(ctx, changed) },
		func(ctx context.Context) { a.move(ctx, moved) },
	} {
		all.Go(func() { part(ctx) })
	}
	all.Wait()
	return nil
}

// due has a report made soon; one that is due already will do.
func (a *Agent) due() {
	select {
	case a.report <- struct{}{}:
	default:
	}
}

// watch has changes reported as soon as no further one comes.
func (a *Agent) watch(ctx context.Context, changed <-chan struct{}) {
	look := time.NewTicker(a.Look)
	defer look.Stop()
	last := inventory.Quiet(ctx)
	for {
		select {
		case <-ctx.Done():
			return
		case <-changed:
			for more := true; more; {
				select {
				case <-changed:
				case <-time.After(inventory.Settling):
					more = false
				case <-ctx.Done():
					return
				}
			}
			a.due()
		case <-look.C:
			if now := inventory.Quiet(ctx); now != last {
				last = now
				a.due()
			}
		}
	}
}

// followUnits has rules follow units that start anew. It is the one change that nobody
// asks for: what the rules mean stays as it was settled.
func (a *Agent) followUnits(ctx context.Context) {
	var u host.UnitWatch
	for due, failed := false, false; ; {
		select {
		case <-ctx.Done():
			return
		case <-time.After(u.Every()):
		}
		if due = u.Changed(&a.Machine) || due; !due {
			continue
		}
		_, err := a.Run(ctx, "refill")
		if err != nil && !failed && ctx.Err() == nil {
			a.Say("the rules do not follow a unit that started anew, which is tried again: %v", err)
		}
		if due, failed = err != nil, err != nil; !due {
			a.due()
		}
	}
}

// move has new addresses reported, and asks for tasks anew: whatever was open from an
// address that is gone hears nothing any more.
func (a *Agent) move(ctx context.Context, moved <-chan struct{}) {
	for {
		select {
		case <-ctx.Done():
			return
		case <-moved:
		}
		select {
		case <-ctx.Done():
			return
		case <-time.After(inventory.Settling):
		}
		a.mu.Lock()
		a.hangUp()
		a.mu.Unlock()
		a.due()
	}
}

// limit gives a context that move ends, or the time does.
func (a *Agent) limit(ctx context.Context, d time.Duration) (context.Context, context.CancelFunc) {
	limited, cancel := context.WithTimeout(ctx, d)
	a.mu.Lock()
	a.hangUp = cancel
	a.mu.Unlock()
	return limited, cancel
}

// reports has reports sent: at the beginning, when they are due, and every so often.
// Not all hosts of a fleet report in the same second.
func (a *Agent) reports(ctx context.Context, t *tap.Tap) {
	wait := time.Duration(0)
	failures := 0
	for {
		select {
		case <-ctx.Done():
			return
		case <-a.report:
		case <-time.After(wait):
		}
		a.keepTraffic(t)
		_, err := a.Run(ctx, "report", "--spool", "--output", "json")
		wait = jittered(a.interval())
		if err != nil && ctx.Err() == nil {
			failures++
			wait = min(wait, backOff(failures))
			a.Say("the report could not be sent, and is tried again in %s: %v", wait.Round(time.Second), err)
		} else {
			failures = 0
		}
	}
}

// keepTraffic puts what the kernel told since it was last asked where the next report finds it.
func (a *Agent) keepTraffic(t *tap.Tap) {
	if err := a.Saw(t.Drain()); err != nil {
		a.Say("what was refused and seen since the last report is lost: %v", err)
	}
}

// interval is how often reports are sent where nothing changes.
func (a *Agent) interval() time.Duration {
	a.mu.Lock()
	defer a.mu.Unlock()
	return a.intervalLocked()
}

// intervalLocked is the same for whoever holds mu.
func (a *Agent) intervalLocked() time.Duration {
	if a.Told && a.every > 0 {
		return a.every
	}
	return a.Every
}

// toldEvery takes over how often the service expects reports, within reason.
func (a *Agent) toldEvery(seconds int) {
	a.mu.Lock()
	defer a.mu.Unlock()
	if every := time.Duration(seconds) * time.Second; seconds > 0 && seconds <= 24*3600 && every != a.every {
		shorter := every < a.intervalLocked()
		if a.every = max(every, time.Second); a.Told && shorter {
			a.due() // the wait that is begun is too long
		}
	}
}

// jittered is a time, up to a tenth less, so that a fleet that started at once does not ask at
// once.
func jittered(d time.Duration) time.Duration {
	return d*9/10 + rand.N(d/10+1)
}

// backOff is how long to wait after so many failures in a row: from a second to two minutes.
func backOff(failures int) time.Duration {
	return jittered(min(time.Second<<min(failures-1, 7), 2*time.Minute))
}
