package store

import (
	"context"
	"time"
)

// ReportAt is what a host had last reported at a time: AskedAt is when it first said so, ReceivedAt
// when it last did. ErrNotFound is a host that had said nothing by then, or nothing that is kept.
func (s *Store) ReportAt(ctx context.Context, host string, at time.Time) (r LastReport, err error) {
	var hash []byte
	err = s.row(ctx, "SELECT host, began_at, taken_at, received_at, hash FROM reports WHERE host = ? AND began_at <= ? ORDER BY began_at "+
		"DESC LIMIT 1", []any{host, at.UTC()}, &r.Host, &r.AskedAt, &r.TakenAt, &r.ReceivedAt, &hash)
	copy(r.Dump[:], hash)
	return r, err
}

// PairAt is the pair that was the newest at a time; ErrNotFound where there was none.
func (s *Store) PairAt(ctx context.Context, at time.Time) (p Pair, err error) {
	err = s.row(ctx, pairColumns+" WHERE made_at <= ? ORDER BY made_at DESC, number DESC LIMIT 1", []any{at.UTC()}, &p.Number, &p.Revision,
		&p.Generation, &p.ByItself)
	return p, err
}
