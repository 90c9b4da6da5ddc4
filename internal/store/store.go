package store

import (
	"context"
	"crypto/cipher"
	"crypto/tls"
	"crypto/x509"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"net"
	"sync/atomic"
	"time"

	"github.com/go-sql-driver/mysql"
)

// Store is the service's memory. Its methods may be called at the same time. Errors for
// which Unavailable is true mean that waiting helps.
type Store struct {
	config *mysql.Config
	pools  [classes]*sql.DB
	tell   atomic.Pointer[[]Destination]
	seal   cipher.AEAD // of the seeds of signing keys; nil where they lie in clear, see Seal
}

// Open connects to a database and brings its tables up to date. The source is
// one of the mysql driver's; the options we rely on are set here.
func Open(ctx context.Context, source string) (*Store, error) { return OpenTrusting(ctx, source, nil) }

// OpenTrusting is Open over connections that are encrypted, with a server that one of these authorities stands for; nil
// is as the source says.
func OpenTrusting(ctx context.Context, source string, authorities *x509.CertPool) (*Store, error) {
	cfg, err := mysql.ParseDSN(source)
	if err != nil {
		return nil, fmt.Errorf("the database's address is not understood: %w", err)
	}
	if authorities != nil {
		if cfg.Net == "unix" {
			return nil, errors.New("a connection through a Unix socket is not encrypted: leave --database-ca out")
		}
		host, _, _ := net.SplitHostPort(cfg.Addr) // the driver made it such an address
		cfg.TLS = &tls.Config{RootCAs: authorities, ServerName: host, MinVersion: tls.VersionTLS12}
	}
	cfg.ParseTime, cfg.Loc = true, time.UTC
	cfg.Logger = &mysql.NopLogger{} // what goes wrong is ours to tell
	cfg.Timeout, cfg.ReadTimeout, cfg.WriteTimeout = dialTime, attemptTime, attemptTime
	if cfg.Params == nil {
		cfg.Params = map[string]string{}
	}
	maps.Copy(cfg.Params, session())
	s := &Store{config: cfg}
	s.connectAll(nil)
	if err := s.prepare(ctx); err != nil {
		return nil, errors.Join(fmt.Errorf("the database cannot be used: %w", err), s.Close())
	}
	return s, nil
}

// prepare finds out what the database is, and brings its tables up to date.
func (s *Store) prepare(ctx context.Context) error {
	var name, clustered string
	err := s.row(ctx, "SHOW VARIABLES LIKE 'wsrep_on'", nil, &name, &clustered)
	if err != nil && !errors.Is(err, ErrNotFound) {
		return err
	}
	if clustered == "ON" {
		// A node of a cluster answers only once it has what the others have committed: a token
		// that was revoked there lets nobody in here.
		old := s.pools
		s.connectAll(map[string]string{"wsrep_sync_wait": "1"})
		for _, db := range old {
			_ = db.Close()
		}
	}
	return s.migrate(ctx)
}

// connectAll makes the connections of each class.
func (s *Store) connectAll(more map[string]string) {
	for class := range s.pools {
		s.pools[class] = s.connect(connections[class], more)
	}
}

// connect makes a pool of connections, with session variables of its own.
func (s *Store) connect(most int, more map[string]string) *sql.DB {
	cfg := s.config.Clone()
	maps.Copy(cfg.Params, more)
	connector, err := mysql.NewConnector(cfg)
	if err != nil {
		panic(err) // it was parsed, and we add variables only
	}
	db := sql.OpenDB(connector)
	db.SetMaxOpenConns(most)
	db.SetMaxIdleConns(most)
	db.SetConnMaxLifetime(time.Hour)
	return db
}

// Close ends all connections.
func (s *Store) Close() (err error) {
	for _, db := range s.pools {
		err = errors.Join(err, db.Close())
	}
	return err
}

// Ready says whether the database does what the service needs: it reads, and commits a
// transaction. A node of a cluster that has lost the others does neither.
func (s *Store) Ready(ctx context.Context) error {
	var n int64
	if err := s.row(ctx, "SELECT value FROM counters WHERE name = 'revisions'", nil, &n); err != nil {
		return err
	}
	return s.inTx(ctx, func(tx *sql.Tx) error {
		_, err := tx.ExecContext(ctx, "REPLACE INTO leases (name, holder, until) VALUES ('ready', '', ?)", now())
		return err
	})
}

// now is the time as the database keeps it.
func now() time.Time { return time.Now().UTC().Truncate(time.Microsecond) }

// unjson reads one column of JSON.
func unjson[T any](scan func(...any) error) (one T, err error) {
	var body []byte
	if err := scan(&body); err != nil {
		return one, err
	}
	return one, json.Unmarshal(body, &one)
}
