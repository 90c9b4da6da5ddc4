package service

import (
	"context"
	"errors"
	"fmt"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"yellowfence.example/yfence/api"
	"yellowfence.example/yfence/internal/limits"
	"yellowfence.example/yfence/internal/store"
)

// tokensOutput is a page of tokens, without their secrets.
type tokensOutput struct{ Body api.TokenList }

// listTokens answers which tokens there are, the newest first.
func (s *Service) listTokens(ctx context.Context, in *PageInput) (*tokensOutput, error) {
	tokens, err := s.Store.Tokens(ctx, in.Before, in.Limit)
	if err != nil {
		return nil, s.broken("listing the tokens", err)
	}
	out := api.TokenList{Version: api.Version, Tokens: tokens}
	if len(tokens) == in.Limit {
		out.Next = tokens[len(tokens)-1].ID
	}
	return &tokensOutput{out}, nil
}

// makeToken makes a token with no more rights than the caller has. Its secret is in this
// answer, and nowhere else.
func (s *Service) makeToken(ctx context.Context, in *struct{ Body api.TokenRequest }) (*struct{ Body api.NewToken }, error) {
	req := in.Body
	// Nobody gives away more than he has himself.
	switch mine := caller(ctx).Rights; {
	case req.Host != "" && len(req.Rights) == 0:
		req.Rights = []api.Right{api.Host}
	case req.Host != "":
		return nil, huma.Error422UnprocessableEntity("a host's own token has the right host and no other; leave rights out")
	case len(req.Rights) == 0:
		return nil, huma.Error422UnprocessableEntity("a token needs at least one right")
	default:
		for _, r := range req.Rights {
			if err := r.Check(); err != nil {
				return nil, huma.Error422UnprocessableEntity(err.Error())
			}
			if !r.Within(mine) {
				return nil, huma.Error403Forbidden(fmt.Sprintf("you cannot give the right %s, which you do not have yourself", r))
			}
		}
	}
	until, err := s.endOf(req)
	if err != nil {
		return nil, err
	}
	if req.Host != "" {
		if m, err := s.newest(ctx); err != nil {
			return nil, s.broken("making a token", err)
		} else if m.host(req.Host) == nil {
			return nil, noHost(req.Host)
		} else if err := s.mayOn(ctx, api.Tokens, m.host(req.Host)); err != nil {
			return nil, err
		}
	}
	// Bounded, so that a token that got lost cannot be made many.
	most := limits.PeopleTokens
	if req.Host != "" {
		most = limits.HostTokens
	}
	if n, err := s.Store.TokensInForce(ctx, req.Host); err != nil {
		return nil, s.broken("making a token", err)
	} else if n >= most {
		return nil, huma.Error409Conflict(fmt.Sprintf("there are %d tokens in force already, as many as there may be; revoke one first", n))
	}
	t, err := s.Store.MakeToken(ctx, api.Token{Name: req.Name, Rights: req.Rights, Host: req.Host, Until: until, For: req.For})
	if err != nil {
		return nil, s.broken("making a token", err)
	}
	return &struct{ Body api.NewToken }{t}, nil
}

// The ends of tokens.
const (
	tokenLasts   = 90 * 24 * time.Hour  // if nothing is said
	longestToken = 366 * 24 * time.Hour // from when it is made
)

// endOf is when a token that is asked for ends; nil where it does not.
func (s *Service) endOf(req api.TokenRequest) (*time.Time, error) {
	now := s.Clock()
	switch {
	case req.Until == nil && req.Host != "":
		return nil, nil
	case req.Until == nil:
		end := now.Add(tokenLasts).UTC().Truncate(time.Second)
		return &end, nil
	case !req.Until.After(now):
		return nil, huma.Error422UnprocessableEntity("the token would have ended already; name an end to come")
	case req.Until.After(now.Add(longestToken)):
		return nil, huma.Error422UnprocessableEntity("a token lasts a year at most; make another before it ends")
	}
	return req.Until, nil
}

// revokeToken ends a token at once, with the sessions that stand for it.
func (s *Service) revokeToken(ctx context.Context, in *struct {
	ID int64 `path:"id"`
}) (*struct{}, error) {
	switch err := s.Store.RevokeToken(ctx, in.ID); {
	case errors.Is(err, store.ErrNotFound):
		return nil, huma.Error404NotFound(fmt.Sprintf("there is no token %d", in.ID))
	case err != nil:
		return nil, s.broken("revoking a token", err)
	}
	return nil, nil
}
