package host

import (
	"context"
	"crypto/ed25519"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"os/exec"
	"slices"
	"strings"
	"syscall"
	"time"

	"golang.org/x/sys/unix"

	"yellowfence.example/yfence/internal/api"
)

// A minder is a process of its own that minds one change: it holds in memory what
// was in force before, and puts that back unless the change is kept in time. It
// needs no disk, no network and nobody's process but its own for that.
type minder struct {
	charge
	state api.HostChange

	before   []Connection // open when the change was made: a keep over one of them proves nothing
	timer    int          // a timerfd of CLOCK_BOOTTIME, which no clock that is set moves and which runs on in sleep
	requests chan request
}

// charge is what a minder is given to mind.
type charge struct {
	Machine
	Change api.HostChange // as it begins
	Within time.Duration  // the time for the keep
	Back   Copy           // what was in force before
	Whole  bool           // all of it is to go back, not our rules alone
	Kept   *Kept          // what a keep makes the boot copy; nil if nothing does
	Pins   []ed25519.PublicKey
}

// request is what is asked of a minder, over its socket.
type request struct {
	Do    string         `json:"do"` // begun, keep, back, state
	Why   string         `json:"why,omitempty"`
	Proof *api.KeepProof `json:"proof,omitempty"` // by the service, that somebody came in
	// Console says that whoever asks sits at the machine.
	Console bool `json:"console,omitempty"`

	pid    int
	answer chan answer
}

type answer struct {
	State api.HostChange `json:"state"`
	Error string         `json:"error,omitempty"`
}

// startMinder begins a minder and waits until it minds.
func (m *Machine) startMinder(c charge) error {
	c.Machine = *m
	input, err := json.Marshal(c)
	if err != nil {
		return err
	}
	cmd := exec.Command(m.program(), "minder")
	cmd.Dir, cmd.SysProcAttr = "/", &syscall.SysProcAttr{Setsid: true}
	cmd.Env = []string{"PATH=" + os.Getenv("PATH"), "TZ=UTC", "GOMAXPROCS=1", "GOMEMLIMIT=32MiB"}
	in, err := cmd.StdinPipe()
	if err != nil {
		return err
	}
	out, err := cmd.StdoutPipe()
	if err != nil {
		return err
	}
	if err := cmd.Start(); err != nil {
		return err
	}
	go func() { // it reads all of it before it answers, or is gone
		_, _ = in.Write(input)
		_ = in.Close()
	}()
	said := make(chan string, 1)
	go func() {
		b := make([]byte, 1000)
		n, _ := out.Read(b)
		said <- strings.TrimSpace(string(b[:n]))
	}()
	select {
	case s := <-said:
		if s == "minding" {
			go func() { _ = cmd.Wait() }() // if it ends before we do
			return nil
		}
		_ = cmd.Wait()
		return fmt.Errorf("the process that would put the rules back did not start: %s", orElse(s, "it said nothing"))
	case <-time.After(20 * time.Second):
		_ = cmd.Process.Kill()
		return errors.New("the process that would put the rules back did not start within 20 s")
	}
}

func orElse(s, otherwise string) string {
	if s == "" {
		return otherwise
	}
	return s
}

// Mind is the life of a minder: what it is to mind comes in, and that it minds goes
// out. It ends when the change is kept or has gone back.
func Mind(in io.Reader, out io.Writer) (err error) {
	defer func() {
		if err != nil {
			_, _ = fmt.Fprintln(out, err) // whoever began it tells
		}
	}()
	m := &minder{requests: make(chan request)}
	if err := json.NewDecoder(in).Decode(&m.charge); err != nil {
		return err
	}
	m.state = m.Change
	s, err := openSockets()
	if err != nil {
		return err
	}
	m.before = s.open
	// A machine that runs out of memory or swaps to a disk that is gone must still go back.
	_ = unix.Mlockall(unix.MCL_CURRENT | unix.MCL_FUTURE | unix.MCL_ONFAULT)
	_ = os.WriteFile("/proc/self/oom_score_adj", []byte("-999"), 0)
	if m.timer, err = unix.TimerfdCreate(unix.CLOCK_BOOTTIME, unix.TFD_CLOEXEC); err != nil {
		return err
	}
	due := unix.ItimerSpec{Value: unix.NsecToTimespec(m.Within.Nanoseconds())}
	if err := unix.TimerfdSettime(m.timer, 0, &due, nil); err != nil {
		return err
	}
	_ = os.Remove(m.socket())
	l, err := net.ListenUnix("unix", &net.UnixAddr{Name: m.socket(), Net: "unix"})
	if err != nil {
		return err
	}
	defer func() { _ = l.Close() }()
	if err := m.note(); err != nil {
		return err
	}
	go m.listen(l)
	if _, err := fmt.Fprintln(out, "minding"); err != nil {
		return err
	}
	m.mind()
	return nil
}

// mind waits for what is asked, or for the end of the time.
func (m *minder) mind() {
	over := make(chan struct{})
	go func() {
		b := make([]byte, 8)
		for {
			if _, err := unix.Read(m.timer, b); err == nil {
				close(over)
				return
			} else if !errors.Is(err, unix.EINTR) {
				return
			}
		}
	}()
	for !ended(m.state) {
		select {
		case r := <-m.requests:
			err := m.obey(r)
			a := answer{State: m.state}
			if err != nil {
				a.Error = err.Error()
			}
			r.answer <- a
			<-r.answer // it was told
		case <-over:
			why := fmt.Sprintf("nobody kept it within %s", m.Within)
			if m.Kept == nil {
				why = "its time is over"
			}
			m.goBack(why)
		}
	}
	// What became of it is told on disk; where that is full, to whoever asks for a while.
	for try := 0; m.note() != nil && try < 720; try++ {
		select {
		case r := <-m.requests:
			r.answer <- answer{State: m.state}
			<-r.answer
		case <-time.After(5 * time.Second):
		}
	}
}

func ended(c api.HostChange) bool { return c.Phase == api.Kept || c.Phase == api.WentBack }

func (m *minder) obey(r request) error {
	switch r.Do {
	case "begun":
		m.state.Phase = api.InForceYet
		s, err := openSockets()
		if err != nil {
			return err
		}
		m.before = append(m.before, s.open...) // those opened while it was made prove nothing either
		_ = m.note()                           // the disk may have filled up meanwhile
	case "keep":
		return m.keep(r)
	case "back":
		m.goBack(r.Why)
	}
	return nil
}

// keep makes the change last, if whoever asks came in after it was made.
func (m *minder) keep(r request) error {
	if m.Kept == nil {
		return fmt.Errorf("%s is not there to be kept: it ends by itself", m.state.What)
	}
	if m.state.Phase != api.InForceYet {
		return fmt.Errorf("%s is not in force yet", m.state.What)
	}
	over, err := m.proof(r)
	if err != nil {
		return err
	}
	if err := m.writeKept(m.Kept); err != nil {
		return fmt.Errorf("what is kept must be there after a reboot too, and cannot be written: %w", err)
	}
	m.state.Phase, m.state.Why, m.state.Ended = api.Kept, over, new(time.Now().UTC())
	return nil
}

// proof says how it is proven that the way in is open.
func (m *minder) proof(r request) (string, error) {
	if r.Proof != nil {
		if r.Proof.Change != m.state.ID {
			return "", errors.New("the service's word is about another change")
		}
		return r.Proof.String(), r.Proof.Verify(m.Pins)
	}
	s, err := openSockets()
	if err != nil {
		return "", err
	}
	came := s.cameBy(r.pid)
	over := "no connection"
	if at := interfacesByAddress(); len(came) > 0 {
		own := func(c Connection) bool { return c.Remote.Addr().IsLoopback() || at[c.Remote.Addr()] != "" }
		over = fmt.Sprintf("the connection %s, which the host has to itself", came[0])
		came = slices.DeleteFunc(came, own) // who is in already shows nothing
	}
	if len(came) == 0 {
		if r.Console && m.OwnConsole {
			return "from the machine's own console", nil
		}
		hint := ""
		if m.OwnConsole {
			hint = "; if you sit at the machine itself, say --at-console"
		}
		return "", fmt.Errorf("this keep came over %s, so it does not show that the way in is open: log in anew from elsewhere, and keep it there (not in a terminal that was open before)%s", over, hint)
	}
	for _, c := range came {
		if slices.Contains(m.before, c) {
			return "", fmt.Errorf("this keep came over the connection %s, which was open before the change: log in anew, over a connection of its own, and keep it there", c)
		}
	}
	return "over " + came[0].String(), nil
}

// goBack puts back what was in force before. What does not go back at once is tried again.
func (m *minder) goBack(why string) {
	unlock := m.lockWithin(20 * time.Second) // somebody may be in the middle of something
	defer unlock()
	m.state.Why = why
	wait := time.Second
	for begin := time.Now(); ; wait = min(2*wait, time.Minute) {
		var err error
		if m.Whole {
			err = m.Back.PutBack(context.Background())
		} else {
			err = m.Back.putBackOurs(context.Background())
		}
		if err == nil {
			break
		}
		m.state.Phase, m.state.Why = api.GoingBack, fmt.Sprintf("%s; it does not go back, and is tried again: %s", why, err)
		_ = m.note()
		if time.Since(begin) > 24*time.Hour {
			return
		}
		time.Sleep(wait)
	}
	m.state.Phase, m.state.Why, m.state.Ended = api.WentBack, why, new(time.Now().UTC())
}

// note writes down how the change stands.
func (m *minder) note() error { return m.writeFile("change.json", m.state) }

func (m *minder) listen(l *net.UnixListener) {
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
			if err != nil || json.NewDecoder(c).Decode(&r) != nil {
				return
			}
			r.pid = pid
			m.requests <- r
			_ = json.NewEncoder(c).Encode(<-r.answer)
			r.answer <- answer{}
		}()
	}
}

// peer is the process at the other end, as the kernel says.
func peer(c *net.UnixConn) (pid int, err error) {
	raw, err := c.SyscallConn()
	if err != nil {
		return 0, err
	}
	var cred *unix.Ucred
	if e := raw.Control(func(fd uintptr) { cred, err = unix.GetsockoptUcred(int(fd), unix.SOL_SOCKET, unix.SO_PEERCRED) }); e != nil || err != nil {
		return 0, errors.Join(e, err)
	}
	return int(cred.Pid), nil
}

// ask asks the minder that minds a change now; errNobody if none does.
func (m *Machine) ask(r request) (api.HostChange, error) {
	c, err := net.DialTimeout("unix", m.socket(), 5*time.Second)
	if err != nil {
		return api.HostChange{}, errNobody
	}
	defer func() { _ = c.Close() }()
	_ = c.SetDeadline(time.Now().Add(2 * time.Minute))
	var a answer
	if err := errors.Join(json.NewEncoder(c).Encode(r), json.NewDecoder(c).Decode(&a)); err != nil {
		return a.State, fmt.Errorf("the process that minds the change does not answer: %w", err)
	}
	if a.Error != "" {
		return a.State, errors.New(a.Error)
	}
	return a.State, nil
}

var errNobody = errors.New("no change waits for its keep")
