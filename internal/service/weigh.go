package service

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"yellowfence.example/yfence/api"
	"yellowfence.example/yfence/core/approve"
	"yellowfence.example/yfence/core/check"
	"yellowfence.example/yfence/core/compare"
	"yellowfence.example/yfence/core/fleet"
	"yellowfence.example/yfence/core/packet"
	"yellowfence.example/yfence/core/policy"
)

// A change is what somebody wants to be published: files of a policy over a fleet, in spite of some
// problems. Both are checked.
type change struct {
	files    []check.Source
	fleet    *fleet.Fleet
	accepted []api.Accepted
}

// weighed is what a change means over what is published, and which approvals it needs.
type weighed struct {
	changes *compare.Changes // nil where nothing is published yet
	cuts    *api.Cuts
	meaning approve.Meaning
	need    approve.Need
}

// weigh works out what a change by somebody means. The first policy is compared with nothing: it is put
// in force nowhere before a wave, and needs no approval.
func (s *Service) weigh(ctx context.Context, current *model, c change, author string) (w weighed, err error) {
	w.meaning = approve.Meaning{Kinds: map[approve.Kind][]string{}, Roles: []string{}}
	w.need = approve.Need{Because: []approve.Reason{}}
	if current.pair.Number == 0 {
		return w, nil
	}
	before, err := s.filesOf(ctx, current)
	if err != nil {
		return w, err
	}
	of := approve.Change{Before: current.fleet, After: c.fleet}
	err = s.computed(ctx, s.computing, "weighing what it changes", func(b packet.Budget) (err error) {
		in, _ := policy.Read(c.files, c.fleet)
		after, _ := policy.Resolve(in)
		w.changes = compare.Policies(b.Space(), current.policy, after, s.Clock().Unix())
		w.cuts, err = s.cuts(ctx, b, current.policy, after)
		return err
	})
	if err != nil {
		return w, err
	}
	of.Changes = w.changes
	for _, a := range c.accepted {
		of.Accepted = append(of.Accepted, a.Code+": "+a.Message)
	}
	for _, cut := range w.cuts.Cut {
		of.Cuts = append(of.Cuts, fmt.Sprintf("%s was seen %d times, and %s would refuse it", cut.Group.String(), cut.Times, cut.By))
	}
	for _, pr := range policy.MayChange(before, c.files, author) {
		of.Theirs = append(of.Theirs, pr.Message)
	}
	w.meaning = approve.MeaningOf(of)
	w.need = s.set().Approvals.Need(w.meaning)
	return w, nil
}

// filesOf are the files of a policy; none where none is published.
func (s *Service) filesOf(ctx context.Context, m *model) ([]check.Source, error) {
	if m.pair.Revision == 0 {
		return nil, nil
	}
	return s.files(ctx, m.pair.Revision)
}

// allowed is an error where whoever asks may not publish a change by himself: it needs approvals, or
// concerns hosts that are not his. To look at it is allowed to everybody who asks.
func (s *Service) allowed(ctx context.Context, current *model, c change, look bool) (w weighed, err error) {
	t := caller(ctx)
	whole := api.Has(t.Rights, api.Publish)
	if len(s.set().Approvals) == 0 && whole {
		w.need.Because = []approve.Reason{}
		return w, nil // nobody needs to know
	}
	if w, err = s.weigh(ctx, current, c, t.Name); err != nil || look {
		return w, err
	}
	if !whole && (current.pair.Number == 0 || !api.Covers(t.Rights, api.Publish, w.meaning.Roles)) {
		takes := "publish for the whole fleet"
		if len(w.meaning.Roles) > 0 {
			takes = "publish for all roles that it concerns: " + strings.Join(w.meaning.Roles, ", ")
		}
		return w, s.forbidden(ctx, t, api.Publish, takes)
	}
	if w.need.People > 0 {
		return w, api.NewProblem(api.NeedsApproval, fmt.Sprintf("this needs %s, since %s; propose it: yfence propose -m WHY", w.need,
			because(w.need)))
	}
	return w, nil
}

// because says why a change needs approvals, in one line.
func because(n approve.Need) string {
	var parts []string
	for _, r := range n.Because {
		parts = append(parts, strings.TrimSuffix(r.Shown[0], "."))
		if len(parts) == 2 && len(n.Because) > 2 {
			return strings.Join(parts, ", ") + ", and more"
		}
	}
	return strings.Join(slices.Compact(parts), ", ")
}
