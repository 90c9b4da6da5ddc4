package service

import (
	"context"
	"errors"
	"fmt"

	"github.com/danielgtaylor/huma/v2"

	"yellowfence.example/yfence/api"
	"yellowfence.example/yfence/core/record"
	"yellowfence.example/yfence/internal/store"
)

// registerRecord tells the router the calls about the record.
func (s *Service) registerRecord(a huma.API) {
	huma.Register(a, operation("GET", "/record", "list-record", "Who did what, when and why, the newest first", api.Read), s.listRecord)
	huma.Register(a, operation("GET", "/record/rows", "export-record", "The record as it is stored, the oldest first, to be verified",
		api.Read), s.exportRecord)
	huma.Register(a, operation("GET", "/record/checkpoint", "show-checkpoint",
		"The record's newest signed head, and the proof that an earlier one is its beginning", api.Read), s.showCheckpoint)
	huma.Register(a, operation("GET", "/record/entries/{number}", "show-entry", "One entry, and the proof that it stands in the record",
		api.Read), s.showEntry)
}

// listRecord answers entries, the newest first.
func (s *Service) listRecord(ctx context.Context, in *struct {
	PageInput
	By   string `query:"by" maxLength:"200" doc:"of one who did them, by name"`
	Deed string `query:"deed" maxLength:"40" doc:"of one kind"`
	On   string `query:"on" maxLength:"300" doc:"done to one thing, as entries name it: revision 7, charts-01"`
}) (*struct{ Body api.Record }, error) {
	size, _, err := s.checkpoint(ctx)
	if err != nil {
		return nil, s.broken("reading the record", err)
	}
	entries, err := s.Store.Record(ctx, store.RecordFilter{Doer: in.By, Deed: in.Deed, Subject: in.On}, in.Before, in.Limit)
	if err != nil {
		return nil, s.broken("reading the record", err)
	}
	out := api.Record{Version: api.Version, Size: size, Entries: entries}
	if len(entries) == in.Limit {
		out.Next = entries[len(entries)-1].Number
	}
	return &struct{ Body api.Record }{out}, nil
}

// checkpoint is the record's newest head; empty where nothing was done yet.
func (s *Service) checkpoint(ctx context.Context) (size int64, c record.Checkpoint, err error) {
	h, err := s.Store.RecordHead(ctx)
	if errors.Is(err, store.ErrNotFound) {
		return 0, record.Checkpoint{Version: api.Version}, nil
	}
	return h.Size, record.Checkpoint{Version: api.Version, Key: h.Public, Size: h.Size, Head: h.Signed}, err
}

// mostRows is how many rows are answered at once.
const mostRows = 500

// exportRecord answers the rows after one.
func (s *Service) exportRecord(ctx context.Context, in *struct {
	After int64 `query:"after" minimum:"0" doc:"those after this number"`
}) (*struct{ Body api.RecordRows }, error) {
	_, c, err := s.checkpoint(ctx)
	if err != nil {
		return nil, s.broken("reading the record", err)
	}
	rows, err := s.Store.RecordRows(ctx, in.After, mostRows)
	if err != nil {
		return nil, s.broken("reading the record", err)
	}
	return &struct{ Body api.RecordRows }{api.RecordRows{Checkpoint: c, Rows: rows, More: len(rows) == mostRows}}, nil
}

// showCheckpoint answers the newest head, with a proof where an earlier size is named.
func (s *Service) showCheckpoint(ctx context.Context, in *struct {
	Since int64 `query:"since" minimum:"0" doc:"an earlier size, which is to be proven the beginning of this"`
}) (*struct{ Body api.RecordCheckpoint }, error) {
	size, c, err := s.checkpoint(ctx)
	if err != nil {
		return nil, s.broken("reading the record", err)
	}
	out := api.RecordCheckpoint{Checkpoint: c}
	if in.Since > size {
		return nil, huma.Error409Conflict(fmt.Sprintf("the record has %d entries, fewer than %d: entries were taken away, or an earlier "+
			"state of the database was put back", size, in.Since))
	}
	if in.Since > 0 {
		proof, err := s.Store.RecordProof(ctx, func(h record.Hashes) ([]record.Hash, error) {
			return record.ProveEarlier(size, in.Since,
				h)
		})
		if err != nil {
			return nil, s.broken("proving the record", err)
		}
		out.Proof = record.Texts(proof)
	}
	return &struct{ Body api.RecordCheckpoint }{out}, nil
}

// showEntry answers an entry with its proof.
func (s *Service) showEntry(ctx context.Context, in *struct {
	Number int64 `path:"number" minimum:"1"`
}) (*struct{ Body api.RecordEntry }, error) {
	size, c, err := s.checkpoint(ctx)
	if err != nil {
		return nil, s.broken("reading the record", err)
	}
	row, err := s.Store.RecordRow(ctx, in.Number)
	if errors.Is(err, store.ErrNotFound) || err == nil && in.Number > size {
		return nil, huma.Error404NotFound(fmt.Sprintf("the record has no entry %d", in.Number))
	}
	var proof []record.Hash
	if err == nil {
		proof, err = s.Store.RecordProof(ctx, func(h record.Hashes) ([]record.Hash, error) { return record.Prove(size, in.Number, h) })
	}
	if err != nil {
		return nil, s.broken("reading the record", err)
	}
	return &struct{ Body api.RecordEntry }{api.RecordEntry{Version: api.Version, Row: row, Checkpoint: c, Proof: record.Texts(proof)}}, nil
}
