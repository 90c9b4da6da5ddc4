package client

import (
	"context"
	"fmt"
	"net/http"
	"net/url"
	"strconv"
	"time"

	"yellowfence.example/yfence/api"
)

// HostsQuery is which hosts of the fleet are wanted, in which order, and which part of them; nothing said is all,
// in the fleet file's order.
type HostsQuery struct {
	State []api.State
	Role  string
	Name  string // a part of it
	Sort  string // name, roles, state, in_force, findings or heard
	Turn  bool   // that order round
	After string // of the fleet file's order: those after this host
	From  int    // of any order: so many are left out
	Limit int    // how many at most; 0 is as many as there are in one answer
}

// FleetPart gives a part of the fleet, with how many hosts there are as they are asked for.
func (c *Client) FleetPart(ctx context.Context, q HostsQuery) (api.Fleet, error) {
	v := url.Values{}
	for _, state := range q.State {
		v.Add("state", string(state))
	}
	for key, value := range map[string]string{"role": q.Role, "name": q.Name, "sort": q.Sort, "after": q.After} {
		if value != "" {
			v.Set(key, value)
		}
	}
	for key, n := range map[string]int{"from": q.From, "limit": q.Limit} {
		if n > 0 {
			v.Set(key, strconv.Itoa(n))
		}
	}
	if q.Turn {
		v.Set("turn", "true")
	}
	return get[api.Fleet](ctx, c, "/fleet?"+v.Encode())
}

// Hosts gives all hosts that are wanted, in the order in which they are.
func (c *Client) Hosts(ctx context.Context, q HostsQuery) (all api.Fleet, err error) {
	from := q.From
	for {
		part, err := c.FleetPart(ctx, q)
		if err != nil {
			return all, err
		}
		if all.Hosts != nil {
			part.Hosts = append(all.Hosts, part.Hosts...)
		}
		if all = part; all.Next == "" {
			return all, nil
		}
		q.From = from + len(all.Hosts)
	}
}

// Outline gives where all hosts stand, or those of a role, in few words.
func (c *Client) Outline(ctx context.Context, role string) (api.Outline, error) {
	return get[api.Outline](ctx, c, "/fleet/outline?role="+url.QueryEscape(role))
}

// Attention gives what needs a person now, the most urgent first.
func (c *Client) Attention(ctx context.Context) (api.Attention, error) {
	return get[api.Attention](ctx, c, "/attention")
}

// Reach gives which services pass between all roles and networks of a revision; 0 is what is published.
func (c *Client) Reach(ctx context.Context, revision int64) (api.Reach, error) {
	return get[api.Reach](ctx, c, fmt.Sprintf("/reach?revision=%d", revision))
}

// ReachAt gives it by what was published at a time, over the fleet of then.
func (c *Client) ReachAt(ctx context.Context, at time.Time) (api.Reach, error) {
	return get[api.Reach](ctx, c, "/reach?at="+url.QueryEscape(at.UTC().Format(time.RFC3339Nano)))
}

// Cloud gives how one cloud stands, with its groups and who is in them.
func (c *Client) Cloud(ctx context.Context, name string) (api.Cloud, error) {
	return get[api.Cloud](ctx, c, "/clouds/"+url.PathEscape(name))
}

// Assist helps with a policy that somebody writes: what stands at a place in it, and what could.
func (c *Client) Assist(ctx context.Context, req api.AssistRequest) (out api.Assisted, err error) {
	return out, c.do(ctx, http.MethodPost, "/assist", req, &out)
}

// History gives how the fleet stood, and what it refused, over the time before now.
func (c *Client) History(ctx context.Context, since time.Duration) (api.History, error) {
	return get[api.History](ctx, c, fmt.Sprintf("/fleet/history?since=%d", int64(since.Seconds())))
}
