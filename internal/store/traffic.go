package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"

	"yellowfence.example/yfence/core/traffic"
)

// storedTraffic is a host's record as it stands in the table; flows that were not asked for are NULL.
type storedTraffic struct {
	host                   string
	counted, refused, seen []byte
}

// read takes a row apart.
func (r *storedTraffic) read(scan func(...any) error) error {
	return scan(&r.host, &r.counted, &r.refused, &r.seen)
}

// record is what the row says.
func (r *storedTraffic) record() (*traffic.Record, error) {
	out := traffic.NewRecord()
	if err := json.Unmarshal(r.counted, out); err != nil {
		return nil, err
	}
	for _, flows := range []struct {
		stored []byte
		into   *traffic.Sums
	}{{r.refused, out.Refused}, {r.seen, out.Seen}} {
		var t traffic.Told
		if len(flows.stored) == 0 {
			continue
		}
		if err := json.Unmarshal(flows.stored, &t); err != nil {
			return nil, err
		}
		flows.into.Take(&t)
	}
	return out, nil
}

// TakeTraffic changes what is kept of what a host counted and saw; change says whether anything is
// to be written. It may be called again where others were faster.
func (s *Store) TakeTraffic(ctx context.Context, host string, change func(r *traffic.Record) bool) error {
	return s.inTx(ctx, func(tx *sql.Tx) error {
		r, row := traffic.NewRecord(), storedTraffic{}
		err := row.read(tx.QueryRowContext(ctx, "SELECT host, counted, refused, seen FROM traffic WHERE host = ? FOR UPDATE", host).Scan)
		if err == nil {
			r, err = row.record()
		} else if errors.Is(err, sql.ErrNoRows) {
			err = nil
		}
		if err != nil || !change(r) {
			return err
		}
		// All three parts are written, though one may be as it was: a batch is one change.
		r.Kinds = [2]int64{int64(r.Refused.Len()), int64(r.Seen.Len())}
		var parts [3][]byte
		for i, part := range []any{r, r.Refused.Told(), r.Seen.Told()} {
			if parts[i], err = json.Marshal(part); err != nil {
				return err
			}
		}
		_, err = tx.ExecContext(ctx, "REPLACE INTO traffic (host, told_at, counted, refused, seen) VALUES (?, ?, ?, ?, ?)", host, now(),
			parts[0], parts[1], parts[2])
		return err
	})
}

// A TrafficPart is what of a record is wanted besides how often statements decided.
type TrafficPart string

// The parts.
const (
	Counted TrafficPart = "NULL, NULL"
	Refused TrafficPart = "refused, NULL"
	Seen    TrafficPart = "NULL, seen"
)

// How much is read: mostFlows of all hosts, which take about 200 MB (a fleet of 10,000 hosts that see
// 20 kinds each has two thirds of that), by so many hosts in one query.
const (
	mostFlows   = 300_000
	flowsPage   = 50
	countedPage = 1000
)

// Traffic is what hosts counted and saw, by host. Where that is more than is read at once the flows of
// the last hosts stay out, and how many kinds they are is counted in Over.
func (s *Store) Traffic(ctx context.Context, part TrafficPart) (map[string]*traffic.Record, error) {
	out, left := map[string]*traffic.Record{}, mostFlows
	for after := ""; ; {
		columns, hosts := part, flowsPage
		if left <= 0 || part == Counted {
			columns, hosts = Counted, countedPage
		}
		// A page is read at one go, and taken apart once the database is done with it.
		page, err := list(ctx, s, func(scan func(...any) error) (r storedTraffic, err error) {
			err = r.read(scan)
			return r, err
		},
			"SELECT host, counted, "+string(columns)+" FROM traffic WHERE host > ? ORDER BY host LIMIT ?", after, hosts)
		if err != nil || len(page) == 0 {
			return out, err
		}
		for _, row := range page {
			r, err := row.record()
			if err != nil {
				return nil, err
			}
			switch left -= r.Refused.Len() + r.Seen.Len(); {
			case columns == Counted && part == Refused:
				r.Refused.Over += r.Kinds[0]
			case columns == Counted && part == Seen:
				r.Seen.Over += r.Kinds[1]
			}
			out[row.host], after = r, row.host
		}
	}
}
