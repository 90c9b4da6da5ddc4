package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"time"

	"yellowfence.example/yfence/core/record"
)

// PersonPrefix begins the secrets of sessions of people.
const PersonPrefix = "yfs_"

// A Person signed in through the identity provider.
type Person struct {
	Name    string // as others know him
	Subject string // as the provider knows him, with the issuer
	Groups  []string
	Until   time.Time // when his session ends
}

// NewPersonSession begins a session of a person, and gives its secret.
func (s *Store) NewPersonSession(ctx context.Context, p Person) (string, error) {
	value, h := secret(PersonPrefix)
	groups, err := json.Marshal(p.Groups)
	if err != nil {
		return "", err
	}
	return value, s.exactlyOnce(ctx, func(tx *sql.Tx) error {
		if _, err := tx.ExecContext(ctx, "INSERT INTO sessions (hash, token, expires_at, person, subject, claims) VALUES (?, 0, ?, ?, ?, "+
			"?)", h[:],
			p.Until, p.Name, p.Subject, groups); err != nil {
			return err
		}
		return s.note(ctx, tx, deed{Deed: record.SignedIn, On: p.Subject})
	})
}

// PersonBySession is the person of a session that has not ended.
func (s *Store) PersonBySession(ctx context.Context, value string) (p Person, err error) {
	h := hashOf(value)
	var groups []byte
	err = s.row(ctx, "SELECT person, subject, claims, expires_at FROM sessions WHERE hash = ? AND expires_at > ? AND token = 0",
		[]any{h[:], now()}, &p.Name, &p.Subject, &groups, &p.Until)
	if err == nil {
		err = json.Unmarshal(groups, &p.Groups)
	}
	return p, err
}

// endPersonSession ends a session of a person, in a transaction; false where it is none.
func (s *Store) endPersonSession(ctx context.Context, tx *sql.Tx, h Hash) (bool, error) {
	var subject string
	err := tx.QueryRowContext(ctx, "SELECT subject FROM sessions WHERE hash = ? AND token = 0 FOR UPDATE", h[:]).Scan(&subject)
	if errors.Is(err, sql.ErrNoRows) {
		return false, nil
	}
	if err == nil {
		_, err = tx.ExecContext(ctx, "DELETE FROM sessions WHERE hash = ?", h[:])
	}
	if err != nil {
		return true, err
	}
	return true, s.note(ctx, tx, deed{Deed: record.SignedOut, On: subject})
}

// A SignedIn is somebody with sessions that have not ended.
type SignedIn struct {
	Person
	Sessions int
}

// People are those who are signed in through the identity provider, by name: a thousand at most.
func (s *Store) People(ctx context.Context) ([]SignedIn, error) {
	return list(ctx, s, func(scan func(...any) error) (p SignedIn, err error) {
		var groups []byte
		if err = scan(&p.Name, &p.Subject, &groups, &p.Until, &p.Sessions); err == nil {
			err = json.Unmarshal(groups, &p.Groups)
		}
		return p, err
	}, "SELECT person, subject, MAX(claims), MAX(expires_at), COUNT(*) FROM sessions WHERE token = 0 AND expires_at > ? GROUP BY person, "+
		"subject ORDER BY person, subject LIMIT 1000", now())
}

// EndPerson ends all sessions of whoever is called so, and says how many those were; ErrNotFound where there is none.
func (s *Store) EndPerson(ctx context.Context, name, why string) (n int64, err error) {
	err = s.exactlyOnce(ctx, func(tx *sql.Tx) error {
		res, err := tx.ExecContext(ctx, "DELETE FROM sessions WHERE token = 0 AND person = ?", name)
		if err != nil {
			return err
		}
		if n, err = res.RowsAffected(); err != nil {
			return err
		}
		if n == 0 {
			return ErrNotFound
		}
		return s.note(ctx, tx, deed{Deed: record.EndedSessions, On: name, Why: why})
	})
	return n, err
}
