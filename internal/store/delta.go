package store

import (
	"context"
	"database/sql"
	"time"
)

// A Delta is what changed of what is known of hosts since a time.
type Delta struct {
	At        time.Time              // by the database's clock: what is later is not in it
	Reported  []LastReport           // of whom a report came, without what they were asked
	Asked     []LastReport           // who was asked to settle something, without their reports
	Attending map[string]AgentStatus // who told something of himself
	Polled    map[string]time.Time   // who asked for tasks, and when
}

// deltaOverlap is how much of what was read before is read again: what was being committed then.
const deltaOverlap = 20 * time.Second

// Delta gives what changed since an earlier Delta was read; all there is if since is zero.
func (s *Store) Delta(ctx context.Context, since time.Time) (d Delta, err error) {
	if err := s.row(ctx, "SELECT NOW(6)", nil, &d.At); err != nil {
		return d, err
	}
	from := time.Unix(0, 0).UTC()
	if !since.IsZero() {
		from = since.Add(-deltaOverlap).Truncate(time.Microsecond) // finer, and the index does not serve
	}
	if d.Reported, err = list(ctx, s, func(scan func(...any) error) (h LastReport, err error) {
		var hash []byte
		err = scan(&h.Host, &h.TakenAt, &h.ReceivedAt, &hash)
		copy(h.Dump[:], hash)
		return h, err
	}, "SELECT n.host, r.taken_at, r.received_at, r.hash FROM newest n JOIN reports r ON r.id = n.report WHERE n.changed_at > ?",
		from); err != nil {
		return d, err
	}
	if d.Asked, err = list(ctx, s, func(scan func(...any) error) (h LastReport, err error) {
		return h, scan(&h.Host, &h.Pair, &h.Previous, &h.AskedAt)
	}, "SELECT host, pair, previous, asked_at FROM asked WHERE changed_at > ?", from); err != nil {
		return d, err
	}
	if d.Attending, err = s.attending(ctx, " WHERE changed_at > ?", from); err != nil {
		return d, err
	}
	type poll struct {
		host string
		at   sql.NullTime
	}
	polled, err := list(ctx, s, func(scan func(...any) error) (p poll, err error) { return p, scan(&p.host, &p.at) },
		"SELECT host, asked_at FROM attending WHERE polled_at > ?", from)
	d.Polled = map[string]time.Time{}
	for _, p := range polled {
		d.Polled[p.host] = p.at.Time
	}
	return d, err
}
