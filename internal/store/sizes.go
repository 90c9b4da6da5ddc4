package store

import (
	"context"
	"database/sql"
	"time"
)

// A Size is how much of something is kept.
type Size struct {
	Rows, Bytes int64
	Oldest      time.Time // zero where it has no date, or there is none
}

// The parts of what is kept, by their tables, and the statement that gives the oldest of each.
var parts = []struct {
	name   string
	tables []string
	oldest string
}{
	{"revisions", []string{"revisions", "generations", "pairs"}, "SELECT published_at FROM revisions WHERE number = 1"},
	{"proposals", []string{"proposals", "approvals"}, "SELECT made_at FROM proposals WHERE number = 1"},
	{"record", []string{"record", "record_hashes"}, "SELECT STR_TO_DATE(LEFT(JSON_VALUE(body, '$.at'), 19), '%Y-%m-%dT%H:%i:%s') " +
		"FROM record WHERE number = 1"},
	{"reports", []string{"reports", "newest", "findings", "boot_dumps"}, "SELECT MIN(received_at) FROM reports"},
	{"contents", []string{"content", "pieces"}, "SELECT MIN(created_at) FROM content"},
	{"traffic", []string{"traffic"}, "SELECT MIN(told_at) FROM traffic"},
	{"waves", []string{"waves", "wave_hosts"}, ""},
	{"hosts", []string{"attending", "surroundings", "copies", "enrolled", "enrolments", "tasks", "asked", "host_states"}, ""},
	{"events", []string{"events", "deliveries"}, "SELECT MIN(at) FROM events"},
	{"tokens", []string{"tokens", "sessions", "keyed", "signing_keys", "record_keys"}, ""},
}

// Sizes is how much is kept, by part, as the server estimates it; names are in the order in which they are shown.
func (s *Store) Sizes(ctx context.Context) (names []string, sizes map[string]Size, err error) {
	type table struct {
		name        string
		rows, bytes int64
	}
	all, err := list(ctx, s, func(scan func(...any) error) (t table, err error) { return t, scan(&t.name, &t.rows, &t.bytes) },
		"SELECT table_name, COALESCE(table_rows, 0), COALESCE(data_length + index_length, 0) FROM information_schema.tables WHERE "+
			"table_schema = DATABASE()")
	if err != nil {
		return nil, nil, err
	}
	by := map[string]table{}
	for _, t := range all {
		by[t.name] = t
	}
	sizes = map[string]Size{}
	for _, p := range parts {
		one := Size{Rows: by[p.tables[0]].rows}
		for _, t := range p.tables {
			one.Bytes += by[t].bytes
		}
		if p.oldest != "" {
			var at sql.NullTime
			if err := s.row(ctx, p.oldest, nil, &at); err == nil {
				one.Oldest = at.Time
			}
		}
		names = append(names, p.name)
		sizes[p.name] = one
	}
	return names, sizes, nil
}

// Tables is the version of the tables.
func (s *Store) Tables(ctx context.Context) (int64, error) { return s.schema(ctx) }

// Server is the database's server, as it names itself.
func (s *Store) Server(ctx context.Context) (name string, err error) {
	return name, s.row(ctx, "SELECT VERSION()", nil, &name)
}
