package host

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"slices"
	"sync"
	"time"

	"golang.org/x/sys/unix"

	"yellowfence.example/yfence/api"
	"yellowfence.example/yfence/internal/host/inventory"
)

// A watchdog is a process of its own that watches one change: it holds in memory what
// was in force before, and puts that back unless the change is kept in time. A second
// one stands by, and takes over when the first is gone or hangs. What both would have to
// know lies on disk too (see waiting), for whoever comes when both are gone.
type watchdog struct {
	waiting

	mu    sync.Mutex
	state api.HostChange // changed by watch alone

	timer    int           // a timerfd of CLOCK_BOOTTIME, which no clock that is set moves and which runs on in sleep
	ticks    chan struct{} // it went off
	requests chan request
}

// request is what is asked of a watchdog, over its socket.
type request struct {
	Do    string         `json:"do"` // begun, keep, back, state
	Why   string         `json:"why,omitempty"`
	Proof *api.KeepProof `json:"proof,omitempty"` // by the service, that somebody came in
	// Console says that whoever asks sits at the machine.
	Console bool `json:"console,omitempty"`
	// Locked says that whoever asks holds the machine's lock until he is answered.
	Locked bool `json:"locked,omitempty"`

	pid    int
	answer chan answer
}

// answer is what a watchdog says to a request: how the change stands, or what went wrong.
type answer struct {
	State api.HostChange `json:"state"`
	Error string         `json:"error,omitempty"`
}

// The times of a watchdog, and what it prints when it is ready.
const (
	standbyGrace  = 3 * time.Second  // past the end, before the one that stands by takes over from one that hangs
	lockPatience  = 10 * time.Second // before whoever holds the lock and hangs is killed
	commandLook   = 250 * time.Millisecond
	watchdogReady = "watching"
)

// Watch is the life of a watchdog. It says on out that it watches, and ends when the change
// is kept or has gone back. One that stands by does so until the other is gone.
func (m *Machine) Watch(change string, standby bool, out io.Writer) (err error) {
	defer func() {
		if err != nil {
			_, _ = fmt.Fprintln(out, err) // whoever began it tells
		}
	}()
	w := &watchdog{requests: make(chan request), ticks: make(chan struct{}, 1)}
	if over, err := w.read(m, change); over || err != nil {
		return err
	}
	// A machine that runs out of memory or swaps to a disk that is gone must still go back.
	_ = unix.Mlockall(unix.MCL_CURRENT | unix.MCL_FUTURE | unix.MCL_ONFAULT)
	_ = os.WriteFile("/proc/self/oom_score_adj", []byte("-999"), 0)
	if w.timer, err = unix.TimerfdCreate(unix.CLOCK_BOOTTIME, unix.TFD_CLOEXEC); err != nil {
		return err
	}
	go w.tick()
	if standby {
		if follows, err := w.standBy(out); !follows || err != nil {
			return err
		}
		if over, err := w.read(m, change); over || err != nil { // whom it follows may have noted more
			return err
		}
	} else if first, err := w.take(w.lockName("watchdog"), false); err != nil {
		return err
	} else if first == nil { // another watches
		_, err = fmt.Fprintln(out, watchdogReady)
		return err
	}
	// From here on this is the one that decides.
	w.state = w.Change
	if c, err := w.resume(&w.waiting); err != nil {
		return err
	} else if w.state = c; Ended(c) {
		return w.finish(c)
	}
	_ = os.Remove(w.socket())
	l, err := net.ListenUnix("unix", &net.UnixAddr{Name: w.socket(), Net: "unix"})
	if err != nil {
		return err
	}
	defer func() { _ = l.Close() }()
	go w.listen(l)
	if standby && !w.managed() { // else it is systemd that begins this one again
		_ = w.startWatchdog(true) // where the program is gone from the disk, this one is the last
	}
	if !standby {
		if _, err := fmt.Fprintln(out, watchdogReady); err != nil {
			return err
		}
	}
	w.watch()
	return nil
}

// read reads the change that is to be watched.
func (w *watchdog) read(m *Machine, change string) (over bool, err error) {
	p, err := m.readWaiting()
	if err != nil || p == nil || p.Change.ID != change {
		return true, err
	}
	w.waiting = *p
	return false, nil
}

// standBy waits until the watchdog that watches is gone. One that hangs when the time is
// over is killed. It does not follow where another stands by already.
func (w *watchdog) standBy(out io.Writer) (follows bool, err error) {
	one, err := w.take(w.lockName("standby"), false)
	if err != nil {
		return false, err
	}
	if _, err := fmt.Fprintln(out, watchdogReady); err != nil || one == nil {
		return false, err
	}
	defer func() { _ = one.Close() }()
	got := make(chan error, 1)
	go func() { // the kernel gives it as soon as the other ends, however that was
		_, err := w.take(w.lockName("watchdog"), true)
		got <- err
	}()
	due := w.Deadline + standbyGrace
	for {
		w.alarm(due)
		select {
		case err := <-got:
			return true, err
		case <-w.ticks:
			if bootClock() < due {
				continue
			}
			if _, err := w.ask(request{Do: "state"}); err != nil {
				w.killHolder(w.lockName("watchdog"))
			}
			due = bootClock() + standbyGrace // it is at work
		}
	}
}

// alarm has the timer go off at a time of the machine's boot clock.
func (w *watchdog) alarm(at time.Duration) {
	left := max(at-bootClock(), 1) // 0 would disarm it
	due := unix.ItimerSpec{Value: unix.NsecToTimespec(left.Nanoseconds())}
	if err := unix.TimerfdSettime(w.timer, 0, &due, nil); err != nil {
		go func() { time.Sleep(left); w.ticks <- struct{}{} }()
	}
}

// tick tells when the timer goes off.
func (w *watchdog) tick() {
	b := make([]byte, 8)
	for {
		if _, err := unix.Read(w.timer, b); err == nil {
			w.ticks <- struct{}{}
		} else if !errors.Is(err, unix.EINTR) {
			return
		}
	}
}

// watch waits for what is asked, or for the end of the time.
func (w *watchdog) watch() {
	w.alarm(w.Deadline)
	look := time.NewTicker(commandLook)
	defer look.Stop()
	if w.state.Phase == api.GoingBack { // the one before was at it
		w.goBack(w.state.Why, false)
	}
	for !Ended(w.state) {
		select {
		case r := <-w.requests:
			err := w.obey(r)
			a := answer{State: w.state}
			if Ended(w.state) {
				_ = w.finish(w.state) // else it is tried again below
			}
			if err != nil {
				a.Error = err.Error()
			}
			r.answer <- a
			<-r.answer // it was told
		case <-w.ticks:
			if bootClock() < w.Deadline {
				continue // it was an earlier one
			}
			why := fmt.Sprintf("nobody kept it within %s", w.Within)
			if w.Kept == nil {
				why = "its time is over"
			}
			w.goBack(why, false)
		case <-look.C:
			if w.state.Phase != api.Changing {
				look.Stop()
				continue
			}
			// Whoever makes the change holds the lock until it is made.
			if unlock, err := w.lock(); err == nil {
				w.goBack("the command that made it ended before it was done", true)
				unlock()
			}
		}
	}
	// What became of it is told on disk; where that is full, to whoever asks for a while.
	for try := 0; w.finish(w.state) != nil && try < 720; try++ {
		select {
		case r := <-w.requests:
			r.answer <- answer{State: w.state}
			<-r.answer
		case <-time.After(5 * time.Second):
		}
	}
}

// now is how the change is.
func (w *watchdog) now() api.HostChange {
	w.mu.Lock()
	defer w.mu.Unlock()
	return w.state
}

// become changes how the change is.
func (w *watchdog) become(change func(c *api.HostChange)) {
	w.mu.Lock()
	defer w.mu.Unlock()
	change(&w.state)
}

// Ended says that a change is over: it was kept, or undone.
func Ended(c api.HostChange) bool { return c.Phase == api.Kept || c.Phase == api.WentBack }

// obey does what a request asks, with the change's lock held.
func (w *watchdog) obey(r request) error {
	switch r.Do {
	case "begun":
		s, err := inventory.OpenSockets()
		if err != nil {
			return err
		}
		w.become(func(c *api.HostChange) { c.Phase = api.InForceYet })
		w.Before = append(w.Before, s.Open...) // those opened while it was made prove nothing either
		_ = w.writeWaiting(&w.waiting)         // the disk may have filled up meanwhile
		_ = w.note(w.state)
	case "keep":
		return w.keep(r)
	case "back":
		w.goBack(r.Why, r.Locked)
	}
	return nil
}

// keep makes the change last, if whoever asks came in after it was made. That it is kept
// is so as soon as it is the boot copy: whoever takes over from here reads it there.
func (w *watchdog) keep(r request) error {
	if w.Kept == nil {
		return fmt.Errorf("%s is not there to be kept: it ends by itself", w.state.What)
	}
	if w.state.Phase != api.InForceYet {
		return fmt.Errorf("%s is not in force yet", w.state.What)
	}
	over, err := w.proof(r)
	if err != nil {
		return err
	}
	kept := *w.Kept
	kept.Change = w.state
	kept.Change.Phase, kept.Change.Why, kept.Change.Ended = api.Kept, over, new(time.Now().UTC())
	if err := w.writeKept(&kept); err != nil {
		return fmt.Errorf("what is kept must be there after a reboot too, and cannot be written: %w", err)
	}
	w.become(func(c *api.HostChange) { *c = kept.Change })
	return nil
}

// proof says how it is proven that the way in is open.
func (w *watchdog) proof(r request) (string, error) {
	if r.Proof != nil {
		if r.Proof.Change != w.state.ID {
			return "", errors.New("the service's word is about another change")
		}
		return r.Proof.String(), r.Proof.Verify(w.Pins)
	}
	s, err := inventory.OpenSockets()
	if err != nil {
		return "", err
	}
	came := s.CameBy(r.pid)
	over := "no connection"
	if at := inventory.InterfacesByAddress(); len(came) > 0 {
		own := func(c inventory.Connection) bool { return c.Remote.Addr().IsLoopback() || at[c.Remote.Addr()] != "" }
		over = fmt.Sprintf("the connection %s, which the host has to itself", came[0])
		came = slices.DeleteFunc(came, own) // who is in already shows nothing
	}
	if len(came) == 0 {
		if r.Console && w.OwnConsole {
			return "from the machine's own console", nil
		}
		hint := ""
		if w.OwnConsole {
			hint = "; if you sit at the machine itself, say --at-console"
		}
		return "", fmt.Errorf("this keep came over %s, so it does not show that the way in is open: log in again from elsewhere, and "+
			"keep the change there (not in a terminal that was open before)%s", over, hint)
	}
	for _, c := range came {
		if slices.Contains(w.Before, c) {
			return "", fmt.Errorf("this keep came over the connection %s, which was open before the change: log in again, over a "+
				"connection of its own, and keep the change there", c)
		}
	}
	return "over " + came[0].String(), nil
}

// goBack puts back what was in force before. What does not go back at once is tried again.
func (w *watchdog) goBack(why string, locked bool) {
	w.become(func(c *api.HostChange) { c.Phase, c.Why = api.GoingBack, why })
	_ = w.note(w.state) // whoever takes over goes on with it
	if !locked {
		unlock := w.lockAnyway(lockPatience) // somebody may be in the middle of something
		defer unlock()
	}
	wait := time.Second
	for begin := time.Now(); ; wait = min(2*wait, time.Minute) {
		err := w.putBack(context.Background())
		if err == nil {
			break
		}
		w.become(func(c *api.HostChange) {
			c.Why = fmt.Sprintf("%s; it does not go back, and is tried again: %s", why, err)
		})
		_ = w.note(w.state)
		if time.Since(begin) > 24*time.Hour {
			return
		}
		time.Sleep(wait)
	}
	if w.differs(context.Background()) {
		why += "; what is listed of ours is not what was listed before: see yfence copies"
	}
	w.become(func(c *api.HostChange) { c.Phase, c.Why, c.Ended = api.WentBack, why, new(time.Now().UTC()) })
}

// listen takes requests, each by a goroutine of its own, until it is closed.
func (w *watchdog) listen(l *net.UnixListener) {
	for {
		c, err := l.AcceptUnix()
		if err != nil {
			return
		}
		go func() {
			defer func() { _ = c.Close() }()
			_ = c.SetDeadline(time.Now().Add(time.Minute))
			r := request{answer: make(chan answer)}
			pid, err := peer(c)
			if err != nil || json.NewDecoder(io.LimitReader(c, maxRequest)).Decode(&r) != nil {
				return
			}
			if r.Do == "state" { // whatever else it is at
				_ = json.NewEncoder(c).Encode(answer{State: w.now()})
				return
			}
			r.pid = pid
			w.requests <- r
			_ = json.NewEncoder(c).Encode(<-r.answer)
			r.answer <- answer{}
		}()
	}
}

// maxRequest bounds what is read of a request, in bytes.
const maxRequest = 64 << 10

// peer is the process at the other end, as the kernel says.
func peer(c *net.UnixConn) (pid int, err error) {
	raw, err := c.SyscallConn()
	if err != nil {
		return 0, err
	}
	var cred *unix.Ucred
	if e := raw.Control(func(fd uintptr) { cred, err = unix.GetsockoptUcred(int(fd), unix.SOL_SOCKET, unix.SO_PEERCRED) }); e != nil ||
		err != nil {
		return 0, errors.Join(e, err)
	}
	return int(cred.Pid), nil
}
