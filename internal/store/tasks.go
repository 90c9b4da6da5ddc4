package store

import (
	"context"
	"crypto/ed25519"
	"crypto/rand"
	"database/sql"
	"encoding/hex"
	"encoding/json"
	"errors"
	"time"

	"yellowfence.example/yfence/internal/api"
)

// SigningKeys are the keys the service signs with: the first now. One is made where
// there is none.
func (s *Store) SigningKeys(ctx context.Context) (keys []ed25519.PrivateKey, err error) {
	if keys, err = s.signingKeys(ctx); err != nil || len(keys) > 0 {
		return keys, err
	}
	if err := s.NewSigningKey(ctx); err != nil {
		return nil, err
	}
	return s.signingKeys(ctx)
}

func (s *Store) signingKeys(ctx context.Context) (keys []ed25519.PrivateKey, err error) {
	rows, err := s.db.QueryContext(ctx, "SELECT seed FROM signing_keys WHERE retired_at IS NULL ORDER BY id")
	if err != nil {
		return nil, err
	}
	defer func() { err = errors.Join(err, rows.Close()) }()
	for rows.Next() {
		var seed []byte
		if err := rows.Scan(&seed); err != nil {
			return nil, err
		}
		keys = append(keys, ed25519.NewKeyFromSeed(seed))
	}
	return keys, rows.Err()
}

// NewSigningKey adds a key to sign with when those before it are retired.
func (s *Store) NewSigningKey(ctx context.Context) error {
	seed := make([]byte, ed25519.SeedSize)
	_, _ = rand.Read(seed) // never fails
	_, err := s.db.ExecContext(ctx, "INSERT INTO signing_keys (seed, made_at) VALUES (?, ?)", seed, now())
	return err
}

// RetireSigningKey retires the key that signs now, if another is there to follow it.
func (s *Store) RetireSigningKey(ctx context.Context) error {
	return s.atOnce(ctx, func(tx *sql.Tx) error {
		var n int
		if err := tx.QueryRowContext(ctx, "SELECT COUNT(*) FROM signing_keys WHERE retired_at IS NULL FOR UPDATE").Scan(&n); err != nil {
			return err
		}
		if n < 2 {
			return ErrConflict
		}
		_, err := tx.ExecContext(ctx, "UPDATE signing_keys SET retired_at = ? WHERE retired_at IS NULL ORDER BY id LIMIT 1", now())
		return err
	})
}

// NewEnrolment makes a one-time token for a host; those before it end.
func (s *Store) NewEnrolment(ctx context.Context, host string, lasts time.Duration) (e api.Enrolment, err error) {
	token, h := secret("yfe_")
	e = api.Enrolment{Version: api.Version, Host: host, Token: token, Until: now().Add(lasts)}
	return e, s.atOnce(ctx, func(tx *sql.Tx) error {
		if _, err := tx.ExecContext(ctx, "DELETE FROM enrolments WHERE host = ? AND used_at IS NULL", host); err != nil {
			return err
		}
		_, err := tx.ExecContext(ctx, "INSERT INTO enrolments (hash, host, until) VALUES (?, ?, ?)", h[:], host, e.Until)
		return err
	})
}

// Enrol trades a one-time token for a host's own, whose earlier ones are revoked.
// Of two who come with the same token one gets it.
func (s *Store) Enrol(ctx context.Context, token string, about api.EnrolRequest) (t api.NewToken, err error) {
	about.Token = ""
	h := hashOf(token)
	err = s.atOnce(ctx, func(tx *sql.Tx) error {
		res, err := tx.ExecContext(ctx, "UPDATE enrolments SET used_at = ? WHERE hash = ? AND used_at IS NULL AND until > ?", now(), h[:], now())
		if err != nil {
			return err
		}
		if n, err := res.RowsAffected(); err != nil || n == 0 {
			return errors.Join(err, ErrNotFound)
		}
		var host string
		if err := tx.QueryRowContext(ctx, "SELECT host FROM enrolments WHERE hash = ?", h[:]).Scan(&host); err != nil {
			return err
		}
		said, err := json.Marshal(about)
		if err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx, "REPLACE INTO enrolled (host, enrolled_at, about) VALUES (?, ?, ?)", host, now(), said); err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx, "UPDATE tokens SET revoked_at = ? WHERE host = ? AND revoked_at IS NULL", now(), host); err != nil {
			return err
		}
		t = api.NewToken{Token: api.Token{Name: host, Rights: []api.Right{api.Host}, Host: host, CreatedAt: now()}}
		var th Hash
		t.Secret, th = secret("yft_")
		res, err = tx.ExecContext(ctx, "INSERT INTO tokens (name, rights, host, hash, created_at) VALUES (?, ?, ?, ?, ?)", t.Name, joinRights(t.Rights), host, th[:], t.CreatedAt)
		if err != nil {
			return err
		}
		t.ID, err = res.LastInsertId()
		return err
	})
	return t, err
}

// NewTask asks a host to do something. It is signed with the number it gets.
func (s *Store) NewTask(ctx context.Context, t api.Task, key ed25519.PrivateKey) (api.Task, error) {
	err := s.atOnce(ctx, func(tx *sql.Tx) (err error) {
		t, err = newTask(ctx, tx, t, key)
		return err
	})
	return t, err
}

func newTask(ctx context.Context, tx *sql.Tx, t api.Task, key ed25519.PrivateKey) (api.Task, error) {
	t.Asked, t.Until = now(), t.Until.UTC().Truncate(time.Microsecond)
	res, err := tx.ExecContext(ctx, "INSERT INTO tasks (host, task, until) VALUES (?, '', ?)", t.Host, t.Until)
	if err != nil {
		return t, err
	}
	if t.ID, err = res.LastInsertId(); err != nil {
		return t, err
	}
	t.Sign(key)
	body, err := json.Marshal(t)
	if err != nil {
		return t, err
	}
	_, err = tx.ExecContext(ctx, "UPDATE tasks SET task = ? WHERE id = ?", body, t.ID)
	return t, err
}

// OpenTasks are what a host has to do, the oldest first.
func (s *Store) OpenTasks(ctx context.Context, host string) ([]api.Task, error) {
	return bodies[api.Task](ctx, s, "SELECT task FROM tasks WHERE host = ? AND done_at IS NULL AND until > ? ORDER BY id", host, now())
}

// NewestTask is the number of the last task that anybody was asked to do: who waits
// for one looks when it changes.
func (s *Store) NewestTask(ctx context.Context) (id int64, err error) {
	err = s.db.QueryRowContext(ctx, "SELECT COALESCE(MAX(id), 0) FROM tasks").Scan(&id)
	return id, err
}

// FinishTask notes what became of a task of a host. Only the first word counts.
func (s *Store) FinishTask(ctx context.Context, host string, id int64, result api.TaskResult) error {
	body, err := json.Marshal(result)
	if err != nil {
		return err
	}
	return s.atOnce(ctx, func(tx *sql.Tx) error {
		res, err := tx.ExecContext(ctx, "UPDATE tasks SET done_at = COALESCE(done_at, ?), result = COALESCE(result, ?) WHERE id = ? AND host = ?", now(), body, id, host)
		if err != nil {
			return err
		}
		if n, err := res.RowsAffected(); err == nil && n == 0 {
			var known int
			if err := tx.QueryRowContext(ctx, "SELECT COUNT(*) FROM tasks WHERE id = ? AND host = ?", id, host).Scan(&known); err != nil || known == 0 {
				return errors.Join(err, ErrNotFound)
			}
		}
		return nil
	})
}

// Task is a task and what became of it.
func (s *Store) Task(ctx context.Context, id int64) (t api.TaskStatus, err error) {
	var body, result []byte
	var done sql.NullTime
	if err := s.db.QueryRowContext(ctx, "SELECT task, done_at, result FROM tasks WHERE id = ?", id).Scan(&body, &done, &result); err != nil {
		return t, notFound(err)
	}
	if err := json.Unmarshal(body, &t.Task); err != nil {
		return t, err
	}
	if done.Valid {
		t.Done = &done.Time
		err = json.Unmarshal(result, &t.Result)
	}
	return t, err
}

// Attends notes that a host asked what there is to do.
func (s *Store) Attends(ctx context.Context, host string) error {
	_, err := s.db.ExecContext(ctx, "INSERT INTO attending (host, asked_at) VALUES (?, ?) ON DUPLICATE KEY UPDATE asked_at = VALUES(asked_at)", host, now())
	return err
}

// PutChange notes how the last change on a host stands. failed says why none was made.
func (s *Store) PutChange(ctx context.Context, host string, pair int64, c *api.HostChange, failed string) error {
	body, err := json.Marshal(c)
	if err != nil {
		return err
	}
	_, err = s.db.ExecContext(ctx, `INSERT INTO attending (host, pair, change_now, failed, told_at) VALUES (?, ?, ?, ?, ?)
		ON DUPLICATE KEY UPDATE pair = VALUES(pair), change_now = VALUES(change_now), failed = VALUES(failed), told_at = VALUES(told_at)`, host, pair, body, failed, now())
	return err
}

// Attending is what is known of how a host attends.
type Attending struct {
	AskedAt time.Time // what there is to do; zero if never
	Pair    int64     // that the last change was to put in force; 0 if none of the service's
	Change  *api.HostChange
	Failed  string // why the last settle could not be made
	ToldAt  time.Time
	Around  api.Surroundings // what it said is loaded when it starts, and of its addresses
}

// Attending is what is known of hosts, by name: of one, or of all if only is "".
func (s *Store) Attending(ctx context.Context, only string) (out map[string]Attending, err error) {
	rows, err := s.db.QueryContext(ctx, "SELECT host, asked_at, pair, change_now, failed, told_at, around FROM attending WHERE ? IN ('', host)", only)
	if err != nil {
		return nil, err
	}
	defer func() { err = errors.Join(err, rows.Close()) }()
	out = map[string]Attending{}
	for rows.Next() {
		var host string
		var a Attending
		var asked, told sql.NullTime
		var change, around []byte
		var failed sql.NullString
		if err := rows.Scan(&host, &asked, &a.Pair, &change, &failed, &told, &around); err != nil {
			return nil, err
		}
		for _, part := range []struct {
			body []byte
			into any
		}{{change, &a.Change}, {around, &a.Around}} {
			if len(part.body) > 0 {
				if err := json.Unmarshal(part.body, part.into); err != nil {
					return nil, err
				}
			}
		}
		a.AskedAt, a.ToldAt, a.Failed = asked.Time, told.Time, failed.String
		out[host] = a
	}
	return out, rows.Err()
}

// PutSurroundings notes what a host says of itself besides its rules, and what its
// counters stand at. said is nil if it is what it said before.
func (s *Store) PutSurroundings(ctx context.Context, host string, takenAt time.Time, said *api.Surroundings, counts []api.Count) error {
	counted, err := json.Marshal(counts)
	if err != nil {
		return err
	}
	return s.atOnce(ctx, func(tx *sql.Tx) error {
		if said == nil {
			_, err := tx.ExecContext(ctx, "UPDATE surroundings SET taken_at = ?, counts = ? WHERE host = ?", takenAt.UTC(), counted, host)
			return err
		}
		all := *said
		if b := all.Boot; b != nil {
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
			}
			all.Boot = &boot
		}
		body, err := json.Marshal(all)
		if err != nil {
			return err
		}
		part, err := json.Marshal(api.Surroundings{Boot: all.Boot, Interfaces: all.Interfaces})
		if err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx, "REPLACE INTO surroundings (host, taken_at, body, counts) VALUES (?, ?, ?, ?)", host, takenAt.UTC(), body, counted); err != nil {
			return err
		}
		_, err = tx.ExecContext(ctx, "INSERT INTO attending (host, around) VALUES (?, ?) ON DUPLICATE KEY UPDATE around = VALUES(around)", host, part)
		return err
	})
}

// Surroundings is what a host last said of itself besides its rules, and when.
type Surroundings struct {
	api.Surroundings
	TakenAt time.Time
	Counts  []api.Count
}

// Surroundings is what a host last said of itself besides its rules.
func (s *Store) Surroundings(ctx context.Context, host string) (said Surroundings, err error) {
	var body, counts []byte
	if err := s.db.QueryRowContext(ctx, "SELECT taken_at, body, counts FROM surroundings WHERE host = ?", host).Scan(&said.TakenAt, &body, &counts); err != nil {
		return said, notFound(err)
	}
	if len(counts) > 0 {
		if err := json.Unmarshal(counts, &said.Counts); err != nil {
			return said, err
		}
	}
	return said, json.Unmarshal(body, &said.Surroundings)
}

// PutCopies replaces what is known of the copies that a host keeps.
func (s *Store) PutCopies(ctx context.Context, host string, copies []api.CopyNote) error {
	return s.atOnce(ctx, func(tx *sql.Tx) error {
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
	return bodies[api.CopyNote](ctx, s, "SELECT note FROM copies WHERE host = ? ORDER BY number DESC", host)
}

// bodies are what a query gives that asks for one column of JSON; never nil without an error.
func bodies[T any](ctx context.Context, s *Store, query string, args ...any) (out []T, err error) {
	rows, err := s.db.QueryContext(ctx, query, args...)
	if err != nil {
		return nil, err
	}
	defer func() { err = errors.Join(err, rows.Close()) }()
	out = []T{}
	for rows.Next() {
		var body []byte
		var one T
		if err := rows.Scan(&body); err != nil {
			return nil, err
		}
		if err := json.Unmarshal(body, &one); err != nil {
			return nil, err
		}
		out = append(out, one)
	}
	return out, rows.Err()
}
