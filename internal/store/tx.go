package store

import (
	"context"
	cryptorand "crypto/rand"
	"database/sql"
	"database/sql/driver"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"net"
	"slices"
	"time"

	"github.com/go-sql-driver/mysql"
	"go.opentelemetry.io/otel/trace"
)

// All that has to do with a database that is busy, slow, frozen or gone stands in this
// file: how long is waited, what is tried again, and how it is told.

// A Class is a kind of work with connections of its own, so that none of them waits for
// another's.
type Class int

// The classes.
const (
	People Class = iota // what an operator asks for, and who may
	Hosts               // reports, tasks and results of hosts
	Work                // what the service does by itself
	classes
)

// connections is how many connections each class may have.
var connections = [classes]int{People: 8, Hosts: 8, Work: 6}

// classKey is what a context keeps the class of its work by.
type classKey struct{}

// For has what is done with the context use the connections of a class.
func For(ctx context.Context, c Class) context.Context { return context.WithValue(ctx, classKey{}, c) }

// pool is the connections for a context's class of work.
func (s *Store) pool(ctx context.Context) *sql.DB {
	c, _ := ctx.Value(classKey{}).(Class)
	return s.pools[c]
}

// How long is waited for the database, and by it.
const (
	dialTime      = 3 * time.Second
	attemptTime   = 8 * time.Second // of one transaction or query, before it is given up
	patience      = 6 * time.Second // after which nothing is tried again
	firstBackOff  = 10 * time.Millisecond
	longBackOff   = time.Second
	lockWait      = 2  // seconds that a statement waits for another's row
	idleLimit     = 5  // seconds that a transaction may be idle before the server ends it: its service hangs
	statementTime = 15 // seconds that the server works at a statement, if we are no longer there to give it up
)

// session are the variables of each connection.
func session() map[string]string {
	return map[string]string{
		"time_zone":                "'+00:00'",
		"innodb_lock_wait_timeout": fmt.Sprint(lockWait),
		"lock_wait_timeout":        fmt.Sprint(lockWait),
		"idle_transaction_timeout": fmt.Sprint(idleLimit),
		"max_statement_time":       fmt.Sprint(statementTime),
	}
}

// What a caller can do something about.
var (
	ErrNotFound = errors.New("not found")
	ErrConflict = errors.New("somebody was faster")
	// ErrBusy is a database that others keep busy, ErrAway one that does not answer. Waiting
	// helps with both, and nothing was changed.
	ErrBusy = errors.New("the database is busy")
	ErrAway = errors.New("the database does not answer")
	// ErrUnclear is a change of which nobody knows whether it was made: the database went
	// away while it was being committed.
	ErrUnclear = errors.New("the database went away while this was being stored: it may have been stored")
)

// Unavailable says that an error is the database's, and that waiting helps.
func Unavailable(err error) bool {
	return errors.Is(err, ErrBusy) || errors.Is(err, ErrAway) || errors.Is(err, ErrUnclear)
}

// The errors of MariaDB and Galera that another try may not meet again.
var (
	busyCodes = []uint16{
		1205, // waited too long for a row
		1213, // a deadlock, or a conflict that a cluster finds when it commits
		1040, // too many connections
		1203, // the same, of one user
		1969, // took longer than max_statement_time
		1317, // was interrupted
		3572, // a row is locked, and nobody waits for it
	}
	awayCodes = []uint16{
		1047, // this node of a cluster does not take statements now
		1053, // the server is going down
		1927, // the connection was killed
		4031, // the server ended an idle connection
		1152, 1158, 1159, 1160, 1161, 1184,
	}
)

// MariaDB's numbers for what can go wrong.
const duplicate = 1062 // a key that is there already

// code is MariaDB's number of an error, 0 of one that is not MariaDB's.
func code(err error) uint16 {
	var e *mysql.MySQLError
	if errors.As(err, &e) {
		return e.Number
	}
	return 0
}

// transient says what an error of the database means for whoever waits: ErrBusy, ErrAway,
// or nil where trying again would not help.
func transient(err error) error {
	n := code(err)
	var network net.Error
	switch {
	case err == nil:
		return nil
	case slices.Contains(busyCodes, n):
		return ErrBusy
	case slices.Contains(awayCodes, n), n == 0 &&
		(errors.Is(err, driver.ErrBadConn) || errors.Is(err, mysql.ErrInvalidConn) || errors.Is(err, io.EOF) ||
			errors.Is(err, io.ErrUnexpectedEOF) || errors.As(err, &network)):
		return ErrAway
	case errors.Is(err, context.DeadlineExceeded):
		return ErrAway
	}
	return nil
}

// again tries f until it succeeds, fails for good, the caller leaves, or patience is over.
func (s *Store) again(ctx context.Context, f func(ctx context.Context, db *sql.DB) error) error {
	// It is told where the caller is: whoever is not traced makes a span of nobody's.
	ctx, span := trace.SpanFromContext(ctx).TracerProvider().Tracer("yellowfence.example/yfence").Start(ctx, "database")
	defer span.End()
	wait := firstBackOff
	for begin := time.Now(); ; {
		attempt, cancel := context.WithTimeout(ctx, attemptTime)
		err := f(attempt, s.pool(ctx))
		cancel()
		if ctx.Err() != nil && err != nil {
			return ctx.Err()
		}
		kind := transient(err)
		if kind == nil {
			return err
		}
		if time.Since(begin)+wait > patience {
			return fmt.Errorf("%w: %w", kind, err)
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(wait/2 + rand.N(wait/2+1)):
		}
		wait = min(2*wait, longBackOff)
	}
}

// inTx runs f in a transaction. f may be run several times, and what it does must be the
// same if it is done twice. A key that is there already is ErrConflict.
func (s *Store) inTx(ctx context.Context, f func(*sql.Tx) error) error {
	return asConflict(s.again(ctx, func(ctx context.Context, db *sql.DB) error {
		_, err := commit(ctx, db, f)
		return err
	}))
}

// exactlyOnce runs f in a transaction that is committed once, also where the connection is
// lost while it is committed: the transaction notes that it was made, and the next try
// finds that out. f may be run several times; what its last run worked out counts.
func (s *Store) exactlyOnce(ctx context.Context, f func(*sql.Tx) error) error {
	id := make([]byte, 16)
	_, _ = cryptorand.Read(id) // never fails
	unclear := false
	err := s.again(ctx, func(ctx context.Context, db *sql.DB) error {
		made := false
		lost, err := commit(ctx, db, func(tx *sql.Tx) error {
			// Where an earlier try is still being committed this waits for it.
			_, err := tx.ExecContext(ctx, "INSERT INTO made_once (id, at) VALUES (?, ?)", id, now())
			if made = unclear && code(err) == duplicate; made {
				return errMade
			}
			if err != nil {
				return err
			}
			return f(tx)
		})
		if made {
			return nil
		}
		unclear = unclear || lost
		return err
	})
	if err != nil && unclear && (transient(err) != nil || Unavailable(err) || ctx.Err() != nil) {
		return fmt.Errorf("%w: %w", ErrUnclear, err)
	}
	return asConflict(err)
}

// errMade says that what was to be made once is there.
var errMade = errors.New("it was made before")

// commit runs f in a transaction. lost says that the commit was sent and its answer was not
// heard.
func commit(ctx context.Context, db *sql.DB, f func(*sql.Tx) error) (lost bool, err error) {
	// What a statement changes is looked for as it is now. Gaps between rows are not locked.
	tx, err := db.BeginTx(ctx, &sql.TxOptions{Isolation: sql.LevelReadCommitted})
	if err != nil {
		return false, err
	}
	defer func() { _ = tx.Rollback() }() // does nothing after a commit
	if err := f(tx); err != nil {
		return false, err
	}
	err = tx.Commit()
	return err != nil && code(err) == 0, err
}

// asConflict is ErrConflict for a key that somebody else took meanwhile.
func asConflict(err error) error {
	if code(err) == duplicate { // a number that somebody else took meanwhile
		return ErrConflict
	}
	return err
}

// row reads one row; ErrNotFound if there is none.
func (s *Store) row(ctx context.Context, query string, args []any, into ...any) error {
	return s.scanRow(ctx, func(scan func(...any) error) error { return scan(into...) }, query, args...)
}

// scanRow reads one row, ErrNotFound where there is none.
func (s *Store) scanRow(ctx context.Context, read func(scan func(...any) error) error, query string, args ...any) error {
	return notFound(s.again(ctx, func(ctx context.Context, db *sql.DB) error {
		return read(db.QueryRowContext(ctx, query, args...).Scan)
	}))
}

// list reads rows, each by read; never nil without an error.
func list[T any](ctx context.Context, s *Store, read func(scan func(...any) error) (T, error), query string, args ...any) (out []T,
	err error) {
	err = s.again(ctx, func(ctx context.Context, db *sql.DB) (err error) {
		out = []T{}
		rows, err := db.QueryContext(ctx, query, args...)
		if err != nil {
			return err
		}
		defer func() { err = errors.Join(err, rows.Close()) }()
		for rows.Next() {
			one, err := read(rows.Scan)
			if err != nil {
				return err
			}
			out = append(out, one)
		}
		return rows.Err()
	})
	if err != nil {
		return nil, err
	}
	return out, nil
}

// notFound is ErrNotFound for an answer without rows.
func notFound(err error) error {
	if errors.Is(err, sql.ErrNoRows) {
		return ErrNotFound
	}
	return err
}
