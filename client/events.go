package client

import (
	"context"
	"fmt"
	"net/http"
	"net/url"

	"yellowfence.example/yfence/api"
)

// Events lists events, the newest first: at most so many, those before a number if it is not 0.
func (c *Client) Events(ctx context.Context, before int64, most int) (api.Events, error) {
	return get[api.Events](ctx, c, fmt.Sprintf("/events?before=%d&limit=%d", before, most))
}

// Undelivered lists events that destinations did not take yet, or never will.
func (c *Client) Undelivered(ctx context.Context) (api.UndeliveredList, error) {
	return get[api.UndeliveredList](ctx, c, "/events/undelivered?limit=1000")
}

// SendAgain has what was given up for a destination be delivered again, and says how many events that is.
func (c *Client) SendAgain(ctx context.Context, destination string) (int64, error) {
	var out struct{ Again int64 }
	err := c.do(ctx, http.MethodPost, "/events/destinations/"+url.PathEscape(destination)+"/send-again", nil, &out)
	return out.Again, err
}
