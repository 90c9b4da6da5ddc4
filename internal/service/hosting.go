package service

import (
	"context"
	"crypto/ed25519"
	"errors"
	"fmt"
	"math"
	"net/http"
	"slices"
	"sync"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"yellowfence.example/yfence/api"
	"yellowfence.example/yfence/internal/limits"
	"yellowfence.example/yfence/internal/store"
	"yellowfence.example/yfence/internal/wave"
)

// How long an enrolment is good for, and how often is looked for tasks.
const (
	enrolmentLasts = 24 * time.Hour
	taskLook       = 300 * time.Millisecond
)

// signer is the key that signs now, and all that hosts are to trust.
func (s *Service) signer(ctx context.Context) (ed25519.PrivateKey, api.Keys, error) {
	private, err := s.Store.SigningKeys(ctx)
	if err != nil {
		return nil, api.Keys{}, err
	}
	var keys api.Keys
	for _, k := range private {
		keys.Keys = append(keys.Keys, api.KeyOf(k))
	}
	keys.Sign(private[0])
	return private[0], keys, nil
}

// newEnrolment makes a secret by which a host of the fleet can enrol once.
func (s *Service) newEnrolment(ctx context.Context, in *hostInput) (*struct{ Body api.Enrolment }, error) {
	m, err := s.newest(ctx)
	if err != nil {
		return nil, s.broken("enrolling", err)
	}
	if m.host(in.Host) == nil {
		return nil, noHost(in.Host)
	}
	e, err := s.Store.NewEnrolment(ctx, in.Host, enrolmentLasts)
	if err != nil {
		return nil, s.broken("enrolling", err)
	}
	return &struct{ Body api.Enrolment }{e}, nil
}

// enrol gives a host its own token for such a secret, and the keys by which it knows this
// service.
func (s *Service) enrol(ctx context.Context, in *struct{ Body api.EnrolRequest }) (*struct{ Body api.Enrolled }, error) {
	_, keys, err := s.signer(ctx)
	if err != nil {
		return nil, s.broken("enrolling", err)
	}
	t, err := s.Store.Enrol(ctx, in.Body.Token, in.Body)
	if errors.Is(err, store.ErrNotFound) {
		return nil, huma.Error401Unauthorized("this is no one-time token that still works: it may have been used, or be older than a " +
			"day; `yfence fleet enrol HOST` gives a new one")
	} else if err != nil {
		return nil, s.broken("enrolling", err)
	}
	return &struct{ Body api.Enrolled }{api.Enrolled{Version: api.Version, Host: t.Host, Secret: t.Secret, Keys: keys.Keys}}, nil
}

// bell wakes whoever waits for tasks when there is a new one, whichever service was
// told of it. It looks at the database only while somebody waits.
type bell struct {
	mu      sync.Mutex
	mark    [2]int64
	waiting int
	rung    chan struct{} // closed at the next new task
}

// wait gives a channel that is closed when there is a new task, and what to call
// when the caller no longer waits.
func (s *Service) wait() (rung <-chan struct{}, done func()) {
	b := &s.bell
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.rung == nil {
		b.rung = make(chan struct{})
	}
	if b.waiting++; b.waiting == 1 {
		go s.watchTasks()
	}
	return b.rung, func() {
		b.mu.Lock()
		b.waiting--
		b.mu.Unlock()
	}
}

// watchTasks looks for new tasks for all who wait for some, so that one question is asked of
// the database however many hosts wait.
func (s *Service) watchTasks() {
	b := &s.bell
	for ; ; time.Sleep(taskLook) {
		ctx, cancel := context.WithTimeout(store.For(context.Background(), store.Work), 10*time.Second)
		mark, err := s.Store.TaskMark(ctx)
		cancel()
		b.mu.Lock()
		if err == nil && mark != b.mark {
			b.mark = mark
			close(b.rung)
			b.rung = make(chan struct{})
		}
		if b.waiting == 0 {
			b.mark = [2]int64{-1} // whoever comes next looks first
			b.mu.Unlock()
			return
		}
		b.mu.Unlock()
	}
}

// showTasks answers which tasks a host has, and waits for one if there is none.
func (s *Service) showTasks(ctx context.Context, in *struct {
	Host string `path:"host"`
	Wait int    `query:"wait" minimum:"0" doc:"seconds to wait for one if there is none"`
}) (*struct{ Body api.Tasks }, error) {
	leave, ok := s.polls.enter(in.Host)
	if !ok {
		return nil, huma.ErrorWithHeaders(huma.Error429TooManyRequests(fmt.Sprintf("%s has %d questions for tasks open already", in.Host,
			limits.Polls)), http.Header{"Retry-After": {"5"}})
	}
	defer leave()
	if err := s.Store.Attends(ctx, in.Host); err != nil {
		return nil, s.broken("reading the tasks", err)
	}
	out := api.Tasks{Version: api.Version, ReportEvery: int(s.ReportEvery.Seconds())}
	// The answer comes when there is a task, when the time is over, or when this service ends, and then
	// the host asks another.
	over := time.After(min(time.Duration(in.Wait)*time.Second, wave.LongestWait))
	for {
		// The bell is asked for before the tasks are read: one that comes in between is not missed.
		rung, done := s.wait()
		var err error
		if out.Tasks, err = s.Store.OpenTasks(ctx, in.Host); err == nil {
			_, out.Keys, err = s.signer(ctx)
		}
		if err != nil {
			done()
			return nil, s.broken("reading the tasks", err)
		}
		waited := false
		if len(out.Tasks) == 0 && in.Wait > 0 {
			select {
			case <-rung:
				waited = true
			case <-over:
			case <-s.stopping:
			case <-ctx.Done():
			}
		}
		done()
		if !waited {
			return &struct{ Body api.Tasks }{out}, nil
		}
	}
}

// finishTask takes what became of a task. A host can tell of its own tasks alone, and once.
func (s *Service) finishTask(ctx context.Context, in *struct {
	Host string `path:"host"`
	ID   int64  `path:"id"`
	Body api.TaskResult
}) (*struct{}, error) {
	switch err := s.Store.FinishTask(ctx, in.Host, in.ID, in.Body); {
	case errors.Is(err, store.ErrNotFound):
		return nil, huma.Error404NotFound(fmt.Sprintf("%s has no task %d", in.Host, in.ID))
	case err != nil:
		return nil, s.broken("noting the result", err)
	}
	return nil, nil
}

// showTask tells how a task stands.
func (s *Service) showTask(ctx context.Context, in *struct {
	Host string `path:"host"`
	ID   int64  `path:"id"`
}) (*struct{ Body api.TaskStatus }, error) {
	t, err := s.Store.Task(ctx, in.ID)
	if errors.Is(err, store.ErrNotFound) || err == nil && t.Host != in.Host {
		return nil, huma.Error404NotFound(fmt.Sprintf("%s has no task %d", in.Host, in.ID))
	} else if err != nil {
		return nil, s.broken("reading the task", err)
	}
	return &struct{ Body api.TaskStatus }{t}, nil
}

// task asks a host to do something within a time.
func (s *Service) task(ctx context.Context, t api.Task, within time.Duration) (api.Task, error) {
	key, _, err := s.signer(ctx)
	if err != nil {
		return t, err
	}
	t.Until = s.Clock().Add(within)
	return s.Store.NewTask(ctx, t, key)
}

// result waits for what becomes of a task; nil if nothing did in its time.
func (s *Service) result(ctx context.Context, id int64, within time.Duration) (*api.TaskResult, error) {
	for end := ends(within); !over(end); {
		t, err := s.Store.Task(ctx, id)
		if err != nil || t.Done != nil {
			return t.Result, err
		}
		select {
		case <-ctx.Done():
			return nil, ctx.Err()
		case <-s.stopping:
			return nil, nil
		case <-time.After(50 * time.Millisecond):
		}
	}
	return nil, nil
}

// attends says whether a host asked lately what there is to do.
func (s *Service) attends(a store.AgentStatus) bool {
	now := s.Clock()
	return now.Sub(a.AskedAt) < wave.Silence || s.outage.seen().Excuses(a.AskedAt, now)
}

// attending is what is known of a host that has to be there to do something.
func (s *Service) attending(ctx context.Context, host string) (store.AgentStatus, error) {
	all, err := s.Store.AgentStatuses(ctx, host)
	if err != nil {
		return store.AgentStatus{}, s.broken("reading how the host attends", err)
	}
	if a := all[host]; s.attends(a) {
		return a, nil
	}
	return store.AgentStatus{}, api.NewProblem(api.NotAttending, fmt.Sprintf("%s does not poll the service: is `yfence attend` running "+
		"there?", host))
}

// tellChange takes how a change stands that a host made by itself, or why it made none.
func (s *Service) tellChange(ctx context.Context, in *struct {
	Host string `path:"host"`
	Body struct {
		Pair   int64           `json:"pair,omitempty" doc:"that it is to put in force"`
		Change *api.HostChange `json:"change,omitempty"`
		Failed string          `json:"failed,omitempty" doc:"why no change was made"`
	}
}) (*struct{}, error) {
	if err := s.Store.PutChange(ctx, in.Host, in.Body.Pair, in.Body.Change, in.Body.Failed); err != nil {
		return nil, s.broken("noting the change", err)
	}
	if err := s.tellWaves(ctx, in.Host, in.Body.Change); err != nil {
		return nil, s.broken("noting the change", err)
	}
	return nil, nil
}

// taskRequest is what an operator asks a host to do.
type taskRequest struct {
	Host string `path:"host"`
	Body struct {
		Do     api.TaskKind `json:"do" enum:"take back,put back,pause,resume,report,connections" doc:"take back: undo the change that waits for its keep"`
		Copy   int          `json:"copy,omitempty" doc:"of a put back: the copy's number"`
		Within string       `json:"within,omitempty" doc:"the length of a pause, or the time for a keep, as 90s or 2h"`
		Cut    bool         `json:"cut,omitempty" doc:"of connections: cut those that are found"`
		Why    string       `json:"why,omitempty" maxLength:"2000"`
		Force  bool         `json:"force,omitempty" doc:"go on where the change cuts off log-ins or the service"`
	}
}

// askHost asks a host to do something and waits a while for what becomes of it.
func (s *Service) askHost(ctx context.Context, in *taskRequest) (*struct{ Body api.TaskStatus }, error) {
	_, h, err := s.host(ctx, in.Host)
	if err != nil {
		return nil, err
	}
	right := api.Settle
	if in.Body.Do == api.DoPause || in.Body.Do == api.DoResume {
		right = api.Pause
	}
	if err := s.mayOn(ctx, right, h); err != nil {
		return nil, err
	}
	a, err := s.attending(ctx, in.Host)
	if err != nil {
		return nil, err
	}
	b := in.Body
	t := api.Task{Host: in.Host, Do: b.Do, Copy: b.Copy, Cut: b.Cut, Within: b.Within, Why: b.Why, Force: b.Force}
	who := caller(ctx).Name
	// A pause and its end are tasks to settle and to take back, with who asked and why.
	switch b.Do {
	case api.DoPause:
		length, err := time.ParseDuration(b.Within)
		switch {
		case err != nil || length <= 0:
			return nil, huma.Error422UnprocessableEntity(fmt.Sprintf("a pause needs its length, as 30m or 2h, not %q", b.Within))
		case length > s.set().MaxPause:
			return nil, huma.Error422UnprocessableEntity(fmt.Sprintf("a pause may last %s at most, so that nobody forgets it (serve "+
				"--max-pause)", s.set().MaxPause))
		case b.Why == "":
			return nil, huma.Error422UnprocessableEntity("a pause needs a reason: others will see it, and ask")
		}
		t.Do, t.Pause, t.Force, t.Why = api.DoSettle, true, true, fmt.Sprintf("%s (%s)", b.Why, who)
	case api.DoResume:
		if a.Change == nil || a.Change.Kind != api.ChangePause || a.Change.Phase != api.InForceYet {
			return nil, huma.Error409Conflict(fmt.Sprintf("%s is not paused", in.Host))
		}
		t.Do, t.Why = api.DoTakeBack, "resumed by "+who
	case api.DoTakeBack:
		t.Why = fmt.Sprintf("taken back by %s", who)
		if b.Why != "" {
			t.Why += ": " + b.Why
		}
	}
	// Most hosts answer at once; where one does not, the task stands, and how it ends can be asked.
	if t, err = s.task(ctx, t, time.Minute); err != nil {
		return nil, s.broken("asking the host", err)
	}
	res, err := s.result(ctx, t.ID, 45*time.Second)
	if err != nil {
		return nil, s.broken("asking the host", err)
	}
	status := api.TaskStatus{Task: t, Result: res}
	if res != nil {
		status.Done = new(s.Clock().UTC())
	}
	return &struct{ Body api.TaskStatus }{status}, nil
}

// showCopies answers which copies a host keeps of what it had in force.
func (s *Service) showCopies(ctx context.Context, in *struct {
	Host   string `path:"host"`
	Number int    `query:"number" doc:"one copy only, with its text"`
}) (*struct{ Body api.Copies }, error) {
	if m, err := s.newest(ctx); err != nil {
		return nil, s.broken("reading the copies", err)
	} else if m.host(in.Host) == nil {
		return nil, noHost(in.Host)
	}
	copies, err := s.Store.Copies(ctx, in.Host)
	if err != nil {
		return nil, s.broken("reading the copies", err)
	}
	if in.Number != 0 {
		copies = slices.DeleteFunc(copies, func(c api.CopyNote) bool { return c.Number != in.Number })
		if len(copies) == 0 {
			return nil, huma.Error404NotFound(fmt.Sprintf("%s keeps no copy %d, or has not told of it", in.Host, in.Number))
		}
	} else {
		for i := range copies {
			copies[i].Text = ""
		}
	}
	return &struct{ Body api.Copies }{api.Copies{Version: api.Version, Host: in.Host, Copies: copies}}, nil
}

// putCopies takes a host's list of them.
func (s *Service) putCopies(ctx context.Context, in *struct {
	Host string `path:"host"`
	Body api.Copies
}) (*struct{}, error) {
	seen := map[int]bool{}
	for _, c := range in.Body.Copies {
		if c.Number < 1 || c.Number > math.MaxInt32 || seen[c.Number] {
			return nil, huma.Error422UnprocessableEntity(fmt.Sprintf("copies are numbered from 1 to %d, each once, and one of these is "+
				"numbered %d", math.MaxInt32, c.Number))
		}
		seen[c.Number] = true
	}
	if len(seen) > limits.Copies {
		return nil, huma.Error422UnprocessableEntity(fmt.Sprintf("a host tells of up to %d copies, not %d", limits.Copies, len(seen)))
	}
	if err := s.Store.PutCopies(ctx, in.Host, in.Body.Copies); err != nil {
		return nil, s.broken("keeping the copies", err)
	}
	return nil, nil
}

// keysOutput is the service's keys.
type keysOutput struct{ Body api.Keys }

// showKeys answers which keys this service signs with, and the next.
func (s *Service) showKeys(ctx context.Context, _ *struct{}) (*keysOutput, error) {
	_, keys, err := s.signer(ctx)
	if err != nil {
		return nil, s.broken("reading the keys", err)
	}
	return &keysOutput{keys}, nil
}

// newKey makes the next key. Hosts learn of it with their next question, signed by the one that
// they trust.
func (s *Service) newKey(ctx context.Context, in *struct{}) (*keysOutput, error) {
	if _, _, err := s.signer(ctx); err != nil {
		return nil, s.broken("making a key", err)
	}
	if err := s.Store.NewSigningKey(ctx); err != nil {
		return nil, s.broken("making a key", err)
	}
	return s.showKeys(ctx, in)
}

// retireKey goes over to the next key, once there is one.
func (s *Service) retireKey(ctx context.Context, in *struct{}) (*keysOutput, error) {
	switch err := s.Store.RetireSigningKey(ctx); {
	case errors.Is(err, store.ErrConflict):
		return nil, huma.Error409Conflict("there is no other key to follow this one: make one first, and wait until all hosts have asked " +
			"for tasks since")
	case err != nil:
		return nil, s.broken("retiring a key", err)
	}
	return s.showKeys(ctx, in)
}
