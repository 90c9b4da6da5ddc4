package client

import (
	"context"
	"fmt"
	"net/url"

	"yellowfence.example/yfence/api"
)

// A RecordFilter is which entries of the record are wanted; what is empty does not matter.
type RecordFilter struct {
	By, Deed, On string
	Before       int64 // those before this number
	Limit        int   // at most so many, up to 1,000
}

// Record lists entries of the record, the newest first.
func (c *Client) Record(ctx context.Context, f RecordFilter) (api.Record, error) {
	q := url.Values{"limit": {fmt.Sprint(f.Limit)}, "before": {fmt.Sprint(f.Before)}}
	for name, is := range map[string]string{"by": f.By, "deed": f.Deed, "on": f.On} {
		if is != "" {
			q.Set(name, is)
		}
	}
	return get[api.Record](ctx, c, "/record?"+q.Encode())
}

// RecordRows reads entries as they are stored, the oldest first, those after a number.
func (c *Client) RecordRows(ctx context.Context, after int64) (api.RecordRows, error) {
	return get[api.RecordRows](ctx, c, fmt.Sprintf("/record/rows?after=%d", after))
}

// RecordCheckpoint reads the record's newest head, with the proof that what an earlier one covers is
// its beginning, if its size is not 0.
func (c *Client) RecordCheckpoint(ctx context.Context, since int64) (api.RecordCheckpoint, error) {
	return get[api.RecordCheckpoint](ctx, c, fmt.Sprintf("/record/checkpoint?since=%d", since))
}

// RecordEntry reads one entry with its proof.
func (c *Client) RecordEntry(ctx context.Context, number int64) (api.RecordEntry, error) {
	return get[api.RecordEntry](ctx, c, fmt.Sprintf("/record/entries/%d", number))
}
