package store

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"database/sql"
	"encoding/base64"
	"strings"
	"time"

	"yellowfence.example/yfence/internal/api"
)

// secret is a new random word that cannot be guessed: 256 bits.
func secret(prefix string) (string, Hash) {
	b := make([]byte, 32)
	_, _ = rand.Read(b) // never fails
	s := prefix + base64.RawURLEncoding.EncodeToString(b)
	return s, hashOf(s)
}

// hashOf is how a secret is kept. Secrets are random, so a plain hash does.
func hashOf(s string) Hash { return sha256.Sum256([]byte(s)) }

// NewToken makes a token. Its secret is not kept and told only here.
func (s *Store) NewToken(ctx context.Context, name string, rights []api.Right, host string) (api.NewToken, error) {
	t := api.NewToken{Token: api.Token{Name: name, Rights: rights, Host: host, CreatedAt: now()}}
	var h Hash
	t.Secret, h = secret("yft_")
	err := s.exactlyOnce(ctx, func(tx *sql.Tx) (err error) {
		t.ID, err = putToken(ctx, tx, t.Token, h)
		return err
	})
	return t, err
}

// putToken stores a token's sum; the token itself is kept nowhere.
func putToken(ctx context.Context, tx *sql.Tx, t api.Token, h Hash) (id int64, err error) {
	words := make([]string, len(t.Rights))
	for i, r := range t.Rights {
		words[i] = string(r)
	}
	res, err := tx.ExecContext(ctx, "INSERT INTO tokens (name, rights, host, hash, created_at) VALUES (?, ?, ?, ?, ?)", t.Name,
		strings.Join(words, ","), t.Host, h[:], t.CreatedAt)
	if err != nil {
		return 0, err
	}
	return res.LastInsertId()
}

// TokensInForce counts the tokens of a host that are not revoked; of nobody's host if it is "".
func (s *Store) TokensInForce(ctx context.Context, host string) (n int, err error) {
	return n, s.row(ctx, "SELECT COUNT(*) FROM tokens WHERE host = ? AND revoked_at IS NULL", []any{host}, &n)
}

// tokenColumns is what scanToken reads, in its order.
const tokenColumns = "t.id, t.name, t.rights, t.host, t.created_at, t.revoked_at"

// scanToken reads a token's row.
func scanToken(scan func(...any) error) (t api.Token, err error) {
	var rights string
	var revoked sql.NullTime
	err = scan(&t.ID, &t.Name, &rights, &t.Host, &t.CreatedAt, &revoked)
	for _, r := range strings.Split(rights, ",") {
		t.Rights = append(t.Rights, api.Right(r))
	}
	if revoked.Valid {
		t.RevokedAt = &revoked.Time
	}
	return t, err
}

// TokenBySecret finds a token. One that is revoked says so in RevokedAt.
func (s *Store) TokenBySecret(ctx context.Context, secret string) (t api.Token, err error) {
	h := hashOf(secret)
	return t, s.scanRow(ctx, func(scan func(...any) error) (err error) {
		t, err = scanToken(scan)
		return err
	}, "SELECT "+tokenColumns+" FROM tokens t WHERE t.hash = ?", h[:])
}

// Tokens lists tokens, the newest first: at most so many, those before one if it is not 0.
func (s *Store) Tokens(ctx context.Context, before int64, most int) ([]api.Token, error) {
	return list(ctx, s, scanToken, "SELECT "+tokenColumns+" FROM tokens t WHERE t.id < ? ORDER BY t.id DESC LIMIT ?", orLast(before), most)
}

// RevokeToken ends a token and every session that was begun with it.
func (s *Store) RevokeToken(ctx context.Context, id int64) error {
	return s.inTx(ctx, func(tx *sql.Tx) error {
		res, err := tx.ExecContext(ctx, "UPDATE tokens SET revoked_at = COALESCE(revoked_at, ?) WHERE id = ?", now(), id)
		if err != nil {
			return err
		}
		if n, err := res.RowsAffected(); err == nil && n == 0 {
			var known int
			if err := tx.QueryRowContext(ctx, "SELECT 1 FROM tokens WHERE id = ?", id).Scan(&known); err != nil {
				return notFound(err)
			}
		}
		_, err = tx.ExecContext(ctx, "DELETE FROM sessions WHERE token = ?", id)
		return err
	})
}

// NewSession begins a session of the console for a token.
func (s *Store) NewSession(ctx context.Context, token int64, lasts time.Duration) (string, error) {
	value, h := secret("")
	err := s.inTx(ctx, func(tx *sql.Tx) error {
		_, err := tx.ExecContext(ctx, "REPLACE INTO sessions (hash, token, expires_at) VALUES (?, ?, ?)", h[:], token, now().Add(lasts))
		return err
	})
	return value, err
}

// TokenBySession finds the token of a session that has not ended.
func (s *Store) TokenBySession(ctx context.Context, value string) (t api.Token, err error) {
	h := hashOf(value)
	return t, s.scanRow(ctx, func(scan func(...any) error) (err error) {
		t, err = scanToken(scan)
		return err
	}, "SELECT "+tokenColumns+" FROM sessions x JOIN tokens t ON t.id = x.token WHERE x.hash = ? AND x.expires_at > ? AND t.revoked_at "+
		"IS NULL", h[:], now())
}

// EndSession ends a session.
func (s *Store) EndSession(ctx context.Context, value string) error {
	h := hashOf(value)
	return s.inTx(ctx, func(tx *sql.Tx) error {
		_, err := tx.ExecContext(ctx, "DELETE FROM sessions WHERE hash = ?", h[:])
		return err
	})
}
