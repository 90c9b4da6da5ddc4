package client

import (
	"context"
	"fmt"
	"net/http"

	"yellowfence.example/yfence/api"
)

// Propose proposes a change; with a number it takes the place of one's own proposal.
func (c *Client) Propose(ctx context.Context, number int64, req api.ProposalRequest) (out api.ProposalShown, err error) {
	if number == 0 {
		return out, c.do(ctx, http.MethodPost, "/proposals", req, &out)
	}
	return out, c.do(ctx, http.MethodPut, fmt.Sprintf("/proposals/%d", number), req, &out)
}

// Proposals lists proposals in a state, or all if it is "".
func (c *Client) Proposals(ctx context.Context, state string) (api.Proposals, error) {
	return get[api.Proposals](ctx, c, "/proposals?limit=1000&state="+state)
}

// Proposal reads one proposal with what it means now.
func (c *Client) Proposal(ctx context.Context, number int64) (api.ProposalShown, error) {
	return get[api.ProposalShown](ctx, c, fmt.Sprintf("/proposals/%d", number))
}

// ApproveProposal approves the meaning of a proposal that has this sum.
func (c *Client) ApproveProposal(ctx context.Context, number int64, sum, note string) (out api.ProposalShown, err error) {
	return out, c.do(ctx, http.MethodPost, fmt.Sprintf("/proposals/%d/approve", number), api.ApprovalRequest{Sum: sum, Note: note}, &out)
}

// EndProposal declines a proposal, or withdraws one's own: how is decline or withdraw.
func (c *Client) EndProposal(ctx context.Context, number int64, how, why string) (out api.Proposal, err error) {
	return out, c.do(ctx, http.MethodPost, fmt.Sprintf("/proposals/%d/%s", number, how), map[string]string{"why": why}, &out)
}

// PublishProposal publishes a proposal that has its approvals.
func (c *Client) PublishProposal(ctx context.Context, number int64) (out api.Checked, err error) {
	return out, c.do(ctx, http.MethodPost, fmt.Sprintf("/proposals/%d/publish", number), nil, &out)
}
