package store

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"database/sql"
	"encoding/base64"
	"errors"
	"fmt"
	"strings"
	"time"

	"yellowfence.example/yfence/api"
	"yellowfence.example/yfence/core/record"
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

// NewToken makes a token without an end, as MakeToken does.
func (s *Store) NewToken(ctx context.Context, name string, rights []api.Right, host string) (api.NewToken, error) {
	return s.MakeToken(ctx, api.Token{Name: name, Rights: rights, Host: host})
}

// MakeToken makes a token as it is described. Its secret is not kept and told only here.
func (s *Store) MakeToken(ctx context.Context, as api.Token) (api.NewToken, error) {
	t := api.NewToken{Token: as}
	t.CreatedAt = now()
	var h Hash
	t.Secret, h = secret("yft_")
	err := s.exactlyOnce(ctx, func(tx *sql.Tx) (err error) {
		if t.ID, err = putToken(ctx, tx, t.Token, h); err != nil {
			return err
		}
		return s.note(ctx, tx, deed{Deed: record.MadeToken, On: tokenName(t.Token), Why: t.For,
			With: with("rights", strings.ReplaceAll(wordsOf(t.Rights), ",", " "), "host", t.Host, "until", dateOf(t.Until))})
	})
	return t, err
}

// tokenName is how the record names a token.
func tokenName(t api.Token) string { return fmt.Sprintf("token %d (%s)", t.ID, t.Name) }

// wordsOf is rights as they are stored and told: the roles of one are joined by a plus.
func wordsOf(rights []api.Right) string {
	words := make([]string, len(rights))
	for i, r := range rights {
		words[i] = strings.ReplaceAll(string(r), ",", "+")
	}
	return strings.Join(words, ",")
}

// dateOf is an end as the record says it; "" where there is none.
func dateOf(t *time.Time) string {
	if t == nil {
		return ""
	}
	return t.UTC().Format(time.DateOnly)
}

// putToken stores a token's sum; the token itself is kept nowhere.
func putToken(ctx context.Context, tx *sql.Tx, t api.Token, h Hash) (id int64, err error) {
	res, err := tx.ExecContext(ctx, "INSERT INTO tokens (name, rights, host, hash, created_at, ends_at, purpose) VALUES (?, ?, ?, ?, ?, "+
		"?, ?)",
		t.Name, wordsOf(t.Rights), t.Host, h[:], t.CreatedAt, t.Until, t.For)
	if err != nil {
		return 0, err
	}
	return res.LastInsertId()
}

// TokensInForce counts the tokens of a host that are not revoked; of nobody's host if it is "".
func (s *Store) TokensInForce(ctx context.Context, host string) (n int, err error) {
	return n, s.row(ctx, "SELECT COUNT(*) FROM tokens WHERE host = ? AND revoked_at IS NULL AND (ends_at IS NULL OR ends_at > ?)",
		[]any{host, now()}, &n)
}

// tokenColumns is what scanToken reads, in its order.
const tokenColumns = "t.id, t.name, t.rights, t.host, t.created_at, t.revoked_at, t.ends_at, t.used_at, t.purpose"

// scanToken reads a token's row.
func scanToken(scan func(...any) error) (t api.Token, err error) {
	var rights string
	err = scan(&t.ID, &t.Name, &rights, &t.Host, &t.CreatedAt, &t.RevokedAt, &t.Until, &t.UsedAt, &t.For)
	for _, r := range strings.Split(rights, ",") {
		t.Rights = append(t.Rights, api.Right(strings.ReplaceAll(r, "+", ",")))
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

// Used notes that a token was used. It says nothing in the record.
func (s *Store) Used(ctx context.Context, id int64) error {
	return s.inTx(ctx, func(tx *sql.Tx) error {
		_, err := tx.ExecContext(ctx, "UPDATE tokens SET used_at = ? WHERE id = ?", now(), id)
		return err
	})
}

// WhoMay names a few whose tokens have a right for the whole fleet, those who used theirs last first.
func (s *Store) WhoMay(ctx context.Context, right api.Right, most int) ([]string, error) {
	return list(ctx, s, func(scan func(...any) error) (name string, err error) { return name, scan(&name) },
		"SELECT name FROM tokens WHERE FIND_IN_SET(?, rights) AND host = '' AND revoked_at IS NULL AND (ends_at IS NULL OR ends_at > ?)"+
			" GROUP BY name ORDER BY MAX(used_at) DESC, name LIMIT ?", right, now(), most)
}

// Tokens lists tokens, the newest first: at most so many, those before one if it is not 0.
func (s *Store) Tokens(ctx context.Context, before int64, most int) ([]api.Token, error) {
	return list(ctx, s, scanToken, "SELECT "+tokenColumns+" FROM tokens t WHERE t.id < ? ORDER BY t.id DESC LIMIT ?", orLast(before), most)
}

// RevokeToken ends a token and every session that was begun with it.
func (s *Store) RevokeToken(ctx context.Context, id int64) error {
	return s.exactlyOnce(ctx, func(tx *sql.Tx) error {
		t, err := scanToken(tx.QueryRowContext(ctx, "SELECT "+tokenColumns+" FROM tokens t WHERE t.id = ? FOR UPDATE", id).Scan)
		if err != nil || t.RevokedAt != nil { // once is enough
			return notFound(err)
		}
		if _, err := tx.ExecContext(ctx, "UPDATE tokens SET revoked_at = ? WHERE id = ?", now(), id); err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx, "DELETE FROM sessions WHERE token = ?", id); err != nil {
			return err
		}
		return s.note(ctx, tx, deed{Deed: record.RevokedToken, On: tokenName(t), With: with("host", t.Host)})
	})
}

// NewSession begins a session of the console for a token.
func (s *Store) NewSession(ctx context.Context, t api.Token, lasts time.Duration) (string, error) {
	value, h := secret("")
	err := s.exactlyOnce(ctx, func(tx *sql.Tx) error {
		if _, err := tx.ExecContext(ctx, "REPLACE INTO sessions (hash, token, expires_at) VALUES (?, ?, ?)", h[:], t.ID,
			now().Add(lasts)); err != nil {
			return err
		}
		return s.note(ctx, tx, deed{Deed: record.SignedIn, On: tokenName(t)})
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
	return s.exactlyOnce(ctx, func(tx *sql.Tx) error {
		if was, err := s.endPersonSession(ctx, tx, h); was || err != nil {
			return err
		}
		t, err := scanToken(tx.QueryRowContext(ctx, "SELECT "+tokenColumns+" FROM sessions x JOIN tokens t ON t.id = x.token WHERE "+
			"x.hash = ?"+
			" FOR UPDATE", h[:]).Scan)
		if errors.Is(err, sql.ErrNoRows) {
			return nil
		}
		if err == nil {
			_, err = tx.ExecContext(ctx, "DELETE FROM sessions WHERE hash = ?", h[:])
		}
		if err != nil {
			return err
		}
		return s.note(ctx, tx, deed{Deed: record.SignedOut, On: tokenName(t)})
	})
}
