package cli

import (
	"context"
	"crypto/rand"
	"crypto/x509"
	"encoding/base64"
	"errors"
	"fmt"
	"log/slog"
	"os"
	"strings"
	"time"

	"yellowfence.example/yfence/api"
	"yellowfence.example/yfence/internal/store"
)

// databaseOf is the database that a file names, or else the environment.
func (a *app) databaseOf(file string) (string, error) {
	source := a.getenv("YFENCE_DATABASE")
	if file != "" {
		data, err := os.ReadFile(file)
		if err != nil {
			return "", err
		}
		source = strings.TrimSpace(string(data))
	}
	if source == "" {
		return "", errors.New("no database is named: give --database-file FILE or set YFENCE_DATABASE")
	}
	return source, nil
}

// openSigning opens the database, and finds out whether this service can sign with its keys:
// whoever cannot serves nobody.
func (a *app) openSigning(ctx context.Context, source string, f serveFlags, log *slog.Logger) (*store.Store, error) {
	st, err := openStore(ctx, source, f.databaseCA, log)
	if err == nil && f.sealKey != "" {
		err = seal(ctx, st, f.sealKey)
	}
	if err == nil {
		_, err = st.SigningKeys(ctx)
	}
	if errors.Is(err, store.ErrSealed) {
		err = fmt.Errorf("%w: give the file that they were sealed with (--seal-key FILE)", err)
	}
	if err == nil && f.firstToken != "" {
		err = makeFirstToken(ctx, st, f.firstToken)
	}
	return st, err
}

// seal reads the key that seals, or makes one, and has the store use it.
func seal(ctx context.Context, st *store.Store, name string) error {
	file, err := os.OpenFile(name, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if err == nil {
		key := make([]byte, store.SealKeySize)
		_, _ = rand.Read(key) // never fails
		_, err = fmt.Fprintln(file, base64.StdEncoding.EncodeToString(key))
		err = errors.Join(err, file.Sync(), file.Close())
	}
	if err != nil && !errors.Is(err, os.ErrExist) {
		return err
	}
	text, err := os.ReadFile(name)
	if err != nil {
		return err
	}
	key, err := base64.StdEncoding.DecodeString(strings.TrimSpace(string(text)))
	if err != nil || len(key) != store.SealKeySize {
		return fmt.Errorf("%s holds no key that seals: it has %d bytes, in base64", name, store.SealKeySize)
	}
	return st.Seal(ctx, key)
}

// certificatesIn are the certificates in a file; nil where none is named.
func certificatesIn(file string) (*x509.CertPool, error) {
	if file == "" {
		return nil, nil
	}
	text, err := os.ReadFile(file)
	if err != nil {
		return nil, fmt.Errorf("--database-ca: %w", err)
	}
	pool := x509.NewCertPool()
	if !pool.AppendCertsFromPEM(text) {
		return nil, fmt.Errorf("--database-ca: there is no certificate in %s (PEM)", file)
	}
	return pool, nil
}

// openStore opens the database, and waits for one that does not answer yet.
func openStore(ctx context.Context, source, ca string, log *slog.Logger) (*store.Store, error) {
	authorities, err := certificatesIn(ca)
	if err != nil {
		return nil, err
	}
	for {
		st, err := store.OpenTrusting(ctx, source, authorities)
		if !store.Unavailable(err) || ctx.Err() != nil {
			return st, err
		}
		log.Error("the database does not answer yet; trying again", "error", err)
		select {
		case <-ctx.Done():
			return nil, ctx.Err()
		case <-time.After(2 * time.Second):
		}
	}
}

// makeFirstToken writes a token with all rights to a new file, unless there are tokens already.
func makeFirstToken(ctx context.Context, st *store.Store, name string) error {
	tokens, err := st.Tokens(ctx, 0, 1)
	if err != nil || len(tokens) > 0 {
		return err
	}
	file, err := os.OpenFile(name, os.O_CREATE|os.O_WRONLY|os.O_TRUNC, 0o600)
	if err != nil {
		return err
	}
	if err := file.Chmod(0o600); err != nil { // one that was there keeps its mode
		return errors.Join(err, file.Close())
	}
	t, err := st.NewToken(ctx, "operator", api.Rights, "")
	if err == nil {
		_, err = fmt.Fprintln(file, t.Secret)
	}
	return errors.Join(err, file.Close())
}
