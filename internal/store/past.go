package store

import (
	"context"
	"math"
	"time"
)

// PastReport is what a host had in force for some time.
type PastReport struct {
	ID       int64
	Began    time.Time // when it first said so
	Received time.Time // when it last did
	Dump     Hash
}

// PastReports is what a host reported, the newest first: at most limit, before the report with a
// number; 0 begins with the newest.
func (s *Store) PastReports(ctx context.Context, host string, before int64, limit int) ([]PastReport, error) {
	if before <= 0 {
		before = math.MaxInt64
	}
	return list(ctx, s, func(scan func(...any) error) (r PastReport, err error) {
		var hash []byte
		err = scan(&r.ID, &r.Began, &r.Received, &hash)
		copy(r.Dump[:], hash)
		return r, err
	}, "SELECT id, began_at, received_at, hash FROM reports WHERE host = ? AND id < ? ORDER BY id DESC LIMIT ?", host, before, limit)
}
