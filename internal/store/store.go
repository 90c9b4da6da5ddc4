// Package store keeps what the service knows in MariaDB. Nothing it is given is
// acknowledged before it is committed.
package store

import (
	"context"
	"crypto/sha256"
	"database/sql"
	"embed"
	"encoding/hex"
	"errors"
	"fmt"
	"io/fs"
	"strings"
	"time"

	"github.com/go-sql-driver/mysql"
	"github.com/pressly/goose/v3"

	"yellowfence.example/yfence/internal/api"
)

//go:embed migrations/*.sql
var migrations embed.FS

// What a caller can do something about.
var (
	ErrNotFound = errors.New("not found")
	ErrConflict = errors.New("somebody was faster")
)

// A Hash is the SHA-256 of a content.
type Hash [sha256.Size]byte

// Store is the service's memory. Its methods may be called at the same time.
type Store struct{ db *sql.DB }

// Open connects to a database and brings its tables up to date. The source is
// one of the mysql driver's; the options we rely on are set here.
func Open(ctx context.Context, source string) (*Store, error) {
	cfg, err := mysql.ParseDSN(source)
	if err != nil {
		return nil, fmt.Errorf("the database's address is not understood: %w", err)
	}
	cfg.ParseTime, cfg.Loc = true, time.UTC
	if cfg.Params == nil {
		cfg.Params = map[string]string{}
	}
	cfg.Params["time_zone"] = "'+00:00'"
	connector, err := mysql.NewConnector(cfg)
	if err != nil {
		return nil, err
	}
	db := sql.OpenDB(connector)
	db.SetMaxOpenConns(16)
	db.SetConnMaxLifetime(time.Hour)
	sub, err := fs.Sub(migrations, "migrations")
	if err != nil {
		panic(err) // the folder is embedded above
	}
	provider, err := goose.NewProvider(goose.DialectMySQL, db, sub, goose.WithVerbose(false))
	if err == nil {
		_, err = provider.Up(ctx)
	}
	if err != nil {
		return nil, errors.Join(fmt.Errorf("the database cannot be used: %w", err), db.Close())
	}
	return &Store{db}, nil
}

// Close ends all connections.
func (s *Store) Close() error { return s.db.Close() }

// Ping says whether the database answers.
func (s *Store) Ping(ctx context.Context) error { return s.db.PingContext(ctx) }

// atOnce runs f in a transaction; a deadlock, or a conflict that a cluster
// reports at commit, is tried again (errors 1213 and 1205).
func (s *Store) atOnce(ctx context.Context, f func(*sql.Tx) error) error {
	for try := 0; ; try++ {
		err := s.once(ctx, f)
		var e *mysql.MySQLError
		if errors.As(err, &e) && (e.Number == 1213 || e.Number == 1205) && try < 5 {
			continue
		}
		if errors.As(err, &e) && e.Number == 1062 { // a number that somebody else took meanwhile
			return ErrConflict
		}
		return err
	}
}

func (s *Store) once(ctx context.Context, f func(*sql.Tx) error) error {
	tx, err := s.db.BeginTx(ctx, nil)
	if err != nil {
		return err
	}
	defer func() { _ = tx.Rollback() }() // does nothing after a commit
	if err := f(tx); err != nil {
		return err
	}
	return tx.Commit()
}

// now is the time as the database keeps it.
func now() time.Time { return time.Now().UTC().Truncate(time.Microsecond) }

// HashOf is the hash that a content is stored under.
func HashOf(body []byte) Hash { return sha256.Sum256(body) }

// put stores a content under its hash, once.
func put(ctx context.Context, tx *sql.Tx, body []byte) (Hash, error) {
	h := HashOf(body)
	_, err := tx.ExecContext(ctx, "INSERT IGNORE INTO content (hash, body, created_at) VALUES (?, ?, ?)", h[:], body, now())
	return h, err
}

// Content is what is stored under a hash.
func (s *Store) Content(ctx context.Context, h Hash) (body []byte, err error) {
	err = s.db.QueryRowContext(ctx, "SELECT body FROM content WHERE hash = ?", h[:]).Scan(&body)
	return body, notFound(err)
}

func notFound(err error) error {
	if errors.Is(err, sql.ErrNoRows) {
		return ErrNotFound
	}
	return err
}

// A Pair is a revision with a generation of the fleet: what is published.
type Pair struct {
	Number, Revision, Generation int64
}

// Publish adds a revision and makes a pair of it with the newest generation. base is the
// pair that the revision was checked against. It is ErrConflict where that is not the
// newest any more: whoever comes late must check again.
func (s *Store) Publish(ctx context.Context, base Pair, author, why string, files []byte) (p Pair, err error) {
	return s.change(ctx, base, revisions, author, why, files)
}

// Import adds a generation of the fleet and makes a pair of it with the newest revision,
// if there is one. base is as for Publish.
func (s *Store) Import(ctx context.Context, base Pair, author, why string, file []byte) (p Pair, err error) {
	return s.change(ctx, base, generations, author, why, file)
}

// A half is one of the two series that a pair is made of.
type half string

const (
	revisions   half = "revisions"
	generations half = "generations"
)

// change adds to one half and makes the pair, in one transaction that holds all three
// counters: while it runs nobody else can change either half, and what it was worked out
// from is still what is newest.
func (s *Store) change(ctx context.Context, base Pair, which half, author, why string, body []byte) (p Pair, err error) {
	insert := map[half]string{
		revisions:   "INSERT INTO revisions (number, author, why, published_at, hash) VALUES (?, ?, ?, ?, ?)",
		generations: "INSERT INTO generations (number, author, why, imported_at, hash) VALUES (?, ?, ?, ?, ?)",
	}[which]
	err = s.atOnce(ctx, func(tx *sql.Tx) error {
		last, err := counters(ctx, tx)
		if err != nil {
			return err
		}
		// Before there is a pair, the fleet alone is what a change was worked out from.
		if base.Number != last["pairs"] || base.Number == 0 && base.Generation != last[string(generations)] {
			return ErrConflict
		}
		h, err := put(ctx, tx, body)
		if err != nil {
			return err
		}
		number := last[string(which)] + 1
		if _, err := tx.ExecContext(ctx, insert, number, author, why, now(), h[:]); err != nil {
			return err
		}
		if err := count(ctx, tx, string(which), number); err != nil {
			return err
		}
		p = Pair{Revision: base.Revision, Generation: base.Generation}
		if which == revisions {
			p.Revision = number
		} else {
			p.Generation = number
		}
		if p.Revision == 0 {
			return nil // nothing is published yet
		}
		p.Number = last["pairs"] + 1
		if _, err := tx.ExecContext(ctx, "INSERT INTO pairs (number, revision, generation, made_at) VALUES (?, ?, ?, ?)", p.Number, p.Revision, p.Generation, now()); err != nil {
			return err
		}
		return count(ctx, tx, "pairs", p.Number)
	})
	return p, err
}

// counters locks the counters of the halves and of the pairs, always in one order, and
// gives the last number of each.
func counters(ctx context.Context, tx *sql.Tx) (last map[string]int64, err error) {
	rows, err := tx.QueryContext(ctx, "SELECT name, value FROM counters WHERE name IN ('generations', 'pairs', 'revisions') ORDER BY name FOR UPDATE")
	if err != nil {
		return nil, err
	}
	defer func() { err = errors.Join(err, rows.Close()) }()
	last = map[string]int64{}
	for rows.Next() {
		var name string
		var value int64
		if err := rows.Scan(&name, &value); err != nil {
			return nil, err
		}
		last[name] = value
	}
	return last, rows.Err()
}

// count notes the last number of a series.
func count(ctx context.Context, tx *sql.Tx, series string, value int64) error {
	_, err := tx.ExecContext(ctx, "UPDATE counters SET value = ? WHERE name = ?", value, series)
	return err
}

// next takes the next number of a series. Others who want one wait until the
// transaction ends, and if it fails the number is given again.
func next(ctx context.Context, tx *sql.Tx, series string) (n int64, err error) {
	if err = tx.QueryRowContext(ctx, "SELECT value + 1 FROM counters WHERE name = ? FOR UPDATE", series).Scan(&n); err != nil {
		return 0, err
	}
	return n, count(ctx, tx, series, n)
}

// Newest is the pair in force. Number is 0 where nothing was published yet;
// Generation is that of the fleet all the same.
func (s *Store) Newest(ctx context.Context) (p Pair, err error) {
	err = s.db.QueryRowContext(ctx, "SELECT number, revision, generation FROM pairs ORDER BY number DESC LIMIT 1").Scan(&p.Number, &p.Revision, &p.Generation)
	if errors.Is(err, sql.ErrNoRows) {
		err = s.db.QueryRowContext(ctx, "SELECT COALESCE(MAX(number), 0) FROM generations").Scan(&p.Generation)
	}
	return p, err
}

// Pair is one pair by its number.
func (s *Store) Pair(ctx context.Context, number int64) (p Pair, err error) {
	err = s.db.QueryRowContext(ctx, "SELECT number, revision, generation FROM pairs WHERE number = ?", number).Scan(&p.Number, &p.Revision, &p.Generation)
	return p, notFound(err)
}

// Revision is one revision with the hash of its files.
func (s *Store) Revision(ctx context.Context, number int64) (r api.Revision, files Hash, err error) {
	var h []byte
	err = s.db.QueryRowContext(ctx, "SELECT number, author, why, published_at, hash FROM revisions WHERE number = ?", number).
		Scan(&r.Number, &r.Author, &r.Why, &r.PublishedAt, &h)
	copy(files[:], h)
	r.Hash = fmt.Sprintf("%x", h)
	return r, files, notFound(err)
}

// Revisions is the history, the newest first. Which one is in force is the newest pair's to say.
func (s *Store) Revisions(ctx context.Context) (out []api.Revision, err error) {
	rows, err := s.db.QueryContext(ctx, "SELECT number, author, why, published_at, hash FROM revisions ORDER BY number DESC")
	if err != nil {
		return nil, err
	}
	defer func() { err = errors.Join(err, rows.Close()) }()
	for rows.Next() {
		var r api.Revision
		var h []byte
		if err := rows.Scan(&r.Number, &r.Author, &r.Why, &r.PublishedAt, &h); err != nil {
			return nil, err
		}
		r.Hash = fmt.Sprintf("%x", h)
		out = append(out, r)
	}
	return out, rows.Err()
}

// Generation is the hash of a fleet file by its number.
func (s *Store) Generation(ctx context.Context, number int64) (file Hash, err error) {
	var h []byte
	err = s.db.QueryRowContext(ctx, "SELECT hash FROM generations WHERE number = ?", number).Scan(&h)
	copy(file[:], h)
	return file, notFound(err)
}

// Ask notes that a host is asked to settle a pair.
func (s *Store) Ask(ctx context.Context, host string, pair int64) error {
	return s.atOnce(ctx, func(tx *sql.Tx) error { return ask(ctx, tx, host, pair) })
}

func ask(ctx context.Context, tx *sql.Tx, host string, pair int64) error {
	_, err := tx.ExecContext(ctx, `INSERT INTO asked (host, pair, previous, asked_at) VALUES (?, ?, 0, ?)
		ON DUPLICATE KEY UPDATE previous = IF(pair = VALUES(pair), previous, pair), pair = VALUES(pair), asked_at = VALUES(asked_at)`, host, pair, now())
	return err
}

// PairOf is the newest pair with a revision.
func (s *Store) PairOf(ctx context.Context, revision int64) (p Pair, err error) {
	err = s.db.QueryRowContext(ctx, "SELECT number, revision, generation FROM pairs WHERE revision = ? ORDER BY number DESC LIMIT 1", revision).Scan(&p.Number, &p.Revision, &p.Generation)
	return p, notFound(err)
}

// Heard is what the service last knows of a host. What it does not know is zero.
type Heard struct {
	Host       string
	Pair       int64 // it was last asked to settle
	Previous   int64 // it was asked to settle before that
	AskedAt    time.Time
	TakenAt    time.Time
	ReceivedAt time.Time
	Dump       Hash
}

// Report stores a host's report and makes it the newest of the host.
func (s *Store) Report(ctx context.Context, host string, takenAt time.Time, dumps []byte) (h Heard, err error) {
	h = Heard{Host: host, TakenAt: takenAt.UTC().Truncate(time.Microsecond), ReceivedAt: now()}
	err = s.atOnce(ctx, func(tx *sql.Tx) error {
		var err error
		if h.Dump, err = put(ctx, tx, dumps); err != nil {
			return err
		}
		return report(ctx, tx, h)
	})
	return h, err
}

// ReportSame stores a report of a host that says the same as an earlier one of its own,
// by the hash of that in hexadecimal.
func (s *Store) ReportSame(ctx context.Context, host string, takenAt time.Time, same string) error {
	h := Heard{Host: host, TakenAt: takenAt.UTC().Truncate(time.Microsecond), ReceivedAt: now()}
	hash, err := hex.DecodeString(same)
	if err != nil || len(hash) != len(h.Dump) {
		return ErrNotFound
	}
	copy(h.Dump[:], hash)
	return s.atOnce(ctx, func(tx *sql.Tx) error {
		var known int
		if err := tx.QueryRowContext(ctx, "SELECT COUNT(*) FROM reports WHERE host = ? AND hash = ?", host, h.Dump[:]).Scan(&known); err != nil {
			return err
		}
		if known == 0 {
			return ErrNotFound
		}
		return report(ctx, tx, h)
	})
}

func report(ctx context.Context, tx *sql.Tx, h Heard) error {
	res, err := tx.ExecContext(ctx, "INSERT INTO reports (host, taken_at, received_at, hash) VALUES (?, ?, ?, ?)", h.Host, h.TakenAt, h.ReceivedAt, h.Dump[:])
	if err != nil {
		return err
	}
	id, err := res.LastInsertId()
	if err != nil {
		return err
	}
	_, err = tx.ExecContext(ctx, "INSERT INTO newest (host, report) VALUES (?, ?) ON DUPLICATE KEY UPDATE report = VALUES(report)", h.Host, id)
	return err
}

// Heard is what is known of hosts, by name: of one, or of all if only is "".
func (s *Store) Heard(ctx context.Context, only string) (out map[string]Heard, err error) {
	reported, asked := "", ""
	var args []any
	if only != "" {
		reported, asked, args = " WHERE n.host = ?", " AND a.host = ?", []any{only, only}
	}
	rows, err := s.db.QueryContext(ctx, `
		SELECT n.host, COALESCE(a.pair, 0), COALESCE(a.previous, 0), a.asked_at, r.taken_at, r.received_at, r.hash
		  FROM newest n JOIN reports r ON r.id = n.report LEFT JOIN asked a ON a.host = n.host`+reported+`
		 UNION ALL
		SELECT a.host, a.pair, a.previous, a.asked_at, NULL, NULL, NULL FROM asked a LEFT JOIN newest n ON n.host = a.host WHERE n.host IS NULL`+asked, args...)
	if err != nil {
		return nil, err
	}
	defer func() { err = errors.Join(err, rows.Close()) }()
	out = map[string]Heard{}
	for rows.Next() {
		var h Heard
		var asked, taken, received sql.NullTime
		var hash []byte
		if err := rows.Scan(&h.Host, &h.Pair, &h.Previous, &asked, &taken, &received, &hash); err != nil {
			return nil, err
		}
		h.AskedAt, h.TakenAt, h.ReceivedAt = asked.Time, taken.Time, received.Time
		copy(h.Dump[:], hash)
		out[h.Host] = h
	}
	return out, rows.Err()
}

// Findings is the stored result of holding a host's dump against a pair.
func (s *Store) Findings(ctx context.Context, host string, dump Hash, pair int64) (result []byte, err error) {
	err = s.db.QueryRowContext(ctx, "SELECT c.body FROM findings f JOIN content c ON c.hash = f.result WHERE f.host = ? AND f.dump = ? AND f.pair = ?", host, dump[:], pair).Scan(&result)
	return result, notFound(err)
}

// PutFindings stores such a result.
func (s *Store) PutFindings(ctx context.Context, host string, dump Hash, pair int64, result []byte) error {
	return s.atOnce(ctx, func(tx *sql.Tx) error {
		h, err := put(ctx, tx, result)
		if err != nil {
			return err
		}
		_, err = tx.ExecContext(ctx, "REPLACE INTO findings (host, dump, pair, result) VALUES (?, ?, ?, ?)", host, dump[:], pair, h[:])
		return err
	})
}

func joinRights(rights []api.Right) string {
	words := make([]string, len(rights))
	for i, r := range rights {
		words[i] = string(r)
	}
	return strings.Join(words, ",")
}
