package store

import (
	"bytes"
	"context"
	"database/sql"
	"encoding/hex"
	"errors"
	"fmt"
	"strings"
	"time"

	"yellowfence.example/yfence/core/record"
)

// Ask notes that a host is asked to settle a pair.
func (s *Store) Ask(ctx context.Context, host string, pair int64) error {
	return s.inTx(ctx, func(tx *sql.Tx) error {
		var before int64
		err := tx.QueryRowContext(ctx, "SELECT pair FROM asked WHERE host = ? FOR UPDATE", host).Scan(&before)
		if err != nil && !errors.Is(err, sql.ErrNoRows) {
			return err
		}
		if err := ask(ctx, tx, host, pair); err != nil {
			return err
		}
		// A host that was asked already fetches its rules, and the service tells clouds what a wave or a person began.
		if by := doerOf(ctx).Kind; by == record.Service || by == record.Host && before == pair {
			return nil
		}
		return s.note(ctx, tx, deed{Deed: record.GaveRules, On: host, With: with("pair", fmt.Sprint(pair))})
	})
}

// ask notes that a host is asked for a pair, and which it was asked for before.
func ask(ctx context.Context, tx *sql.Tx, host string, pair int64) error {
	_, err := tx.ExecContext(ctx, `INSERT INTO asked (host, pair, previous, asked_at) VALUES (?, ?, 0, ?)
		ON DUPLICATE KEY UPDATE previous = IF(pair = VALUES(pair), previous, pair), pair = VALUES(pair), asked_at = VALUES(asked_at)`, host, pair, now())
	return err
}

// LastReport is what the service last knows of a host. What it does not know is zero.
type LastReport struct {
	Host       string
	Pair       int64 // it was last asked to settle
	Previous   int64 // it was asked to settle before that
	AskedAt    time.Time
	TakenAt    time.Time
	ReceivedAt time.Time
	Dump       Hash
}

// Report stores a host's report and makes it the newest of the host. More than quota bytes
// within a day are ErrQuota.
func (s *Store) Report(ctx context.Context, host string, takenAt time.Time, dumps []byte, quota int64) (h LastReport, err error) {
	h = LastReport{Host: host, TakenAt: takenAt.UTC().Truncate(time.Microsecond), ReceivedAt: now()}
	err = s.inTx(ctx, func(tx *sql.Tx) error {
		var had int64
		if err := tx.QueryRowContext(ctx, "SELECT COALESCE(SUM(size), 0) FROM reports WHERE host = ? AND received_at > ?", host,
			now().Add(-24*time.Hour)).Scan(&had); err != nil {
			return err
		}
		if had+int64(len(dumps)) > quota {
			return ErrQuota
		}
		var err error
		if h.Dump, err = put(ctx, tx, dumps); err != nil {
			return err
		}
		return report(ctx, tx, h, int64(len(dumps)))
	})
	return h, err
}

// ErrQuota is a host that sent too much in a day.
var ErrQuota = errors.New("the host sent more than it may in a day")

// ReportSame stores a report of a host that says the same as an earlier one of its own,
// by the hash of that in hexadecimal.
func (s *Store) ReportSame(ctx context.Context, host string, takenAt time.Time, same string) error {
	h := LastReport{Host: host, TakenAt: takenAt.UTC().Truncate(time.Microsecond), ReceivedAt: now()}
	hash, err := hex.DecodeString(same)
	if err != nil || len(hash) != len(h.Dump) {
		return ErrNotFound
	}
	copy(h.Dump[:], hash)
	return s.inTx(ctx, func(tx *sql.Tx) error {
		var known int
		if err := tx.QueryRowContext(ctx, "SELECT 1 FROM reports WHERE host = ? AND hash = ? LIMIT 1", host,
			h.Dump[:]).Scan(&known); err != nil {
			return notFound(err)
		}
		if there, err := touch(ctx, tx, h.Dump); !there || err != nil {
			return errors.Join(err, ErrNotFound)
		}
		return report(ctx, tx, h, 0)
	})
}

// report stores a report. One that says what the newest said leaves a time, not a row.
func report(ctx context.Context, tx *sql.Tx, h LastReport, size int64) error {
	var id int64
	var hash []byte
	err := tx.QueryRowContext(ctx, "SELECT r.id, r.hash FROM newest n JOIN reports r ON r.id = n.report WHERE n.host = ? FOR UPDATE",
		h.Host).Scan(&id, &hash)
	switch {
	case err == nil && bytes.Equal(hash, h.Dump[:]):
		if _, err = tx.ExecContext(ctx, "UPDATE reports SET taken_at = ?, received_at = ? WHERE id = ?", h.TakenAt, h.ReceivedAt,
			id); err == nil {
			_, err = tx.ExecContext(ctx, "UPDATE newest SET changed_at = NOW(6) WHERE host = ?", h.Host)
		}
		return err
	case err != nil && !errors.Is(err, sql.ErrNoRows):
		return err
	}
	res, err := tx.ExecContext(ctx, "INSERT INTO reports (host, taken_at, received_at, hash, size) VALUES (?, ?, ?, ?, ?)", h.Host,
		h.TakenAt, h.ReceivedAt, h.Dump[:], size)
	if err != nil {
		return err
	}
	if id, err = res.LastInsertId(); err != nil {
		return err
	}
	_, err = tx.ExecContext(ctx, "INSERT INTO newest (host, report) VALUES (?, ?) ON DUPLICATE KEY UPDATE report = VALUES(report), "+
		"changed_at = NOW(6)", h.Host, id)
	return err
}

// LastReports is what is known of hosts, by name: of those named, or of all if none is.
func (s *Store) LastReports(ctx context.Context, only ...string) (out map[string]LastReport, err error) {
	reported, asked := "", ""
	var args []any
	if len(only) > 0 {
		in := "(?" + strings.Repeat(", ?", len(only)-1) + ")"
		reported, asked = " WHERE n.host IN "+in, " AND a.host IN "+in
		for range 2 {
			for _, name := range only {
				args = append(args, name)
			}
		}
	}
	all, err := list(ctx, s, func(scan func(...any) error) (h LastReport, err error) {
		var asked, taken, received sql.NullTime
		var hash []byte
		err = scan(&h.Host, &h.Pair, &h.Previous, &asked, &taken, &received, &hash)
		h.AskedAt, h.TakenAt, h.ReceivedAt = asked.Time, taken.Time, received.Time
		copy(h.Dump[:], hash)
		return h, err
	}, `
		SELECT n.host, COALESCE(a.pair, 0), COALESCE(a.previous, 0), a.asked_at, r.taken_at, r.received_at, r.hash
		  FROM newest n JOIN reports r ON r.id = n.report LEFT JOIN asked a ON a.host = n.host`+reported+`
		 UNION ALL
		SELECT a.host, a.pair, a.previous, a.asked_at, NULL, NULL, NULL FROM asked a LEFT JOIN newest n ON n.host = a.host WHERE n.host IS NULL`+asked, args...)
	out = map[string]LastReport{}
	for _, h := range all {
		out[h.Host] = h
	}
	return out, err
}

// Findings is the stored result of holding a host's dump against a pair, where another was
// asked for last; that is 0 where it was the same, or none.
func (s *Store) Findings(ctx context.Context, host string, dump Hash, pair, asked int64) (result []byte, err error) {
	var h []byte
	if err := s.row(ctx, "SELECT result FROM findings WHERE host = ? AND dump = ? AND pair = ? AND asked = ?",
		[]any{host, dump[:], pair, asked}, &h); err != nil {
		return nil, err
	}
	var of Hash
	copy(of[:], h)
	return s.Content(ctx, of)
}

// PutFindings stores such a result.
func (s *Store) PutFindings(ctx context.Context, host string, dump Hash, pair, asked int64, result []byte) error {
	return s.inTx(ctx, func(tx *sql.Tx) error {
		h, err := put(ctx, tx, result)
		if err != nil {
			return err
		}
		_, err = tx.ExecContext(ctx, "REPLACE INTO findings (host, dump, pair, asked, result) VALUES (?, ?, ?, ?, ?)", host, dump[:],
			pair, asked, h[:])
		return err
	})
}
