package store

import (
	"context"
	"database/sql"
	"encoding/hex"
	"encoding/json"
	"errors"
	"strings"
	"time"

	"yellowfence.example/yfence/api"
)

// Attends notes that a host asked what there is to do.
func (s *Store) Attends(ctx context.Context, host string) error {
	return s.inTx(ctx, func(tx *sql.Tx) error {
		_, err := tx.ExecContext(ctx, "INSERT INTO attending (host, asked_at) VALUES (?, ?) ON DUPLICATE KEY UPDATE asked_at = "+
			"VALUES(asked_at), polled_at = NOW(6)", host, now())
		return err
	})
}

// PutChange notes how the last change on a host stands. failed says why none was made. What
// comes late changes nothing: a change that has ended is not in force again, and an earlier one
// not the last.
func (s *Store) PutChange(ctx context.Context, host string, pair int64, c *api.HostChange, failed string) error {
	body, err := json.Marshal(c)
	if err != nil {
		return err
	}
	return s.inTx(ctx, func(tx *sql.Tx) error {
		var before []byte
		err := tx.QueryRowContext(ctx, "SELECT change_now FROM attending WHERE host = ? FOR UPDATE", host).Scan(&before)
		if err != nil && !errors.Is(err, sql.ErrNoRows) {
			return err
		}
		var last *api.HostChange
		if len(before) > 0 {
			if err := json.Unmarshal(before, &last); err != nil {
				return err
			}
		}
		if c != nil && last != nil && c.Before(*last) {
			return nil
		}
		_, err = tx.ExecContext(ctx, `INSERT INTO attending (host, pair, change_now, failed, told_at) VALUES (?, ?, ?, ?, ?)
			ON DUPLICATE KEY UPDATE pair = VALUES(pair), change_now = VALUES(change_now), failed = VALUES(failed), told_at = VALUES(told_at), changed_at = NOW(6)`, host, pair, body, failed, now())
		return err
	})
}

// AgentStatus is what is known of how a host attends.
type AgentStatus struct {
	AskedAt time.Time // what there is to do; zero if never
	Pair    int64     // that the last change was to put in force; 0 if none of the service's
	Change  *api.HostChange
	Failed  string // why the last settle could not be made
	ToldAt  time.Time
	Around  api.HostFacts // what it said is loaded when it starts, and of its addresses
}

// AgentStatuses is what is known of hosts, by name: of those named, or of all if none is.
func (s *Store) AgentStatuses(ctx context.Context, only ...string) (out map[string]AgentStatus, err error) {
	if len(only) == 0 {
		return s.attending(ctx, "")
	}
	var args []any
	for _, name := range only {
		args = append(args, name)
	}
	return s.attending(ctx, " WHERE host IN (?"+strings.Repeat(", ?", len(only)-1)+")", args...)
}

// attending are the agents of hosts for which a condition holds, by host.
func (s *Store) attending(ctx context.Context, where string, args ...any) (out map[string]AgentStatus, err error) {
	type known struct {
		host string
		AgentStatus
	}
	all, err := list(ctx, s, func(scan func(...any) error) (k known, err error) {
		var asked, told sql.NullTime
		var change, around []byte
		var failed sql.NullString
		if err := scan(&k.host, &asked, &k.Pair, &change, &failed, &told, &around); err != nil {
			return k, err
		}
		k.AskedAt, k.ToldAt, k.Failed = asked.Time, told.Time, failed.String
		for _, part := range []struct {
			body []byte
			into any
		}{{change, &k.Change}, {around, &k.Around}} {
			if len(part.body) > 0 {
				if err := json.Unmarshal(part.body, part.into); err != nil {
					return k, err
				}
			}
		}
		return k, nil
	}, "SELECT host, asked_at, pair, change_now, failed, told_at, around FROM attending"+where, args...)
	out = map[string]AgentStatus{}
	for _, k := range all {
		out[k.host] = k.AgentStatus
	}
	return out, err
}

// PutHostFacts notes what a host says of itself besides its rules, and what its
// counters stand at; with more, counts are those that stand otherwise than before. said is nil if
// it is what it said before.
func (s *Store) PutHostFacts(ctx context.Context, host string, takenAt time.Time, said *api.HostFacts, counts []api.Count,
	more bool) error {
	return s.inTx(ctx, func(tx *sql.Tx) error {
		stand := counts
		if more {
			var err error
			if stand, err = countsAnd(ctx, tx, host, counts); err != nil {
				return err
			}
		}
		counted, err := json.Marshal(stand)
		if err != nil {
			return err
		}
		// What is around a host is left out of a report where it is the same as before.
		if said == nil {
			_, err := tx.ExecContext(ctx, "UPDATE surroundings SET taken_at = ?, counts = ? WHERE host = ?", takenAt.UTC(), counted, host)
			return err
		}
		all := *said
		if b := all.Boot; b != nil {
			// What loads at its start is stored as contents are, once for all hosts that have the same.
			boot := *b
			boot.InForce, boot.Dump = nil, "" // the hash is ours to give: it may be of another host's
			if b.InForce != nil {
				dumps, err := json.Marshal(b.InForce)
				if err != nil {
					return err
				}
				hash, err := put(ctx, tx, dumps)
				if err != nil {
					return err
				}
				boot.Dump = hex.EncodeToString(hash[:])
				if _, err := tx.ExecContext(ctx, "REPLACE INTO boot_dumps (host, hash) VALUES (?, ?)", host, hash[:]); err != nil {
					return err
				}
			}
			all.Boot = &boot
		}
		body, err := json.Marshal(all)
		if err != nil {
			return err
		}
		// Readers of the whole fleet need two parts of it only, which have a table of their own.
		part, err := json.Marshal(api.HostFacts{Boot: all.Boot, Interfaces: all.Interfaces})
		if err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx, "REPLACE INTO surroundings (host, taken_at, body, counts) VALUES (?, ?, ?, ?)", host,
			takenAt.UTC(), body, counted); err != nil {
			return err
		}
		_, err = tx.ExecContext(ctx, "INSERT INTO attending (host, around) VALUES (?, ?) ON DUPLICATE KEY UPDATE around = "+
			"VALUES(around), changed_at = NOW(6)", host, part)
		return err
	})
}

// countsAnd is what a host's counters stood at, but for those that are told anew.
func countsAnd(ctx context.Context, tx *sql.Tx, host string, anew []api.Count) ([]api.Count, error) {
	var stored []byte
	var counts []api.Count
	err := tx.QueryRowContext(ctx, "SELECT counts FROM surroundings WHERE host = ? FOR UPDATE", host).Scan(&stored)
	if errors.Is(err, sql.ErrNoRows) {
		return anew, nil
	}
	if err == nil && len(stored) > 0 {
		err = json.Unmarshal(stored, &counts)
	}
	at := map[string]int{}
	for i, c := range counts {
		at[c.At] = i
	}
	for _, c := range anew {
		if i, known := at[c.At]; known {
			counts[i] = c
		} else {
			counts = append(counts, c)
		}
	}
	return counts, err
}

// HostFacts is what a host last said of itself besides its rules, and when.
type HostFacts struct {
	api.HostFacts
	TakenAt time.Time
	Counts  []api.Count
}

// HostFacts is what a host last said of itself besides its rules.
func (s *Store) HostFacts(ctx context.Context, host string) (said HostFacts, err error) {
	var body, counts []byte
	if err := s.row(ctx, "SELECT taken_at, body, counts FROM surroundings WHERE host = ?", []any{host}, &said.TakenAt, &body,
		&counts); err != nil {
		return said, err
	}
	if len(counts) > 0 {
		if err := json.Unmarshal(counts, &said.Counts); err != nil {
			return said, err
		}
	}
	return said, json.Unmarshal(body, &said.HostFacts)
}

// PutCopies replaces what is known of the copies that a host keeps.
func (s *Store) PutCopies(ctx context.Context, host string, copies []api.CopyNote) error {
	return s.inTx(ctx, func(tx *sql.Tx) error {
		if _, err := tx.ExecContext(ctx, "DELETE FROM copies WHERE host = ?", host); err != nil {
			return err
		}
		for _, c := range copies {
			body, err := json.Marshal(c)
			if err != nil {
				return err
			}
			if _, err := tx.ExecContext(ctx, "INSERT INTO copies (host, number, note) VALUES (?, ?, ?)", host, c.Number, body); err != nil {
				return err
			}
		}
		return nil
	})
}

// Copies are the copies that a host keeps, the newest first.
func (s *Store) Copies(ctx context.Context, host string) ([]api.CopyNote, error) {
	return list(ctx, s, unjson[api.CopyNote], "SELECT note FROM copies WHERE host = ? ORDER BY number DESC LIMIT 200", host)
}
