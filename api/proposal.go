package api

import (
	"time"

	"yellowfence.example/yfence/core/approve"
	"yellowfence.example/yfence/core/check"
	"yellowfence.example/yfence/core/compare"
	"yellowfence.example/yfence/core/source"
)

// The states of a proposal.
const (
	ProposalOpen      = "open"
	ProposalPublished = "published"
	ProposalDeclined  = "declined"
	ProposalWithdrawn = "withdrawn"
)

// ProposalRequest proposes a change, or puts another text in the place of one that was proposed.
type ProposalRequest struct {
	Files  []check.Source `json:"files" maxItems:"2000" doc:"all files of the policy"`
	Fleet  *check.Source  `json:"fleet,omitempty" doc:"a fleet file that becomes the fleet with it"`
	Why    string         `json:"why" minLength:"1" maxLength:"2000" doc:"the reason, for those who approve and for the history"`
	Accept []string       `json:"accept,omitempty" nullable:"false" maxItems:"50" doc:"codes of checks whose errors do not stand in the way"`
}

// Proposal is a change that is proposed.
type Proposal struct {
	Number    int64      `json:"number"`
	Author    string     `json:"author"`
	Why       string     `json:"why"`
	State     string     `json:"state" enum:"open,published,declined,withdrawn"`
	Pair      int64      `json:"pair" doc:"that it starts from"`
	Accept    []string   `json:"accept,omitempty" nullable:"false"`
	MadeAt    time.Time  `json:"made_at"`
	ChangedAt time.Time  `json:"changed_at"`
	DecidedAt *time.Time `json:"decided_at,omitempty"`
	DecidedBy string     `json:"decided_by,omitempty"`
	Decided   string     `json:"decided,omitempty" doc:"why it was declined or withdrawn"`
	Revision  int64      `json:"revision,omitempty" doc:"as which it was published"`
}

// Approval is the word of one who approves a proposal.
type Approval struct {
	By     string    `json:"by"`
	At     time.Time `json:"at"`
	Note   string    `json:"note,omitempty"`
	Counts bool      `json:"counts" doc:"the proposal still means what was approved"`
}

// Proposals is a list of them, the newest first.
type Proposals struct {
	Version   int        `json:"version"`
	Proposals []Proposal `json:"proposals" nullable:"false"`
	Next      int64      `json:"next,omitempty" doc:"there are more: ask for those before this one"`
}

// ProposalShown is a proposal with what it means now, over what is published now.
type ProposalShown struct {
	Version int `json:"version"`
	Proposal
	Stands    bool             `json:"stands" doc:"it can be published over what is published now, but for approvals"`
	Hinders   string           `json:"hinders,omitempty" doc:"what stands in its way, besides approvals"`
	Problems  []source.Problem `json:"problems,omitempty" nullable:"false"`
	Changes   *compare.Changes `json:"changes,omitempty"`
	Cuts      *Cuts            `json:"cuts,omitempty"`
	Meaning   approve.Meaning  `json:"meaning"`
	Need      approve.Need     `json:"need"`
	Approvals []Approval       `json:"approvals" nullable:"false"`
	Missing   Missing          `json:"missing"`
	Files     []check.Source   `json:"files,omitempty" nullable:"false" doc:"where they are asked for"`
}

// Missing is what a proposal lacks before it can be published.
type Missing struct {
	People  int      `json:"people" doc:"so many must approve it yet"`
	Holding []string `json:"holding,omitempty" nullable:"false" doc:"roles for which none of those who did may approve"`
}

// ApprovalRequest approves what a proposal means.
type ApprovalRequest struct {
	Sum  string `json:"sum" minLength:"1" maxLength:"100" doc:"of the meaning that was looked at; the proposal must still have it"`
	Note string `json:"note,omitempty" maxLength:"2000"`
}
