package store

import (
	"context"
	"crypto/aes"
	"crypto/cipher"
	"crypto/ed25519"
	"crypto/rand"
	"database/sql"
	"errors"
	"fmt"
)

// SealKeySize is how long a key is that seals, in bytes.
const SealKeySize = 32

// ErrSealed is a signing key that was sealed with another key than ours, or with one while we
// have none.
var ErrSealed = errors.New("the signing keys in the database are sealed with another key")

// Seal has the seeds of the signing keys lie in the database encrypted (AES-256-GCM, NIST SP
// 800-38D), those that are there too. All services on the database need the same key.
func (s *Store) Seal(ctx context.Context, key []byte) error {
	if len(key) != SealKeySize {
		return fmt.Errorf("a key that seals has %d bytes, this one %d", SealKeySize, len(key))
	}
	block, err := aes.NewCipher(key)
	if err != nil {
		return err
	}
	if s.seal, err = cipher.NewGCM(block); err != nil {
		return err
	}
	return s.inTx(ctx, func(tx *sql.Tx) error {
		if _, err := inUse(ctx, tx); err != nil { // nobody else changes them meanwhile
			return err
		}
		rows, err := tx.QueryContext(ctx, "SELECT id, seed FROM signing_keys WHERE LENGTH(seed) = ? LIMIT 1000", ed25519.SeedSize)
		if err != nil {
			return err
		}
		clear := map[int64][]byte{}
		for rows.Next() {
			var id int64
			var seed []byte
			if err := rows.Scan(&id, &seed); err != nil {
				return errors.Join(err, rows.Close())
			}
			clear[id] = seed
		}
		if err := errors.Join(rows.Err(), rows.Close()); err != nil {
			return err
		}
		var ofRecord []byte
		switch err := tx.QueryRowContext(ctx, "SELECT seed FROM record_keys WHERE LENGTH(seed) = ?", ed25519.SeedSize).Scan(&ofRecord); {
		case err == nil:
			_, err = tx.ExecContext(ctx, "UPDATE record_keys SET seed = ?", s.sealed(ofRecord))
			if err != nil {
				return err
			}
		case !errors.Is(err, sql.ErrNoRows):
			return err
		}
		for id, seed := range clear {
			if _, err := tx.ExecContext(ctx, "UPDATE signing_keys SET seed = ? WHERE id = ?", s.sealed(seed), id); err != nil {
				return err
			}
		}
		return nil
	})
}

// sealed is a seed as it is stored.
func (s *Store) sealed(seed []byte) []byte {
	if s.seal == nil {
		return seed
	}
	nonce := make([]byte, s.seal.NonceSize())
	_, _ = rand.Read(nonce) // never fails
	return s.seal.Seal(nonce, nonce, seed, nil)
}

// unsealed is a seed from how it is stored.
func (s *Store) unsealed(stored []byte) ([]byte, error) {
	if len(stored) == ed25519.SeedSize {
		return stored, nil
	}
	if s.seal == nil || len(stored) < s.seal.NonceSize() {
		return nil, ErrSealed
	}
	seed, err := s.seal.Open(nil, stored[:s.seal.NonceSize()], stored[s.seal.NonceSize():], nil)
	if err != nil || len(seed) != ed25519.SeedSize {
		return nil, ErrSealed
	}
	return seed, nil
}
