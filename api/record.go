package api

import "yellowfence.example/yfence/core/record"

// Record is a part of the record of who did what, the newest first.
type Record struct {
	Version int            `json:"version"`
	Size    int64          `json:"size" doc:"how many entries there are"`
	Entries []record.Entry `json:"entries" nullable:"false"`
	Next    int64          `json:"next,omitempty" doc:"there are more: ask for those before this one"`
}

// RecordRows are entries as they are stored, the oldest first, for whoever verifies them.
type RecordRows struct {
	record.Checkpoint
	Rows []record.Row `json:"rows" nullable:"false"`
	More bool         `json:"more" doc:"ask for those after the last of these"`
}

// RecordEntry is one entry with the proof that it stands in the record.
type RecordEntry struct {
	Version    int               `json:"version"`
	Row        record.Row        `json:"row"`
	Checkpoint record.Checkpoint `json:"checkpoint"`
	Proof      []string          `json:"proof" nullable:"false" doc:"hashes beside the way from the entry to the root of the checkpoint, from the entry on, in base64 (RFC 6962, section 2.1.1)"`
}

// RecordCheckpoint is the record's newest head, with the proof that an earlier one is its beginning.
type RecordCheckpoint struct {
	record.Checkpoint
	Proof []string `json:"proof,omitempty" nullable:"false" doc:"where an earlier size was named: that it is the beginning, in base64 (RFC 6962, section 2.1.2)"`
}
