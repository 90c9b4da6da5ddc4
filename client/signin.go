package client

import (
	"context"
	"net/http"

	"yellowfence.example/yfence/api"
)

// SignInWays says how one signs in.
func (c *Client) SignInWays(ctx context.Context) (api.SignInWays, error) {
	return get[api.SignInWays](ctx, c, "/sign-in")
}

// SignInPerson begins a session with what the identity provider says of somebody.
func (c *Client) SignInPerson(ctx context.Context, idToken string) (out api.PersonSession, err error) {
	return out, c.do(ctx, http.MethodPost, "/session/person", api.PersonSignIn{IDToken: idToken}, &out)
}

// SignOut ends the session whose secret the client comes with.
func (c *Client) SignOut(ctx context.Context) error {
	return c.do(ctx, http.MethodDelete, "/session", nil, nil)
}

// WhoAmI says who the service takes the client for.
func (c *Client) WhoAmI(ctx context.Context) (api.Session, error) {
	return get[api.Session](ctx, c, "/session")
}

// People lists who is signed in through the identity provider.
func (c *Client) People(ctx context.Context) (api.People, error) {
	return get[api.People](ctx, c, "/people")
}

// SignOutPerson ends all sessions of a person, and says how many those were.
func (c *Client) SignOutPerson(ctx context.Context, name, why string) (int64, error) {
	var out struct{ Ended int64 }
	err := c.do(ctx, http.MethodPost, "/people/sign-out", api.SignOutRequest{Name: name, Why: why}, &out)
	return out.Ended, err
}
