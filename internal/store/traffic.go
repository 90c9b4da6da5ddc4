package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"

	"yellowfence.example/yfence/core/traffic"
)

// TakeTraffic changes what is kept of what a host counted and saw; change says whether anything is
// to be written. It may be called again where others were faster.
func (s *Store) TakeTraffic(ctx context.Context, host string, change func(r *traffic.Record) bool) error {
	return s.inTx(ctx, func(tx *sql.Tx) error {
		row := tx.QueryRowContext(ctx, "SELECT host, counted, refused, seen FROM traffic WHERE host = ? FOR UPDATE", host)
		r, err := readRecord(row.Scan, &host)
		if errors.Is(err, sql.ErrNoRows) {
			r, err = traffic.NewRecord(), nil
		}
		if err != nil || !change(r) {
			return err
		}
		// All three parts are written, though one may be as it was: a batch is one change.
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

// readRecord reads one record; flows that were not asked for are NULL and stay out.
func readRecord(scan func(...any) error, host *string) (*traffic.Record, error) {
	var counted, refused, seen []byte
	if err := scan(host, &counted, &refused, &seen); err != nil {
		return nil, err
	}
	r := traffic.NewRecord()
	if err := json.Unmarshal(counted, r); err != nil {
		return nil, err
	}
	for _, flows := range []struct {
		stored []byte
		into   *traffic.Sums
	}{{refused, r.Refused}, {seen, r.Seen}} {
		var t traffic.Told
		if len(flows.stored) == 0 {
			continue
		}
		if err := json.Unmarshal(flows.stored, &t); err != nil {
			return nil, err
		}
		flows.into.Take(&t)
	}
	return r, nil
}

// A TrafficPart is what of a record is wanted besides how often statements decided.
type TrafficPart string

// The parts.
const (
	Counted TrafficPart = "NULL, NULL"
	Refused TrafficPart = "refused, NULL"
	Seen    TrafficPart = "NULL, seen"
)

// mostFlows is how many flows are read at once, of all hosts: about 200 MB. A fleet of 10,000 hosts
// that see 20 kinds each has two thirds of that.
const mostFlows = 300_000

// Traffic is what hosts counted and saw, by host. Where that is more than is read at once the flows of
// the last hosts stay out, and are counted in Over.
func (s *Store) Traffic(ctx context.Context, part TrafficPart) (map[string]*traffic.Record, error) {
	type one struct {
		host   string
		record *traffic.Record
	}
	left := mostFlows
	all, err := list(ctx, s, func(scan func(...any) error) (o one, err error) {
		if o.record, err = readRecord(scan, &o.host); err != nil {
			return o, err
		}
		if left -= o.record.Refused.Len() + o.record.Seen.Len(); left < 0 {
			o.record.Refused.Room(traffic.RecordFlows)
			o.record.Seen.Room(traffic.RecordFlows)
		}
		return o, nil
	}, "SELECT host, counted, "+string(part)+" FROM traffic")
	out := map[string]*traffic.Record{}
	for _, o := range all {
		out[o.host] = o.record
	}
	return out, err
}
