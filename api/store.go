package api

import "time"

// Store is what the service keeps in its database.
type Store struct {
	Version int         `json:"version"`
	Tables  int64       `json:"tables" doc:"the version of the tables"`
	Server  string      `json:"server" doc:"the database's server and its version"`
	Parts   []StorePart `json:"parts" nullable:"false"`
}

// StorePart is one kind of what it keeps.
type StorePart struct {
	What   string     `json:"what"`
	Rows   int64      `json:"rows" doc:"about how many, as the database estimates"`
	Bytes  int64      `json:"bytes" doc:"on the database's disk, with indexes"`
	Oldest *time.Time `json:"oldest,omitempty"`
	Keeps  string     `json:"keeps" doc:"for how long, in words"`
}
