package store

import (
	"context"
	"crypto/ed25519"
	"database/sql"
	"encoding/json"
	"errors"
	"slices"
	"strings"
	"sync/atomic"
	"time"

	"yellowfence.example/yfence/api"
	"yellowfence.example/yfence/core/record"
)

// NewEnrolment makes a one-time token for a host; those before it end.
func (s *Store) NewEnrolment(ctx context.Context, host string, lasts time.Duration) (e api.Enrolment, err error) {
	token, h := secret("yfe_")
	e = api.Enrolment{Version: api.Version, Host: host, Token: token, Until: now().Add(lasts)}
	return e, s.exactlyOnce(ctx, func(tx *sql.Tx) error {
		if _, err := tx.ExecContext(ctx, "DELETE FROM enrolments WHERE host = ? AND used_at IS NULL", host); err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx, "INSERT INTO enrolments (hash, host, until) VALUES (?, ?, ?)", h[:], host, e.Until); err != nil {
			return err
		}
		return s.note(ctx, tx, deed{Deed: record.MadeEnrolment, On: host})
	})
}

// Enrol trades a one-time token for a host's own, whose earlier ones are revoked.
// Of two who come with the same token one gets it.
func (s *Store) Enrol(ctx context.Context, token string, about api.EnrolRequest) (t api.NewToken, err error) {
	about.Token = ""
	h := hashOf(token)
	err = s.exactlyOnce(ctx, func(tx *sql.Tx) error {
		res, err := tx.ExecContext(ctx, "UPDATE enrolments SET used_at = ? WHERE hash = ? AND used_at IS NULL AND until > ?", now(), h[:],
			now())
		if err != nil {
			return err
		}
		if n, err := res.RowsAffected(); err != nil || n == 0 {
			return errors.Join(err, ErrNotFound)
		}
		var host string
		if err := tx.QueryRowContext(ctx, "SELECT host FROM enrolments WHERE hash = ?", h[:]).Scan(&host); err != nil {
			return err
		}
		said, err := json.Marshal(about)
		if err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx, "REPLACE INTO enrolled (host, enrolled_at, about) VALUES (?, ?, ?)", host, now(),
			said); err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx, "UPDATE tokens SET revoked_at = ? WHERE host = ? AND revoked_at IS NULL", now(),
			host); err != nil {
			return err
		}
		t = api.NewToken{Token: api.Token{Name: host, Rights: []api.Right{api.Host}, Host: host, CreatedAt: now()}}
		var th Hash
		t.Secret, th = secret("yft_")
		if t.ID, err = putToken(ctx, tx, t.Token, th); err != nil {
			return err
		}
		by := doerOf(ctx)
		by.Name, by.Kind, by.SignIn = host, record.Host, "its one-time token"
		return s.note(By(ctx, by), tx, deed{Deed: record.Enrolled, On: host})
	})
	return t, err
}

// NewTask asks a host to do something. It is signed with the number it gets.
func (s *Store) NewTask(ctx context.Context, t api.Task, key ed25519.PrivateKey) (api.Task, error) {
	for try := 0; ; try++ {
		t.ID = NewTaskNumber()
		done := signed(t, key)
		err := s.exactlyOnce(ctx, func(tx *sql.Tx) error {
			// What is tried for a wave is the wave's, and what only looks changes nothing.
			looks := t.Do == api.DoReport || t.Do == api.DoConnections && !t.Cut
			if err := putTask(ctx, tx, done, 0); err != nil || looks || doerOf(ctx) == record.Itself {
				return err
			}
			return s.note(ctx, tx, asks(t))
		})
		if !errors.Is(err, ErrConflict) || try == 3 { // another service took the same number
			return done, err
		}
	}
}

// lastTask is the number that was given last, for NewTaskNumber.
var lastTask atomic.Int64

// NewTaskNumber gives a number for a task, larger than those it gave before: the microseconds
// since 1970. A database that was put back to an earlier state does not give numbers again
// that hosts have seen. Two services may be given the same; only one of them can store it.
func NewTaskNumber() int64 {
	for {
		last := lastTask.Load()
		n := max(last+1, time.Now().UnixMicro())
		if lastTask.CompareAndSwap(last, n) {
			return n
		}
	}
}

// signed is a task as a host gets it.
func signed(t api.Task, key ed25519.PrivateKey) api.Task {
	t.Asked, t.Until = now(), t.Until.UTC().Truncate(time.Microsecond)
	t.Sign(key)
	return t
}

// putTask stores a task; wave is the wave that asked for it, or 0.
func putTask(ctx context.Context, tx *sql.Tx, t api.Task, wave int64) error {
	body, err := json.Marshal(t)
	if err != nil {
		return err
	}
	_, err = tx.ExecContext(ctx, "INSERT INTO tasks (id, host, task, until, wave) VALUES (?, ?, ?, ?, ?)", t.ID, t.Host, body, t.Until,
		wave)
	return err
}

// OpenTasks are what a host has to do, the oldest first.
func (s *Store) OpenTasks(ctx context.Context, host string) ([]api.Task, error) {
	return list(ctx, s, unjson[api.Task], "SELECT task FROM tasks WHERE host = ? AND done_at IS NULL AND until > ? ORDER BY id LIMIT 200",
		host, now())
}

// TaskMark changes whenever anybody was asked to do something: who waits for a task looks
// when it does. Tasks may be stored in another order than they are numbered in.
func (s *Store) TaskMark(ctx context.Context) (mark [2]int64, err error) {
	err = s.row(ctx, "SELECT COUNT(*), COALESCE(MAX(id), 0) FROM tasks WHERE id > ?", []any{time.Now().Add(-bellTime).UnixMicro()},
		&mark[0], &mark[1])
	return mark, err
}

// bellTime is how long a task that is stored late still rings.
const bellTime = time.Minute

// FinishTask notes what became of a task of a host. Only the first word counts.
func (s *Store) FinishTask(ctx context.Context, host string, id int64, result api.TaskResult) error {
	body, err := json.Marshal(result)
	if err != nil {
		return err
	}
	return s.inTx(ctx, func(tx *sql.Tx) error {
		res, err := tx.ExecContext(ctx, "UPDATE tasks SET done_at = COALESCE(done_at, ?), result = COALESCE(result, ?) WHERE id = ? AND "+
			"host = ?", now(), body, id, host)
		if err != nil {
			return err
		}
		if n, err := res.RowsAffected(); err == nil && n == 0 {
			var known int
			return notFound(tx.QueryRowContext(ctx, "SELECT 1 FROM tasks WHERE id = ? AND host = ?", id, host).Scan(&known))
		}
		return nil
	})
}

// Task is a task and what became of it.
func (s *Store) Task(ctx context.Context, id int64) (t api.TaskStatus, err error) {
	all, err := s.Tasks(ctx, []int64{id})
	if err != nil {
		return t, err
	}
	t, known := all[id]
	if !known {
		return t, ErrNotFound
	}
	return t, nil
}

// mostProbes is how many tasks are looked at for probes.
const mostProbes = 4_000

// ProbesSince are the tasks that somebody waited for after a time, and what became of them, those of
// hosts that opened connections: the newest four thousand tasks are looked at.
func (s *Store) ProbesSince(ctx context.Context, at time.Time) ([]api.TaskStatus, error) {
	all, err := list(ctx, s, readTask, "SELECT id, task, done_at, result FROM tasks WHERE until > ? ORDER BY until DESC LIMIT ?", at.UTC(),
		mostProbes)
	return slices.DeleteFunc(all, func(t api.TaskStatus) bool { return t.Do != "probe" || t.Probe == nil }), err
}

// readTask reads a task and what became of it.
func readTask(scan func(...any) error) (t api.TaskStatus, err error) {
	var body, result []byte
	var done sql.NullTime
	var id int64
	if err := scan(&id, &body, &done, &result); err != nil {
		return t, err
	}
	err = json.Unmarshal(body, &t.Task)
	if t.ID = id; err != nil || !done.Valid {
		return t, err
	}
	t.Done = &done.Time
	return t, json.Unmarshal(result, &t.Result)
}

// Tasks are tasks and what became of them, by their numbers.
func (s *Store) Tasks(ctx context.Context, ids []int64) (map[int64]api.TaskStatus, error) {
	out := map[int64]api.TaskStatus{}
	for some := range slices.Chunk(ids, 500) {
		args := make([]any, len(some))
		for i, id := range some {
			args[i] = id
		}
		all, err := list(ctx, s, readTask, "SELECT id, task, done_at, result FROM tasks WHERE id IN (?"+
			strings.Repeat(", ?", len(some)-1)+")", args...)
		if err != nil {
			return nil, err
		}
		for _, t := range all {
			out[t.ID] = t
		}
	}
	return out, nil
}

// WaveOf is the wave that a task is of; 0 if it is of none.
func (s *Store) WaveOf(ctx context.Context, task int64) (wave int64, err error) {
	err = s.row(ctx, "SELECT wave FROM tasks WHERE id = ?", []any{task}, &wave)
	if errors.Is(err, ErrNotFound) {
		err = nil
	}
	return wave, err
}
