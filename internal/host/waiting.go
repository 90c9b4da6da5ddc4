package host

import (
	"bytes"
	"context"
	"crypto/ed25519"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"time"

	"golang.org/x/sys/unix"

	"yellowfence.example/yfence/api"
	"yellowfence.example/yfence/core/dialect/iptables"
	"yellowfence.example/yfence/internal/host/apply"
	"yellowfence.example/yfence/internal/host/inventory"
)

// waiting is a change that waits for its keep, as it lies on disk before it is begun:
// all that it takes to go back, and by when. Whoever comes next honours it: the watchdogs,
// the host agent, and every command of ours.
type waiting struct {
	Machine
	Change   api.HostChange // as it begins
	Within   time.Duration  // the time for the keep
	Deadline time.Duration  // when that is over, on the boot clock of this boot
	Boot     string         // which boot, in which network, the change is of
	Back     apply.Copy     // what was in force before
	Whole    bool           // all of it is to go back, not our rules alone
	Kept     *Kept          // what a keep makes the boot copy; nil if nothing does
	Pins     []ed25519.PublicKey
	Before   []inventory.Connection // open when the change was made: a keep over one of them proves nothing
}

// ChangeFile says how the last change is.
const ChangeFile = "change.json"

// waitingFile is where a change lies. Each has a file of its own: whoever was frozen and
// cleans up after an earlier one does no harm to this one.
func waitingFile(change string) string { return "waiting-" + change + ".json" }

// lockName is the lock that a watchdog of the change holds for as long as it lives.
func (w *waiting) lockName(which string) string { return which + "-" + w.Change.ID + ".lock" }

// bootClock is the time since the machine was started, sleep included (CLOCK_BOOTTIME).
func bootClock() time.Duration {
	var t unix.Timespec
	_ = unix.ClockGettime(unix.CLOCK_BOOTTIME, &t) // never fails with a clock that there is
	return time.Duration(t.Nano())
}

// thisBoot identifies the boot of this machine and the network it is in: rules of another
// boot, or of a network namespace that is gone, are gone too.
func (m *Machine) thisBoot() string {
	id, _ := os.ReadFile(filepath.Join(m.Root, "/proc/sys/kernel/random/boot_id"))
	network, _ := os.Readlink(ownNetwork)
	return strings.TrimSpace(string(id)) + " " + network
}

// readWaiting reads the change that waits; nil if none does.
func (m *Machine) readWaiting() (w *waiting, err error) {
	found, err := filepath.Glob(m.Path(waitingFile("*")))
	for _, name := range found { // there is one at the most
		if err := m.ReadFile(filepath.Base(name), &w); err != nil || w != nil {
			return w, err
		}
	}
	return nil, err
}

// writeWaiting writes a change that waits for its keep to disk, from which either watchdog can
// take it back.
func (m *Machine) writeWaiting(w *waiting) error { return m.WriteFile(waitingFile(w.Change.ID), w) }

// note writes down how a change is.
func (m *Machine) note(c api.HostChange) error { return m.WriteFile(ChangeFile, c) }

// finish notes how a change ended; nobody has to see to it any more.
func (m *Machine) finish(c api.HostChange) error {
	if err := m.note(c); err != nil {
		return err
	}
	return m.forget(c.ID)
}

// forget takes away what a change left on disk once it has ended.
func (m *Machine) forget(change string) error {
	err := os.Remove(m.Path(waitingFile(change)))
	locks, _ := filepath.Glob(m.Path("*-" + change + ".lock"))
	for _, name := range locks {
		_ = os.Remove(name)
	}
	if errors.Is(err, os.ErrNotExist) {
		return nil
	}
	return err
}

// resume is how a change that lies on disk is, as far as that can be told from there.
func (m *Machine) resume(w *waiting) (c api.HostChange, err error) {
	if err := m.ReadFile(ChangeFile, &c); err != nil {
		return c, err
	}
	if c.ID == w.Change.ID && Ended(c) {
		return c, nil
	}
	kept, err := m.Kept()
	if err != nil {
		return c, err
	}
	if kept != nil && kept.Change.ID == w.Change.ID { // that was the moment
		return kept.Change, nil
	}
	if c.ID != w.Change.ID {
		c = w.Change
	}
	if w.Boot != m.thisBoot() {
		c.Phase, c.Why, c.Ended = api.WentBack,
			"the host was started anew before anybody kept it: what is loaded at the start is in force", new(time.Now().UTC())
	}
	return c, nil
}

// putBack puts back what was in force before.
func (w *waiting) putBack(ctx context.Context) error {
	if w.Whole {
		return w.Back.PutBack(ctx)
	}
	return w.Back.PutBackOurs(ctx)
}

// differs says that what is in force of ours now is not what it was before.
func (w *waiting) differs(ctx context.Context) bool {
	now, err := apply.TakeCopy(ctx)
	if err != nil {
		return false // it was put back; that alone is known
	}
	if w.Whole {
		return now.Normal() != w.Back.Normal()
	}
	if apply.Passes.ReplaceAllString(now.Ours(), "") != apply.Passes.ReplaceAllString(w.Back.Ours(), "") {
		return true
	}
	for _, name := range apply.Tools {
		is, was := iptables.OursIn(iptables.Before(now.Saved[name])), iptables.OursIn(iptables.Before(w.Back.Saved[name]))
		if apply.Passes.ReplaceAllString(is, "") != apply.Passes.ReplaceAllString(was, "") {
			return true
		}
	}
	return false
}

// Resume sees to it that a change that waits for its keep is watched, and is taken back if
// its time is over: both watchdogs may be gone. Where there is none it does nothing.
func (m *Machine) Resume() error {
	w, err := m.readWaiting()
	if err != nil || w == nil {
		return err
	}
	c, err := m.resume(w)
	if err != nil {
		return err
	}
	if Ended(c) {
		unlock, err := m.lock()
		if err != nil {
			return nil // whoever makes a change now sees to it
		}
		defer unlock()
		if w, err := m.readWaiting(); err != nil || w == nil || w.Change.ID != c.ID {
			return err
		}
		return m.finish(c)
	}
	switch _, err := m.ask(request{Do: "state"}); {
	case err == nil:
		return nil
	case errors.Is(err, errNobody), endedMeanwhile(err):
		if c.Phase == api.Changing { // it is just being begun, if somebody holds the lock
			unlock, err := m.lock()
			if err != nil {
				return nil
			}
			unlock()
		}
	case bootClock() < w.Deadline+standbyGrace:
		return err // it hangs, and has time left
	default:
		m.killHolder(w.lockName("watchdog"))
	}
	if err := m.startWatchdog(false); err != nil {
		return fmt.Errorf("%s waits for its keep, and nobody watches it: %w", c.What, err)
	}
	return m.startWatchdog(true)
}

// startWatchdog begins a watchdog for the change that lies on disk, and waits until it
// watches or stands by.
func (m *Machine) startWatchdog(standby bool) error {
	w, err := m.readWaiting()
	if err != nil || w == nil {
		return err
	}
	args := []string{"watchdog", "--state", m.Dir, "--change", w.Change.ID}
	if standby {
		args = append(args, "--standby")
		if m.managed() && m.startUnit(w.Change.ID, args) == nil {
			return nil
		} // else a process of ours does
	}
	cmd := exec.Command(m.program(), args...)
	cmd.Dir, cmd.SysProcAttr = "/", &syscall.SysProcAttr{Setsid: true}
	cmd.Env = watchdogEnv()
	out, err := cmd.StdoutPipe()
	if err != nil {
		return err
	}
	if err := cmd.Start(); err != nil {
		return err
	}
	said := make(chan string, 1)
	go func() {
		b := make([]byte, 1000)
		n, _ := out.Read(b)
		said <- strings.TrimSpace(string(b[:n]))
	}()
	select {
	case s := <-said:
		go func() { _ = cmd.Wait() }() // if it ends before we do
		if s == watchdogReady || s == "" && standby {
			return nil
		}
		return fmt.Errorf("the process that would put the rules back did not start: %s", orElse(s, "it said nothing"))
	case <-time.After(20 * time.Second):
		_ = cmd.Process.Kill()
		_ = cmd.Wait()
		return errors.New("the process that would put the rules back did not start within 20 s")
	}
}

// watchdogEnv is the environment of a watchdog: small, so that it is not what a full machine
// kills.
func watchdogEnv() []string {
	return []string{"PATH=" + os.Getenv("PATH"), "TZ=UTC", "GOMAXPROCS=1", "GOMEMLIMIT=32MiB"}
}

// orElse is a text, or another where it is empty.
func orElse(s, otherwise string) string {
	if s == "" {
		return otherwise
	}
	return s
}

// managed says that systemd manages this host, and is in the network whose rules we change.
func (m *Machine) managed() bool {
	if info, err := os.Stat(filepath.Join(m.Root, "/run/systemd/system")); err != nil || !info.IsDir() {
		return false
	}
	first, err := os.Readlink(filepath.Join(m.Root, "/proc/1/ns/net"))
	own, ownErr := os.Readlink(ownNetwork)
	_, tool := exec.LookPath("systemd-run")
	return err == nil && ownErr == nil && first == own && tool == nil
}

// startUnit has systemd run the watchdog that stands by, and start it again whenever it is
// killed, until the change has ended.
func (m *Machine) startUnit(change string, args []string) error {
	program, err := filepath.EvalSymlinks(m.program())
	if err != nil {
		return err
	}
	run := []string{"--quiet", "--collect", "--unit=yfence-watchdog-" + strings.ToLower(change), "--property=Restart=on-failure",
		"--property=RestartSec=1s",
		"--property=StartLimitIntervalSec=0", "--property=OOMScoreAdjust=-999"}
	for _, v := range watchdogEnv() {
		run = append(run, "--setenv="+v)
	}
	ctx, cancel := context.WithTimeout(context.Background(), 10*time.Second)
	defer cancel()
	_, err = inventory.Run(ctx, nil, "systemd-run", append(append(run, program), args...)...)
	return err
}

// ask asks the watchdog that watches a change now; errNobody if none does.
func (m *Machine) ask(r request) (api.HostChange, error) {
	c, err := net.DialTimeout("unix", m.socket(), 5*time.Second)
	if err != nil {
		return api.HostChange{}, errNobody
	}
	defer func() { _ = c.Close() }()
	wait := 2 * time.Minute
	if r.Do == "state" {
		wait = 5 * time.Second
	}
	_ = c.SetDeadline(time.Now().Add(wait))
	var a answer
	if err := errors.Join(json.NewEncoder(c).Encode(r), json.NewDecoder(c).Decode(&a)); err != nil {
		return a.State, fmt.Errorf("%w: %w", errHangs, err)
	}
	if a.Error != "" {
		return a.State, errors.New(a.Error)
	}
	return a.State, nil
}

// What asking a watchdog can come to.
var (
	errNobody = errors.New("no change waits for its keep")
	errHangs  = errors.New("the process that watches the change does not answer")
)

// endedMeanwhile says that a watchdog ended, or was killed, while it was asked: its socket was
// closed in the middle, by the kernel.
func endedMeanwhile(err error) bool {
	return errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) || errors.Is(err, syscall.ECONNRESET) ||
		errors.Is(err, syscall.EPIPE)
}

// insist asks the watchdog, and where it is killed meanwhile the one that follows it.
func (m *Machine) insist(r request) (c api.HostChange, err error) {
	w, err := m.readWaiting()
	if err != nil {
		return c, err
	}
	for try := 0; ; try++ {
		c, err = m.ask(r)
		left := endedMeanwhile(err)
		switch {
		case left && w == nil: // after its change, before it was asked
			return c, errNobody
		case err == nil || w == nil || try == 20 || !left && !errors.Is(err, errNobody):
			return c, err
		}
		time.Sleep(100 * time.Millisecond)
		if err := m.Resume(); err != nil {
			return c, err
		}
		var last api.HostChange
		if err := m.ReadFile(ChangeFile, &last); err != nil {
			return c, err
		}
		if last.ID != w.Change.ID || !Ended(last) {
			continue
		}
		if r.Do == "keep" && last.Phase == api.Kept || r.Do == "back" && last.Phase == api.WentBack {
			return last, nil // it came to it before it was killed
		}
		return last, fmt.Errorf("%s %s meanwhile: %s", last.What,
			map[api.Phase]string{api.Kept: "was kept", api.WentBack: "went back"}[last.Phase], last.Why)
	}
}

// take takes a lock that a process holds for as long as it lives, and notes who holds it.
// Without wait it is nil where another has it.
func (m *Machine) take(name string, wait bool) (*os.File, error) {
	f, err := os.OpenFile(m.Path(name), os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return nil, err
	}
	how := syscall.LOCK_EX
	if !wait {
		how |= syscall.LOCK_NB
	}
	for err = syscall.Flock(int(f.Fd()), how); errors.Is(err, syscall.EINTR); err = syscall.Flock(int(f.Fd()), how) {
	}
	if err != nil {
		_ = f.Close()
		if errors.Is(err, syscall.EWOULDBLOCK) {
			return nil, nil
		}
		return nil, err
	}
	// A disk that is full takes no note; then nobody can be killed for holding it.
	_ = f.Truncate(0)
	_, _ = f.WriteAt([]byte(process(os.Getpid())), 0)
	return f, nil
}

// process is a process by its number and when it began: numbers are used again.
func process(pid int) string {
	stat, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", pid))
	if err != nil {
		return ""
	}
	fields := strings.Fields(string(stat[bytes.LastIndexByte(stat, ')')+1:])) // the name in brackets may hold any
	if len(fields) < 20 {
		return ""
	}
	return fmt.Sprintf("%d %s", pid, fields[19]) // starttime, see proc(5)
}

// killHolder kills whoever holds such a lock: it hangs, and what it would do when it goes on
// is too late.
func (m *Machine) killHolder(name string) {
	noted, err := os.ReadFile(m.Path(name))
	if err != nil {
		return
	}
	number, _, _ := strings.Cut(string(noted), " ")
	if pid, err := strconv.Atoi(number); err == nil && pid != os.Getpid() && process(pid) == string(noted) {
		_ = syscall.Kill(pid, syscall.SIGKILL)
	}
}
