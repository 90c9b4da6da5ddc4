package api

import (
	"time"

	"yellowfence.example/yfence/core/traffic"
)

// Usages is how often statements of the policy that is published decided.
type Usages struct {
	Version    int             `json:"version"`
	Revision   int64           `json:"revision"`
	Now        time.Time       `json:"now"`
	Since      time.Time       `json:"since" doc:"from when on what decided counts; of that day all"`
	Hosts      int             `json:"hosts" doc:"of the fleet"`
	Counting   int             `json:"counting" doc:"how many of those tell what they count"`
	Statements []traffic.Usage `json:"statements" nullable:"false" doc:"in the order of the policy"`
}

// Refusals is what hosts refused, by the policy that is published.
type Refusals struct {
	Version  int                `json:"version"`
	Revision int64              `json:"revision"`
	Now      time.Time          `json:"now"`
	Since    time.Time          `json:"since"`
	Telling  int                `json:"telling" doc:"how many hosts told what they refuse"`
	Refused  []*traffic.Refusal `json:"refused" nullable:"false" doc:"by reason: our own first, who searches for open ports last"`
	More     int                `json:"more,omitempty" doc:"how many reasons more there are"`
	Over     int64              `json:"over,omitempty" doc:"packets that are in none of them: there were too many kinds"`
	Lost     int64              `json:"lost,omitempty" doc:"how often hosts' kernels dropped messages: nobody knows of how many packets"`
}

// SeenConnections is which connections hosts saw, and who admits them by the policy that is published.
type SeenConnections struct {
	Version  int                   `json:"version"`
	Revision int64                 `json:"revision"`
	Now      time.Time             `json:"now"`
	Since    time.Time             `json:"since"`
	Watching int                   `json:"watching" doc:"how many hosts listen to which connections begin"`
	Seen     []*traffic.Connection `json:"seen" nullable:"false" doc:"the most frequent first"`
	More     int                   `json:"more,omitempty" doc:"how many kinds more there are"`
	Over     int64                 `json:"over,omitempty" doc:"connections that are in none of them: there were too many kinds"`
	Lost     int64                 `json:"lost,omitempty" doc:"how often hosts' kernels dropped messages: nobody knows of how many connections"`
}

// Cuts is connections that were seen and that a change would refuse.
type Cuts struct {
	Since    time.Time      `json:"since" doc:"from when on connections were looked at"`
	Watching int            `json:"watching" doc:"how many hosts listen to which connections begin; where none does nothing is known"`
	Cut      []*traffic.Cut `json:"cut" nullable:"false" doc:"the most frequent first"`
}

// SeenRequest asks what of the connections that were seen expectations of a policy say there never are.
type SeenRequest struct {
	Side
	Since int64 `json:"since" minimum:"1" maximum:"2592000" doc:"how far back, in seconds"`
}

// Contradictions is the answer to that.
type Contradictions struct {
	Version  int                      `json:"version"`
	Since    time.Time                `json:"since"`
	Watching int                      `json:"watching" doc:"how many hosts listen to which connections begin; where none does nothing is known"`
	Against  []*traffic.Contradiction `json:"against" nullable:"false" doc:"in the order of the policy's expectations"`
}

// Narrowings is which statements of what is published could be narrower, by what was seen.
type Narrowings struct {
	Version  int                 `json:"version"`
	Revision int64               `json:"revision"`
	Now      time.Time           `json:"now"`
	Since    time.Time           `json:"since"`
	Watching int                 `json:"watching" doc:"how many hosts listen to which connections begin; where none does nothing is known"`
	Narrower []traffic.Narrowing `json:"narrower" nullable:"false" doc:"in the order of the policy"`
}
