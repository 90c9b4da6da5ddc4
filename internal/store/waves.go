package store

import (
	"context"
	"crypto/ed25519"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"

	"yellowfence.example/yfence/api"
	"yellowfence.example/yfence/internal/wave"
)

// A Taken is the refusal of a wave: another is at one of its hosts.
type Taken struct {
	Host string
	Wave int64
}

// Error says which wave has the host.
func (t *Taken) Error() string { return fmt.Sprintf("wave %d is at %s", t.Wave, t.Host) }

// NewWave begins a wave. It is a *Taken where another that runs is at one of its hosts.
func (s *Store) NewWave(ctx context.Context, w api.Wave) (api.Wave, error) {
	hosts := hostsOf(w)
	var taken *Taken
	err := s.exactlyOnce(ctx, func(tx *sql.Tx) (err error) {
		if w.Number, err = next(ctx, tx, "waves"); err != nil {
			return err
		}
		w.Began = now()
		if taken, err = takeHosts(ctx, tx, w.Number, hosts); err != nil || taken != nil {
			return errors.Join(err, errTaken)
		}
		state, summary, err := written(w)
		if err != nil {
			return err
		}
		if _, err = tx.ExecContext(ctx, "INSERT INTO waves (number, state, summary, running) VALUES (?, ?, ?, ?)", w.Number, state, summary,
			running(w)); err != nil {
			return err
		}
		return s.note(ctx, tx, begins(w, len(hosts)))
	})
	if errors.Is(err, errTaken) && taken != nil {
		return w, taken
	}
	return w, err
}

// errTaken ends a transaction because of a Taken, which is made of what it found.
var errTaken = errors.New("a host is taken")

// hostsOf are the hosts that a wave is at, each once.
func hostsOf(w api.Wave) (names []string) {
	for _, h := range w.Hosts {
		if h.Phase != api.HostAbsent {
			names = append(names, h.Name)
		}
	}
	slices.Sort(names) // all waves take them in one order
	return slices.Compact(names)
}

// takeHosts notes that a wave is at hosts, or says which wave is at one already.
func takeHosts(ctx context.Context, tx *sql.Tx, wave int64, hosts []string) (*Taken, error) {
	for some := range slices.Chunk(hosts, 500) {
		args := make([]any, 0, 2*len(some))
		for _, name := range some {
			args = append(args, name, wave)
		}
		_, err := tx.ExecContext(ctx, "INSERT INTO wave_hosts (host, wave) VALUES (?, ?)"+strings.Repeat(", (?, ?)", len(some)-1), args...)
		if code(err) != duplicate {
			if err != nil {
				return nil, err
			}
			continue
		}
		args = args[:0]
		for _, name := range some {
			args = append(args, name)
		}
		t := &Taken{}
		err = tx.QueryRowContext(ctx, "SELECT host, wave FROM wave_hosts WHERE host IN (?"+strings.Repeat(", ?", len(some)-1)+
			") AND wave <> ? ORDER BY host LIMIT 1", append(args, wave)...).Scan(&t.Host, &t.Wave)
		if errors.Is(err, sql.ErrNoRows) {
			return nil, ErrBusy // it has just ended
		}
		return t, err
	}
	return nil, nil
}

// running says that a wave goes on, or waits for a person to say so.
func running(w api.Wave) bool { return w.State == api.WaveRunning || w.State == api.WaveWaiting }

// written is a wave as it is stored, whole and as lists show it.
func written(w api.Wave) (state, summary []byte, err error) {
	w.Counts = map[string]int{}
	for _, h := range w.Hosts {
		w.Counts[h.Phase]++
	}
	if state, err = json.Marshal(w); err != nil {
		return nil, nil, err
	}
	w.Hosts, w.Trials, w.Proofs, w.Left = []api.WaveHost{}, nil, nil, nil
	summary, err = json.Marshal(w)
	return state, summary, err
}

// StepWave changes a wave in one transaction with what it commands. step works both out from
// the wave as it is, and holds nobody up meanwhile: where another changed the wave since, it
// is called again, up to tries times; then it is ErrConflict. Tasks are signed with key, and
// so is the proof in them.
func (s *Store) StepWave(ctx context.Context, number int64, key ed25519.PrivateKey, tries int,
	step func(w api.Wave) (api.Wave, wave.Commands, error)) (w api.Wave, err error) {
	for range tries {
		var before []byte
		if err := s.row(ctx, "SELECT state FROM waves WHERE number = ?", []any{number}, &before); err != nil {
			return w, err
		}
		w = api.Wave{}
		if err := json.Unmarshal(before, &w); err != nil {
			return w, err
		}
		was := w
		next, todo, err := step(w)
		if err != nil {
			return w, err
		}
		w = next
		after, summary, err := written(w)
		if err != nil || string(after) == string(before) && len(todo.Tasks)+len(todo.Asks) == 0 { // nothing happened: nothing is written
			return w, err
		}
		for i, t := range todo.Tasks {
			if t.Proof != nil {
				t.Proof.Sign(key)
			}
			todo.Tasks[i] = signed(t, key)
		}
		// What was worked out from a state holds for that state alone: it is read again under a lock, and must be the same.
		err = s.exactlyOnce(ctx, func(tx *sql.Tx) error {
			var is []byte
			if err := tx.QueryRowContext(ctx, "SELECT state FROM waves WHERE number = ? FOR UPDATE", number).Scan(&is); err != nil {
				return notFound(err)
			}
			if string(is) != string(before) {
				return ErrConflict
			}
			if err := putStep(ctx, tx, w, todo, after, summary); err != nil {
				return err
			}
			return s.noteStep(ctx, tx, was, w)
		})
		if !errors.Is(err, ErrConflict) {
			return w, err
		}
	}
	return w, ErrConflict
}

// putStep stores what a step of a wave came to: its state and summary, the tasks, and what
// hosts are asked for. All of it is stored or nothing.
func putStep(ctx context.Context, tx *sql.Tx, w api.Wave, todo wave.Commands, state, summary []byte) error {
	for _, t := range todo.Tasks {
		if err := putTask(ctx, tx, t, w.Number); err != nil {
			return err
		}
	}
	for _, a := range todo.Asks {
		if err := ask(ctx, tx, a.Subject, a.Pair); err != nil {
			return err
		}
	}
	if !running(w) {
		if _, err := tx.ExecContext(ctx, "DELETE FROM wave_hosts WHERE wave = ?", w.Number); err != nil {
			return err
		}
	}
	_, err := tx.ExecContext(ctx, "UPDATE waves SET state = ?, summary = ?, running = ? WHERE number = ?", state, summary, running(w),
		w.Number)
	return err
}

// RunningWaves are the numbers of the waves that run, and their states.
func (s *Store) RunningWaves(ctx context.Context) ([]api.Wave, error) {
	return list(ctx, s, unjson[api.Wave], "SELECT COALESCE(summary, state) FROM waves WHERE running = TRUE ORDER BY number LIMIT 1000")
}

// Waves are waves as lists show them, without their hosts, the newest first: at most so
// many, those before a number if it is not 0.
func (s *Store) Waves(ctx context.Context, before int64, most int) ([]api.Wave, error) {
	return list(ctx, s, unjson[api.Wave], "SELECT COALESCE(summary, state) FROM waves WHERE number < ? ORDER BY number DESC LIMIT ?",
		orLast(before), most)
}

// Wave is one wave.
func (s *Store) Wave(ctx context.Context, number int64) (w api.Wave, err error) {
	return w, s.scanRow(ctx, func(scan func(...any) error) (err error) {
		w, err = unjson[api.Wave](scan)
		return err
	}, "SELECT state FROM waves WHERE number = ?", number)
}
