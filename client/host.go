package client

import (
	"context"
	"fmt"
	"net/http"
	"net/url"
	"strconv"
	"time"

	"yellowfence.example/yfence/api"
	"yellowfence.example/yfence/core/traffic"
)

// of is the path of something of a host's.
func of(host, rest string) string { return "/hosts/" + url.PathEscape(host) + rest }

// Enrol trades a one-time token for a host's own.
func (c *Client) Enrol(ctx context.Context, req api.EnrolRequest) (out api.Enrolled, err error) {
	return out, c.do(ctx, http.MethodPost, "/enrol", req, &out)
}

// NewEnrolment makes a one-time token for a host.
func (c *Client) NewEnrolment(ctx context.Context, host string) (out api.Enrolment, err error) {
	return out, c.do(ctx, http.MethodPost, of(host, "/enrolment"), nil, &out)
}

// Tasks is what a host has to do; the service waits so long for something if there is nothing.
func (c *Client) Tasks(ctx context.Context, host string, wait time.Duration) (api.Tasks, error) {
	return get[api.Tasks](ctx, c, of(host, fmt.Sprintf("/tasks?wait=%d", int(wait.Seconds()))))
}

// FinishTask tells what became of a task.
func (c *Client) FinishTask(ctx context.Context, host string, id int64, r api.TaskResult) error {
	return c.do(ctx, http.MethodPost, of(host, fmt.Sprintf("/tasks/%d/result", id)), r, nil)
}

// AskHost asks a host to do something, and waits a while for it.
func (c *Client) AskHost(ctx context.Context, host string, t api.Task) (out api.TaskStatus, err error) {
	body := map[string]any{"do": t.Do}
	for key, v := range map[string]any{"copy": t.Copy, "within": t.Within, "why": t.Why, "force": t.Force, "cut": t.Cut} {
		if v != "" && v != 0 && v != false {
			body[key] = v
		}
	}
	return out, c.do(ctx, http.MethodPost, of(host, "/tasks"), body, &out)
}

// TellChange tells how the last change on a host stands, or why none was made.
func (c *Client) TellChange(ctx context.Context, host string, pair int64, change *api.HostChange, failed string) error {
	body := map[string]any{"pair": pair}
	if change != nil {
		body["change"] = change
	}
	if failed != "" {
		body["failed"] = failed
	}
	return c.do(ctx, http.MethodPost, of(host, "/change"), body, nil)
}

// Copies are the copies that a host keeps.
func (c *Client) Copies(ctx context.Context, host string) (api.Copies, error) {
	return get[api.Copies](ctx, c, of(host, "/copies"))
}

// Copy is one such copy, with its text.
func (c *Client) Copy(ctx context.Context, host string, number int) (api.Copies, error) {
	return get[api.Copies](ctx, c, of(host, fmt.Sprintf("/copies?number=%d", number)))
}

// PutCopies tells which copies a host keeps.
func (c *Client) PutCopies(ctx context.Context, copies api.Copies) error {
	return c.do(ctx, http.MethodPut, of(copies.Host, "/copies"), copies, nil)
}

// TellTraffic tells what a host counted and saw.
func (c *Client) TellTraffic(ctx context.Context, host string, b traffic.Batch) error {
	return c.do(ctx, http.MethodPost, of(host, "/traffic"), b, nil)
}

// Report sends a host's report.
func (c *Client) Report(ctx context.Context, r api.Report) (out api.HostDrift, err error) {
	return out, c.do(ctx, http.MethodPost, "/hosts/"+url.PathEscape(r.Host)+"/reports", r, &out)
}

// Settle asks a host to settle what is published, and gives its rules.
func (c *Client) Settle(ctx context.Context, host string) (out api.Rules, err error) {
	return c.SettlePair(ctx, host, "", 0)
}

// SettlePair is Settle of a kind of rules ("" or "ground") of a pair; 0 is the one in force.
func (c *Client) SettlePair(ctx context.Context, host, kind string, pair int64) (out api.Rules, err error) {
	q := url.Values{}
	if kind != "" {
		q.Set("kind", kind)
	}
	if pair != 0 {
		q.Set("pair", strconv.FormatInt(pair, 10))
	}
	return out, c.do(ctx, http.MethodPost, of(host, "/settle?"+q.Encode()), nil, &out)
}

// Rules is what a host's filter is to be.
func (c *Client) Rules(ctx context.Context, host string) (api.Rules, error) {
	return get[api.Rules](ctx, c, of(host, "/rules"))
}

// RulesOf is such rules of a kind: "ground" or "pause".
func (c *Client) RulesOf(ctx context.Context, host, kind string) (api.Rules, error) {
	return get[api.Rules](ctx, c, of(host, "/rules?kind="+url.QueryEscape(kind)))
}

// Live is what a host last reported.
func (c *Client) Live(ctx context.Context, host string) (api.LiveRules, error) {
	return get[api.LiveRules](ctx, c, "/hosts/"+url.PathEscape(host)+"/live")
}

// Past is each change of what a host had in force, the newest first; before is the number of a change
// that the list begins after, 0 for the newest.
func (c *Client) Past(ctx context.Context, host string, before int64) (api.Past, error) {
	return get[api.Past](ctx, c, of(host, fmt.Sprintf("/past?before=%d", before)))
}

// LiveAt is what a host had in force at a time.
func (c *Client) LiveAt(ctx context.Context, host string, at time.Time) (api.LiveRules, error) {
	return get[api.LiveRules](ctx, c, "/hosts/"+url.PathEscape(host)+"/live?at="+url.QueryEscape(at.UTC().Format(time.RFC3339Nano)))
}

// Listeners is what listens on hosts; host "" is all of them.
func (c *Client) Listeners(ctx context.Context, host string) (api.Listening, error) {
	return get[api.Listening](ctx, c, "/listeners?host="+url.QueryEscape(host))
}
