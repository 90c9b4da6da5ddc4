package service

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"slices"

	"github.com/danielgtaylor/huma/v2"

	"yellowfence.example/yfence/core/check"
	"yellowfence.example/yfence/core/fence"
	"yellowfence.example/yfence/core/fleet"
	"yellowfence.example/yfence/internal/api"
	"yellowfence.example/yfence/internal/store"
)

// policyProblem is a problem document (RFC 9457) with what is wrong in the policy or the fleet.
type policyProblem struct {
	huma.ErrorModel
	Problems []fence.Problem `json:"problems"`
}

func refused(what string, problems []fence.Problem) error {
	return &policyProblem{
		ErrorModel: huma.ErrorModel{Title: http.StatusText(http.StatusUnprocessableEntity), Status: http.StatusUnprocessableEntity,
			Detail: what + ": " + check.Summary(problems)},
		Problems: problems,
	}
}

func (s *Service) listRevisions(ctx context.Context, _ *struct{}) (*struct{ Body api.Revisions }, error) {
	list, err := s.Store.Revisions(ctx)
	if err != nil {
		return nil, s.broken("listing the revisions", err)
	}
	if list == nil {
		list = []api.Revision{}
	}
	return &struct{ Body api.Revisions }{api.Revisions{Version: api.Version, Revisions: list}}, nil
}

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
	r.InForce = pair.Revision == r.Number
	return &struct{ Body api.Revision }{r}, nil
}

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

func (s *Service) publish(ctx context.Context, in *struct{ Body api.PublishRequest }) (*struct{ Body api.Checked }, error) {
	current, err := s.newest(ctx)
	if err != nil {
		return nil, s.broken("publishing", err)
	}
	after := current.pair.Revision
	if in.Body.After != nil && *in.Body.After != after {
		return nil, huma.Error409Conflict(fmt.Sprintf("revision %d is in force, not %d: somebody published since; look at what changed and publish again", after, *in.Body.After))
	}
	_, problems := check.Policy(in.Body.Files, current.fleet, s.Clock().Unix())
	for _, code := range in.Body.InSpiteOf {
		if !slices.ContainsFunc(check.Checks, func(c check.Check) bool { return c.Code == code }) {
			return nil, huma.Error422UnprocessableEntity(fmt.Sprintf("there is no check %q; yfence check tells the code of each problem", code))
		}
		for i := range problems {
			if problems[i].Code == code {
				problems[i].Severity = fence.Warning
			}
		}
	}
	if fence.HasErrors(problems) {
		return nil, refused("the policy is not published", problems)
	}
	body, err := json.Marshal(in.Body.Files)
	if err != nil {
		return nil, s.broken("publishing", err)
	}
	pair, err := s.Store.Publish(ctx, after, current.pair.Generation, caller(ctx).Name, in.Body.Why, body)
	return s.checked("publishing", pair, problems, err)
}

func (s *Service) importFleet(ctx context.Context, in *struct{ Body api.ImportRequest }) (*struct{ Body api.Checked }, error) {
	current, err := s.newest(ctx)
	if err != nil {
		return nil, s.broken("importing the fleet", err)
	}
	fl, problems := fleet.Read(in.Body.File, []byte(in.Body.Text))
	file := check.Source{Name: in.Body.File, Text: in.Body.Text}
	if in.Body.Merge && !fence.HasErrors(problems) {
		// What is merged is a file of its own from now on, and is read as one.
		merged, err := fleet.Write(fleet.Merge(current.fleet, fl), fleet.JSON)
		if err != nil {
			return nil, s.broken("importing the fleet", err)
		}
		file = check.Source{Name: "fleet.json", Text: string(merged)}
		fl, problems = fleet.Read(file.Name, merged)
	}
	if current.pair.Revision != 0 && !fence.HasErrors(problems) {
		files, err := s.files(ctx, current.pair.Revision)
		if err != nil {
			return nil, s.broken("importing the fleet", err)
		}
		_, found := check.Policy(files, fl, s.Clock().Unix())
		problems = append(problems, found...)
	}
	if fence.HasErrors(problems) {
		return nil, refused("the fleet is not imported", problems)
	}
	changes := fleet.Changes(current.fleet, fl)
	if in.Body.Preview {
		done, err := s.checked("importing the fleet", current.pair, problems, nil)
		done.Body.Changes = changes
		return done, err
	}
	body, err := json.Marshal(file)
	if err != nil {
		return nil, s.broken("importing the fleet", err)
	}
	pair, err := s.Store.Import(ctx, current.pair.Generation, current.pair.Revision, caller(ctx).Name, in.Body.Why, body)
	done, err := s.checked("importing the fleet", pair, problems, err)
	if err == nil {
		done.Body.Changes = changes
	}
	return done, err
}

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
	return &struct{ Body api.FleetFile }{api.FleetFile{Version: api.Version, Generation: m.pair.Generation, Format: in.Format, Text: string(text)}}, nil
}

// checked answers a change of the policy or the fleet.
func (s *Service) checked(what string, pair store.Pair, problems []fence.Problem, err error) (*struct{ Body api.Checked }, error) {
	switch {
	case errors.Is(err, store.ErrConflict):
		return nil, huma.Error409Conflict("somebody else changed it at the same moment; look at what changed and try again")
	case err != nil:
		return nil, s.broken(what, err)
	}
	if problems == nil {
		problems = []fence.Problem{}
	}
	return &struct{ Body api.Checked }{api.Checked{Version: api.Version, Revision: pair.Revision, Generation: pair.Generation, Problems: problems}}, nil
}
