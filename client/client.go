package client

import (
	"bytes"
	"context"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"time"

	"yellowfence.example/yfence/api"
)

// A Client speaks to one service with one token.
type Client struct {
	url     string
	token   string
	http    *http.Client
	insists int // how often a call is made again
}

// New makes a client of the service at a URL such as https://fence.example:8480.
func New(server, token string) *Client {
	// Nobody is followed elsewhere: what changes something would arrive there as a request that only reads.
	stay := func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }
	return &Client{url: strings.TrimSuffix(server, "/"), token: token, http: &http.Client{Timeout: 2 * time.Minute, CheckRedirect: stay}}
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

// A Problem is the service's own word that it did not do what was asked.
type Problem = api.ProblemDocument

// maxAnswer is how much of an answer is read, in bytes.
const maxAnswer = 256 << 20

// keyKey is what a context keeps a key by.
type keyKey struct{}

// WithKey has calls that change something carry a key: a word of up to 128 characters that names the request.
// The same call with the same key again is not done again within a day, and answers as it did; so whoever
// does not know whether a call arrived makes it once more. Take a new key for each request.
func WithKey(ctx context.Context, key string) context.Context {
	return context.WithValue(ctx, keyKey{}, key)
}

// Insist has each call that changes something carry a key of its own, and be made again, up to so many times,
// where the connection broke before it was answered or the service says that it is unclear. No
// call is done twice by that. The client itself is returned.
func (c *Client) Insist(times int) *Client {
	c.insists = times
	return c
}

// do makes one call: in is sent as JSON if there is any, and the answer read into out. What the
// service says that it did not do comes back as a *Problem; anything else is an error of the
// network.
func (c *Client) do(ctx context.Context, method, path string, in, out any) error {
	var body []byte
	if in != nil {
		var err error
		if body, err = json.Marshal(in); err != nil {
			return err
		}
	}
	key, _ := ctx.Value(keyKey{}).(string)
	tries := 0
	if method != http.MethodGet && c.insists > 0 {
		if tries = c.insists; key == "" {
			key = rand.Text()
		}
	}
	for wait := time.Second; ; wait *= 2 {
		sent, err := c.once(ctx, method, path, key, body, out)
		if tries == 0 || !worthwhile(sent, err) {
			return err
		}
		tries--
		select {
		case <-ctx.Done():
			return err
		case <-time.After(wait):
		}
	}
}

// worthwhile says of an error whether the same call made again may tell what became of it.
func worthwhile(sent bool, err error) bool {
	var p *Problem
	if errors.As(err, &p) {
		return p.Code == api.KeyAtWork || p.Code == api.Unclear
	}
	return err != nil && sent
}

// request is a request to the service, with the token.
func (c *Client) request(ctx context.Context, method, path string, body io.Reader) (*http.Request, error) {
	req, err := http.NewRequestWithContext(ctx, method, c.url+"/api/v1"+path, body)
	if err != nil {
		return nil, fmt.Errorf("the server's URL %q is not understood: %w", c.url, err)
	}
	req.Header.Set("Authorization", "Bearer "+c.token)
	return req, nil
}

// once makes a call once, and says whether it may have arrived.
func (c *Client) once(ctx context.Context, method, path, key string, body []byte, out any) (sent bool, err error) {
	req, err := c.request(ctx, method, path, bytes.NewReader(body))
	if err != nil {
		return false, err
	}
	req.Header.Set("Content-Type", "application/json")
	if key != "" && method != http.MethodGet {
		req.Header.Set("Idempotency-Key", key)
	}
	res, err := c.http.Do(req)
	if err != nil {
		var dial *net.OpError
		return !errors.As(err, &dial) || dial.Op != "dial", fmt.Errorf("the service at %s does not answer: %w", c.url, err)
	}
	defer func() { _ = res.Body.Close() }()
	if res.StatusCode >= 300 {
		return true, c.problem(res)
	}
	if out == nil {
		return true, nil
	}
	if err := json.NewDecoder(io.LimitReader(res.Body, maxAnswer)).Decode(out); err != nil {
		return true, fmt.Errorf("the answer of %s is not understood: %w", c.url, err)
	}
	return true, nil
}

// problem is what an answer says that was not done.
func (c *Client) problem(res *http.Response) *Problem {
	p := &Problem{}
	if to, err := res.Location(); err == nil && res.StatusCode < 400 {
		to.RawQuery, to.Fragment = "", ""
		server, _, _ := strings.Cut(to.String(), "/api/v1/")
		p.Detail = fmt.Sprintf("%s sends on to %s: give that as the server, if you trust it", c.url, server)
	} else if err := json.NewDecoder(io.LimitReader(res.Body, maxAnswer)).Decode(p); err != nil || p.Title+p.Detail == "" {
		p.Detail = fmt.Sprintf("what answers at %s is no Yellow Fence service (%s)", c.url, res.Status)
	}
	p.Status = res.StatusCode
	return p
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

// maxParts is how many parts of what is about the fleet are asked for, of up to a thousand hosts each.
const maxParts = 1000

// hosts puts the parts of what is about the fleet together.
func hosts[T any](ctx context.Context, c *Client, path string, join func(all, part *T) (next string)) (all T, err error) {
	after := ""
	for range maxParts {
		part, err := get[T](ctx, c, path+url.QueryEscape(after))
		if err != nil {
			return all, err
		}
		if after = join(&all, &part); after == "" {
			return all, nil
		}
	}
	return all, fmt.Errorf("the service at %s tells of hosts without an end: %d parts were read", c.url, maxParts)
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

// DriftAt is how a host differed at a time from what was published then.
func (c *Client) DriftAt(ctx context.Context, host string, at time.Time) (api.Drift, error) {
	return get[api.Drift](ctx, c, "/drift?host="+url.QueryEscape(host)+"&at="+url.QueryEscape(at.UTC().Format(time.RFC3339Nano)))
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

// Through has requests be carried by something else than usual: a proxy, a connection of one's own.
func (c *Client) Through(carrier http.RoundTripper) { c.http.Transport = carrier }

// Store is what the service keeps in its database.
func (c *Client) Store(ctx context.Context) (api.Store, error) {
	return get[api.Store](ctx, c, "/store")
}
