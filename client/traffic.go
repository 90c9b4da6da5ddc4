package client

import (
	"context"
	"fmt"
	"net/http"
	"time"

	"yellowfence.example/yfence/api"
)

// Unused is how often statements of the policy decided in a time up to now.
func (c *Client) Unused(ctx context.Context, since time.Duration) (api.Usages, error) {
	return get[api.Usages](ctx, c, fmt.Sprintf("/traffic/unused?since=%d", int64(since.Seconds())))
}

// Narrower is which statements could be narrower, by what was seen in a time up to now.
func (c *Client) Narrower(ctx context.Context, since time.Duration) (api.Narrowings, error) {
	return get[api.Narrowings](ctx, c, fmt.Sprintf("/traffic/narrower?since=%d", int64(since.Seconds())))
}

// Refused is what hosts refused in a time up to now, so many reasons at most.
func (c *Client) Refused(ctx context.Context, since time.Duration, most int) (api.Refusals, error) {
	return get[api.Refusals](ctx, c, fmt.Sprintf("/traffic/refused?since=%d&most=%d", int64(since.Seconds()), most))
}

// Against is which connections were seen in a time up to now though expectations of files, or of what
// is published, say that there are none.
func (c *Client) Against(ctx context.Context, of api.Side, since time.Duration) (out api.Contradictions, err error) {
	return out, c.do(ctx, http.MethodPost, "/traffic/against", api.SeenRequest{Side: of, Since: int64(since.Seconds())}, &out)
}

// Seen is which connections hosts saw in a time up to now, so many kinds at most.
func (c *Client) Seen(ctx context.Context, since time.Duration, most int) (api.SeenConnections, error) {
	return get[api.SeenConnections](ctx, c, fmt.Sprintf("/traffic/seen?since=%d&most=%d", int64(since.Seconds()), most))
}
