package client

import (
	"context"
	"net/http"

	"yellowfence.example/yfence/internal/api"
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
