package store

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"database/sql"
	"encoding/base64"
	"errors"
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
	res, err := s.db.ExecContext(ctx, "INSERT INTO tokens (name, rights, host, hash, created_at) VALUES (?, ?, ?, ?, ?)", name, joinRights(rights), host, h[:], t.CreatedAt)
	if err != nil {
		return t, err
	}
	t.ID, err = res.LastInsertId()
	return t, err
}

const tokenColumns = "t.id, t.name, t.rights, t.host, t.created_at, t.revoked_at"

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
	return t, notFound(err)
}

// TokenBySecret finds a token that is in force.
func (s *Store) TokenBySecret(ctx context.Context, secret string) (api.Token, error) {
	h := hashOf(secret)
	return scanToken(s.db.QueryRowContext(ctx, "SELECT "+tokenColumns+" FROM tokens t WHERE t.hash = ? AND t.revoked_at IS NULL", h[:]).Scan)
}

// Tokens lists all tokens, the oldest first.
func (s *Store) Tokens(ctx context.Context) (out []api.Token, err error) {
	rows, err := s.db.QueryContext(ctx, "SELECT "+tokenColumns+" FROM tokens t ORDER BY t.id")
	if err != nil {
		return nil, err
	}
	defer func() { err = errors.Join(err, rows.Close()) }()
	for rows.Next() {
		t, err := scanToken(rows.Scan)
		if err != nil {
			return nil, err
		}
		out = append(out, t)
	}
	return out, rows.Err()
}

// RevokeToken ends a token and every session that was begun with it.
func (s *Store) RevokeToken(ctx context.Context, id int64) error {
	return s.atOnce(ctx, func(tx *sql.Tx) error {
		res, err := tx.ExecContext(ctx, "UPDATE tokens SET revoked_at = COALESCE(revoked_at, ?) WHERE id = ?", now(), id)
		if err != nil {
			return err
		}
		if n, err := res.RowsAffected(); err == nil && n == 0 {
			var known int
			if err := tx.QueryRowContext(ctx, "SELECT COUNT(*) FROM tokens WHERE id = ?", id).Scan(&known); err != nil || known == 0 {
				return errors.Join(err, ErrNotFound)
			}
		}
		_, err = tx.ExecContext(ctx, "DELETE FROM sessions WHERE token = ?", id)
		return err
	})
}

// NewSession begins a session of the console for a token.
func (s *Store) NewSession(ctx context.Context, token int64, lasts time.Duration) (string, error) {
	value, h := secret("")
	err := s.atOnce(ctx, func(tx *sql.Tx) error {
		if _, err := tx.ExecContext(ctx, "DELETE FROM sessions WHERE expires_at < ?", now()); err != nil {
			return err
		}
		_, err := tx.ExecContext(ctx, "INSERT INTO sessions (hash, token, expires_at) VALUES (?, ?, ?)", h[:], token, now().Add(lasts))
		return err
	})
	return value, err
}

// TokenBySession finds the token of a session that has not ended.
func (s *Store) TokenBySession(ctx context.Context, value string) (api.Token, error) {
	h := hashOf(value)
	return scanToken(s.db.QueryRowContext(ctx, "SELECT "+tokenColumns+" FROM sessions x JOIN tokens t ON t.id = x.token WHERE x.hash = ? AND x.expires_at > ? AND t.revoked_at IS NULL", h[:], now()).Scan)
}

// EndSession ends a session.
func (s *Store) EndSession(ctx context.Context, value string) error {
	h := hashOf(value)
	_, err := s.db.ExecContext(ctx, "DELETE FROM sessions WHERE hash = ?", h[:])
	return err
}
