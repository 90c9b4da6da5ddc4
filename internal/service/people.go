package service

import (
	"context"
	"errors"
	"fmt"

	"github.com/danielgtaylor/huma/v2"

	"yellowfence.example/yfence/api"
	"yellowfence.example/yfence/internal/store"
)

// registerPeople tells the router the calls about people who are signed in.
func (s *Service) registerPeople(a huma.API) {
	huma.Register(a, operation("GET", "/store", "show-store", "What the service keeps in its database", api.Read), s.showStore)
	huma.Register(a, operation("GET", "/people", "list-people", "Who is signed in through the identity provider", api.Tokens), s.listPeople)
	huma.Register(a, operation("POST", "/people/sign-out", "sign-out-person", "End all sessions of a person", api.Tokens), s.signOutPerson)
}

// listPeople answers who is signed in, and what each may do now.
func (s *Service) listPeople(ctx context.Context, _ *struct{}) (*struct{ Body api.People }, error) {
	all, err := s.Store.People(ctx)
	if err != nil {
		return nil, s.broken("listing people", err)
	}
	out := api.People{Version: api.Version, People: []api.SignedInPerson{}}
	for _, p := range all {
		one := api.SignedInPerson{Name: p.Name, Subject: p.Subject, Groups: p.Groups, Rights: []api.Right{}, Sessions: p.Sessions,
			Until: p.Until}
		if s.set().SignIn != nil {
			one.Rights = append(one.Rights, s.set().SignIn.rightsOf(p.Groups)...)
		}
		if one.Groups == nil {
			one.Groups = []string{}
		}
		out.People = append(out.People, one)
	}
	return &struct{ Body api.People }{out}, nil
}

// signOutPerson ends all sessions of a person. He can sign in again as long as the provider lets him.
func (s *Service) signOutPerson(ctx context.Context, in *struct{ Body api.SignOutRequest }) (*struct {
	Body struct {
		Ended int64 `json:"ended" doc:"how many sessions"`
	}
}, error) {
	n, err := s.Store.EndPerson(ctx, in.Body.Name, in.Body.Why)
	if errors.Is(err, store.ErrNotFound) {
		return nil, huma.Error404NotFound(fmt.Sprintf("nobody is signed in who is called %q", in.Body.Name))
	} else if err != nil {
		return nil, s.broken("signing somebody out", err)
	}
	out := &struct {
		Body struct {
			Ended int64 `json:"ended" doc:"how many sessions"`
		}
	}{}
	out.Body.Ended = n
	return out, nil
}
