package store

import (
	"context"
	"crypto/rand"
	"database/sql"
	"encoding/hex"
	"encoding/json"
	"errors"
	"slices"
	"strings"
	"time"

	"yellowfence.example/yfence/api"
	"yellowfence.example/yfence/core/record"
)

// A Destination is where events are delivered, and of which types; none is all.
type Destination struct {
	Name string
	Only []string
}

// Wants says that a destination takes events of a type: "host.state", or all of "host".
func (d Destination) Wants(kind string) bool {
	return len(d.Only) == 0 || slices.ContainsFunc(d.Only, func(o string) bool { return o == kind || strings.HasPrefix(kind, o+".") })
}

// Tell has events from now on be delivered to these destinations.
func (s *Store) Tell(to []Destination) { s.tell.Store(&to) }

// happened writes an event in the transaction that it tells of, and what is to be delivered of it.
func (s *Store) happened(ctx context.Context, tx *sql.Tx, kind, subject string, data any) error {
	body, err := json.Marshal(data)
	if err != nil {
		return err
	}
	id := make([]byte, 16)
	_, _ = rand.Read(id) // never fails
	at := now()
	res, err := tx.ExecContext(ctx, "INSERT INTO events (id, type, subject, at, data) VALUES (?, ?, ?, ?, ?)", hex.EncodeToString(id), kind,
		subject, at, body)
	if err != nil {
		return err
	}
	number, err := res.LastInsertId()
	if err != nil {
		return err
	}
	if to := s.tell.Load(); to != nil {
		for _, d := range *to {
			if !d.Wants(kind) {
				continue
			}
			if _, err := tx.ExecContext(ctx, "INSERT INTO deliveries (destination, event, subject, next_at) VALUES (?, ?, ?, ?)",
				d.Name, number,
				subject, at); err != nil {
				return err
			}
		}
	}
	return nil
}

// noted makes an event of an entry of the record, with the head that was signed with it.
func (s *Store) noted(ctx context.Context, tx *sql.Tx, e record.Entry, key record.Key, head string) error {
	return s.happened(ctx, tx, api.EventOf(e.Deed), e.On, api.RecordEvent{Entry: e,
		Checkpoint: record.Checkpoint{Version: api.Version, Key: key.Public(), Size: e.Number, Head: head}})
}

// eventColumns is what scanEvent reads, in its order.
const eventColumns = "e.number, e.id, e.type, e.subject, e.at, e.data"

// scanEvent reads an event's columns.
func scanEvent(scan func(...any) error, more ...any) (e api.Event, err error) {
	var data []byte
	err = scan(append([]any{&e.Number, &e.ID, &e.Type, &e.Subject, &e.At, &data}, more...)...)
	e.Data = data
	return e, err
}

// Events lists events, the newest first: at most so many, those before a number if it is not 0.
func (s *Store) Events(ctx context.Context, before int64, most int) ([]api.Event, error) {
	return list(ctx, s, func(scan func(...any) error) (api.Event, error) { return scanEvent(scan) },
		"SELECT "+eventColumns+" FROM events e WHERE e.number < ? ORDER BY e.number DESC LIMIT ?", orLast(before), most)
}

// EventsAfter lists events, the oldest first, those after a number.
func (s *Store) EventsAfter(ctx context.Context, after int64, most int) ([]api.Event, error) {
	return list(ctx, s, func(scan func(...any) error) (api.Event, error) { return scanEvent(scan) },
		"SELECT "+eventColumns+" FROM events e WHERE e.number > ? ORDER BY e.number LIMIT ?", after, most)
}

// Marks change with what they stand for, and are cheap to look at.
type Marks struct{ Reports, Waves int64 }

// Marks reads them.
func (s *Store) Marks(ctx context.Context) (m Marks, err error) {
	return m, s.row(ctx, "SELECT (SELECT COALESCE(MAX(id), 0) FROM reports), (SELECT COALESCE(SUM(CRC32(summary)), 0) FROM waves WHERE "+
		"running)", nil, &m.Reports, &m.Waves)
}

// Since is what changed since earlier ones were read.
func (m Marks) Since(o Marks) (what []string) {
	if m.Reports != o.Reports {
		what = append(what, api.StreamReports)
	}
	if m.Waves != o.Waves {
		what = append(what, api.StreamWaves)
	}
	return what
}

// LastEvent is the number of the newest event; 0 where there is none.
func (s *Store) LastEvent(ctx context.Context) (number int64, err error) {
	return number, s.row(ctx, "SELECT COALESCE(MAX(number), 0) FROM events", nil, &number)
}

// scanUndelivered reads an event with how its delivery stands.
func scanUndelivered(scan func(...any) error) (u api.Undelivered, err error) {
	u.Event, err = scanEvent(scan, &u.Destination, &u.State, &u.Tries, &u.NextAt, &u.Said)
	return u, err
}

// Due are events that are to be delivered to a destination now: of each subject the oldest that is not
// delivered, so that they arrive in order.
func (s *Store) Due(ctx context.Context, destination string, most int) ([]api.Undelivered, error) {
	return list(ctx, s, scanUndelivered, "SELECT "+eventColumns+", d.destination, d.state, d.tries, d.next_at, d.said FROM deliveries d "+
		"JOIN "+
		"events e ON e.number = d.event WHERE d.destination = ? AND d.state = 'due' AND d.next_at <= ? AND NOT EXISTS (SELECT 1 FROM "+
		"deliveries o WHERE o.destination = d.destination AND o.subject = d.subject AND o.state = 'due' AND o.event < d.event) ORDER BY "+
		"d.event LIMIT ?", destination, now(), most)
}

// Delivered notes how a try to deliver an event went: it is done, it is tried again at a time, or it is
// given up, which is the zero time.
func (s *Store) Delivered(ctx context.Context, destination string, event int64, said string, again time.Time) error {
	return s.inTx(ctx, func(tx *sql.Tx) error {
		state, done := "due", sql.NullTime{}
		switch {
		case said == "":
			state, done = "done", sql.NullTime{Time: now(), Valid: true}
		case again.IsZero():
			state = "given up"
		}
		if again.IsZero() {
			again = now()
		}
		_, err := tx.ExecContext(ctx, "UPDATE deliveries SET state = ?, tries = tries + 1, said = ?, next_at = ?, done_at = ? WHERE "+
			"destination = ? "+
			"AND event = ? AND state = 'due'", state, said, again, done, destination, event)
		return err
	})
}

// Undelivered lists what destinations did not take yet, or never will: those that were tried, the oldest
// first.
func (s *Store) Undelivered(ctx context.Context, most int) ([]api.Undelivered, error) {
	return list(ctx, s, scanUndelivered, "SELECT "+eventColumns+", d.destination, d.state, d.tries, d.next_at, d.said FROM deliveries d "+
		"JOIN "+
		"events e ON e.number = d.event WHERE d.state IN ('due', 'given up') AND d.tries > 0 ORDER BY d.event, d.destination LIMIT ?", most)
}

// SendAgain has what was given up for a destination be tried again; ErrNotFound where there is nothing.
func (s *Store) SendAgain(ctx context.Context, destination string) (n int64, err error) {
	err = s.inTx(ctx, func(tx *sql.Tx) error {
		res, err := tx.ExecContext(ctx, "UPDATE deliveries SET state = 'due', next_at = ? WHERE destination = ? AND state = 'given up'",
			now(),
			destination)
		if err == nil {
			n, err = res.RowsAffected()
		}
		return err
	})
	if err == nil && n == 0 {
		err = ErrNotFound
	}
	return n, err
}

// A HostState is how a host was last told to stand, and how it stands.
type HostState struct {
	Host    string
	Told    api.State
	ToldAt  time.Time
	State   api.State
	Changes int
	Tells   int // how often it was told in a row
}

// HostStates are how all hosts were last told to stand, by name.
func (s *Store) HostStates(ctx context.Context) (map[string]HostState, error) {
	rows, err := list(ctx, s, func(scan func(...any) error) (h HostState, err error) {
		return h, scan(&h.Host, &h.Told, &h.ToldAt, &h.State, &h.Changes, &h.Tells)
	}, "SELECT host, told, told_at, state, changes, tells FROM host_states WHERE host <> ?", checkpointState)
	out := make(map[string]HostState, len(rows))
	for _, h := range rows {
		out[h.Host] = h
	}
	return out, err
}

// PutHostState notes how a host, or something like it, stands, and writes the event that tells of it; data is
// nil where there is none.
func (s *Store) PutHostState(ctx context.Context, h HostState, kind, subject string, data any) error {
	return s.exactlyOnce(ctx, func(tx *sql.Tx) error {
		if _, err := tx.ExecContext(ctx, "REPLACE INTO host_states (host, told, told_at, state, changes, tells) VALUES (?, ?, ?, ?, ?, ?)",
			h.Host, h.Told, h.ToldAt.UTC(), h.State, h.Changes, h.Tells); err != nil || data == nil {
			return err
		}
		return s.happened(ctx, tx, kind, subject, data)
	})
}

// TellCheckpoint writes an event with the newest head of the record, if others were told of none for a time and
// the record has grown since.
func (s *Store) TellCheckpoint(ctx context.Context, every time.Duration) error {
	return s.exactlyOnce(ctx, func(tx *sql.Tx) error {
		var told, size int64
		var at sql.NullTime
		err := tx.QueryRowContext(ctx, "SELECT changes, told_at FROM host_states WHERE host = ? FOR UPDATE",
			checkpointState).Scan(&told, &at)
		if err != nil && !errors.Is(err, sql.ErrNoRows) {
			return err
		}
		var head string
		err = tx.QueryRowContext(ctx, "SELECT number, head FROM record ORDER BY number DESC LIMIT 1").Scan(&size, &head)
		if errors.Is(err, sql.ErrNoRows) || err == nil && (size == told || at.Valid && now().Sub(at.Time) < every) {
			return nil
		}
		if err != nil {
			return err
		}
		key, err := s.recordKey(ctx, tx, false)
		if err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx, "REPLACE INTO host_states (host, told, told_at, state, changes) VALUES (?, '', ?, '', ?)",
			checkpointState, now(), size); err != nil {
			return err
		}
		return s.happened(ctx, tx, api.CheckpointEvent, "record", record.Checkpoint{Version: api.Version, Key: key.Public(), Size: size,
			Head: head})
	})
}

// checkpointState is the row that keeps which checkpoint others were told of: of its size.
const checkpointState = "the record"

// ForgetHostState forgets a host that the fleet does not have any more.
func (s *Store) ForgetHostState(ctx context.Context, host string) error {
	return s.inTx(ctx, func(tx *sql.Tx) error {
		_, err := tx.ExecContext(ctx, "DELETE FROM host_states WHERE host = ?", host)
		return err
	})
}

// eventsKept is for how long events are kept.
const eventsKept = 30 * 24 * time.Hour

// pruneEvents removes events that are old, with how they were delivered.
func (s *Store) pruneEvents(ctx context.Context, before time.Time) (gone int64, err error) {
	for ctx.Err() == nil {
		var last sql.NullInt64
		err := s.row(ctx, "SELECT MAX(number) FROM (SELECT number FROM events WHERE at < ? ORDER BY at LIMIT ?) e", []any{before,
			pruneBatch}, &last)
		if err != nil || !last.Valid {
			return gone, err
		}
		err = s.inTx(ctx, func(tx *sql.Tx) error {
			if _, err := tx.ExecContext(ctx, "DELETE FROM deliveries WHERE event <= ?", last.Int64); err != nil {
				return err
			}
			res, err := tx.ExecContext(ctx, "DELETE FROM events WHERE number <= ?", last.Int64)
			if err != nil {
				return err
			}
			n, err := res.RowsAffected()
			gone += n
			return err
		})
		if err != nil {
			return gone, err
		}
	}
	return gone, ctx.Err()
}

// Counts are figures of what is kept.
type Counts struct {
	Proposals  int64 // that are open
	Entries    int64 // of the record
	Deliveries []DeliveryCount
}

// A DeliveryCount is how many events a destination did not take.
type DeliveryCount struct {
	Destination, State string
	Events             int64
}

// Counts counts what waits for somebody.
func (s *Store) Counts(ctx context.Context) (c Counts, err error) {
	if err = s.row(ctx, "SELECT (SELECT COUNT(*) FROM proposals WHERE state = ?), (SELECT value FROM counters WHERE name = 'record')",
		[]any{api.ProposalOpen}, &c.Proposals, &c.Entries); err != nil {
		return c, err
	}
	c.Deliveries, err = list(ctx, s, func(scan func(...any) error) (d DeliveryCount, err error) {
		return d, scan(&d.Destination, &d.State, &d.Events)
	}, "SELECT destination, state, COUNT(*) FROM deliveries WHERE state IN ('due', 'given up') GROUP BY destination, state LIMIT 100")
	return c, err
}
