package client

import (
	"bytes"
	"context"
	"crypto/tls"
	"crypto/x509"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"time"

	"yellowfence.example/yfence/core/source"
	"yellowfence.example/yfence/core/traffic"
	"yellowfence.example/yfence/internal/api"
)

// A Client speaks to one service with one token.
type Client struct {
	url   string
	token string
	http  *http.Client
}

// New makes a client of the service at a URL such as https://fence.example:8480.
func New(server, token string) *Client {
	return &Client{strings.TrimSuffix(server, "/"), token, &http.Client{Timeout: 2 * time.Minute}}
}

// Trust has the client believe services whose certificate one of these authorities
// signed, in PEM, and no others.
func (c *Client) Trust(authorities []byte) error {
	pool := x509.NewCertPool()
	if !pool.AppendCertsFromPEM(authorities) {
		return errors.New("there is no certificate in it (PEM)")
	}
	transport := http.DefaultTransport.(*http.Transport).Clone()
	transport.TLSClientConfig = &tls.Config{RootCAs: pool, MinVersion: tls.VersionTLS12}
	c.http.Transport = transport
	return nil
}

// A Problem is the service's own word that it did not do what was asked (RFC 9457).
type Problem struct {
	Status   int              `json:"status"`
	Title    string           `json:"title"`
	Detail   string           `json:"detail"`
	Problems []source.Problem `json:"problems"`
	Errors   []struct {
		Message  string `json:"message"`
		Location string `json:"location"`
	} `json:"errors"`
}

// Error is what the service said, with what is wrong in which field.
func (p *Problem) Error() string {
	s := p.Detail
	if s == "" {
		s = p.Title
	}
	for _, e := range p.Errors {
		s += fmt.Sprintf("; %s: %s", e.Location, e.Message)
	}
	return s
}

// maxAnswer is how much of an answer is read, in bytes.
const maxAnswer = 256 << 20

// do makes one call: in is sent as JSON if there is any, and the answer read into out. What the
// service says that it did not do comes back as a *Problem; anything else is an error of the
// network.
func (c *Client) do(ctx context.Context, method, path string, in, out any) error {
	var body io.Reader
	if in != nil {
		b, err := json.Marshal(in)
		if err != nil {
			return err
		}
		body = bytes.NewReader(b)
	}
	req, err := http.NewRequestWithContext(ctx, method, c.url+"/api/v1"+path, body)
	if err != nil {
		return fmt.Errorf("the server's URL %q is not understood: %w", c.url, err)
	}
	req.Header.Set("Authorization", "Bearer "+c.token)
	req.Header.Set("Content-Type", "application/json")
	res, err := c.http.Do(req)
	if err != nil {
		return fmt.Errorf("the service at %s does not answer: %w", c.url, err)
	}
	defer func() { _ = res.Body.Close() }()
	if res.StatusCode >= 300 {
		p := &Problem{Status: res.StatusCode}
		if err := json.NewDecoder(io.LimitReader(res.Body, maxAnswer)).Decode(p); err != nil || p.Title+p.Detail == "" {
			p.Detail = fmt.Sprintf("what answers at %s is no Yellow Fence service (%s)", c.url, res.Status)
		}
		return p
	}
	if out == nil {
		return nil
	}
	if err := json.NewDecoder(io.LimitReader(res.Body, maxAnswer)).Decode(out); err != nil {
		return fmt.Errorf("the answer of %s is not understood: %w", c.url, err)
	}
	return nil
}

// get is a call that reads.
func get[T any](ctx context.Context, c *Client, path string) (out T, err error) {
	return out, c.do(ctx, http.MethodGet, path, nil, &out)
}

// maxPages is how many parts of a list are asked for, of a thousand each.
const maxPages = 20

// pages puts the parts of a list together. join adds a part, and gives where the next begins.
func pages[T any](ctx context.Context, c *Client, path string, join func(all, part *T) int64) (all T, err error) {
	before := int64(0)
	for range maxPages {
		part, err := get[T](ctx, c, fmt.Sprintf("%s?limit=1000&before=%d", path, before))
		if err != nil {
			return all, err
		}
		if before = join(&all, &part); before == 0 {
			break
		}
	}
	return all, nil
}

// Publish publishes a policy.
func (c *Client) Publish(ctx context.Context, req api.PublishRequest) (out api.Checked, err error) {
	return out, c.do(ctx, http.MethodPost, "/revisions", req, &out)
}

// Revisions is the policy's history.
func (c *Client) Revisions(ctx context.Context) (api.Revisions, error) {
	return pages(ctx, c, "/revisions", func(all, part *api.Revisions) int64 {
		all.Version, all.Total, all.Revisions, all.Next = part.Version, part.Total, append(all.Revisions, part.Revisions...), part.Next
		return part.Next
	})
}

// Revision is one revision with its files.
func (c *Client) Revision(ctx context.Context, number int64) (api.Revision, error) {
	return get[api.Revision](ctx, c, "/revisions/"+strconv.FormatInt(number, 10))
}

// Fleet is all hosts and what they are.
func (c *Client) Fleet(ctx context.Context) (api.Fleet, error) {
	return hosts(ctx, c, "/fleet?after=", func(all, part *api.Fleet) string {
		if all.Hosts != nil {
			part.Hosts = append(all.Hosts, part.Hosts...)
		}
		*all = *part
		return all.Next
	})
}

// hosts puts the parts of what is about the fleet together.
func hosts[T any](ctx context.Context, c *Client, path string, join func(all, part *T) (next string)) (all T, err error) {
	after := ""
	for {
		part, err := get[T](ctx, c, path+url.QueryEscape(after))
		if err != nil {
			return all, err
		}
		if after = join(&all, &part); after == "" {
			return all, nil
		}
	}
}

// Import replaces the fleet.
func (c *Client) Import(ctx context.Context, req api.ImportRequest) (out api.Checked, err error) {
	return out, c.do(ctx, http.MethodPut, "/fleet", req, &out)
}

// Export is the fleet as a file of a format: json, yaml or csv.
func (c *Client) Export(ctx context.Context, format string) (api.FleetFile, error) {
	return get[api.FleetFile](ctx, c, "/fleet/file?format="+url.QueryEscape(format))
}

// Drift is how hosts differ; host "" is all of them.
func (c *Client) Drift(ctx context.Context, host string) (api.Drift, error) {
	return hosts(ctx, c, "/drift?host="+url.QueryEscape(host)+"&after=", func(all, part *api.Drift) string {
		if all.Hosts != nil {
			part.Hosts = append(all.Hosts, part.Hosts...)
		}
		*all = *part
		return all.Next
	})
}

// Compare tells what two states of the policy let through differently.
func (c *Client) Compare(ctx context.Context, req api.CompareRequest) (out api.Comparison, err error) {
	return out, c.do(ctx, http.MethodPost, "/compare", req, &out)
}

// Ask asks what becomes of traffic by what is published.
func (c *Client) Ask(ctx context.Context, question string) (out api.Answer, err error) {
	return out, c.do(ctx, http.MethodPost, "/ask", api.Question{Question: question}, &out)
}

// AskAt answers a question by what hosts had in force at a time.
func (c *Client) AskAt(ctx context.Context, question string, at time.Time) (out api.Answer, err error) {
	return out, c.do(ctx, http.MethodPost, "/ask", api.Question{Question: question, At: &at}, &out)
}

// LiveAt is what a host had in force at a time.
func (c *Client) LiveAt(ctx context.Context, host string, at time.Time) (api.LiveRules, error) {
	return get[api.LiveRules](ctx, c, "/hosts/"+url.PathEscape(host)+"/live?at="+url.QueryEscape(at.UTC().Format(time.RFC3339Nano)))
}

// DriftAt is how a host differed at a time from what was published then.
func (c *Client) DriftAt(ctx context.Context, host string, at time.Time) (api.Drift, error) {
	return get[api.Drift](ctx, c, "/drift?host="+url.QueryEscape(host)+"&at="+url.QueryEscape(at.UTC().Format(time.RFC3339Nano)))
}

// Rules is what a host's filter is to be.
func (c *Client) Rules(ctx context.Context, host string) (api.Rules, error) {
	return get[api.Rules](ctx, c, of(host, "/rules"))
}

// RulesOf is such rules of a kind: "ground" or "pause".
func (c *Client) RulesOf(ctx context.Context, host, kind string) (api.Rules, error) {
	return get[api.Rules](ctx, c, of(host, "/rules?kind="+url.QueryEscape(kind)))
}

// of is the path of something of a host's.
func of(host, rest string) string { return "/hosts/" + url.PathEscape(host) + rest }

// Live is what a host last reported.
func (c *Client) Live(ctx context.Context, host string) (api.LiveRules, error) {
	return get[api.LiveRules](ctx, c, "/hosts/"+url.PathEscape(host)+"/live")
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

// Enrol trades a one-time token for a host's own.
func (c *Client) Enrol(ctx context.Context, req api.EnrolRequest) (out api.Enrolled, err error) {
	return out, c.do(ctx, http.MethodPost, "/enrol", req, &out)
}

// NewEnrolment makes a one-time token for a host.
func (c *Client) NewEnrolment(ctx context.Context, host string) (out api.Enrolment, err error) {
	return out, c.do(ctx, http.MethodPost, of(host, "/enrolment"), nil, &out)
}

// Keys are the keys that the service signs with.
func (c *Client) Keys(ctx context.Context) (api.Keys, error) {
	return get[api.Keys](ctx, c, "/keys")
}

// NewKey makes a key to sign with later.
func (c *Client) NewKey(ctx context.Context) (out api.Keys, err error) {
	return out, c.do(ctx, http.MethodPost, "/keys", nil, &out)
}

// RetireKey retires the key that signs now.
func (c *Client) RetireKey(ctx context.Context) (out api.Keys, err error) {
	return out, c.do(ctx, http.MethodDelete, "/keys", nil, &out)
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

// Listeners is what listens on hosts; host "" is all of them.
func (c *Client) Listeners(ctx context.Context, host string) (api.Listening, error) {
	return get[api.Listening](ctx, c, "/listeners?host="+url.QueryEscape(host))
}

// Probe has hosts open real connections.
func (c *Client) Probe(ctx context.Context, req api.ProbeRequest) (out api.Probed, err error) {
	return out, c.do(ctx, http.MethodPost, "/probes", req, &out)
}

// StartWave begins to put a revision in force over hosts.
func (c *Client) StartWave(ctx context.Context, req api.WaveRequest) (out api.Wave, err error) {
	return out, c.do(ctx, http.MethodPost, "/waves", req, &out)
}

// Waves are all waves.
func (c *Client) Waves(ctx context.Context) (api.Waves, error) {
	return pages(ctx, c, "/waves", func(all, part *api.Waves) int64 {
		all.Version, all.Waves, all.Next = part.Version, append(all.Waves, part.Waves...), part.Next
		return part.Next
	})
}

// Wave is one wave.
func (c *Client) Wave(ctx context.Context, number int64) (api.Wave, error) {
	return get[api.Wave](ctx, c, fmt.Sprintf("/waves/%d", number))
}

// GoOn lets a wave go on that waits after a step.
func (c *Client) GoOn(ctx context.Context, number int64) (out api.Wave, err error) {
	return out, c.do(ctx, http.MethodPost, fmt.Sprintf("/waves/%d/go-on", number), nil, &out)
}

// StopWave stops a wave.
func (c *Client) StopWave(ctx context.Context, number int64, why string) (out api.Wave, err error) {
	return out, c.do(ctx, http.MethodPost, fmt.Sprintf("/waves/%d/stop", number), map[string]string{"why": why}, &out)
}

// ReturnWave begins a wave that undoes another.
func (c *Client) ReturnWave(ctx context.Context, number int64) (out api.Wave, err error) {
	return out, c.do(ctx, http.MethodPost, fmt.Sprintf("/waves/%d/return", number), nil, &out)
}

// Fresh is the client with no connection that was open before.
func (c *Client) Fresh() *Client {
	c.http.CloseIdleConnections()
	return c
}

// Token is the secret that it comes with.
func (c *Client) Token() string { return c.token }

// URL is where the service is.
func (c *Client) URL() string { return c.url }

// Report sends a host's report.
func (c *Client) Report(ctx context.Context, r api.Report) (out api.HostDrift, err error) {
	return out, c.do(ctx, http.MethodPost, "/hosts/"+url.PathEscape(r.Host)+"/reports", r, &out)
}
