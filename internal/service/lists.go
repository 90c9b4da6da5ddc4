package service

import (
	"bufio"
	"context"
	"crypto/tls"
	"crypto/x509"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/netip"
	"slices"
	"strings"
	"syscall"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"yellowfence.example/yfence/api"
	"yellowfence.example/yfence/core/check"
	"yellowfence.example/yfence/core/fence"
	"yellowfence.example/yfence/core/policy"
	"yellowfence.example/yfence/core/source"
	"yellowfence.example/yfence/internal/limits"
	"yellowfence.example/yfence/internal/store"
)

// The times of reading lists of addresses.
const (
	listsHeld = 3 * time.Minute  // that a service reads lists, unless it goes on
	listsLook = 15 * time.Second // between looks for one that is due
	listTime  = 30 * time.Second // that reading one may take
)

// ListOptions are for tests: what lists are not read from otherwise.
type ListOptions struct {
	Look        time.Duration  // how often it is looked for lists that are due; 15 s if it is 0
	Sooner      int            // every list is read so many times as often
	Loopback    bool           // from this machine too
	Authorities *x509.CertPool // whose certificates count; nil is the system's
}

// WorkLists reads lists anew that networks of the published policy name an address for, until
// ctx ends. Of several services on one database one does it. What comes of it is a revision
// by itself; what cannot be read, or changes more than is taken, changes nothing.
func (s *Service) WorkLists(ctx context.Context) {
	ctx = store.For(ctx, store.Work)
	holder := holderName()
	look := listsLook
	if s.Lists.Look != 0 {
		look = s.Lists.Look
	}
	for {
		select {
		case <-ctx.Done():
			return
		case <-time.After(look):
		}
		mine, err := s.Store.HoldCloud(ctx, listsRow, holder, listsHeld)
		if err == nil && mine {
			err = s.guarded(func() error { return s.readLists(ctx, holder, false, "") })
		}
		if err != nil && ctx.Err() == nil {
			s.Log.Error("reading lists", "error", err)
		}
	}
}

// listsRow is where what is known of lists stands, among what clouds are: no cloud has its name.
const listsRow = " lists"

// readLists reads the lists that are due, or the one of a network now. With whole it is taken
// however much of it changed.
func (s *Service) readLists(ctx context.Context, holder string, whole bool, network string) error {
	s.listing.Lock() // what an earlier reading found does not stand over what a later one did
	defer s.listing.Unlock()
	m, err := s.newest(ctx)
	if err != nil || m.pair.Revision == 0 {
		return err
	}
	known, err := s.listStates(ctx)
	if err != nil {
		return err
	}
	now := s.Clock().UTC()
	states := map[string]api.ListStatus{}
	for _, n := range m.policy.Networks {
		if n.Fetch == nil {
			continue
		}
		st := known[n.Name]
		if st.URL != n.Fetch.URL || st.File != n.List {
			st = api.ListStatus{}
		}
		st.Network, st.File, st.URL = n.Name, n.List, n.Fetch.URL
		every := time.Duration(n.Fetch.Every) * time.Second / time.Duration(max(s.Lists.Sooner, 1))
		if network == n.Name || network == "" && (st.TriedAt == nil || now.Sub(*st.TriedAt) >= every) {
			st.TriedAt = &now
			if after, err := s.readList(ctx, m, n, &st, whole); err != nil {
				return err
			} else if after != nil {
				m = after
			}
		}
		states[n.Name] = st
	}
	body, err := json.Marshal(states)
	if err != nil {
		return err
	}
	return s.Store.PutLists(ctx, listsRow, holder, body)
}

// listStates is what is known of the lists, by network.
func (s *Service) listStates(ctx context.Context) (out map[string]api.ListStatus, err error) {
	body, err := s.Store.ListsState(ctx, listsRow)
	if err != nil || len(body) == 0 {
		return map[string]api.ListStatus{}, err
	}
	return out, json.Unmarshal(body, &out)
}

// readList reads one list, and publishes what it now holds. What is wrong stands in st. after
// is the model that is published then; nil if nothing was.
func (s *Service) readList(ctx context.Context, m *model, n *policy.Network, st *api.ListStatus, whole bool) (after *model, err error) {
	text, entries, err := s.fetchList(ctx, n.Fetch)
	if err != nil {
		st.Failing = err.Error()
		return nil, nil
	}
	now := s.Clock().UTC()
	st.Failing, st.ReadAt, st.Entries = "", &now, len(entries)
	files, err := s.files(ctx, m.pair.Revision)
	if err != nil {
		return nil, err
	}
	at := slices.IndexFunc(files, func(f check.Source) bool { return f.Name == n.List })
	if at < 0 {
		return nil, nil // it is no longer there
	}
	had := entriesOf(files[at].Text)
	added, gone := apart(entries, had), apart(had, entries)
	if len(added)+len(gone) == 0 {
		st.Waits = ""
		return nil, nil
	}
	what := fmt.Sprintf("%s: %d more, %d less, of %d", n.Name, len(added), len(gone), len(had))
	if share := 100 * (len(added) + len(gone)) / max(len(had), 1); share > n.Fetch.Changing && !whole {
		st.Waits = fmt.Sprintf("%s: that is %d%%, and %d%% is taken without a person: yfence lists take %s", what, share,
			n.Fetch.Changing, n.Name)
		return nil, nil
	}
	files = slices.Clone(files)
	files[at].Text = text
	problems, err := s.checked(ctx, "checking the policy with the list", files, m.fleet)
	if err != nil {
		return nil, err
	}
	accepted, _, err := s.Store.Revision(ctx, m.pair.Revision)
	if err != nil {
		return nil, err
	}
	problems = slices.DeleteFunc(problems, func(p source.Problem) bool {
		return slices.Contains(accepted.Accepted, api.Accepted{Code: p.Code, Message: p.Message})
	})
	if source.HasErrors(problems) {
		st.Waits = fmt.Sprintf("%s: the policy does not check clean with that: %s", what, check.Summary(problems))
		return nil, nil
	}
	body, err := json.Marshal(files)
	if err != nil {
		return nil, err
	}
	if whole { // a person takes what the policy does not let through by itself
		took := change{files, m.fleet, accepted.Accepted}
		if _, err := s.allowed(ctx, m, took, false); err != nil {
			return nil, err
		}
	}
	_, err = s.Store.Publish(ctx, store.Publication{Base: m.pair, Author: Itself, Why: fmt.Sprintf("%s, read from %s", what, n.Fetch.URL),
		Files: body, Accepted: accepted.Accepted, ByItself: true})
	if errors.Is(err, store.ErrConflict) { // somebody published; it is read again soon
		st.TriedAt = nil
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	st.Waits = ""
	return s.newest(ctx)
}

// fetchList reads a list from its address. The error says what is wrong with it.
func (s *Service) fetchList(ctx context.Context, f *policy.Fetch) (text string, entries []string, err error) {
	ctx, cancel := context.WithTimeout(ctx, listTime)
	defer cancel()
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, f.URL, nil)
	if err != nil {
		return "", nil, err
	}
	req.Header.Set("Accept", "text/plain")
	res, err := s.listClient().Do(req)
	if err != nil {
		return "", nil, err
	}
	defer func() { _ = res.Body.Close() }()
	if res.StatusCode != http.StatusOK {
		return "", nil, fmt.Errorf("it answered %s", res.Status)
	}
	body, err := io.ReadAll(io.LimitReader(res.Body, limits.ListBytes+1))
	switch {
	case err != nil:
		return "", nil, err
	case len(body) > limits.ListBytes:
		return "", nil, fmt.Errorf("it is longer than the %d kB that are read", limits.ListBytes>>10)
	}
	entries = entriesOf(string(body))
	switch {
	case len(entries) == 0:
		return "", nil, errors.New("it holds no address")
	case len(entries) > f.UpTo:
		return "", nil, fmt.Errorf("it has %d lines, and up to %d are taken", len(entries), f.UpTo)
	}
	for i, e := range entries {
		if _, problem := fence.ParseAddress(e, source.Pos{}); problem != nil {
			return "", nil, fmt.Errorf("its entry %d: %s", i+1, problem.Message)
		}
	}
	return string(body), entries, nil
}

// listClient reads from nowhere but https addresses of other machines, wherever it is led.
func (s *Service) listClient() *http.Client {
	dialer := &net.Dialer{Timeout: 10 * time.Second, Control: func(_, address string, _ syscall.RawConn) error {
		to, err := netip.ParseAddrPort(address)
		if err != nil {
			return err
		}
		a := to.Addr().Unmap()
		if atHome(a) && !(a.IsLoopback() && s.Lists.Loopback) {
			return fmt.Errorf("lists are not read from %s", a)
		}
		return nil
	}}
	transport := &http.Transport{DialContext: dialer.DialContext, TLSHandshakeTimeout: 10 * time.Second, DisableKeepAlives: true,
		MaxResponseHeaderBytes: 64 << 10, Proxy: nil}
	if s.Lists.Authorities != nil {
		transport.TLSClientConfig = &tls.Config{RootCAs: s.Lists.Authorities, MinVersion: tls.VersionTLS12}
	}
	return &http.Client{Transport: transport, CheckRedirect: func(req *http.Request, via []*http.Request) error {
		if req.URL.Scheme != "https" || len(via) > 3 {
			return errors.New("it leads elsewhere than to an https address")
		}
		return nil
	}}
}

// entriesOf are the lines of a list that hold something, without comments.
func entriesOf(text string) (out []string) {
	for sc := bufio.NewScanner(strings.NewReader(text)); sc.Scan(); {
		line, _, _ := strings.Cut(sc.Text(), "#")
		if line = strings.TrimSpace(line); line != "" {
			out = append(out, line)
		}
	}
	return out
}

// apart are the entries that others do not have.
func apart(entries, others []string) (out []string) {
	has := make(map[string]bool, len(others))
	for _, o := range others {
		has[o] = true
	}
	for _, e := range entries {
		if !has[e] {
			has[e] = true
			out = append(out, e)
		}
	}
	return out
}

// newestLists puts what was last read in the place of what somebody has in his folder, where
// that is read from the same address still: he need not know.
func (s *Service) newestLists(ctx context.Context, current *model, files []check.Source) ([]check.Source, error) {
	in, _ := policy.Read(files, current.fleet)
	pol, _ := policy.Resolve(in)
	var published []check.Source
	out := slices.Clone(files)
	for _, n := range pol.Networks {
		before := slices.IndexFunc(current.policy.Networks, func(o *policy.Network) bool {
			return n.Fetch != nil && o.Fetch != nil && o.List == n.List && o.Fetch.URL == n.Fetch.URL
		})
		if before < 0 {
			continue
		}
		if published == nil {
			var err error
			if published, err = s.files(ctx, current.pair.Revision); err != nil {
				return nil, err
			}
		}
		for _, f := range published {
			for i := range out {
				if f.Name == n.List && out[i].Name == n.List {
					out[i].Text = f.Text
				}
			}
		}
	}
	return out, nil
}

// showLists answers which lists there are, when each was read, and what came of it.
func (s *Service) showLists(ctx context.Context, _ *struct{}) (*struct{ Body api.Lists }, error) {
	m, err := s.newest(ctx)
	if err != nil {
		return nil, s.broken("reading the lists", err)
	}
	known, err := s.listStates(ctx)
	if err != nil {
		return nil, s.broken("reading the lists", err)
	}
	out := api.Lists{Version: api.Version, Lists: []api.ListStatus{}}
	for _, n := range m.policy.Networks {
		if n.Fetch != nil {
			st := known[n.Name]
			st.Network, st.File, st.URL, st.Every, st.UpTo, st.Changing = n.Name, n.List, n.Fetch.URL, n.Fetch.Every, n.Fetch.UpTo,
				n.Fetch.Changing
			out.Lists = append(out.Lists, st)
		}
	}
	return &struct{ Body api.Lists }{out}, nil
}

// takeList reads a list now, and takes it however much of it changed.
func (s *Service) takeList(ctx context.Context, in *struct {
	Network string `path:"network" maxLength:"63"`
}) (*struct{ Body api.Lists }, error) {
	m, err := s.newest(ctx)
	if err != nil {
		return nil, s.broken("reading the list", err)
	}
	if !slices.ContainsFunc(m.policy.Networks, func(n *policy.Network) bool { return n.Name == in.Network && n.Fetch != nil }) {
		return nil, huma.Error404NotFound(fmt.Sprintf("no network %q is read from an address", in.Network))
	}
	if err := s.readLists(ctx, "", true, in.Network); err != nil {
		return nil, s.told("reading the list", err)
	}
	return s.showLists(ctx, nil)
}
