package store

import (
	"context"
	"crypto/sha256"
	"database/sql"
	"errors"
	"fmt"
	"sync"
	"time"

	"github.com/klauspost/compress/zstd"
)

// A Hash is the SHA-256 of a content.
type Hash [sha256.Size]byte

// HashOf is the hash that a content is stored under.
func HashOf(body []byte) Hash { return sha256.Sum256(body) }

// pieceSize is how much of a content goes in one statement, in bytes: any server takes it
// at its default packet size.
const pieceSize = 1 << 20

// MaxContent is the longest content that is read back, in bytes, however short it is kept.
const MaxContent = 128 << 20

// packers makes one encoder that all share: it is safe for that, and large.
var packers = sync.OnceValue(func() *zstd.Encoder {
	e, err := zstd.NewWriter(nil, zstd.WithEncoderConcurrency(1), zstd.WithEncoderLevel(zstd.SpeedDefault))
	if err != nil {
		panic(err) // the options are ours
	}
	return e
})

// put stores a content under its hash, once.
func put(ctx context.Context, tx *sql.Tx, body []byte) (Hash, error) {
	h := HashOf(body)
	if there, err := touch(ctx, tx, h); there || err != nil {
		return h, err
	}
	packed := packers().EncodeAll(body, nil)
	var pieces [][]byte
	for rest := packed; len(pieces) == 0 || len(rest) > 0; {
		n := min(len(rest), pieceSize)
		pieces, rest = append(pieces, rest[:n]), rest[n:]
	}
	// Others who store the same at the same moment wait for whoever came first.
	res, err := tx.ExecContext(ctx, "INSERT IGNORE INTO content (hash, body, packed, pieces, created_at) VALUES (?, ?, TRUE, ?, ?)", h[:],
		pieces[0], len(pieces), now())
	if err != nil {
		return h, err
	}
	if n, err := res.RowsAffected(); err != nil || n == 0 {
		return h, err
	}
	for i, piece := range pieces[1:] {
		if _, err := tx.ExecContext(ctx, "INSERT INTO pieces (hash, n, body) VALUES (?, ?, ?)", h[:], i+1, piece); err != nil {
			return h, err
		}
	}
	return h, nil
}

// touch says whether a content is stored, and keeps it from being pruned before whoever is
// about to refer to it has.
func touch(ctx context.Context, tx *sql.Tx, h Hash) (there bool, err error) {
	var at time.Time
	err = tx.QueryRowContext(ctx, "SELECT created_at FROM content WHERE hash = ?", h[:]).Scan(&at)
	if errors.Is(err, sql.ErrNoRows) {
		return false, nil
	}
	if err != nil || at.After(now().Add(-contentGrace/2)) {
		return err == nil, err
	}
	res, err := tx.ExecContext(ctx, "UPDATE content SET created_at = ? WHERE hash = ?", now(), h[:])
	if err != nil {
		return false, err
	}
	n, err := res.RowsAffected() // 0 if it went meanwhile
	return n > 0, err
}

// Content is what is stored under a hash.
func (s *Store) Content(ctx context.Context, h Hash) (body []byte, err error) {
	var packed bool
	var pieces int
	if err := s.row(ctx, "SELECT body, packed, pieces FROM content WHERE hash = ?", []any{h[:]}, &body, &packed, &pieces); err != nil {
		return nil, err
	}
	for n := 1; n < pieces; n++ {
		var piece []byte
		if err := s.row(ctx, "SELECT body FROM pieces WHERE hash = ? AND n = ?", []any{h[:], n}, &piece); err != nil {
			return nil, err
		}
		body = append(body, piece...)
	}
	if packed {
		return unpack(body)
	}
	return body, nil
}

// unpack is what was packed, of MaxContent bytes at most, whatever the packed form says of
// itself.
func unpack(packed []byte) ([]byte, error) {
	d, err := zstd.NewReader(nil, zstd.WithDecoderConcurrency(1), zstd.WithDecoderMaxMemory(MaxContent))
	if err != nil {
		return nil, err
	}
	defer d.Close()
	body, err := d.DecodeAll(packed, nil)
	if err != nil {
		return nil, fmt.Errorf("a stored content cannot be read: %w", err)
	}
	return body, nil
}
