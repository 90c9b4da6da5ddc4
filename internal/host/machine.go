package host

import (
	"cmp"
	"context"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"net/netip"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"yellowfence.example/yfence/api"
	"yellowfence.example/yfence/internal/host/apply"
	"yellowfence.example/yfence/internal/host/inventory"
)

// StateDir is where a host keeps what it knows, if nothing else is said.
const StateDir = "/var/lib/yfence"

// A Machine is this host as we change it. Its folder holds copies of what was in
// force, what is kept and loads at boot, and how the last change went.
type Machine struct {
	Dir        string
	Program    string // ours, which is begun again as a watchdog; "" is what runs
	Root       string // below which the host's own files lie; "" is /
	OwnConsole bool   // the fleet file says that it can be reached without the network
}

// program is what watchdogs are started from: our own program.
func (m *Machine) program() string { return cmp.Or(m.Program, "/proc/self/exe") }

// socket is where the watchdog of a change is spoken to.
func (m *Machine) socket() string { return m.Path("watchdog.sock") }

// Path is a file in the host's folder.
func (m *Machine) Path(name string) string { return filepath.Join(m.Dir, name) }

// Wanted is a change of what is in force.
type Wanted struct {
	Change  api.HostChange   // what it is; ID, phase and times are filled in
	Files   []api.File       // rules to load; or
	Copy    *apply.Copy      // a copy to put back
	Within  time.Duration    // the time until it goes back by itself
	Passing bool             // nothing keeps it
	Force   bool             // even if it cuts off log-ins or the service
	Service []netip.AddrPort // where the host finds the service
	Pins    []api.Key        // whose word on a probe counts
}

// Made is a change that was made.
type Made struct {
	Change api.HostChange
	Absent []string // users and units that the rules ask for and the host does not have
	Cut    []string // what it cuts off, where that was wanted even so
}

// A CutsOff is the refusal of a change that would cut somebody off.
type CutsOff struct{ What []string }

// Error says whom the rules would cut off.
func (c *CutsOff) Error() string {
	return fmt.Sprintf("these rules would cut off %s; mend the policy, or say --force to try it: it goes back by itself unless "+
		"it is kept", strings.Join(c.What, ", and "))
}

// Make makes a change, with a copy of what was in force before and watchdogs that put
// that back unless the change is kept. If an error comes back it says what is in force.
func (m *Machine) Make(ctx context.Context, w Wanted) (made Made, err error) {
	if err := m.Ready(); err != nil {
		return made, fmt.Errorf("nothing was changed: %w", err)
	}
	if err := m.Resume(); err != nil {
		return made, fmt.Errorf("nothing was changed: %w", err)
	}
	unlock, err := m.lock()
	if err != nil {
		return made, fmt.Errorf("nothing was changed: %w", err)
	}
	defer unlock()
	begun, err := m.begin(ctx, w, &made)
	if err != nil {
		return made, fmt.Errorf("nothing was changed: %w", err)
	}
	if w.Copy != nil {
		err = w.Copy.PutBack(ctx)
	} else {
		made.Absent, err = apply.Load(ctx, w.Files)
	}
	if err == nil {
		var c api.HostChange
		if c, err = m.insist(request{Do: "begun"}); err == nil && c.ID == made.Change.ID {
			made.Change = c
			return made, nil
		}
		err = cmp.Or(err, errors.New("another change was made at the same moment"))
	}
	return made, m.undo(begun, err)
}

// begin makes ready for a change: afterwards all of it can go back, whatever happens.
func (m *Machine) begin(ctx context.Context, w Wanted, made *Made) (*waiting, error) {
	// One change at a time: a second would make "what was before" mean two things.
	if p, err := m.readWaiting(); err != nil {
		return nil, err
	} else if p != nil {
		if c, err := m.Change(); err == nil && c.ID == p.Change.ID && Ended(c) {
			return nil, fmt.Errorf("how %s ended could not be noted yet: is the disk full?", p.Change.What)
		}
		until := p.Change.Until.Local().Format(time.TimeOnly)
		if p.Change.Kind == api.ChangePause {
			return nil, fmt.Errorf("the filter is paused until %s: end the pause first (yfence resume)", until)
		}
		return nil, fmt.Errorf("%s waits for its keep until %s: keep it (yfence keep) or take it back (yfence undo) first", p.Change.What,
			until)
	}
	if kept, err := m.Kept(); err == nil && kept != nil && w.Copy != nil && kept.OwnConsole {
		own := *m // what the rules said of the host holds of a copy too
		own.OwnConsole = true
		m = &own
	}
	// What would cut the host off is refused before anything is touched, unless it is forced.
	if w.Files != nil {
		if missing := m.missing(w.Files); len(missing) > 0 && !w.Force {
			return nil, &NoInterface{missing}
		}
		var err error
		if made.Cut, err = inventory.CutOff(w.Files, w.Service); err != nil {
			return nil, err
		}
		if len(made.Cut) > 0 && !w.Force {
			return nil, &CutsOff{made.Cut}
		}
	}
	m.countBefore(ctx)
	// What is in force now, in words that the tools take back, on disk and for the watchdogs.
	before, err := apply.TakeCopy(ctx)
	if err != nil {
		return nil, err
	}
	before.Before = w.Change.What
	if _, err := m.keepCopy(before); err != nil {
		return nil, fmt.Errorf("no copy of what is in force could be kept: %w", err)
	}
	made.Change = w.Change
	made.Change.ID, made.Change.Phase, made.Change.Began = rand.Text(), api.Changing, time.Now().UTC().Truncate(time.Second)
	made.Change.Until = made.Change.Began.Add(w.Within)
	p := &waiting{Machine: *m, Change: made.Change, Within: w.Within, Deadline: bootClock() + w.Within, Boot: m.thisBoot(), Back: *before,
		Whole: w.Copy != nil}
	for _, k := range w.Pins {
		p.Pins = append(p.Pins, k.Public())
	}
	if !w.Passing {
		p.Kept = &Kept{Change: made.Change, Files: w.Files, Copy: w.Copy, OwnConsole: m.OwnConsole}
	}
	// Connections that are open already prove nothing later.
	s, err := inventory.OpenSockets()
	if err != nil {
		return nil, err
	}
	p.Before = s.Open
	// From here on the change exists, and whoever comes next knows how to end it.
	if err := errors.Join(m.writeWaiting(p), m.note(p.Change)); err != nil {
		return nil, errors.Join(err, m.forget(p.Change.ID))
	}
	if err = m.startWatchdog(false); err == nil {
		if err = m.startWatchdog(true); err != nil {
			_, _ = m.ask(request{Do: "back", Why: err.Error(), Locked: true})
		}
	}
	if err != nil {
		made.Change.Phase, made.Change.Why, made.Change.Ended = api.WentBack, "it was not begun: "+err.Error(), new(time.Now().UTC())
		return nil, errors.Join(err, m.finish(made.Change))
	}
	return p, nil
}

// undo takes a change back that failed while it was made, and says what is in force then.
// Whoever calls holds the lock.
func (m *Machine) undo(p *waiting, why error) error {
	_, err := m.ask(request{Do: "back", Why: why.Error(), Locked: true})
	if err != nil { // the watchdogs are gone, or hang
		ctx, cancel := context.WithTimeout(context.Background(), inventory.ToolTime)
		defer cancel()
		if err = p.putBack(ctx); err == nil {
			c := p.Change
			c.Phase, c.Why, c.Ended = api.WentBack, why.Error(), new(time.Now().UTC())
			_ = m.finish(c) // else whoever comes next puts it back once more
		}
	}
	if err != nil {
		return fmt.Errorf("the change failed, and what was in force before could not be put back yet, which is tried again: %w",
			errors.Join(why, err))
	}
	return fmt.Errorf("what was in force before is in force again: %w", why)
}

// Keep makes the change that waits for it last. proof is the service's word that
// somebody came in since, nil if whoever calls came in himself.
func (m *Machine) Keep(proof *api.KeepProof, console bool) (api.HostChange, error) {
	return m.insist(request{Do: "keep", Proof: proof, Console: console})
}

// Back takes the change back that waits for its keep.
func (m *Machine) Back(why string) (api.HostChange, error) {
	return m.insist(request{Do: "back", Why: why})
}

// Change is how the last change is; its phase is "" if there was none.
func (m *Machine) Change() (c api.HostChange, err error) {
	if now, err := m.ask(request{Do: "state"}); err == nil {
		return now, nil
	}
	p, err := m.readWaiting()
	if err == nil && p != nil {
		return m.resume(p)
	}
	if err == nil {
		err = m.ReadFile(ChangeFile, &c)
	}
	return c, err
}

// Kept is what was last kept, and what is in force after a reboot.
type Kept struct {
	Change api.HostChange `json:"change"`
	Files  []api.File     `json:"files,omitempty"`
	Copy   *apply.Copy    `json:"copy,omitempty"` // where a copy was put back

	OwnConsole bool `json:"own_console,omitempty"` // as the rules said that were last settled
}

// writeKept writes down what is kept, which a start of the machine loads.
func (m *Machine) writeKept(k *Kept) error { return m.WriteFile("kept.json", k) }

// Kept is what was last kept; nil if nothing ever was.
func (m *Machine) Kept() (k *Kept, err error) {
	err = m.ReadFile("kept.json", &k)
	return k, err
}

// LoadKept puts in force what was last kept: what the boot does.
func (m *Machine) LoadKept(ctx context.Context) (k *Kept, absent []string, err error) {
	if err := m.Resume(); err != nil { // a change of before the boot is over
		return nil, nil, err
	}
	if k, err = m.Kept(); err != nil || k == nil {
		return k, nil, err
	}
	if k.Copy != nil {
		return k, nil, k.Copy.PutBackOver(ctx, &apply.Copy{}) // what the distribution loaded before us stays
	}
	absent, err = apply.Load(ctx, k.Files)
	return k, absent, err
}

// copiesKept is how many copies a host keeps besides the first, which is of what
// was there before us.
const copiesKept = 50

// keepCopy keeps a copy, unless the newest one says the same.
func (m *Machine) keepCopy(c *apply.Copy) (number int, err error) {
	numbers, err := m.copies()
	if err != nil {
		return 0, err
	}
	if len(numbers) > 0 {
		last, err := m.Copy(numbers[len(numbers)-1])
		if err == nil && last.Normal() == c.Normal() {
			return last.Number, nil
		}
		c.Number = numbers[len(numbers)-1]
	}
	c.Number++
	if err := m.WriteFile(m.copyFile(c.Number), c); err != nil {
		return 0, err
	}
	for ; len(numbers) > copiesKept; numbers = slices.Delete(numbers, 1, 2) {
		_ = os.Remove(filepath.Join(m.Dir, m.copyFile(numbers[1])))
	}
	return c.Number, nil
}

// copyFile is where a copy lies.
func (m *Machine) copyFile(number int) string {
	return filepath.Join("copies", fmt.Sprintf("%06d.json", number))
}

// copies are the numbers of all copies that are kept, the oldest first.
func (m *Machine) copies() (numbers []int, err error) {
	entries, err := os.ReadDir(filepath.Join(m.Dir, "copies"))
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	for _, e := range entries {
		if n, err := strconv.Atoi(strings.TrimSuffix(e.Name(), ".json")); err == nil {
			numbers = append(numbers, n)
		}
	}
	slices.Sort(numbers)
	return numbers, err
}

// Copies are all copies that are kept, the newest first.
func (m *Machine) Copies() (out []*apply.Copy, err error) {
	numbers, err := m.copies()
	if err != nil {
		return nil, err
	}
	for _, n := range slices.Backward(numbers) {
		c, err := m.Copy(n)
		if err != nil {
			return nil, err
		}
		out = append(out, c)
	}
	return out, nil
}

// CopyNotes says of all copies that are kept what they are, the newest first; with
// all of their text if that is asked for.
func (m *Machine) CopyNotes(whole bool) ([]api.CopyNote, error) {
	copies, err := m.Copies()
	if err != nil {
		return nil, err
	}
	out := []api.CopyNote{}
	for _, c := range copies {
		n := api.CopyNote{Number: c.Number, TakenAt: c.TakenAt, Before: c.Before, Rules: c.Rules()}
		if whole {
			n.Text = c.String()
		}
		out = append(out, n)
	}
	return out, nil
}

// Copy is one copy by its number.
func (m *Machine) Copy(number int) (*apply.Copy, error) {
	var c *apply.Copy
	if err := m.ReadFile(m.copyFile(number), &c); err != nil {
		return nil, err
	}
	if c == nil {
		return nil, fmt.Errorf("there is no copy %d; `yfence copies` tells which there are", number)
	}
	return c, nil
}

// Ready makes the folder, if it is not there.
func (m *Machine) Ready() error {
	for _, dir := range []string{m.Dir, filepath.Join(m.Dir, "copies")} {
		if err := os.MkdirAll(dir, 0o700); err != nil {
			return err
		}
		// One that was there keeps its mode, and holds a token and what lets rules go back.
		if info, err := os.Stat(dir); err == nil && info.Mode().Perm()&0o077 != 0 {
			if err := os.Chmod(dir, 0o700); err != nil {
				return err
			}
		}
	}
	if len(m.socket()) > 100 { // sun_path
		return fmt.Errorf("the path of %s is too long for a socket in it", m.Dir)
	}
	return nil
}

// lock lets one change be made at a time.
func (m *Machine) lock() (unlock func(), err error) {
	f, err := m.take("lock", false)
	if err != nil {
		return nil, err
	}
	if f == nil {
		return nil, errors.New("somebody else is changing this host's rules right now")
	}
	return func() { _ = f.Close() }, nil
}

// lockAnyway waits for the lock. Whoever holds it for longer than d hangs, and is killed:
// when it goes on, what it would do is too late.
func (m *Machine) lockAnyway(d time.Duration) (unlock func()) {
	for begin := time.Now(); ; time.Sleep(50 * time.Millisecond) {
		if unlock, err := m.lock(); err == nil {
			return unlock
		}
		if waited := time.Since(begin); waited > 2*d {
			return func() {} // it cannot be killed, or the disk is gone
		} else if waited > d {
			m.killHolder("lock")
		}
	}
}

// WriteFile writes a file of the machine's folder, all of it or nothing.
func (m *Machine) WriteFile(name string, v any) error {
	data, err := json.Marshal(v)
	if err != nil {
		return err
	}
	return m.write(name, data)
}

// write puts a file in place whole or not at all: it is written beside, synced and renamed.
func (m *Machine) write(name string, data []byte) error {
	name = filepath.Join(m.Dir, name)
	f, err := os.CreateTemp(filepath.Dir(name), ".new-*")
	if err != nil {
		return err
	}
	_, err = f.Write(data)
	if err = errors.Join(err, f.Sync(), f.Close()); err == nil {
		err = os.Rename(f.Name(), name)
	}
	if err != nil {
		_ = os.Remove(f.Name())
		return err
	}
	if dir, err := os.Open(filepath.Dir(name)); err == nil { // the new name is to last too
		_ = dir.Sync()
		_ = dir.Close()
	}
	return nil
}

// ReadFile reads such a file; v stays as it is where there is none.
func (m *Machine) ReadFile(name string, v any) error {
	name = filepath.Join(m.Dir, name)
	data, err := os.ReadFile(name)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err == nil {
		err = json.Unmarshal(data, v)
	}
	if err != nil {
		return fmt.Errorf("%s cannot be read: %w", name, err)
	}
	return nil
}
