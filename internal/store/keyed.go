package store

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"database/sql"
	"errors"
	"time"
)

// A Keyed is a request that came with a key: sent again, it is not done again.
type Keyed struct {
	ID     Hash // of who asks, and his key
	holder string

	// What is known of it where it was taken before.
	Held   bool // an attempt is at work
	Deed   bool // it changed something
	Hash   Hash // of the request; zero where it was not read to its end
	Status int  // what was answered; 0 where nothing was
	Body   []byte
}

// KeyedID is the identity of a request: who asks, and the key that he chose.
func KeyedID(who, key string) Hash { return sha256.Sum256([]byte(who + "\x00" + key)) }

// keyedHeld is how long an attempt holds a request without going on: whoever comes after one that died
// waits for no longer.
const keyedHeld = 15 * time.Second

// TakeKeyed takes a request to work at it, and says whether that is so; otherwise it says how it stands. One
// that was taken by an attempt that died before it changed anything is taken over.
func (s *Store) TakeKeyed(ctx context.Context, id Hash) (k Keyed, mine bool, err error) {
	k = Keyed{ID: id, holder: rand.Text()}
	err = s.inTx(ctx, func(tx *sql.Tx) error {
		mine = false
		var hash, body []byte
		var status, deed sql.NullInt64
		var holder string
		var until time.Time
		err := tx.QueryRowContext(ctx, "SELECT holder, until, deed, hash, status, body FROM keyed WHERE id = ? FOR UPDATE", id[:]).
			Scan(&holder, &until, &deed, &hash, &status, &body)
		switch {
		case errors.Is(err, sql.ErrNoRows):
			mine = true
			_, err = tx.ExecContext(ctx, "INSERT INTO keyed (id, at, holder, until) VALUES (?, ?, ?, ?)", id[:], now(), k.holder,
				now().Add(keyedHeld))
			return err
		case err != nil:
			return err
		}
		if mine = holder == k.holder; mine { // an earlier try of this transaction
			return nil
		}
		copy(k.Hash[:], hash)
		k.Deed, k.Status, k.Body = deed.Valid, int(status.Int64), body
		k.Held = !status.Valid && now().Before(until)
		if status.Valid || k.Held || k.Deed {
			return nil
		}
		mine = true
		_, err = tx.ExecContext(ctx, "UPDATE keyed SET holder = ?, until = ? WHERE id = ?", k.holder, now().Add(keyedHeld), id[:])
		return err
	})
	if errors.Is(err, ErrConflict) { // another took it at the same moment
		k.Held, mine, err = true, false, nil
	}
	return k, mine, err
}

// HoldKeyed goes on holding a request that this attempt works at.
func (s *Store) HoldKeyed(ctx context.Context, k Keyed) error {
	return s.inTx(ctx, func(tx *sql.Tx) error {
		_, err := tx.ExecContext(ctx, "UPDATE keyed SET until = ? WHERE id = ? AND holder = ?", now().Add(keyedHeld), k.ID[:], k.holder)
		return err
	})
}

// EndKeyed keeps what was answered. A request that was refused before it changed anything may be sent
// again, and is forgotten: that is status 0.
func (s *Store) EndKeyed(ctx context.Context, k Keyed, hash Hash, status int, body []byte) error {
	return s.inTx(ctx, func(tx *sql.Tx) error {
		if status == 0 {
			_, err := tx.ExecContext(ctx, "DELETE FROM keyed WHERE id = ? AND holder = ? AND deed IS NULL", k.ID[:], k.holder)
			return err
		}
		_, err := tx.ExecContext(ctx, "UPDATE keyed SET hash = ?, status = ?, body = ? WHERE id = ? AND holder = ?", hash[:], status, body,
			k.ID[:], k.holder)
		return err
	})
}

// keyedKey is what a context keeps by which request it is for.
type keyedKey struct{}

// ForKeyed has what is done with the context be done for a request: only while this attempt holds it, and
// marked in the same transaction.
func ForKeyed(ctx context.Context, k Keyed) context.Context {
	return context.WithValue(ctx, keyedKey{}, k)
}

// errTakenOver is that another attempt works at the same request.
var errTakenOver = errors.New("another attempt works at this request")

// markKeyed marks the request that a context is for as done by an entry of the record.
func markKeyed(ctx context.Context, tx *sql.Tx, entry int64) error {
	k, ok := ctx.Value(keyedKey{}).(Keyed)
	if !ok {
		return nil
	}
	res, err := tx.ExecContext(ctx, "UPDATE keyed SET deed = ? WHERE id = ? AND holder = ?", entry, k.ID[:], k.holder)
	if err != nil {
		return err
	}
	if n, err := res.RowsAffected(); err != nil || n == 1 {
		return err
	}
	return errTakenOver
}
