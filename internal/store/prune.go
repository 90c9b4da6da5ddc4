package store

import (
	"context"
	"database/sql"
	"time"

	"yellowfence.example/yfence/core/traffic"
)

// pruneBatch is how many rows go in one transaction: it holds nobody up.
const pruneBatch = 500

// Keeping is for how long what is no longer needed is kept.
type Keeping struct {
	Reports time.Duration // every earlier report of a host, and what it said; the newest stay
	Daily   time.Duration // of each day before that the last report of each host
	Done    time.Duration // tasks and enrolments that are over
}

// DefaultKeeping is for how long that is, if nobody says otherwise.
var DefaultKeeping = Keeping{Reports: 90 * 24 * time.Hour, Daily: 2 * 365 * 24 * time.Hour, Done: 7 * 24 * time.Hour}

// contentGrace is how old a content must be before it goes: whoever has just stored it may
// not have said yet what it is for.
const contentGrace = time.Hour

// The statements that prune, each taking the bound of time and how many rows. What a row of
// another table refers to stays.
const (
	pruneReports = "DELETE FROM reports WHERE received_at < ? AND NOT EXISTS (SELECT 1 FROM newest n WHERE n.host = reports.host AND " +
		"n.report = reports.id) ORDER BY received_at LIMIT ?"
	pruneTasks   = "DELETE FROM tasks WHERE until < ? ORDER BY until LIMIT ?"
	pruneEnrol   = "DELETE FROM enrolments WHERE until < ? ORDER BY until LIMIT ?"
	pruneSession = "DELETE FROM sessions WHERE expires_at < ? ORDER BY expires_at LIMIT ?"
	pruneTraffic = "DELETE FROM traffic WHERE told_at < ? ORDER BY told_at LIMIT ?"
	pruneKeyed   = "DELETE FROM keyed WHERE at < ? ORDER BY at LIMIT ?"
	pruneTally   = "DELETE FROM tallies WHERE at < ? ORDER BY at LIMIT ?"
	pruneOnce    = "DELETE FROM made_once WHERE at < ? ORDER BY at LIMIT ?"
)

// Prune removes what is no longer needed, in small transactions, and says how many rows
// went. It ends when there is no more, or ctx does.
func (s *Store) Prune(ctx context.Context, keep Keeping) (gone int64, err error) {
	at := now()
	for _, p := range []struct {
		query string
		until time.Time
	}{
		{pruneSession, at},
		{pruneOnce, at.Add(-time.Hour)},
		{pruneKeyed, at.Add(-24 * time.Hour)},
		{pruneEnrol, at.Add(-keep.Done)},
		{pruneTasks, at.Add(-keep.Done)},
		{pruneTraffic, at.Add(-traffic.HitDays * 24 * time.Hour)},
		{pruneTally, at.Add(-talliesKept)},
		{pruneReports, at.Add(-max(keep.Daily, keep.Reports))},
	} {
		n, err := s.pruneAll(ctx, p.query, p.until, pruneBatch)
		gone += n
		if err != nil {
			return gone, err
		}
	}
	n, err := s.compactReports(ctx, at.Add(-keep.Reports))
	gone += n
	if err != nil {
		return gone, err
	}
	n, err = s.pruneEvents(ctx, at.Add(-eventsKept))
	gone += n
	if err != nil {
		return gone, err
	}
	n, err = s.pruneFindings(ctx)
	gone += n
	if err != nil {
		return gone, err
	}
	n, err = s.pruneContent(ctx, at.Add(-contentGrace))
	return gone + n, err
}

// pruneAll runs a statement again and again until it has nothing to remove.
func (s *Store) pruneAll(ctx context.Context, query string, args ...any) (gone int64, err error) {
	for ctx.Err() == nil {
		var n int64
		err := s.inTx(ctx, func(tx *sql.Tx) error {
			res, err := tx.ExecContext(ctx, query, args...)
			if err != nil {
				return err
			}
			n, err = res.RowsAffected()
			return err
		})
		gone += n
		if err != nil || n < pruneBatch {
			return gone, err
		}
	}
	return gone, ctx.Err()
}

// compactDay removes what was reported on a day but for the last of each host.
const compactDay = "DELETE FROM reports WHERE received_at >= ? AND received_at < ? AND EXISTS (SELECT 1 FROM reports l WHERE l.host = " +
	"reports.host AND l.received_at > reports.received_at AND l.received_at < ?) ORDER BY received_at LIMIT ?"

// compactReports leaves of each day before a time the last report of each host. A day is gone through once.
func (s *Store) compactReports(ctx context.Context, before time.Time) (gone int64, err error) {
	const day = 24 * time.Hour
	var from sql.NullInt64 // in days since 1970
	if err := s.row(ctx, "SELECT COALESCE((SELECT value FROM counters WHERE name = 'compacted'), (SELECT TIMESTAMPDIFF(DAY, '1970-01-01', "+
		"MIN(received_at)) FROM reports))", nil, &from); err != nil || !from.Valid {
		return 0, err
	}
	for n := from.Int64; n < before.Unix()/int64(day/time.Second) && ctx.Err() == nil; n++ {
		begins := time.Unix(0, 0).UTC().Add(time.Duration(n) * day)
		more, err := s.pruneAll(ctx, compactDay, begins, begins.Add(day), begins.Add(day), pruneBatch)
		gone += more
		if err != nil {
			return gone, err
		}
		if err := s.inTx(ctx, func(tx *sql.Tx) error {
			_, err := tx.ExecContext(ctx, "REPLACE INTO counters (name, value) VALUES ('compacted', ?)", n+1)
			return err
		}); err != nil {
			return gone, err
		}
	}
	return gone, ctx.Err()
}

// pruneFindings removes results about dumps that no report says any more, page by page
// through the table: a page is a range of its key.
func (s *Store) pruneFindings(ctx context.Context) (gone int64, err error) {
	type key struct {
		host        string
		dump        []byte
		pair, asked int64
	}
	var at key
	for ctx.Err() == nil {
		page, err := list(ctx, s, func(scan func(...any) error) (k key, err error) { return k, scan(&k.host, &k.dump, &k.pair, &k.asked) },
			"SELECT host, dump, pair, asked FROM findings WHERE (host, dump, pair, asked) > (?, ?, ?, ?) ORDER BY host, dump, pair, "+
				"asked LIMIT ?", at.host, at.dump, at.pair, at.asked, pruneBatch)
		if err != nil || len(page) == 0 {
			return gone, err
		}
		err = s.inTx(ctx, func(tx *sql.Tx) error {
			gone := int64(0)
			for _, k := range page {
				res, err := tx.ExecContext(ctx, "DELETE FROM findings WHERE host = ? AND dump = ? AND pair = ? AND asked = ? AND NOT "+
					"EXISTS (SELECT 1 FROM reports r WHERE r.host = findings.host AND r.hash = findings.dump)", k.host, k.dump, k.pair,
					k.asked)
				if err != nil {
					return err
				}
				n, err := res.RowsAffected()
				if err != nil {
					return err
				}
				gone += n
			}
			return nil
		})
		if err != nil {
			return gone, err
		}
		at = page[len(page)-1]
	}
	return gone, ctx.Err()
}

// pruneContent removes contents that nothing refers to, page by page, the oldest first.
func (s *Store) pruneContent(ctx context.Context, before time.Time) (gone int64, err error) {
	type key struct {
		at   time.Time
		hash []byte
	}
	var last key
	for ctx.Err() == nil {
		page, err := list(ctx, s, func(scan func(...any) error) (k key, err error) { return k, scan(&k.at, &k.hash) },
			"SELECT created_at, hash FROM content WHERE created_at < ? AND (created_at, hash) > (?, ?) ORDER BY created_at, hash LIMIT ?",
			before, last.at, last.hash, pruneBatch)
		if err != nil || len(page) == 0 {
			return gone, err
		}
		for _, k := range page {
			var n int64
			err := s.inTx(ctx, func(tx *sql.Tx) error {
				// Whoever refers to a content anew touches it first, so that it is not that old.
				res, err := tx.ExecContext(ctx, "DELETE FROM content WHERE hash = ? AND created_at < ?"+unreferred, k.hash, before)
				if err != nil {
					return err
				}
				if n, err = res.RowsAffected(); err != nil || n == 0 {
					return err
				}
				_, err = tx.ExecContext(ctx, "DELETE FROM pieces WHERE hash = ?", k.hash)
				return err
			})
			if gone += n; err != nil {
				return gone, err
			}
		}
		last = page[len(page)-1]
	}
	return gone, ctx.Err()
}

// unreferred is that nothing refers to a content.
const unreferred = " AND NOT EXISTS (SELECT 1 FROM revisions r WHERE r.hash = content.hash)" +
	" AND NOT EXISTS (SELECT 1 FROM generations g WHERE g.hash = content.hash)" +
	" AND NOT EXISTS (SELECT 1 FROM proposals o WHERE o.files = content.hash)" +
	" AND NOT EXISTS (SELECT 1 FROM proposals o WHERE o.fleet = content.hash)" +
	" AND NOT EXISTS (SELECT 1 FROM reports p WHERE p.hash = content.hash)" +
	" AND NOT EXISTS (SELECT 1 FROM findings f WHERE f.result = content.hash)" +
	" AND NOT EXISTS (SELECT 1 FROM boot_dumps b WHERE b.hash = content.hash)"
