package agent

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"yellowfence.example/yfence/api"
	"yellowfence.example/yfence/internal/host"
)

// serve asks what there is to do, and does it.
func (a *Agent) serve(ctx context.Context) {
	failures := 0
	for ctx.Err() == nil {
		asking, cancel := a.limit(ctx, longPoll+10*time.Second)
		tasks, err := a.Service.Tasks(asking, a.Host, longPoll)
		moved := errors.Is(asking.Err(), context.Canceled)
		cancel()
		if moved {
			continue
		}
		if err == nil {
			_, err = a.Trust(tasks.Keys)
		}
		if err != nil {
			if ctx.Err() != nil {
				return
			}
			failures++
			wait := backOff(failures)
			a.Say("no tasks could be asked for, which is tried again in %s: %v", wait.Round(time.Second), err)
			waiting, cancel := a.limit(ctx, wait)
			<-waiting.Done()
			cancel()
			continue
		}
		failures = 0
		a.toldEvery(tasks.ReportEvery)
		var probes sync.WaitGroup // which may have to wait for their answers
		for _, t := range tasks.Tasks {
			if t.Do == api.DoProbe {
				probes.Go(func() { a.do(ctx, t) })
			} else {
				a.do(ctx, t)
			}
		}
		probes.Wait()
	}
}

// lateSlack is how far a host's clock may be ahead of the service's.
const lateSlack = 10 * time.Second

// do does one task and tells what became of it. Only what is verified is noted as done: a
// number that somebody made up takes the place of none.
func (a *Agent) do(ctx context.Context, t api.Task) {
	var r api.TaskResult
	switch err := a.Verify(t); {
	case err != nil:
		r.Failed = "the task was not done: " + err.Error()
	case t.Host != a.Host:
		r.Failed = fmt.Sprintf("the task is for %s", t.Host)
	case time.Now().After(t.Until.Add(lateSlack)):
		r.Failed = fmt.Sprintf("the task was not done: nobody waits for it since %s, and this host's clock says %s",
			t.Until.UTC().Format(time.DateTime), time.Now().UTC().Format(time.DateTime))
	case a.wasDone(t): // it could not be told what became of it
		_ = a.Service.FinishTask(ctx, a.Host, t.ID, api.TaskResult{Failed: "it was done before, and how it went could not be told"})
		return
	default:
		if t.Do == api.DoListen || t.Do == api.DoProbe {
			a.tell(ctx, t.ID, a.perform(ctx, t))
			return
		}
		a.Say("asked to %s (task %d)", t.Do, t.ID)
		r = a.perform(ctx, t)
	}
	a.tellChange(ctx, true)
	a.tell(ctx, t.ID, r)
}

// wasDone says that a task was done before, and notes that it is. It is noted on disk,
// so that an attendant that is killed in the middle of a change does not make it again.
func (a *Agent) wasDone(t api.Task) bool {
	a.mu.Lock()
	defer a.mu.Unlock()
	if slices.Contains(a.done, t.ID) {
		return true
	}
	if a.done = append(a.done, t.ID); len(a.done) > 1000 {
		a.done = slices.Delete(a.done, 0, 500)
	}
	if t.Do != api.DoProbe && t.Do != api.DoListen {
		_ = a.WriteFile(host.DoneFile, a.done) // a full disk must not keep a change from being kept
	}
	return false
}

// tell tells the service what came of a task, five times at most.
func (a *Agent) tell(ctx context.Context, id int64, r api.TaskResult) {
	for try := 1; ; try++ {
		err := a.Service.FinishTask(ctx, a.Host, id, r)
		if err == nil || try == 5 || ctx.Err() != nil {
			return // the change itself is told as it stands
		}
		time.Sleep(time.Duration(try) * 200 * time.Millisecond)
	}
}

// perform does a task. What changes rules is done by a process of its own, so that an agent
// that is stopped does not stop in the middle of it.
func (a *Agent) perform(ctx context.Context, t api.Task) (r api.TaskResult) {
	fail := func(err error) api.TaskResult {
		if err != nil {
			r.Failed = err.Error()
		}
		return r
	}
	// What changes rules is the same command that a person types, in a process of its own.
	switch t.Do {
	case api.DoSettle:
		args := []string{"settle", "--output", "json", "--within", t.Within, "--pair", strconv.FormatInt(t.Pair, 10), "--task",
			strconv.FormatInt(t.ID, 10), "--why", t.Why}
		if t.Pause {
			args = append(args, "--pause")
		}
		if t.Ground {
			args = append(args, "--minimal")
		}
		if t.Force {
			args = append(args, "--force")
		}
		return a.change(ctx, args)
	case api.DoPutBack:
		return a.change(ctx, []string{"copies", "restore", strconv.Itoa(t.Copy), "--here", "--within", t.Within, "--output", "json"})
	case api.DoKeep, api.DoTakeBack:
		for _, close := range a.hush {
			close()
		}
		a.hush = nil
		c, err := a.Change()
		// A word about a change that has ended must not meet the one after it.
		if err == nil && t.Change != "" && c.ID != t.Change {
			return fail(fmt.Errorf("the change that this is about is over: %s %s", c.What, c.Phase))
		}
		if t.Do == api.DoKeep {
			if t.Proof == nil {
				return fail(errors.New("a keep by the service needs proof that somebody came in"))
			}
			c, err = a.Keep(t.Proof, false)
		} else {
			c, err = a.Back(t.Why)
		}
		r.Change = &c
		a.due()
		return fail(err)
	case api.DoProbe:
		if t.Probe == nil {
			return fail(errors.New("there is no connection to open"))
		}
		return Open(ctx, *t.Probe)
	case api.DoListen:
		if t.Probe == nil {
			return fail(errors.New("there is nothing to listen on"))
		}
		length, err := time.ParseDuration(t.Within)
		if err == nil {
			ctx, cancel := context.WithTimeout(ctx, min(length, time.Minute))
			a.hush = append(a.hush, cancel)
			r.Reached, err = Listen(ctx, *t.Probe)
		}
		r.Came = "listening"
		return fail(err)
	case api.DoConnections:
		args := []string{"connections", "--here", "--output", "json"}
		if t.Cut {
			args = append(args, "--cut")
		}
		out, err := a.Run(ctx, args...)
		var found api.Connections
		if err == nil {
			err = json.Unmarshal(out, &found)
		}
		r.Connections = found.Connections
		return fail(err)
	case api.DoReport:
		_, err := a.Run(ctx, "report", "--spool", "--output", "json")
		return fail(err)
	}
	return fail(fmt.Errorf("this version does not know how to %s", t.Do))
}

// change has a change made by a process of its own.
func (a *Agent) change(ctx context.Context, args []string) (r api.TaskResult) {
	out, err := a.Run(ctx, args...)
	var made struct {
		Change *api.HostChange `json:"change"`
		Said   []string        `json:"said"`
	}
	if json.Unmarshal(out, &made) == nil {
		r.Change, r.Said = made.Change, made.Said
	}
	if errors.Is(err, errKilled) { // most likely by the watchdog, because the time for the change was over
		for try := 0; try < 100 && ctx.Err() == nil; try++ {
			c, unclear := a.Change()
			if unclear == nil && host.Ended(c) {
				r.Change, err = &c, fmt.Errorf("%w: %s; the change has ended (%s)", err, c.Why, c.Phase)
				break
			}
			time.Sleep(100 * time.Millisecond)
		}
	}
	if err != nil {
		r.Failed = err.Error()
	}
	return r
}

// tellChanges tells the service how the last change stands when that changes: a watchdog
// puts it back without asking anybody. It sees to it that there is one.
func (a *Agent) tellChanges(ctx context.Context) {
	var seen os.FileInfo
	failed := "" // what was said last of a change that nobody can watch
	file := a.Path(host.ChangeFile)
	for wait := time.Duration(0); ; wait = 2 * time.Second {
		select {
		case <-ctx.Done():
			return
		case <-time.After(wait):
		}
		if err := a.Resume(); err != nil && err.Error() != failed {
			failed = err.Error()
			a.Say("%s", failed)
		}
		now, err := os.Stat(file)
		if err != nil || seen != nil && os.SameFile(seen, now) && seen.ModTime().Equal(now.ModTime()) {
			continue
		}
		if a.tellChange(ctx, false) {
			seen = now
		}
	}
}

// tellChange tells how the last change stands, if that was not told before.
func (a *Agent) tellChange(ctx context.Context, always bool) (told bool) {
	c, err := a.Change()
	if err != nil || c.Phase == "" {
		return err == nil
	}
	body, _ := json.Marshal(c)
	a.mu.Lock()
	same := a.told == string(body)
	a.mu.Unlock()
	if !always && same {
		return true
	}
	if err := a.Service.TellChange(ctx, a.Host, c.Pair, &c, ""); err != nil {
		return false // it is tried again
	}
	a.mu.Lock()
	a.told = string(body)
	a.mu.Unlock()
	if copies, err := a.CopyNotes(true); err == nil {
		_ = a.Service.PutCopies(ctx, api.Copies{Version: api.Version, Host: a.Host, Copies: copies})
	}
	if host.Ended(c) {
		a.due()
	}
	return true
}

// errKilled says that a command of ours had no time to say anything.
var errKilled = errors.New("the command on the host was killed before it was done")

// RunProgram has our own program run with arguments; what it says on standard error
// is the error, which says so too where something killed the program.
func RunProgram(program string, common []string) func(ctx context.Context, args ...string) ([]byte, error) {
	return func(ctx context.Context, args ...string) ([]byte, error) {
		cmd := exec.CommandContext(ctx, program, append(slices.Clone(args), common...)...)
		var out, errOut bytes.Buffer
		cmd.Stdout, cmd.Stderr = &out, &errOut
		cmd.WaitDelay = time.Second
		err := cmd.Run()
		var exit *exec.ExitError
		if errors.As(err, &exit) && exit.ExitCode() == 1 { // it did what it was to, and found something
			err = nil
		}
		if exit != nil && !exit.Exited() {
			err = fmt.Errorf("%w (%s)", errKilled, exit)
		} else if err != nil && errOut.Len() > 0 {
			lines := strings.Split(strings.TrimSpace(errOut.String()), "\n")
			err = errors.New(strings.TrimPrefix(lines[len(lines)-1], "yfence: "))
		}
		return out.Bytes(), err
	}
}
