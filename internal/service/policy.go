package service

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"

	"github.com/danielgtaylor/huma/v2"

	"yellowfence.example/yfence/api"
	"yellowfence.example/yfence/core/check"
	"yellowfence.example/yfence/core/fence"
	"yellowfence.example/yfence/core/fleet"
	"yellowfence.example/yfence/core/packet"
	"yellowfence.example/yfence/core/source"
	"yellowfence.example/yfence/internal/store"
)

// PageInput is which part of a list is wanted. (Its name begins with a capital so that the package which
// reads requests finds its fields where it is part of another.)
type PageInput struct {
	Before int64 `query:"before" minimum:"0" doc:"those that come after this one in the list: what the part before gave as next"`
	Limit  int   `query:"limit" minimum:"1" maximum:"1000" default:"200" doc:"how many at most"`
}

// listRevisions answers which revisions there are, the newest first.
func (s *Service) listRevisions(ctx context.Context, in *PageInput) (*struct{ Body api.Revisions }, error) {
	list, err := s.Store.Revisions(ctx, in.Before, in.Limit)
	if err != nil {
		return nil, s.broken("listing the revisions", err)
	}
	pair, err := s.Store.Newest(ctx)
	if err != nil {
		return nil, s.broken("listing the revisions", err)
	}
	out := api.Revisions{Version: api.Version, Revisions: list}
	if len(list) == in.Limit {
		out.Next = list[len(list)-1].Number
	}
	m, err := s.model(ctx, pair)
	if err != nil {
		return nil, s.broken("listing the revisions", err)
	}
	has, err := s.whoHas(ctx, m)
	if err != nil {
		return nil, s.told("listing the revisions", err)
	}
	for i := range list {
		list[i].Published, list[i].Hosts = list[i].Number == pair.Revision, has[list[i].Number]
	}
	out.Total = len(m.fleet.Hosts)
	return &struct{ Body api.Revisions }{out}, nil
}

// showRevision answers a revision with its texts.
func (s *Service) showRevision(ctx context.Context, in *struct {
	Number int64 `path:"number"`
}) (*struct{ Body api.Revision }, error) {
	r, h, err := s.Store.Revision(ctx, in.Number)
	if errors.Is(err, store.ErrNotFound) {
		return nil, huma.Error404NotFound(fmt.Sprintf("there is no revision %d", in.Number))
	}
	if err == nil {
		err = s.content(ctx, h, &r.Files)
	}
	var pair store.Pair
	if err == nil {
		pair, err = s.Store.Newest(ctx)
	}
	if err != nil {
		return nil, s.broken("reading a revision", err)
	}
	r.Published = pair.Revision == r.Number
	m, err := s.model(ctx, pair)
	if err != nil {
		return nil, s.broken("reading a revision", err)
	}
	has, err := s.whoHas(ctx, m)
	if err != nil {
		return nil, s.told("reading a revision", err)
	}
	r.Hosts = has[r.Number]
	return &struct{ Body api.Revision }{r}, nil
}

// whoHas is on how many hosts of the fleet each revision is in force.
func (s *Service) whoHas(ctx context.Context, m *model) (map[int64]int, error) {
	k, err := s.known(ctx, nil)
	if err != nil {
		return nil, err
	}
	tally, err := s.each(patient(ctx, ends(readerWaits)), &HostsWanted{}, m, k, func(*fleet.Host, result) {})
	has := map[int64]int{}
	for _, one := range tally.InForce {
		has[one.Revision] = one.Hosts
	}
	return has, err
}

// showLanguage answers the words of the language, for the console's colours and help.
func (s *Service) showLanguage(context.Context, *struct{}) (*struct{ Body api.Language }, error) {
	out := api.Language{Version: api.Version}
	statements, modifiers := fence.Keywords()
	for _, list := range []struct {
		words []string
		into  *[]api.Keyword
	}{{statements, &out.Statements}, {modifiers, &out.Modifiers}} {
		for _, word := range list.words {
			form, means, _ := fence.Help(word)
			*list.into = append(*list.into, api.Keyword{Word: word, Form: form, Means: means})
		}
	}
	return &struct{ Body api.Language }{out}, nil
}

// publish checks a policy and makes it the next revision; with a fleet file, both are checked
// together and make one pair. Nothing of it is kept where anything is wrong, and an error stops it
// that is not accepted.
func (s *Service) publish(ctx context.Context, in *struct{ Body api.PublishRequest }) (*struct{ Body api.Checked }, error) {
	req := in.Body
	for _, code := range req.Accept {
		if !slices.ContainsFunc(check.Checks, func(c check.Check) bool { return c.Code == code }) {
			return nil, noCheck(code)
		}
	}
	var brought *fleet.Fleet // nil: the fleet stays
	var file []byte
	var told []source.Problem
	if req.Fleet != nil {
		var err error
		if brought, told, err = s.readFleet(ctx, *req.Fleet); err != nil {
			return nil, err
		}
		if source.HasErrors(told) {
			return nil, refused("neither the policy nor the fleet is published", told)
		}
		if file, err = json.Marshal(req.Fleet); err != nil {
			return nil, s.broken("publishing", err)
		}
	}
	return s.change(ctx, "publishing", func(current *model) (pair store.Pair, out api.Checked, err error) {
		if err := s.since(ctx, req.After, current.pair.Revision); err != nil {
			return pair, out, err
		}
		files, err := s.newestLists(ctx, current, req.Files)
		if err != nil {
			return pair, out, err
		}
		body, err := json.Marshal(files)
		if err != nil {
			return pair, out, err
		}
		fl := cmp.Or(brought, current.fleet)
		accepted, err := s.publishable(ctx, req, files, fl, told, &out)
		if err != nil {
			return pair, out, err
		}
		_, hash, err := s.Store.Revision(ctx, current.pair.Revision)
		if err != nil && !errors.Is(err, store.ErrNotFound) {
			return pair, out, err
		}
		samePolicy := err == nil && hash == store.HashOf(body)
		if brought != nil {
			out.Changes = fleet.Changes(current.fleet, fl)
		}
		w, err := s.allowed(ctx, current, change{files: files, fleet: fl, accepted: accepted}, req.Preview)
		if err != nil {
			return pair, out, err
		}
		if out.Need = &w.need; req.Preview {
			out.Same = samePolicy && len(out.Changes) == 0
			return current.pair, out, nil
		}
		pub := store.Publication{Base: current.pair, Author: caller(ctx).Name, Why: req.Why, Files: body, Fleet: file, Accepted: accepted}
		switch {
		case len(out.Changes) == 0: // the fleet is the same
			pub.Fleet = nil
		case samePolicy && accepted == nil: // the fleet alone is otherwise
			pub.Files = nil
		}
		pair, err = s.Store.Publish(ctx, pub)
		return pair, out, err
	})
}

// noCheck is the answer about a check that there is not.
func noCheck(code string) error {
	return huma.Error422UnprocessableEntity(fmt.Sprintf("there is no check %q; yfence check tells the code of each problem", code))
}

// since is an error where a revision was published after the one that a request says it began
// from. What came by itself meanwhile stands in nobody's way.
func (s *Service) since(ctx context.Context, after *int64, published int64) error {
	return movedOn(ctx, after, published, s.Store.OthersSince, "revision %d is published, not %d: somebody published since; look at what "+
		"changed and publish again")
}

// movedOn is an error where a person changed what is newest after what somebody else looked at.
func movedOn(ctx context.Context, after *int64, newest int64, others func(context.Context, int64) (bool, error), says string) error {
	if after == nil || *after == newest {
		return nil
	}
	if *after != 0 && *after < newest {
		if by, err := others(ctx, *after); err != nil || !by {
			return err
		}
	}
	return api.NewProblem(api.MovedOn, fmt.Sprintf(says, newest, *after))
}

// publishable finds what is wrong with files over a fleet, told among it what was found before,
// and is an error where that stops them. What the request accepts it gives, as what was accepted.
func (s *Service) publishable(ctx context.Context, req api.PublishRequest, files []check.Source, fl *fleet.Fleet, told []source.Problem,
	out *api.Checked) (accepted []api.Accepted, err error) {
	found, err := s.checked(ctx, "publishing", files, fl)
	if err != nil {
		return nil, err
	}
	out.Problems = append(slices.Clone(told), found...)
	if warned, err := s.cloudLimits(ctx, files, fl); err != nil {
		return nil, err
	} else if !source.HasErrors(out.Problems) {
		out.Problems = append(out.Problems, warned...)
	}
	for i := range out.Problems {
		if pr := &out.Problems[i]; pr.Severity == source.Error && slices.Contains(req.Accept, pr.Code) {
			pr.Severity = source.Warning
			accepted = append(accepted, api.Accepted{Code: pr.Code, Message: pr.Message})
		}
	}
	if source.HasErrors(out.Problems) {
		return nil, refused("the policy is not published", out.Problems)
	}
	return accepted, nil
}

// readFleet reads a fleet file, within what reading one may cost.
func (s *Service) readFleet(ctx context.Context, file check.Source) (fl *fleet.Fleet, problems []source.Problem, err error) {
	err = s.computed(ctx, s.computing, "reading the fleet file", func(packet.Budget) error {
		fl, problems = fleet.Read(file.Name, []byte(file.Text))
		return nil
	})
	return fl, problems, err
}

// importFleet checks a fleet file, alone and with the policy that is published, and makes it
// the next generation.
func (s *Service) importFleet(ctx context.Context, in *struct{ Body api.ImportRequest }) (*struct{ Body api.Checked }, error) {
	read, readProblems, err := s.readFleet(ctx, check.Source{Name: in.Body.File, Text: in.Body.Text})
	if err != nil {
		return nil, err
	}
	return s.change(ctx, "importing the fleet", func(current *model) (pair store.Pair, out api.Checked, err error) {
		if err := movedOn(ctx, in.Body.After, current.pair.Generation, s.Store.OthersImported, "generation %d of the fleet is the newest, "+
			"not %d: somebody imported one since; look at what changed and import again"); err != nil {
			return pair, out, err
		}
		fl, file := read, check.Source{Name: in.Body.File, Text: in.Body.Text}
		out.Problems = slices.Clone(readProblems)
		if in.Body.Merge && !source.HasErrors(out.Problems) {
			// What is merged is a file of its own from now on, and is read as one.
			merged, err := fleet.Write(fleet.Merge(current.fleet, fl), fleet.JSON)
			if err != nil {
				return pair, out, err
			}
			file = check.Source{Name: "fleet.json", Text: string(merged)}
			fl, out.Problems = fleet.Read(file.Name, merged)
		}
		found, err := s.checkWith(ctx, current, fl, out.Problems)
		if err != nil {
			return pair, out, err
		}
		if out.Problems = found; source.HasErrors(out.Problems) {
			return pair, out, refused("the fleet is not imported", out.Problems)
		}
		out.Changes = fleet.Changes(current.fleet, fl)
		files, err := s.filesOf(ctx, current)
		if err != nil {
			return pair, out, err
		}
		w, err := s.allowed(ctx, current, change{files: files, fleet: fl}, in.Body.Preview)
		if err != nil {
			return pair, out, err
		}
		if out.Need = &w.need; in.Body.Preview {
			return current.pair, out, nil
		}
		body, err := json.Marshal(file)
		if err != nil {
			return pair, out, err
		}
		pair, err = s.Store.Publish(ctx, store.Publication{Base: current.pair, Author: caller(ctx).Name, Why: in.Body.Why, Fleet: body})
		return pair, out, err
	})
}

// checkWith are the problems of a fleet file, and those of the published policy with it.
func (s *Service) checkWith(ctx context.Context, current *model, fl *fleet.Fleet, problems []source.Problem) ([]source.Problem, error) {
	if current.pair.Revision == 0 || source.HasErrors(problems) {
		return problems, nil
	}
	r, hash, err := s.Store.Revision(ctx, current.pair.Revision)
	if err != nil {
		return nil, err
	}
	var files []check.Source
	if err := s.content(ctx, hash, &files); err != nil {
		return nil, err
	}
	found, err := s.checked(ctx, "checking the policy with the fleet", files, fl)
	for i := range found { // what was accepted once stays accepted
		if pr := &found[i]; slices.Contains(r.Accepted, api.Accepted{Code: pr.Code, Message: pr.Message}) {
			pr.Severity = source.Warning
		}
	}
	return append(problems, found...), err
}

// checked are all problems of a policy with a fleet.
func (s *Service) checked(ctx context.Context, what string, files []check.Source, fl *fleet.Fleet) (problems []source.Problem, err error) {
	err = s.computed(ctx, s.computing, what, func(b packet.Budget) (err error) {
		_, problems, err = check.PolicyWithin(b, files, fl, s.Clock().Unix())
		return err
	})
	return problems, err
}

// changeTries is how often a change of the policy or the fleet is worked out anew because
// somebody else changed either meanwhile.
const changeTries = 20

// change works out a change of the policy or the fleet from what is newest and stores it.
// Where somebody was faster it is worked out again from what that one stored.
func (s *Service) change(ctx context.Context, what string,
	work func(current *model) (store.Pair, api.Checked, error)) (*struct{ Body api.Checked }, error) {
	for range changeTries {
		current, err := s.newest(ctx)
		if err != nil {
			return nil, s.broken(what, err)
		}
		pair, out, err := work(current)
		var told huma.StatusError
		switch {
		case errors.Is(err, store.ErrConflict):
			continue
		case errors.As(err, &told):
			return nil, told
		case err != nil:
			return nil, s.broken(what, err)
		}
		if out.Problems == nil {
			out.Problems = []source.Problem{}
		}
		out.Version, out.Revision, out.Generation = api.Version, pair.Revision, pair.Generation
		return &struct{ Body api.Checked }{out}, nil
	}
	return nil, api.NewProblem(api.MovedOn,
		fmt.Sprintf("others changed the policy or the fleet at the same moment, %d times in a row; try again", changeTries))
}

// exportFleet answers the fleet as a file.
func (s *Service) exportFleet(ctx context.Context, in *struct {
	Format string `query:"format" enum:"json,yaml,csv" default:"json"`
}) (*struct{ Body api.FleetFile }, error) {
	m, err := s.newest(ctx)
	if err != nil {
		return nil, s.broken("exporting the fleet", err)
	}
	text, err := fleet.Write(m.fleet, fleet.Format(in.Format))
	if err != nil {
		return nil, huma.Error409Conflict(err.Error())
	}
	return &struct{ Body api.FleetFile }{api.FleetFile{Version: api.Version, Generation: m.pair.Generation, Format: in.Format,
		Text: string(text)}}, nil
}
