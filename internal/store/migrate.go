package store

import (
	"context"
	"database/sql"
	"embed"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"time"

	"github.com/pressly/goose/v3"
)

//go:embed migrations/*.sql
var migrations embed.FS

// The times of a migration on which several services may start at once.
const (
	migrating     = 5 * time.Second // that whoever migrates holds the lease, unless he goes on
	migrationLook = 200 * time.Millisecond
)

// migrate brings the tables up to date. Of several that try at once one does, and the others
// wait for it; one that was killed in the middle is followed by the next. What tells them
// apart is a row with an end that is committed before the work begins: locks of the server
// do not reach the other nodes of a cluster.
func (s *Store) migrate(ctx context.Context) error {
	provider, err := s.provider()
	if err != nil {
		return err
	}
	defer func() { _ = provider.Close() }()
	latest := provider.ListSources()[len(provider.ListSources())-1].Version
	host, _ := os.Hostname()
	holder := fmt.Sprintf("%.32s %d %d", host, os.Getpid(), time.Now().UnixNano())
	// Round after round: whoever held the lease may have brought the tables up to date, or have been
	// killed in the middle.
	for {
		is, err := s.schema(ctx)
		if err != nil {
			return err
		}
		// An older program must not touch what it does not know.
		if is > latest {
			return fmt.Errorf("the database is of a newer version of Yellow Fence (its tables are of version %d, this program knows %d): "+
				"install that version or a newer one", is, latest)
		}
		if is == latest {
			return nil
		}
		switch err := s.migrateOnce(ctx, provider, holder); {
		case mayNot(err):
			return fmt.Errorf("%w: they are of version %d, and this program needs %d; run yfence store migrate as a database user who "+
				"may change them (%w)", ErrOldTables, is, latest, err)
		case err != nil:
			return err
		}
	}
}

// migrateOnce brings the tables up to date, or waits a little where another is at it.
func (s *Store) migrateOnce(ctx context.Context, provider *goose.Provider, holder string) error {
	mine, err := s.lease(ctx, holder)
	if err != nil {
		return err
	}
	if !mine {
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(migrationLook):
			return nil
		}
	}
	return s.whileLeased(ctx, holder, func(ctx context.Context) error {
		if err := s.versions(ctx); err != nil {
			return err
		}
		_, err := provider.Up(ctx)
		return err
	})
}

// ErrOldTables is that the tables are of an older version, and that the database's user may not change them.
var ErrOldTables = errors.New("the database's tables must be brought up to date first")

// mayNot says of an error that the database's user may not do that.
func mayNot(err error) bool {
	denied := code(err)
	return denied == 1142 || denied == 1044 || denied == 1227
}

// provider is what knows the steps of the schema, on a connection of its own.
func (s *Store) provider() (*goose.Provider, error) {
	sub, err := fs.Sub(migrations, "migrations")
	if err != nil {
		panic(err) // the folder is embedded above
	}
	// It closes the connections that it is given, so it gets one of its own. What it does to
	// large tables takes its time.
	patient := &Store{config: s.config.Clone()}
	patient.config.ReadTimeout, patient.config.WriteTimeout = 0, 0
	db := patient.connect(1, map[string]string{"max_statement_time": "0", "lock_wait_timeout": "30", "innodb_lock_wait_timeout": "30",
		"idle_transaction_timeout": "0"})
	return goose.NewProvider(goose.DialectMySQL, db, sub, goose.WithVerbose(false))
}

// versionTable is where the database notes which steps it has had.
const versionTable = "goose_db_version"

// schema is the version of the tables; 0 where there are none.
func (s *Store) schema(ctx context.Context) (version int64, err error) {
	var there int
	err = s.row(ctx, "SELECT COUNT(*) FROM information_schema.tables WHERE table_schema = DATABASE() AND table_name = ?",
		[]any{versionTable}, &there)
	if err != nil || there == 0 {
		return 0, err
	}
	return version, s.row(ctx, "SELECT COALESCE(MAX(version_id), 0) FROM "+versionTable, nil, &version)
}

// versions makes the table of versions, with its first row, as the package that migrates
// expects it: it does not expect to have been killed between the two.
func (s *Store) versions(ctx context.Context) error {
	db := s.pools[Work]
	_, err := db.ExecContext(ctx, "CREATE TABLE IF NOT EXISTS "+versionTable+` (
		id BIGINT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY, version_id BIGINT NOT NULL, is_applied BOOLEAN NOT NULL, tstamp TIMESTAMP NULL DEFAULT NOW())`)
	if err == nil {
		_, err = db.ExecContext(ctx, "INSERT INTO "+versionTable+
			" (version_id, is_applied) SELECT 0, TRUE FROM DUAL WHERE NOT EXISTS (SELECT 1 FROM "+versionTable+")")
	}
	return err
}

// lease takes the right to migrate for a time, or goes on with it.
func (s *Store) lease(ctx context.Context, holder string) (mine bool, err error) {
	err = s.again(ctx, func(ctx context.Context, db *sql.DB) error {
		_, err := db.ExecContext(ctx, "CREATE TABLE IF NOT EXISTS leases (name VARCHAR(40) NOT NULL PRIMARY KEY, holder VARCHAR(80) NOT "+
			"NULL, until DATETIME(6) NOT NULL)")
		return err
	})
	if err != nil {
		return false, err
	}
	return s.Lease(ctx, "migrations", holder, migrating)
}

// whileLeased does the work and holds the lease meanwhile. Whoever loses it stops.
func (s *Store) whileLeased(ctx context.Context, holder string, work func(context.Context) error) error {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	lost := make(chan error, 1)
	go func() {
		for {
			select {
			case <-ctx.Done():
				return
			case <-time.After(migrating / 4):
			}
			if mine, err := s.Lease(ctx, "migrations", holder, migrating); ctx.Err() == nil && (err != nil || !mine) {
				lost <- errors.Join(err, errors.New("another service changes the tables: this one was away for too long"))
				cancel()
				return
			}
		}
	}()
	err := work(ctx)
	select {
	case why := <-lost:
		return why
	default:
	}
	return err
}

// Lease takes a right that one service has at a time, or goes on with it, and says whether
// this one has it. It is committed before the work begins.
func (s *Store) Lease(ctx context.Context, name, holder string, lasts time.Duration) (mine bool, err error) {
	return s.hold(ctx, holding{"SELECT holder, until FROM leases WHERE name = ? FOR UPDATE",
		"INSERT INTO leases (holder, until, name) VALUES (?, ?, ?)",
		"UPDATE leases SET holder = ?, until = ? WHERE name = ?"}, name, holder, lasts)
}

// holding is the statements by which a table says who holds something, and until when.
type holding struct{ find, take, goOn string }

// hold lets one hold something for a time, and says whether it is this one. Whoever holds it
// may go on; others may take it when its time is over.
func (s *Store) hold(ctx context.Context, in holding, name, holder string, lasts time.Duration) (mine bool, err error) {
	err = s.inTx(ctx, func(tx *sql.Tx) error {
		var by string
		var until time.Time
		write := in.goOn
		switch err := tx.QueryRowContext(ctx, in.find, name).Scan(&by, &until); {
		case errors.Is(err, sql.ErrNoRows):
			mine, write = true, in.take
		case err != nil:
			return err
		default:
			mine = by == holder || now().After(until)
		}
		if !mine {
			return nil
		}
		_, err := tx.ExecContext(ctx, write, holder, now().Add(lasts), name)
		return err
	})
	if errors.Is(err, ErrConflict) { // another made the row
		return false, nil
	}
	return mine, err
}
