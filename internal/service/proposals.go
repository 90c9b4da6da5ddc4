package service

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"

	"github.com/danielgtaylor/huma/v2"

	"yellowfence.example/yfence/api"
	"yellowfence.example/yfence/core/approve"
	"yellowfence.example/yfence/core/check"
	"yellowfence.example/yfence/core/fleet"
	"yellowfence.example/yfence/core/source"
	"yellowfence.example/yfence/internal/limits"
	"yellowfence.example/yfence/internal/store"
)

// registerProposals tells the router the calls about proposals.
func (s *Service) registerProposals(a huma.API) {
	huma.Register(a, operation("GET", "/proposals", "list-proposals", "Changes that were proposed, the newest first", api.Read),
		s.listProposals)
	huma.Register(a, operation("GET", "/proposals/{number}", "show-proposal", "One proposal: what it means now, and which approvals it "+
		"lacks",
		api.Read), s.showProposal)
	huma.Register(a, withBody(limited(operation("POST", "/proposals", "propose", "Propose a change, for others to approve", api.Propose)),
		limits.PolicyBody), s.propose)
	huma.Register(a, withBody(limited(operation("PUT", "/proposals/{number}", "change-proposal",
		"Put other texts in the place of one's own proposal; what means the same stays approved", api.Propose)), limits.PolicyBody),
		s.changeProposal)
	huma.Register(a, limited(operation("POST", "/proposals/{number}/approve", "approve-proposal", "Approve what a proposal means",
		api.Approve)),
		s.approveProposal)
	huma.Register(a, limited(operation("POST", "/proposals/{number}/decline", "decline-proposal", "Decline a proposal", api.Approve)),
		s.declineProposal)
	huma.Register(a, limited(operation("POST", "/proposals/{number}/withdraw", "withdraw-proposal", "Take one's own proposal back",
		api.Propose)),
		s.withdrawProposal)
	huma.Register(a, limited(operation("POST", "/proposals/{number}/publish", "publish-proposal",
		"Publish a proposal that has its approvals",
		api.Publish)), s.publishProposal)
}

// listProposals answers proposals without what they mean.
func (s *Service) listProposals(ctx context.Context, in *struct {
	PageInput
	State string `query:"state" enum:"open,published,declined,withdrawn," doc:"only those in a state"`
}) (*struct{ Body api.Proposals }, error) {
	list, err := s.Store.Proposals(ctx, in.State, in.Before, in.Limit)
	if err != nil {
		return nil, s.broken("reading the proposals", err)
	}
	out := api.Proposals{Version: api.Version, Proposals: list}
	if len(list) == in.Limit {
		out.Next = list[len(list)-1].Number
	}
	return &struct{ Body api.Proposals }{out}, nil
}

// proposal is a proposal with its approvals, or an answer that there is none.
func (s *Service) proposal(ctx context.Context, number int64) (p store.KeptProposal, given []store.KeptApproval, err error) {
	p, given, err = s.Store.Proposal(ctx, number)
	if errors.Is(err, store.ErrNotFound) {
		return p, nil, huma.Error404NotFound(fmt.Sprintf("there is no proposal %d", number))
	} else if err != nil {
		err = s.broken("reading the proposal", err)
	}
	return p, given, err
}

// proposalInput is a question about one proposal.
type proposalInput struct {
	Number int64 `path:"number"`
	Files  bool  `query:"files" doc:"with the files that would be published"`
}

// showProposal answers a proposal with what it means now.
func (s *Service) showProposal(ctx context.Context, in *proposalInput) (*struct{ Body api.ProposalShown }, error) {
	p, given, err := s.proposal(ctx, in.Number)
	if err != nil {
		return nil, err
	}
	out, err := s.shown(ctx, p, given, in.Files)
	if err != nil {
		return nil, err
	}
	return &struct{ Body api.ProposalShown }{out}, nil
}

// propose stores a new proposal, and answers what it means.
func (s *Service) propose(ctx context.Context, in *struct{ Body api.ProposalRequest }) (*struct{ Body api.ProposalShown }, error) {
	return s.proposed(ctx, in.Body, api.Proposal{Author: caller(ctx).Name})
}

// changeProposal puts other texts in the place of a proposal's.
func (s *Service) changeProposal(ctx context.Context, in *struct {
	Number int64 `path:"number"`
	Body   api.ProposalRequest
}) (*struct{ Body api.ProposalShown }, error) {
	p, _, err := s.proposal(ctx, in.Number)
	if err != nil {
		return nil, err
	}
	if p.Author != caller(ctx).Name {
		return nil, huma.Error403Forbidden(fmt.Sprintf("proposal %d is %s's, and nobody else changes it; propose another", p.Number,
			p.Author))
	}
	return s.proposed(ctx, in.Body, p.Proposal)
}

// proposed stores what is proposed, if nothing stands in its way now.
func (s *Service) proposed(ctx context.Context, req api.ProposalRequest, p api.Proposal) (*struct{ Body api.ProposalShown }, error) {
	current, err := s.newest(ctx)
	if err != nil {
		return nil, s.broken("proposing", err)
	}
	for _, code := range req.Accept {
		if !slices.ContainsFunc(check.Checks, func(c check.Check) bool { return c.Code == code }) {
			return nil, noCheck(code)
		}
	}
	var fl *fleet.Fleet
	var told []source.Problem
	var file []byte
	if fl = current.fleet; req.Fleet != nil {
		if fl, told, err = s.readFleet(ctx, *req.Fleet); err != nil {
			return nil, err
		}
		if source.HasErrors(told) {
			return nil, refused("the change is not proposed", told)
		}
		if file, err = json.Marshal(req.Fleet); err != nil {
			return nil, s.broken("proposing", err)
		}
	}
	var out api.Checked
	accepted, err := s.publishable(ctx, api.PublishRequest{Accept: req.Accept}, req.Files, fl, told, &out)
	if err != nil {
		return nil, s.told("proposing", err)
	}
	if t := caller(ctx); !api.Has(t.Rights, api.Propose) { // for some roles: it may concern no others
		w, err := s.weigh(ctx, current, change{req.Files, fl, accepted}, t.Name)
		if err != nil {
			return nil, s.told("proposing", err)
		}
		if !api.Covers(t.Rights, api.Propose, w.meaning.Roles) {
			return nil, s.forbidden(ctx, t, api.Propose, "propose for all roles that it concerns: "+strings.Join(w.meaning.Roles, ", "))
		}
	}
	texts, err := json.Marshal(req.Files)
	if err != nil {
		return nil, s.broken("proposing", err)
	}
	p.Why, p.Accept, p.Pair = req.Why, req.Accept, current.pair.Number
	number, err := s.Store.Propose(ctx, p, texts, file)
	if err != nil {
		return nil, s.decided("proposing", p.Number, err)
	}
	kept, given, err := s.proposal(ctx, number)
	if err != nil {
		return nil, err
	}
	shown, err := s.shown(ctx, kept, given, false)
	if err != nil {
		return nil, err
	}
	return &struct{ Body api.ProposalShown }{shown}, nil
}

// decided is the answer where a proposal is not open any more, or what broken makes of another error.
func (s *Service) decided(what string, number int64, err error) error {
	if errors.Is(err, store.ErrDecided) {
		return huma.Error409Conflict(fmt.Sprintf("proposal %d is decided already", number))
	}
	return s.told(what, err)
}

// approver is whoever asks, as one who approves.
func approver(ctx context.Context) approve.Approver {
	t := caller(ctx)
	a := approve.Approver{Name: t.Name, Whole: api.Has(t.Rights, api.Approve)}
	for _, r := range t.Rights {
		if word, roles := r.What(); word == api.Approve {
			a.Roles = append(a.Roles, roles...)
		}
	}
	return a
}

// approveProposal takes somebody's approval of what a proposal means.
func (s *Service) approveProposal(ctx context.Context, in *struct {
	Number int64 `path:"number"`
	Body   api.ApprovalRequest
}) (*struct{ Body api.ProposalShown }, error) {
	p, given, err := s.proposal(ctx, in.Number)
	if err != nil {
		return nil, err
	}
	shown, err := s.shown(ctx, p, given, false)
	if err != nil {
		return nil, err
	}
	who := approver(ctx)
	switch {
	case p.State != api.ProposalOpen:
		return nil, s.decided("approving", p.Number, store.ErrDecided)
	case who.Name == p.Author:
		return nil, huma.Error403Forbidden("nobody approves what he proposed himself")
	case !shown.Stands:
		return nil, huma.Error409Conflict(fmt.Sprintf("proposal %d cannot be published as it is: %s", p.Number, shown.Hinders))
	case shown.Meaning.Sum != in.Body.Sum:
		return nil, api.NewProblem(api.MovedOn, fmt.Sprintf("proposal %d means something else now than what you looked at; look again",
			p.Number))
	case !who.MayApprove(p.Author, shown.Meaning):
		roles := strings.Join(shown.Meaning.Roles, ", ")
		return nil, s.forbidden(ctx, caller(ctx), api.Approve, "approve for one of the roles that it concerns ("+roles+")")
	}
	if err := s.Store.Approve(ctx, p.Number, who, in.Body.Sum, in.Body.Note); err != nil {
		return nil, s.decided("approving", p.Number, err)
	}
	return s.showProposal(ctx, &proposalInput{Number: in.Number})
}

// reasonInput is a word about a proposal, with the reason.
type reasonInput struct {
	Number int64 `path:"number"`
	Body   struct {
		Why string `json:"why" minLength:"1" maxLength:"2000"`
	}
}

// declineProposal ends a proposal that somebody who may approve does not want.
func (s *Service) declineProposal(ctx context.Context, in *reasonInput) (*struct{ Body api.Proposal }, error) {
	if who := approver(ctx); !who.Whole {
		p, given, err := s.proposal(ctx, in.Number)
		if err != nil {
			return nil, err
		}
		shown, err := s.shown(ctx, p, given, false)
		if err != nil {
			return nil, err
		}
		if !who.MayApprove("", shown.Meaning) {
			return nil, s.forbidden(ctx, caller(ctx), api.Approve, "approve for one of the roles that it concerns")
		}
	}
	return s.endProposal(ctx, in, api.ProposalDeclined)
}

// withdrawProposal ends a proposal that its author does not want any more.
func (s *Service) withdrawProposal(ctx context.Context, in *reasonInput) (*struct{ Body api.Proposal }, error) {
	return s.endProposal(ctx, in, api.ProposalWithdrawn)
}

// endProposal ends a proposal without publishing it.
func (s *Service) endProposal(ctx context.Context, in *reasonInput, state string) (*struct{ Body api.Proposal }, error) {
	p, _, err := s.proposal(ctx, in.Number)
	if err != nil {
		return nil, err
	}
	if state == api.ProposalWithdrawn && p.Author != caller(ctx).Name {
		return nil, huma.Error403Forbidden(fmt.Sprintf("proposal %d is %s's; decline it, if you may approve", p.Number, p.Author))
	}
	if err := s.Store.DecideProposal(ctx, p.Number, state, in.Body.Why); err != nil {
		return nil, s.decided("deciding", p.Number, err)
	}
	if p, _, err = s.proposal(ctx, in.Number); err != nil {
		return nil, err
	}
	return &struct{ Body api.Proposal }{p.Proposal}, nil
}

// publishProposal publishes a proposal whose approvals are there. What is published meanwhile it is
// weighed against anew.
func (s *Service) publishProposal(ctx context.Context, in *struct {
	Number int64 `path:"number"`
}) (*struct{ Body api.Checked }, error) {
	return s.change(ctx, "publishing the proposal", func(current *model) (pair store.Pair, out api.Checked, err error) {
		p, given, err := s.proposal(ctx, in.Number)
		if err != nil {
			return pair, out, err
		}
		if p.State != api.ProposalOpen {
			return pair, out, s.decided("publishing the proposal", p.Number, store.ErrDecided)
		}
		// What it means is worked out over what is published now, not as it was shown: approvals of another meaning do not count.
		st, err := s.stands(ctx, current, p)
		if err != nil {
			return pair, out, err
		}
		if st.hinders != "" {
			return pair, out, huma.Error409Conflict(fmt.Sprintf("proposal %d cannot be published as it is: %s", p.Number, st.hinders))
		}
		if t := caller(ctx); !api.Has(t.Rights, api.Publish) && !api.Covers(t.Rights, api.Publish, st.meaning.Roles) {
			return pair, out, s.forbidden(ctx, t, api.Publish, "publish for all roles that it concerns: "+strings.Join(st.meaning.Roles,
				", "))
		}
		count, _ := counted(p, st.meaning, given)
		if people, holding := st.need.Left(count); people > 0 {
			missing := approve.Need{People: people, Holding: holding}
			return pair, out, api.NewProblem(api.NeedsApproval, fmt.Sprintf("proposal %d lacks %s, since %s", p.Number, missing,
				because(st.need)))
		}
		names := make([]string, len(count))
		for i, a := range count {
			names[i] = a.Name
		}
		out.Problems, out.Need = st.problems, &st.need
		// The database decides between two who do this at once: whoever comes second finds another pair, or the proposal published.
		pair, err = s.Store.Publish(ctx, store.Publication{Base: current.pair, Author: p.Author, Why: p.Why, Files: st.texts,
			Fleet:    st.file,
			Accepted: st.accepted, Proposal: p.Number, Approved: names})
		if errors.Is(err, store.ErrDecided) {
			err = s.decided("publishing the proposal", p.Number, err)
		}
		return pair, out, err
	})
}
