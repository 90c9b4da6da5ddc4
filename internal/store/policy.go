package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"math"

	"yellowfence.example/yfence/api"
)

// A Pair is a revision with a generation of the fleet: what is published.
type Pair struct {
	Number, Revision, Generation int64
	ByItself                     bool // nobody asked for it: hosts or clouds told what is otherwise
}

// A Publication is what becomes the newest pair.
type Publication struct {
	Base        Pair // that it was worked out from and checked against
	Author, Why string
	Files       []byte // of the policy; nil: the revision stays
	Fleet       []byte // the fleet file; nil: the generation stays
	Accepted    []api.Accepted
	ByItself    bool     // nobody asked for it: hosts, clouds or lists told what is otherwise
	Proposal    int64    // that it was, which is decided with it; 0 is none
	Approved    []string // who approved that
}

// Publish makes the next pair, with a revision, a generation of the fleet, or both: no host is ever told
// of one without the other. It is ErrConflict where the base is not the newest any more: whoever comes
// late must check again.
func (s *Store) Publish(ctx context.Context, of Publication) (p Pair, err error) {
	// One transaction holds all three counters: while it runs nobody else can change either half, and
	// what it was worked out from is still what is newest.
	err = s.exactlyOnce(ctx, func(tx *sql.Tx) error {
		last, err := counters(ctx, tx)
		if err != nil {
			return err
		}
		// Before there is a pair, the fleet alone is what a change was worked out from.
		if of.Base.Number != last["pairs"] || of.Base.Number == 0 && of.Base.Generation != last[string(generations)] {
			return ErrConflict
		}
		p = Pair{Revision: of.Base.Revision, Generation: of.Base.Generation, ByItself: of.ByItself}
		if of.Files != nil {
			p.Revision = last[string(revisions)] + 1
			if err := addHalf(ctx, tx, revisions, p.Revision, of.Author, of.Why, of.Files); err != nil {
				return err
			}
			if err := accept(ctx, tx, p.Revision, of.Accepted); err != nil {
				return err
			}
		}
		if of.Fleet != nil {
			p.Generation = last[string(generations)] + 1
			if err := addHalf(ctx, tx, generations, p.Generation, of.Author, of.Why, of.Fleet); err != nil {
				return err
			}
		}
		if p.Revision != 0 { // else nothing is published yet
			p.Number = last["pairs"] + 1
			if _, err := tx.ExecContext(ctx, "INSERT INTO pairs (number, revision, generation, made_at, by_itself) VALUES (?, ?, ?, ?, ?)",
				p.Number, p.Revision, p.Generation, now(), p.ByItself); err != nil {
				return err
			}
			if err := count(ctx, tx, "pairs", p.Number); err != nil {
				return err
			}
		}
		if of.Proposal != 0 {
			if err := published(ctx, tx, of.Proposal, p.Revision); err != nil {
				return err
			}
		}
		return s.noteChange(ctx, tx, p, of)
	})
	return p, err
}

// OthersSince says that a person published a revision after one.
func (s *Store) OthersSince(ctx context.Context, revision int64) (bool, error) {
	return s.othersSince(ctx, "revision", revision)
}

// OthersImported says that a person imported a generation of the fleet after one.
func (s *Store) OthersImported(ctx context.Context, generation int64) (bool, error) {
	return s.othersSince(ctx, "generation", generation)
}

// othersSince says that a person changed one column of the pairs after a number of it.
func (s *Store) othersSince(ctx context.Context, column string, number int64) (bool, error) {
	var asked int
	err := s.row(ctx, "SELECT COUNT(*) FROM (SELECT MIN(number) AS first FROM pairs WHERE "+column+" > ? GROUP BY "+column+") p JOIN "+
		"pairs q "+
		"ON q.number = p.first WHERE NOT q.by_itself", []any{number}, &asked)
	return asked > 0, err
}

// A half is one of the two series that a pair is made of.
type half string

// The two halves of a pair, by their tables.
const (
	revisions   half = "revisions"
	generations half = "generations"
)

// addHalf adds one to a half, and notes that it is the last.
func addHalf(ctx context.Context, tx *sql.Tx, which half, number int64, author, why string, body []byte) error {
	h, err := put(ctx, tx, body)
	if err != nil {
		return err
	}
	insert := map[half]string{
		revisions:   "INSERT INTO revisions (number, author, why, published_at, hash) VALUES (?, ?, ?, ?, ?)",
		generations: "INSERT INTO generations (number, author, why, imported_at, hash) VALUES (?, ?, ?, ?, ?)",
	}[which]
	if _, err := tx.ExecContext(ctx, insert, number, author, why, now(), h[:]); err != nil {
		return err
	}
	return count(ctx, tx, string(which), number)
}

// accept notes the problems in spite of which a revision is published.
func accept(ctx context.Context, tx *sql.Tx, revision int64, accepted []api.Accepted) error {
	if len(accepted) == 0 {
		return nil
	}
	said, err := json.Marshal(accepted)
	if err == nil {
		_, err = tx.ExecContext(ctx, "UPDATE revisions SET accepted = ? WHERE number = ?", said, revision)
	}
	return err
}

// counters locks the counters of the halves and of the pairs, always in one order, and
// gives the last number of each.
func counters(ctx context.Context, tx *sql.Tx) (last map[string]int64, err error) {
	rows, err := tx.QueryContext(ctx, "SELECT name, value FROM counters WHERE name IN ('generations', 'pairs', 'revisions') ORDER BY "+
		"name FOR UPDATE")
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
	err = s.row(ctx, pairColumns+" ORDER BY number DESC LIMIT 1", nil, &p.Number, &p.Revision, &p.Generation, &p.ByItself)
	if errors.Is(err, ErrNotFound) {
		err = s.row(ctx, "SELECT COALESCE(MAX(number), 0) FROM generations", nil, &p.Generation)
	}
	return p, err
}

// pairColumns reads pairs.
const pairColumns = "SELECT number, revision, generation, by_itself FROM pairs"

// PairsBetween are the newest few pairs between two, both left out, the newest first.
func (s *Store) PairsBetween(ctx context.Context, older, newer int64, most int) ([]Pair, error) {
	return list(ctx, s, func(scan func(...any) error) (p Pair, err error) {
		return p, scan(&p.Number, &p.Revision, &p.Generation, &p.ByItself)
	}, pairColumns+" WHERE number > ? AND number < ? ORDER BY number DESC LIMIT ?", older, newer, most)
}

// Itself says that all pairs after one, up to another, came by themselves: nobody asked for
// what is otherwise.
func (s *Store) Itself(ctx context.Context, older, newer int64) (bool, error) {
	var asked int
	err := s.row(ctx, "SELECT COUNT(*) FROM pairs WHERE number > ? AND number <= ? AND NOT by_itself", []any{older, newer}, &asked)
	return asked == 0, err
}

// Pair is one pair by its number.
func (s *Store) Pair(ctx context.Context, number int64) (p Pair, err error) {
	err = s.row(ctx, pairColumns+" WHERE number = ?", []any{number}, &p.Number, &p.Revision, &p.Generation, &p.ByItself)
	return p, err
}

// Revision is one revision with the hash of its files.
func (s *Store) Revision(ctx context.Context, number int64) (r api.Revision, files Hash, err error) {
	var h []byte
	var accepted []byte
	err = s.row(ctx, "SELECT number, author, why, published_at, hash, accepted FROM revisions WHERE number = ?", []any{number}, &r.Number,
		&r.Author, &r.Why, &r.PublishedAt, &h, &accepted)
	if err == nil && len(accepted) > 0 {
		err = json.Unmarshal(accepted, &r.Accepted)
	}
	copy(files[:], h)
	r.Hash = fmt.Sprintf("%x", h)
	return r, files, err
}

// Revisions is the history, the newest first: at most so many, those before a number if it
// is not 0. Which one is in force is the newest pair's to say.
func (s *Store) Revisions(ctx context.Context, before int64, most int) ([]api.Revision, error) {
	return list(ctx, s, func(scan func(...any) error) (r api.Revision, err error) {
		var h, accepted []byte
		err = scan(&r.Number, &r.Author, &r.Why, &r.PublishedAt, &h, &accepted)
		if err == nil && len(accepted) > 0 {
			err = json.Unmarshal(accepted, &r.Accepted)
		}
		r.Hash = fmt.Sprintf("%x", h)
		return r, err
	}, "SELECT number, author, why, published_at, hash, accepted FROM revisions WHERE number < ? ORDER BY number DESC LIMIT ?",
		orLast(before), most)
}

// orLast is a number, or a larger one than any if it is 0.
func orLast(before int64) int64 {
	if before == 0 {
		return math.MaxInt64
	}
	return before
}

// Generation is the hash of a fleet file by its number.
func (s *Store) Generation(ctx context.Context, number int64) (file Hash, err error) {
	var h []byte
	err = s.row(ctx, "SELECT hash FROM generations WHERE number = ?", []any{number}, &h)
	copy(file[:], h)
	return file, err
}

// WhyGeneration is why a generation of the fleet was made.
func (s *Store) WhyGeneration(ctx context.Context, number int64) (why string, err error) {
	return why, s.row(ctx, "SELECT why FROM generations WHERE number = ?", []any{number}, &why)
}

// PairOf is the newest pair with a revision.
func (s *Store) PairOf(ctx context.Context, revision int64) (p Pair, err error) {
	err = s.row(ctx, pairColumns+" WHERE revision = ? ORDER BY number DESC LIMIT 1", []any{revision}, &p.Number, &p.Revision,
		&p.Generation, &p.ByItself)
	return p, err
}
