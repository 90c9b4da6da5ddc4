package dunlin

import (
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strconv"
	"time"

	"yellowfence.example/yfence/core/dialect/group"
	"yellowfence.example/yfence/internal/cloud"
)

// Account is ours at a Dunlin cloud, reached over its API.
type Account struct {
	URL, Token string
	Client     *http.Client  // nil is one that follows nobody elsewhere
	Timeout    time.Duration // for one request; 10 s if 0
	Pause      time.Duration // before a request that failed is made again; 300 ms if 0
}

// The bounds of what a cloud may cost us.
const (
	requestTimeout = 10 * time.Second
	requestPause   = 300 * time.Millisecond
	mostAnswer     = 64 << 20
	mostTries      = 4
	mostWait       = 10 * time.Second // that we wait because a cloud says so
	mostPages      = 1000
)

// staying is a client that follows nobody elsewhere: what changes something would arrive there as a request that only reads,
// with our token.
var staying = &http.Client{CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}

// A Dunlin account is an account of a cloud.
var _ cloud.Account = (*Account)(nil)

// About is cloud.Account's.
func (a *Account) About(ctx context.Context) (cloud.About, error) {
	var got struct {
		Cloud     string           `json:"cloud"`
		Account   string           `json:"account"`
		Abilities *group.Abilities `json:"abilities"`
	}
	if err := a.do(ctx, http.MethodGet, "/v1/abilities", nil, &got); err != nil {
		return cloud.About{}, err
	}
	if got.Cloud == "" || got.Account == "" || got.Abilities == nil {
		return cloud.About{}, errors.New("the cloud does not say who it is")
	}
	return cloud.About{Cloud: got.Cloud, Account: got.Account, Abilities: *got.Abilities}, nil
}

// Instances is cloud.Account's.
func (a *Account) Instances(ctx context.Context) (out []cloud.Instance, err error) {
	after := ""
	for range mostPages {
		var page struct {
			Instances []Instance `json:"instances"`
			Next      *string    `json:"next"`
			All       *int       `json:"all"`
		}
		if err := a.do(ctx, http.MethodGet, "/v1/instances?after="+url.QueryEscape(after), nil, &page); err != nil {
			return nil, err
		}
		if page.Next == nil || page.All == nil {
			return nil, errors.New("the cloud's answer about instances is not whole")
		}
		for _, i := range page.Instances {
			out = append(out, cloud.Instance{ID: i.ID, Addresses: i.Addresses, Labels: i.Labels, Groups: i.Groups, Asked: i.Asked != nil})
		}
		if after = *page.Next; after == "" {
			if len(out) != *page.All {
				return nil, fmt.Errorf("the cloud says that it has %d instances, and tells of %d", *page.All, len(out))
			}
			return out, nil
		}
	}
	return nil, errors.New("the cloud's list of instances does not end")
}

// Groups is cloud.Account's.
func (a *Account) Groups(ctx context.Context) (out []cloud.Group, err error) {
	var got struct {
		Groups []KeptGroup `json:"groups"`
		All    *int        `json:"all"`
	}
	if err := a.do(ctx, http.MethodGet, "/v1/groups", nil, &got); err != nil {
		return nil, err
	}
	if got.All == nil || *got.All != len(got.Groups) {
		return nil, errors.New("the cloud's answer about groups is not whole")
	}
	for _, g := range got.Groups {
		out = append(out, cloud.Group{Group: g.Group, Version: g.Version, Asked: g.Asked != nil})
	}
	return out, nil
}

// Make is cloud.Account's. A group of that name that is there is left as it is: whoever
// asks reads it anew, and sees what it holds.
func (a *Account) Make(ctx context.Context, g group.Group) error {
	err := a.do(ctx, http.MethodPut, "/v1/groups/"+url.PathEscape(g.Name), map[string]any{"group": g, "version": 0}, nil)
	var said *status
	if errors.As(err, &said) && said.code == http.StatusConflict {
		return nil
	}
	return err
}

// Join is cloud.Account's.
func (a *Account) Join(ctx context.Context, instance string, groups []string) error {
	return a.do(ctx, http.MethodPut, "/v1/instances/"+url.PathEscape(instance)+"/groups", map[string]any{"groups": groups}, nil)
}

// Drop is cloud.Account's. A group that is gone already is as it is to be.
func (a *Account) Drop(ctx context.Context, g cloud.Group) error {
	err := a.do(ctx, http.MethodDelete, "/v1/groups/"+url.PathEscape(g.Name)+"?version="+strconv.FormatInt(g.Version, 10), nil, nil)
	var said *status
	if errors.As(err, &said) && said.code == http.StatusNotFound {
		return nil
	}
	return err
}

// status is an answer that is not 2xx.
type status struct {
	code int
	why  string
}

// Error says which status the cloud answered with, and what it said.
func (s *status) Error() string { return fmt.Sprintf("the cloud answers %d: %s", s.code, s.why) }

// As makes of what the cloud will not do a Refusal.
func (s *status) As(target any) bool {
	if r, ok := target.(**cloud.Refusal); ok && s.code >= 400 && s.code < 500 && s.code != http.StatusUnauthorized &&
		s.code != http.StatusTooManyRequests {
		*r = &cloud.Refusal{Why: s.why}
		return true
	}
	return false
}

// do makes a request, as often as is sensible: all of them may be made twice.
func (a *Account) do(ctx context.Context, method, path string, body, into any) error {
	for try := 1; ; try++ {
		again, err := a.once(ctx, method, path, body, into)
		if err == nil || again < 0 || try == mostTries {
			return err
		}
		select {
		case <-ctx.Done():
			return errors.Join(err, ctx.Err())
		case <-time.After(again):
		}
	}
}

// once makes a request. again is after how long it may be tried again; less than 0 is never.
func (a *Account) once(ctx context.Context, method, path string, body, into any) (again time.Duration, err error) {
	timeout, soon := cmp.Or(a.Timeout, requestTimeout), cmp.Or(a.Pause, requestPause)
	ctx, cancel := context.WithTimeout(ctx, timeout)
	defer cancel()
	var send io.Reader
	if body != nil {
		text, err := json.Marshal(body)
		if err != nil {
			return -1, err
		}
		send = bytes.NewReader(text)
	}
	req, err := http.NewRequestWithContext(ctx, method, a.URL+path, send)
	if err != nil {
		return -1, err
	}
	req.Header.Set("Authorization", "Bearer "+a.Token)
	client := a.Client
	if client == nil {
		client = staying
	}
	res, err := client.Do(req)
	if err != nil {
		return soon, fmt.Errorf("the cloud does not answer: %w", err)
	}
	defer func() { _ = res.Body.Close() }()
	// An answer is bounded, and is whole or none.
	text, err := io.ReadAll(io.LimitReader(res.Body, mostAnswer+1))
	switch {
	case err != nil:
		return soon, fmt.Errorf("the cloud's answer breaks off: %w", err)
	case len(text) > mostAnswer:
		return -1, fmt.Errorf("the cloud's answer is longer than %d MB", mostAnswer>>20)
	case res.StatusCode/100 != 2:
		var said struct {
			Why string `json:"why"`
		}
		if json.Unmarshal(text, &said) != nil || said.Why == "" {
			said.Why = http.StatusText(res.StatusCode)
		}
		// Whether it may be asked again depends on what it says, and after how long too.
		wait := time.Duration(-1)
		switch {
		case res.StatusCode == http.StatusTooManyRequests:
			seconds, err := strconv.Atoi(res.Header.Get("Retry-After"))
			if wait = time.Duration(seconds) * time.Second; err != nil || wait <= 0 || wait > mostWait {
				wait = time.Second
			}
		case res.StatusCode >= 500:
			wait = soon
		}
		return wait, &status{res.StatusCode, said.Why}
	case into == nil:
		return -1, nil
	}
	dec := json.NewDecoder(bytes.NewReader(text))
	if err := dec.Decode(into); err != nil || dec.More() {
		return soon, fmt.Errorf("the cloud's answer to %s %s is not what its API promises: %w", method, path,
			errors.Join(err, trailing(dec)))
	}
	return -1, nil
}

// trailing says that something follows what was read to its end.
func trailing(dec *json.Decoder) error {
	if dec.More() {
		return fmt.Errorf("something follows at byte %d", dec.InputOffset())
	}
	return nil
}
