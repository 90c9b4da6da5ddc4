package store

import (
	"context"
	"crypto/ed25519"
	"crypto/rand"
	"database/sql"
	"errors"
	"fmt"
	"slices"
	"strings"

	"yellowfence.example/yfence/api"
	"yellowfence.example/yfence/core/record"
)

// doerKey is what a context keeps by who does what is done with it.
type doerKey struct{}

// By has what is done with the context stand in the record as done by somebody; otherwise it is
// the service itself.
func By(ctx context.Context, d record.Doer) context.Context {
	return context.WithValue(ctx, doerKey{}, d)
}

// doerOf is who does what is done with a context.
func doerOf(ctx context.Context) record.Doer {
	if d, ok := ctx.Value(doerKey{}).(record.Doer); ok {
		return d
	}
	return record.Itself
}

// deed is what note makes an entry of.
type deed struct {
	Deed, On, Why string
	With          map[string]string
}

// with makes what else belongs to a deed of pairs of a name and a value; those without a value are
// left out.
func with(pairs ...string) map[string]string {
	out := map[string]string{}
	for p := range slices.Chunk(pairs, 2) {
		if p[1] != "" {
			out[p[0]] = p[1]
		}
	}
	return out
}

// note adds an entry to the record, in the transaction that does the thing, and as the last that it
// does: from here on everybody else who does something waits until it ends.
func (s *Store) note(ctx context.Context, tx *sql.Tx, d deed) error {
	n, err := next(ctx, tx, "record")
	if err != nil {
		return err
	}
	key, err := s.recordKey(ctx, tx, true)
	if err != nil {
		return err
	}
	e := record.Entry{Number: n, At: now(), By: doerOf(ctx), Deed: d.Deed, On: d.On, Why: d.Why, With: d.With}
	body, err := e.Body()
	if err != nil {
		return err
	}
	grown, err := record.Grow(n-1, body, hashesOf(ctx, tx))
	if err != nil {
		return fmt.Errorf("the record cannot be gone on with: %w", err)
	}
	head, err := key.Sign(n, grown.Root)
	if err != nil {
		return err
	}
	args := make([]any, 0, 2*len(grown.Store))
	for i, h := range grown.Store {
		args = append(args, grown.First+int64(i), h[:])
	}
	if _, err := tx.ExecContext(ctx, "INSERT INTO record_hashes (place, hash) VALUES (?, ?)"+strings.Repeat(", (?, ?)", len(grown.Store)-1),
		args...); err != nil {
		return err
	}
	if _, err = tx.ExecContext(ctx, "INSERT INTO record (number, body, head) VALUES (?, ?, ?)", n, body, head); err != nil {
		return err
	}
	if err := markKeyed(ctx, tx, n); err != nil {
		return err
	}
	return s.noted(ctx, tx, e, key, head)
}

// querier is a transaction, or connections outside of one.
type querier interface {
	QueryContext(ctx context.Context, query string, args ...any) (*sql.Rows, error)
	QueryRowContext(ctx context.Context, query string, args ...any) *sql.Row
}

// recordKey is the key that signs the record's heads. With first it is made where there is none;
// whoever asks for that holds the record's counter.
func (s *Store) recordKey(ctx context.Context, q querier, first bool) (record.Key, error) {
	var stored []byte
	err := q.QueryRowContext(ctx, "SELECT seed FROM record_keys WHERE id = 1").Scan(&stored)
	if tx, ok := q.(*sql.Tx); errors.Is(err, sql.ErrNoRows) && first && ok {
		seed := make([]byte, ed25519.SeedSize)
		_, _ = rand.Read(seed) // never fails
		_, err = tx.ExecContext(ctx, "INSERT INTO record_keys (id, seed, made_at) VALUES (1, ?, ?)", s.sealed(seed), now())
		return record.NewKey(seed), err
	}
	if err != nil {
		return record.Key{}, notFound(err)
	}
	seed, err := s.unsealed(stored)
	if err != nil {
		return record.Key{}, err
	}
	return record.NewKey(seed), nil
}

// hashesOf reads hashes of the record's tree.
func hashesOf(ctx context.Context, q querier) record.Hashes {
	return func(places []int64) (out []record.Hash, err error) {
		if len(places) == 0 {
			return nil, nil
		}
		args := make([]any, len(places))
		for i, p := range places {
			args[i] = p
		}
		rows, err := q.QueryContext(ctx, "SELECT place, hash FROM record_hashes WHERE place IN (?"+strings.Repeat(", ?", len(places)-1)+")",
			args...)
		if err != nil {
			return nil, err
		}
		defer func() { err = errors.Join(err, rows.Close()) }()
		found := map[int64]record.Hash{}
		for rows.Next() {
			var place int64
			var stored []byte
			if err := rows.Scan(&place, &stored); err != nil {
				return nil, err
			}
			found[place] = record.Hash(stored)
		}
		if err := rows.Err(); err != nil {
			return nil, err
		}
		for _, p := range places {
			h, ok := found[p]
			if !ok {
				return nil, fmt.Errorf("the hash at %d of its tree is not there", p)
			}
			out = append(out, h)
		}
		return out, nil
	}
}

// noteChange notes that a policy or a fleet was published: an entry for each half that is new.
func (s *Store) noteChange(ctx context.Context, tx *sql.Tx, p Pair, of Publication) error {
	codes := make([]string, len(of.Accepted))
	for i, a := range of.Accepted {
		codes[i] = a.Code + ": " + a.Message
	}
	more := with("accepted", strings.Join(codes, "; "), "approved by", strings.Join(of.Approved, ", "))
	if of.Proposal != 0 {
		more["proposal"] = fmt.Sprintf("%d of %s", of.Proposal, of.Author)
	}
	if of.Fleet != nil {
		d := deed{Deed: record.ImportedFleet, On: fmt.Sprintf("generation %d", p.Generation), Why: of.Why}
		if of.Files == nil {
			d.With = more
		}
		if err := s.note(ctx, tx, d); err != nil {
			return err
		}
	}
	if of.Files == nil {
		return nil
	}
	return s.note(ctx, tx, deed{Deed: record.Published, On: fmt.Sprintf("revision %d", p.Revision), Why: of.Why, With: more})
}

// asks is the deed of asking a host for something.
func asks(t api.Task) deed {
	flags := []string{}
	for flag, is := range map[string]bool{"pause": t.Pause, "ground": t.Ground, "cut": t.Cut, "force": t.Force} {
		if is {
			flags = append(flags, flag)
		}
	}
	slices.Sort(flags)
	w := with("task", string(t.Do), "with", strings.Join(flags, ", "), "within", t.Within)
	if t.Copy != 0 {
		w["copy"] = fmt.Sprint(t.Copy)
	}
	if p := t.Probe; p != nil {
		w["to"] = strings.TrimSpace(fmt.Sprintf("%s %s port %d", p.Protocol, p.To, p.Port))
	}
	return deed{Deed: record.AskedHost, On: t.Host, Why: t.Why, With: w}
}

// begins is the deed of beginning a wave at so many hosts.
func begins(w api.Wave, hosts int) deed {
	flags := []string{}
	if w.Force {
		flags = append(flags, "force")
	}
	if w.SkipProbes {
		flags = append(flags, "skip probes")
	}
	return deed{Deed: record.BeganWave, On: waveName(w), Why: w.Why, With: with("revision", fmt.Sprint(w.Revision), "hosts",
		fmt.Sprint(hosts),
		"with", strings.Join(flags, ", "))}
}

// waveName is how the record names a wave.
func waveName(w api.Wave) string { return fmt.Sprintf("wave %d", w.Number) }

// noteStep notes what a step of a wave came to, where that is for the record: a person let it go on or
// stopped it, or it is over.
func (s *Store) noteStep(ctx context.Context, tx *sql.Tx, was, is api.Wave) error {
	d := deed{On: waveName(is), With: with("state", is.State)}
	person := doerOf(ctx).Kind != record.Service && doerOf(ctx).Kind != record.Host
	over := running(was) && !running(is)
	if person && over && is.State == api.WaveStopped {
		d.Deed, d.Why = record.StoppedWave, is.Stopped
		return s.note(ctx, tx, d)
	}
	if person && was.State == api.WaveWaiting && is.State != api.WaveWaiting {
		d.Deed = record.WentOn
		if err := s.note(ctx, tx, d); err != nil {
			return err
		}
	}
	if !over {
		return nil
	}
	d.Deed, d.Why = record.EndedWave, is.Stopped
	return s.note(By(ctx, record.Itself), tx, d)
}

// A RecordFilter is which entries are wanted; what is empty does not matter.
type RecordFilter struct{ Doer, Deed, Subject string }

// Record lists entries, the newest first: at most so many, those before a number if it is not 0.
func (s *Store) Record(ctx context.Context, f RecordFilter, before int64, most int) ([]record.Entry, error) {
	query, args := "SELECT body FROM record WHERE number < ?", []any{orLast(before)}
	for _, c := range []struct{ column, is string }{{"doer", f.Doer}, {"deed", f.Deed}, {"subject", f.Subject}} {
		if c.is != "" {
			query, args = query+" AND "+c.column+" = ?", append(args, c.is)
		}
	}
	return list(ctx, s, unjson[record.Entry], query+" ORDER BY number DESC LIMIT ?", append(args, most)...)
}

// RecordRows are entries as they are stored, the oldest first: at most so many, those after a number.
func (s *Store) RecordRows(ctx context.Context, after int64, most int) ([]record.Row, error) {
	return list(ctx, s, func(scan func(...any) error) (r record.Row, err error) {
		return r, scan(&r.Number, &r.Body, &r.Head)
	}, "SELECT number, body, head FROM record WHERE number > ? ORDER BY number LIMIT ?", after, most)
}

// RecordRow is one entry as it is stored.
func (s *Store) RecordRow(ctx context.Context, number int64) (r record.Row, err error) {
	return r, s.row(ctx, "SELECT number, body, head FROM record WHERE number = ?", []any{number}, &r.Number, &r.Body, &r.Head)
}

// A RecordHead is the record's newest head: how many entries the service counts, and the head that was
// signed with the last that is there.
type RecordHead struct {
	Public string // the record's public key
	Size   int64
	Signed string // "" where there is no entry
}

// RecordHead reads the newest head, all of it from one moment. It is ErrNotFound before the first entry.
func (s *Store) RecordHead(ctx context.Context) (h RecordHead, err error) {
	err = s.again(ctx, func(ctx context.Context, db *sql.DB) error {
		key, err := s.recordKey(ctx, db, false)
		if err != nil {
			return err
		}
		h = RecordHead{Public: key.Public()}
		return notFound(db.QueryRowContext(ctx, "SELECT c.value, COALESCE((SELECT r.head FROM record r WHERE r.number = c.value), '') "+
			"FROM "+
			"counters c WHERE c.name = 'record'").Scan(&h.Size, &h.Signed))
	})
	return h, err
}

// RecordProof works out a proof from the hashes of the tree.
func (s *Store) RecordProof(ctx context.Context, prove func(record.Hashes) ([]record.Hash, error)) (proof []record.Hash, err error) {
	err = s.again(ctx, func(ctx context.Context, db *sql.DB) (err error) {
		proof, err = prove(hashesOf(ctx, db))
		return err
	})
	return proof, err
}
