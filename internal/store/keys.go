package store

import (
	"context"
	"crypto/ed25519"
	"crypto/rand"
	"database/sql"

	"yellowfence.example/yfence/api"
	"yellowfence.example/yfence/core/record"
)

// SigningKeys are the keys the service signs with: the first now. One is made where
// there is none.
func (s *Store) SigningKeys(ctx context.Context) (keys []ed25519.PrivateKey, err error) {
	if keys, err = s.signingKeys(ctx); err != nil || len(keys) > 0 {
		return keys, err
	}
	if err := s.addKey(ctx, true); err != nil {
		return nil, err
	}
	return s.signingKeys(ctx)
}

// signingKeys are the keys that are in use, the newest last, opened with the key that they are
// sealed by.
func (s *Store) signingKeys(ctx context.Context) (keys []ed25519.PrivateKey, err error) {
	return list(ctx, s, func(scan func(...any) error) (ed25519.PrivateKey, error) {
		var stored []byte
		if err := scan(&stored); err != nil {
			return nil, err
		}
		seed, err := s.unsealed(stored)
		if err != nil {
			return nil, err
		}
		return ed25519.NewKeyFromSeed(seed), nil
	}, "SELECT seed FROM signing_keys WHERE retired_at IS NULL ORDER BY id LIMIT ?", maxKeys)
}

// maxKeys is how many keys are in use at once.
const maxKeys = 20

// NewSigningKey adds a key to sign with when those before it are retired. It is ErrConflict
// where too many wait already.
func (s *Store) NewSigningKey(ctx context.Context) error { return s.addKey(ctx, false) }

// addKey makes a key, unless there are too many; the first one only where there is none.
func (s *Store) addKey(ctx context.Context, first bool) error {
	return s.exactlyOnce(ctx, func(tx *sql.Tx) error {
		n, err := inUse(ctx, tx)
		if err != nil || first && n > 0 { // another service was faster
			return err
		}
		if n >= maxKeys {
			return ErrConflict
		}
		seed := make([]byte, ed25519.SeedSize)
		_, _ = rand.Read(seed) // never fails
		_, err = tx.ExecContext(ctx, "INSERT INTO signing_keys (seed, made_at) VALUES (?, ?)", s.sealed(seed), now())
		if err != nil {
			return err
		}
		return s.note(ctx, tx, deed{Deed: record.MadeKey, On: "signing key " + nameOfKey(seed)})
	})
}

// nameOfKey is how people are told of a key: the beginning of its public half.
func nameOfKey(seed []byte) string {
	return string(api.KeyOf(ed25519.NewKeyFromSeed(seed)))[:8]
}

// inUse counts the keys in use. Whoever does holds them until his transaction ends: on a
// cluster two who do at once meet at the counter when they commit.
func inUse(ctx context.Context, tx *sql.Tx) (n int, err error) {
	if _, err := tx.ExecContext(ctx, "UPDATE counters SET value = value + 1 WHERE name = 'keys'"); err != nil {
		return 0, err
	}
	return n, tx.QueryRowContext(ctx, "SELECT COUNT(*) FROM signing_keys WHERE retired_at IS NULL").Scan(&n)
}

// RetireSigningKey retires the key that signs now, if another is there to follow it.
func (s *Store) RetireSigningKey(ctx context.Context) error {
	return s.exactlyOnce(ctx, func(tx *sql.Tx) error {
		n, err := inUse(ctx, tx)
		if err != nil {
			return err
		}
		if n < 2 {
			return ErrConflict
		}
		var id int64
		var stored []byte
		if err := tx.QueryRowContext(ctx, "SELECT id, seed FROM signing_keys WHERE retired_at IS NULL ORDER BY id LIMIT 1").Scan(&id,
			&stored); err != nil {
			return err
		}
		seed, err := s.unsealed(stored)
		if err != nil {
			return err
		}
		if _, err = tx.ExecContext(ctx, "UPDATE signing_keys SET retired_at = ? WHERE id = ?", now(), id); err != nil {
			return err
		}
		return s.note(ctx, tx, deed{Deed: record.RetiredKey, On: "signing key " + nameOfKey(seed)})
	})
}
