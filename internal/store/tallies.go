package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"time"

	"yellowfence.example/yfence/api"
)

// talliesKept is for how long it is kept how the fleet stood.
const talliesKept = 90 * 24 * time.Hour

// PutTally notes how the fleet stands at an instant; of one instant the first to say so counts.
func (s *Store) PutTally(ctx context.Context, t api.StoodAt) error {
	counts, err := json.Marshal(t.Counts)
	if err != nil {
		return err
	}
	return s.exactlyOnce(ctx, func(tx *sql.Tx) error {
		_, err := tx.ExecContext(ctx, "INSERT IGNORE INTO tallies (at, revision, counts) VALUES (?, ?, ?)",
			t.At.UTC().Truncate(time.Microsecond), t.Revision, counts)
		return err
	})
}

// Tallies is how the fleet stood from a time on, the oldest first.
func (s *Store) Tallies(ctx context.Context, since time.Time) ([]api.StoodAt, error) {
	return list(ctx, s, func(scan func(...any) error) (t api.StoodAt, err error) {
		var counts []byte
		if err := scan(&t.At, &t.Revision, &counts); err != nil {
			return t, err
		}
		return t, json.Unmarshal(counts, &t.Counts)
	}, "SELECT at, revision, counts FROM tallies WHERE at >= ? ORDER BY at", since.UTC().Truncate(time.Microsecond))
}
