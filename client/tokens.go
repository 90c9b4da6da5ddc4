package client

import (
	"context"
	"net/http"
	"net/url"
	"strconv"

	"yellowfence.example/yfence/api"
)

// Tokens lists all tokens.
func (c *Client) Tokens(ctx context.Context) (api.TokenList, error) {
	return pages(ctx, c, "/tokens", func(all, part *api.TokenList) int64 {
		all.Version, all.Tokens, all.Next = part.Version, append(all.Tokens, part.Tokens...), part.Next
		return part.Next
	})
}

// NewToken makes a token.
func (c *Client) NewToken(ctx context.Context, req api.TokenRequest) (out api.NewToken, err error) {
	return out, c.do(ctx, http.MethodPost, "/tokens", req, &out)
}

// RevokeToken revokes a token.
func (c *Client) RevokeToken(ctx context.Context, id int64) error {
	return c.do(ctx, http.MethodDelete, "/tokens/"+strconv.FormatInt(id, 10), nil, nil)
}

// Lists are the lists that the service reads from an address.
func (c *Client) Lists(ctx context.Context) (api.Lists, error) {
	return get[api.Lists](ctx, c, "/lists")
}

// TakeList has a list read now, and taken however much of it changed.
func (c *Client) TakeList(ctx context.Context, network string) (out api.Lists, err error) {
	return out, c.do(ctx, http.MethodPost, "/lists/"+url.PathEscape(network)+"/take", nil, &out)
}
