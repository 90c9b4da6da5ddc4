package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"time"

	"yellowfence.example/yfence/api"
	"yellowfence.example/yfence/core/dialect/group"
)

// CloudState is how a cloud stands, as whoever looks after it last wrote.
type CloudState struct {
	api.CloudStatus
	Abilities group.Abilities      // of its groups
	Reached   map[string]time.Time // by HOST@CLOUD, when all that it was asked for was in force
	Gone      map[string]int       // by HOST@CLOUD, how often in a row the cloud did not know the instance
	Failed    map[string]string    // by HOST@CLOUD, why what it was asked for cannot be
}

// HoldCloud lets one service look after a cloud for a time, and says whether it is this
// one. Whoever holds it may hold it on; others may when its time is over.
func (s *Store) HoldCloud(ctx context.Context, name, holder string, lasts time.Duration) (mine bool, err error) {
	return s.hold(ctx, holding{"SELECT holder, until FROM clouds WHERE name = ? FOR UPDATE",
		"INSERT INTO clouds (holder, until, name, state) VALUES (?, ?, ?, '{}')",
		"UPDATE clouds SET holder = ?, until = ? WHERE name = ?"}, name, holder, lasts)
}

// PutCloud notes how a cloud stands. It is ErrConflict where another service looks after it by now.
func (s *Store) PutCloud(ctx context.Context, name, holder string, state CloudState) error {
	body, err := json.Marshal(state)
	if err != nil {
		return err
	}
	return s.inTx(ctx, func(tx *sql.Tx) error {
		var by string
		if err := tx.QueryRowContext(ctx, "SELECT holder FROM clouds WHERE name = ? FOR UPDATE", name).Scan(&by); err != nil {
			return notFound(err)
		}
		if by != holder {
			return ErrConflict
		}
		_, err := tx.ExecContext(ctx, "UPDATE clouds SET state = ? WHERE name = ?", body, name)
		return err
	})
}

// ListsState is what is known of lists: it stands in a row like a cloud's, which whoever reads
// them holds likewise. It is empty where none was read yet.
func (s *Store) ListsState(ctx context.Context, name string) (body []byte, err error) {
	err = s.row(ctx, "SELECT state FROM clouds WHERE name = ?", []any{name}, &body)
	if errors.Is(err, ErrNotFound) {
		return nil, nil
	}
	return body, err
}

// PutLists notes what is known of lists; by whoever holds them, or by anybody if holder is "".
func (s *Store) PutLists(ctx context.Context, name, holder string, body []byte) error {
	return s.inTx(ctx, func(tx *sql.Tx) error {
		_, err := tx.ExecContext(ctx, "INSERT INTO clouds (name, holder, until, state) VALUES (?, ?, ?, ?) ON DUPLICATE KEY UPDATE state "+
			"= IF(? IN ('', holder), VALUES(state), state)", name, holder, now(), body, holder)
		return err
	})
}

// Clouds are the clouds that any service is or was connected to, by name.
func (s *Store) Clouds(ctx context.Context) (out map[string]CloudState, err error) {
	all, err := list(ctx, s, func(scan func(...any) error) (c CloudState, err error) {
		var body []byte
		var name string
		if err = scan(&name, &body); err == nil {
			err = json.Unmarshal(body, &c)
		}
		c.Cloud = name
		return c, err
	}, "SELECT name, state FROM clouds WHERE name NOT LIKE ' %' ORDER BY name LIMIT 100")
	out = map[string]CloudState{}
	for _, c := range all {
		out[c.Cloud] = c
	}
	return out, err
}

// PutCloudListing keeps what a cloud has, in the place of what it had.
func (s *Store) PutCloudListing(ctx context.Context, name string, l api.CloudListing) error {
	body, err := json.Marshal(l)
	if err != nil {
		return err
	}
	return s.inTx(ctx, func(tx *sql.Tx) error {
		_, err := tx.ExecContext(ctx, "INSERT INTO cloud_listings (cloud, body) VALUES (?, ?) ON DUPLICATE KEY UPDATE body = "+
			"VALUES(body)", name,
			body)
		return err
	})
}

// CloudListing is what a cloud had when it was last read; ErrNotFound where it never was.
func (s *Store) CloudListing(ctx context.Context, name string) (l api.CloudListing, err error) {
	var body []byte
	if err = s.row(ctx, "SELECT body FROM cloud_listings WHERE cloud = ?", []any{name}, &body); err != nil {
		return l, err
	}
	return l, json.Unmarshal(body, &l)
}
