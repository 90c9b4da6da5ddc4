package api

import "time"

// Past is what a host had in force before, the newest first.
type Past struct {
	Version int          `json:"version"`
	Host    string       `json:"host"`
	Changes []PastChange `json:"changes" nullable:"false"`
	Next    int64        `json:"next,omitempty" doc:"there are earlier ones: ask for those before this one"`
}

// PastChange is one change of what a host had in force, by its reports.
type PastChange struct {
	Number    int64     `json:"number" doc:"of the report that first showed it"`
	Began     time.Time `json:"began" doc:"when the host first reported it"`
	Until     time.Time `json:"until" doc:"when the host last reported it"`
	Published int64     `json:"published,omitempty" doc:"the revision that was published when it began; left out where none was"`
	Sum       string    `json:"sum" doc:"the same where the same was in force"`
	First     bool      `json:"first,omitempty" doc:"nothing earlier is kept, so that nothing can be compared with it"`
	Unread    string    `json:"unread,omitempty" doc:"why it is not known what changed"`
	Added     int       `json:"added" doc:"lines that came: rules, what becomes of what no rule of a chain decides, elements of sets"`
	Removed   int       `json:"removed" doc:"lines that went"`
	Plus      []string  `json:"plus,omitempty" nullable:"false" doc:"the first of the lines that came"`
	Minus     []string  `json:"minus,omitempty" nullable:"false" doc:"the first of the lines that went"`
}
