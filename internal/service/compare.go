package service

import (
	"context"
	"errors"
	"fmt"

	"github.com/danielgtaylor/huma/v2"

	"yellowfence.example/yfence/api"
	"yellowfence.example/yfence/core/check"
	"yellowfence.example/yfence/core/compare"
	"yellowfence.example/yfence/core/packet"
	"yellowfence.example/yfence/core/policy"
	"yellowfence.example/yfence/core/source"
	"yellowfence.example/yfence/internal/store"
)

// compare answers what two policies, each published or sent along, let through differently.
func (s *Service) compare(ctx context.Context, in *struct{ Body api.CompareRequest }) (*struct{ Body api.Comparison }, error) {
	current, err := s.newest(ctx)
	if err != nil {
		return nil, s.broken("comparing", err)
	}
	from, err := s.side(ctx, current, in.Body.From)
	if err != nil {
		return nil, err
	}
	to, err := s.side(ctx, current, in.Body.To)
	if err != nil {
		return nil, err
	}
	var changes *compare.Changes
	var cuts *api.Cuts
	if err := s.computed(ctx, s.computing, "comparing", func(b packet.Budget) (err error) {
		changes = compare.Policies(b.Space(), from, to, s.Clock().Unix())
		cuts, err = s.cuts(ctx, b, from, to)
		return err
	}); err != nil {
		return nil, err
	}
	return &struct{ Body api.Comparison }{api.Comparison{Version: api.Version, Changes: *changes, Cuts: cuts}}, nil
}

// side is one state of the policy over the newest fleet, or over one that comes with its files.
// Where neither side brings one both are held against the same: what differs is then the policy's.
func (s *Service) side(ctx context.Context, current *model, side api.Side) (*policy.Policy, error) {
	files := side.Files
	switch {
	case side.Files != nil && side.Revision != 0:
		return nil, huma.Error422UnprocessableEntity("a side is a revision or files, not both")
	case side.Files == nil && side.Fleet != nil:
		return nil, huma.Error422UnprocessableEntity("a fleet file goes with the files of a policy")
	case side.Files == nil && side.Revision == 0 || side.Revision != 0 && side.Revision == current.pair.Revision:
		if current.pair.Number == 0 {
			return nil, nothingPublished()
		}
		return current.policy, nil
	case side.Revision != 0:
		var err error
		if files, err = s.files(ctx, side.Revision); errors.Is(err, store.ErrNotFound) {
			return nil, huma.Error404NotFound(fmt.Sprintf("there is no revision %d", side.Revision))
		} else if err != nil {
			return nil, s.broken("comparing", err)
		}
		in, _ := policy.Read(files, current.fleet)
		pol, _ := policy.Resolve(in) // it was sound with the fleet it was published with
		return pol, nil
	}
	fl := current.fleet
	if side.Fleet != nil {
		read, problems, err := s.readFleet(ctx, *side.Fleet)
		if err != nil {
			return nil, err
		}
		if source.HasErrors(problems) {
			return nil, refused("the policy is not compared", problems)
		}
		fl = read
	}
	var pol *policy.Policy
	var problems []source.Problem
	if err := s.computed(ctx, s.computing, "comparing", func(b packet.Budget) (err error) {
		pol, problems, err = check.PolicyWithin(b, files, fl, s.Clock().Unix())
		return err
	}); err != nil {
		return nil, err
	}
	if source.HasErrors(problems) {
		return nil, refused("the policy is not compared", problems)
	}
	return pol, nil
}
