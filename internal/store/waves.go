package store

import (
	"context"
	"crypto/ed25519"
	"database/sql"
	"encoding/json"
	"errors"

	"yellowfence.example/yfence/internal/api"
)

// NewWave begins a wave.
func (s *Store) NewWave(ctx context.Context, w api.Wave) (api.Wave, error) {
	err := s.atOnce(ctx, func(tx *sql.Tx) (err error) {
		if w.Number, err = next(ctx, tx, "waves"); err != nil {
			return err
		}
		w.Began = now()
		body, err := json.Marshal(w)
		if err != nil {
			return err
		}
		_, err = tx.ExecContext(ctx, "INSERT INTO waves (number, state, running) VALUES (?, ?, ?)", w.Number, body, running(w))
		return err
	})
	return w, err
}

func running(w api.Wave) bool { return w.State == api.WaveRunning || w.State == api.WaveWaiting }

// A WaveStep is what a step of a wave may do besides changing its state.
type WaveStep struct {
	tx  *sql.Tx
	key ed25519.PrivateKey
}

// Task asks a host to do something, and gives the number of that.
func (s WaveStep) Task(ctx context.Context, t api.Task) (int64, error) {
	t, err := newTask(ctx, s.tx, t, s.key)
	return t.ID, err
}

// Ask notes that a host is asked to settle a pair.
func (s WaveStep) Ask(ctx context.Context, host string, pair int64) error {
	return ask(ctx, s.tx, host, pair)
}

// StepWave changes a wave in one transaction with what it asks hosts to do. step
// may be called again, if another was faster.
func (s *Store) StepWave(ctx context.Context, number int64, key ed25519.PrivateKey, step func(w *api.Wave, s WaveStep) error) (w api.Wave, err error) {
	err = s.atOnce(ctx, func(tx *sql.Tx) error {
		var body []byte
		if err := tx.QueryRowContext(ctx, "SELECT state FROM waves WHERE number = ? FOR UPDATE", number).Scan(&body); err != nil {
			return notFound(err)
		}
		w = api.Wave{}
		if err := json.Unmarshal(body, &w); err != nil {
			return err
		}
		if err := step(&w, WaveStep{tx, key}); err != nil {
			return err
		}
		after, err := json.Marshal(w)
		if err != nil || string(after) == string(body) {
			return err
		}
		_, err = tx.ExecContext(ctx, "UPDATE waves SET state = ?, running = ? WHERE number = ?", after, running(w), number)
		return err
	})
	return w, err
}

// Waves are waves, the newest first: those that run, or all.
func (s *Store) Waves(ctx context.Context, onlyRunning bool) ([]api.Wave, error) {
	return bodies[api.Wave](ctx, s, "SELECT state FROM waves WHERE running OR NOT ? ORDER BY number DESC LIMIT 200", onlyRunning)
}

// Wave is one wave.
func (s *Store) Wave(ctx context.Context, number int64) (w api.Wave, err error) {
	var body []byte
	if err := s.db.QueryRowContext(ctx, "SELECT state FROM waves WHERE number = ?", number).Scan(&body); err != nil {
		return w, notFound(err)
	}
	return w, json.Unmarshal(body, &w)
}

// Previous is the pair that a host was asked for before the last; 0 if there is none.
func (s WaveStep) Previous(ctx context.Context, host string) (pair int64, err error) {
	err = s.tx.QueryRowContext(ctx, "SELECT previous FROM asked WHERE host = ?", host).Scan(&pair)
	if errors.Is(err, sql.ErrNoRows) {
		err = nil
	}
	return pair, err
}
