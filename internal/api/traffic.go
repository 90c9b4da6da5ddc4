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
