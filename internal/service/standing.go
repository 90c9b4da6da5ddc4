package service

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"

	"yellowfence.example/yfence/api"
	"yellowfence.example/yfence/core/approve"
	"yellowfence.example/yfence/core/check"
	"yellowfence.example/yfence/core/source"
	"yellowfence.example/yfence/internal/store"
)

// A standing is what a proposal comes to over what is published now.
type standing struct {
	change
	file     []byte // the fleet file it comes with; nil if none
	texts    []byte // of the policy
	problems []source.Problem
	weighed
	hinders string // why it cannot be published; then nothing else is known
}

// stands works out what a proposal comes to over what is published: its own files in the place of those
// that it was made from, the others as they are now.
func (s *Service) stands(ctx context.Context, current *model, p store.KeptProposal) (st standing, err error) {
	var mine []check.Source
	if err := s.content(ctx, p.Files, &mine); err != nil {
		return st, err
	}
	// Three texts are compared: what it was made from, what it says, and what is published now. A file that changed on both
	// sides is for a person to put together.
	base, err := s.pairModel(ctx, p.Pair)
	if err != nil {
		return st, err
	}
	was, err := s.filesOf(ctx, base)
	if err != nil {
		return st, err
	}
	is, err := s.filesOf(ctx, current)
	if err != nil {
		return st, err
	}
	var both []string
	if st.files, both = rebased(was, mine, is); both != nil {
		st.hinders = fmt.Sprintf("%s changed since in what is published: take that over, and change the proposal", strings.Join(both, ", "))
		return st, nil
	}
	st.change.fleet = current.fleet
	var told []source.Problem
	if p.Fleet != nil {
		if base.pair.Generation != current.pair.Generation { // a fleet is taken whole: two of them cannot be put together
			st.hinders = "the fleet changed since: take that over, and change the proposal"
			return st, nil
		}
		var file check.Source
		if err := s.content(ctx, *p.Fleet, &file); err != nil {
			return st, err
		}
		if st.change.fleet, told, err = s.readFleet(ctx, file); err != nil {
			return st, err
		}
		if st.file, err = json.Marshal(file); err != nil {
			return st, err
		}
	}
	if st.texts, err = json.Marshal(st.files); err != nil {
		return st, err
	}
	var out api.Checked
	st.accepted, err = s.publishable(ctx, api.PublishRequest{Accept: p.Accept}, st.files, st.change.fleet, told, &out)
	var wrong *api.ProblemDocument
	if st.problems = out.Problems; errors.As(err, &wrong) && wrong.Code == api.WrongText {
		st.problems, st.hinders = wrong.Problems, wrong.Detail
		return st, nil
	} else if err != nil {
		return st, err
	}
	st.weighed, err = s.weigh(ctx, current, st.change, p.Author)
	return st, err
}

// pairModel is the model of a pair; that of nothing for 0.
func (s *Service) pairModel(ctx context.Context, number int64) (*model, error) {
	if number == 0 {
		return s.model(ctx, store.Pair{})
	}
	return s.modelOf(ctx, number)
}

// rebased puts the files that somebody changed from was to mine in the place of those that are there now.
// both are files that were changed there too, and otherwise; then there is no answer.
func rebased(was, mine, now []check.Source) (files []check.Source, both []string) {
	text := func(list []check.Source) map[string]string {
		m := map[string]string{}
		for _, f := range list {
			m[f.Name] = f.Text
		}
		return m
	}
	a, b, c := text(was), text(mine), text(now)
	out := map[string]string{}
	for _, list := range []map[string]string{a, b, c} {
		for name := range list {
			old, had := a[name]
			my, has := b[name]
			current, is := c[name]
			switch mineSame, nowSame := has == had && my == old, is == had && current == old; {
			case mineSame && is:
				out[name] = current
			case mineSame: // it is gone
			case nowSame, has == is && my == current:
				if has {
					out[name] = my
				}
			default:
				both = append(both, name)
			}
		}
	}
	if both != nil {
		slices.Sort(both)
		return nil, slices.Compact(both)
	}
	for name, text := range out {
		files = append(files, check.Source{Name: name, Text: text})
	}
	slices.SortFunc(files, func(a, b check.Source) int { return strings.Compare(a.Name, b.Name) })
	return files, nil
}

// counted are the approvals of what a proposal means, and of all of them whether they are.
func counted(p store.KeptProposal, m approve.Meaning, given []store.KeptApproval) (count []approve.Approver, all []api.Approval) {
	all = []api.Approval{}
	for _, g := range given {
		if g.Counts = g.Sum == m.Sum && g.MayApprove(p.Author, m); g.Counts {
			count = append(count, g.Approver)
		}
		all = append(all, g.Approval)
	}
	return count, all
}

// shown is a proposal as it is shown. What was decided is told as it was.
func (s *Service) shown(ctx context.Context, p store.KeptProposal, given []store.KeptApproval, files bool) (out api.ProposalShown,
	err error) {
	out = api.ProposalShown{Version: api.Version, Proposal: p.Proposal, Approvals: []api.Approval{},
		Meaning: approve.Meaning{Kinds: map[approve.Kind][]string{}, Roles: []string{}}, Need: approve.Need{Because: []approve.Reason{}}}
	if p.State != api.ProposalOpen {
		for _, g := range given {
			out.Approvals = append(out.Approvals, g.Approval)
		}
		if files {
			err = s.content(ctx, p.Files, &out.Files)
		}
		return out, s.brokenOr("reading the proposal", err)
	}
	current, err := s.newest(ctx)
	if err != nil {
		return out, s.broken("reading the proposal", err)
	}
	st, err := s.stands(ctx, current, p)
	if err != nil {
		return out, s.told("reading the proposal", err)
	}
	out.Stands, out.Hinders, out.Problems = st.hinders == "", st.hinders, st.problems
	if files {
		out.Files = st.files
	}
	if !out.Stands {
		return out, nil
	}
	out.Changes, out.Cuts, out.Meaning, out.Need = st.changes, st.cuts, st.meaning, st.need
	count, all := counted(p, st.meaning, given)
	out.Approvals = all
	out.Missing.People, out.Missing.Holding = st.need.Left(count)
	return out, nil
}

// brokenOr is broken where there is an error.
func (s *Service) brokenOr(what string, err error) error {
	if err == nil {
		return nil
	}
	return s.told(what, err)
}
