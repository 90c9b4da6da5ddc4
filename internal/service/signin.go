package service

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/coreos/go-oidc/v3/oidc"
	"github.com/danielgtaylor/huma/v2"
	"golang.org/x/oauth2"

	"yellowfence.example/yfence/api"
	"yellowfence.example/yfence/core/record"
	"yellowfence.example/yfence/internal/store"
)

// A SignIn is how people sign in through the company's identity provider (OpenID Connect).
type SignIn struct {
	Issuer       string
	ClientID     string
	ClientSecret string                 // "" for a public client; PKCE is used either way
	URL          string                 // at which people reach the service
	GroupsClaim  string                 // "groups" if it is ""
	Rights       map[string][]api.Right // of the members of each group
	HTTP         *http.Client           // to reach the provider; nil is the usual one
}

// rightsOf are the rights of a member of groups.
func (c *SignIn) rightsOf(groups []string) (rights []api.Right) {
	for _, g := range groups {
		for _, r := range c.Rights[g] {
			if !slices.Contains(rights, r) {
				rights = append(rights, r)
			}
		}
	}
	return rights
}

// identity is the provider as it was found, once it was.
type identity struct {
	mu       sync.Mutex
	provider *oidc.Provider
}

// found is the provider, if it was found.
func (i *identity) found() *oidc.Provider {
	i.mu.Lock()
	defer i.mu.Unlock()
	return i.provider
}

// forget has the provider be looked for again.
func (i *identity) forget() {
	i.mu.Lock()
	defer i.mu.Unlock()
	i.provider = nil
}

// The times of signing in.
const (
	signInLasts  = 10 * time.Minute // from going to the provider to coming back
	providerTime = 10 * time.Second // that it may take
	signInCookie = "yfence_sign_in"
)

// reach gives a context that reaches the provider, for no longer than it may take.
func (s *Service) reach(ctx context.Context) (context.Context, context.CancelFunc) {
	if s.set().SignIn.HTTP != nil {
		ctx = oidc.ClientContext(ctx, s.set().SignIn.HTTP)
	}
	return context.WithTimeout(ctx, providerTime)
}

// provider finds the provider, and keeps it. What it learns later, as other keys, it learns by itself.
func (s *Service) provider(ctx context.Context) (*oidc.Provider, error) {
	if p := s.identity.found(); p != nil {
		return p, nil
	}
	// Its keys are fetched with the context that it is found with, which must not end.
	lasting := context.Background()
	if s.set().SignIn.HTTP != nil {
		lasting = oidc.ClientContext(lasting, s.set().SignIn.HTTP)
	} else {
		lasting = oidc.ClientContext(lasting, &http.Client{Timeout: providerTime})
	}
	p, err := oidc.NewProvider(lasting, s.set().SignIn.Issuer)
	if err != nil {
		s.Log.Warn("the identity provider does not answer", "error", err)
		return nil, later("the identity provider "+s.set().SignIn.Issuer+" does not answer as it should; whoever is signed in stays so, "+
			"and "+
			"tokens "+
			"work", retrySoon)
	}
	s.identity.mu.Lock()
	defer s.identity.mu.Unlock()
	s.identity.provider = p
	return p, nil
}

// flow is how codes are asked for and traded.
func (s *Service) flow(p *oidc.Provider) *oauth2.Config {
	return &oauth2.Config{ClientID: s.set().SignIn.ClientID, ClientSecret: s.set().SignIn.ClientSecret, Endpoint: p.Endpoint(),
		RedirectURL: s.set().SignIn.URL + "/sign-in/back", Scopes: []string{oidc.ScopeOpenID, "profile", "email", "groups"}}
}

// showSignIn says how one signs in.
func (s *Service) showSignIn(context.Context, *struct{}) (*struct{ Body api.SignInWays }, error) {
	out := api.SignInWays{Version: api.Version}
	if c := s.set().SignIn; c != nil {
		out.Provider = &api.ProviderNote{Issuer: c.Issuer, ClientID: c.ClientID}
	}
	return &struct{ Body api.SignInWays }{out}, nil
}

// beginSignIn sends a browser to the provider. What it must come back with is kept in a cookie, so that a service of
// several processes needs no memory of who is on the way: the state binds the way back to this browser (RFC 6749, 10.12),
// the nonce the token to this sign-in (OpenID Connect Core 1.0, 3.1.2.1), and the verifier the code to whoever asked for it
// (RFC 7636).
func (s *Service) beginSignIn(w http.ResponseWriter, r *http.Request) {
	if s.set().SignIn == nil {
		http.Redirect(w, r, "/", http.StatusFound)
		return
	}
	p, err := s.provider(r.Context())
	if err != nil {
		s.signInFailed(w, err.Error(), http.StatusServiceUnavailable)
		return
	}
	state, nonce, verifier := rand.Text(), rand.Text(), oauth2.GenerateVerifier()
	http.SetCookie(w, &http.Cookie{Name: signInCookie, Value: state + "." + nonce + "." + verifier, Path: "/sign-in", HttpOnly: true,
		Secure: s.Secure, SameSite: http.SameSiteLaxMode, MaxAge: int(signInLasts.Seconds())})
	http.Redirect(w, r, s.flow(p).AuthCodeURL(state, oidc.Nonce(nonce), oauth2.S256ChallengeOption(verifier)), http.StatusFound)
}

// endSignIn takes a browser back from the provider, and begins a session.
func (s *Service) endSignIn(w http.ResponseWriter, r *http.Request) {
	if s.set().SignIn == nil {
		http.Redirect(w, r, "/", http.StatusFound)
		return
	}
	kept := ""
	if c, err := r.Cookie(signInCookie); err == nil {
		kept = c.Value
	}
	// A link that somebody else made must not sign anybody in as its maker: only this browser has the state.
	parts := strings.Split(kept, ".")
	q := r.URL.Query()
	if len(parts) != 3 || q.Get("state") == "" || parts[0] != q.Get("state") {
		s.signInFailed(w, "this sign-in was not begun in this browser, or longer than ten minutes ago; begin again", http.StatusBadRequest)
		return
	}
	// Whatever comes of it, it is used up.
	http.SetCookie(w, &http.Cookie{Name: signInCookie, Path: "/sign-in", MaxAge: -1, HttpOnly: true, Secure: s.Secure,
		SameSite: http.SameSiteLaxMode})
	if why := q.Get("error"); why != "" {
		s.signInFailed(w, fmt.Sprintf("the identity provider says %.100q", why), http.StatusForbidden)
		return
	}
	p, err := s.provider(r.Context())
	if err != nil {
		s.signInFailed(w, err.Error(), http.StatusServiceUnavailable)
		return
	}
	ctx, cancel := s.reach(r.Context())
	defer cancel()
	traded, err := s.flow(p).Exchange(ctx, q.Get("code"), oauth2.VerifierOption(parts[2]))
	if err != nil {
		s.Log.Warn("trading a sign-in's code", "error", err)
		s.signInFailed(w, "the identity provider does not take the code back that it gave; begin again", http.StatusBadGateway)
		return
	}
	raw, _ := traded.Extra("id_token").(string)
	person, err := s.verified(ctx, p, raw, parts[1])
	if err != nil {
		s.signInFailed(w, err.Error(), http.StatusForbidden)
		return
	}
	value, err := s.session(store.By(r.Context(), record.Doer{From: address(r.Context())}), person)
	if err != nil {
		s.signInFailed(w, s.broken("sign-in", err).Error(), http.StatusServiceUnavailable)
		return
	}
	cookie := s.cookie(value, int(sessionLasts.Seconds()))
	http.SetCookie(w, &cookie)
	http.Redirect(w, r, "/", http.StatusFound)
}

// signInFailed is the page of a sign-in that did not come about.
func (s *Service) signInFailed(w http.ResponseWriter, why string, status int) {
	w.Header().Set("Content-Type", "text/plain; charset=utf-8")
	w.WriteHeader(status)
	_, _ = fmt.Fprintf(w, "You are not signed in: %s.\n", why)
}

// verified is the person that a provider's token speaks of, if it is ours to believe: of this provider,
// for this service, not over, and for this very sign-in where that has a nonce.
func (s *Service) verified(ctx context.Context, p *oidc.Provider, raw, nonce string) (who store.Person, err error) {
	token, err := p.Verifier(&oidc.Config{ClientID: s.set().SignIn.ClientID, Now: s.Clock}).Verify(ctx, raw)
	var over *oidc.TokenExpiredError
	switch {
	case errors.As(err, &over):
		return who, fmt.Errorf("the identity provider's token ended at %s, and it is %s here: is one of the clocks wrong?",
			over.Expiry.UTC().Format(time.DateTime), s.Clock().UTC().Format(time.DateTime))
	case err != nil:
		s.Log.Warn("a token of the identity provider", "error", err)
		return who, errors.New("the identity provider's token cannot be believed: it is of another issuer, for another service, or " +
			"signed with " +
			"a key that the provider does not show")
	case nonce != "" && token.Nonce != nonce:
		return who, errors.New("the identity provider's token is of another sign-in; begin again")
	}
	var claims struct {
		Name     string `json:"preferred_username"`
		Email    string `json:"email"`
		Verified bool   `json:"email_verified"`
	}
	every := map[string]any{} // under which name groups are told is the provider's choice
	if err := errors.Join(token.Claims(&claims), token.Claims(&every)); err != nil {
		return who, errors.New("the identity provider's token cannot be read")
	}
	// A subject is a provider's own: two providers may have the same one for two people.
	who.Subject, who.Name = s.set().SignIn.Issuer+" "+token.Subject, claims.Name
	if who.Name == "" && claims.Verified { // else anybody could call themselves by a colleague's address
		who.Name = claims.Email
	}
	if who.Name == "" {
		who.Name = token.Subject
	}
	if len(who.Name) > 100 || len(who.Subject) > 300 {
		return who, errors.New("the name that the identity provider gives is longer than 100 letters")
	}
	claim := s.set().SignIn.GroupsClaim
	if claim == "" {
		claim = "groups"
	}
	groups, _ := every[claim].([]any)
	for _, g := range groups { // of hundreds that somebody may be in, those that mean something here are kept
		if name, is := g.(string); is && s.set().SignIn.Rights[name] != nil {
			who.Groups = append(who.Groups, name)
		}
	}
	if !api.HasSome(s.set().SignIn.rightsOf(who.Groups), api.Read) {
		return who, fmt.Errorf("%s is in no group that may read here; whoever runs the service says which groups may", who.Name)
	}
	return who, nil
}

// session begins a session of a person.
func (s *Service) session(ctx context.Context, p store.Person) (string, error) {
	p.Until = s.Clock().Add(sessionLasts).UTC().Truncate(time.Second)
	by := personDoer(ctx, p)
	return s.Store.NewPersonSession(store.By(ctx, by), p)
}

// personDoer is how the record names a person.
func personDoer(ctx context.Context, p store.Person) record.Doer {
	return record.Doer{Name: p.Name, Kind: record.Person, SignIn: p.Subject, From: address(ctx)}
}

// takePerson begins a session for who shows a token of the provider: a program that signed somebody in.
func (s *Service) takePerson(ctx context.Context, in *struct{ Body api.PersonSignIn }) (*struct{ Body api.PersonSession }, error) {
	if s.set().SignIn == nil {
		return nil, huma.Error409Conflict("this service has no identity provider; use a token")
	}
	from := sourceOf(remote(ctx))
	if wait := s.signIns.wait(from, moment()); wait > 0 {
		return nil, tooMany(from, wait)
	}
	p, err := s.provider(ctx)
	if err != nil {
		return nil, err
	}
	reach, cancel := s.reach(ctx)
	defer cancel()
	person, err := s.verified(reach, p, in.Body.IDToken, "")
	if err != nil {
		s.signIns.fail(from, moment())
		return nil, huma.Error401Unauthorized(err.Error())
	}
	value, err := s.session(ctx, person)
	if err != nil {
		return nil, s.broken("sign-in", err)
	}
	return &struct{ Body api.PersonSession }{api.PersonSession{Version: api.Version, Name: person.Name, Secret: value,
		Rights: s.set().SignIn.rightsOf(person.Groups), Until: s.Clock().Add(sessionLasts).UTC().Truncate(time.Second)}}, nil
}

// person is what a person may who has a session, as a token says it. Groups that have no rights any more
// give none.
func (s *Service) person(ctx context.Context, secret string) (t api.Token, by record.Doer, err error) {
	p, err := s.Store.PersonBySession(ctx, secret)
	if err == nil && s.set().SignIn == nil {
		err = store.ErrNotFound // people do not sign in here any more
	}
	if err != nil {
		return t, by, err
	}
	return api.Token{Name: p.Name, Rights: s.set().SignIn.rightsOf(p.Groups), Until: &p.Until}, personDoer(ctx, p), nil
}

// Check is an error where a configuration of sign-ins is none.
func (c *SignIn) Check() error {
	for what, text := range map[string]string{"issuer": c.Issuer, "url": c.URL} {
		u, err := url.Parse(text)
		if err != nil || u.Host == "" || u.User != nil || u.Scheme != "https" && !(u.Scheme == "http" && loopback(u.Hostname())) {
			return fmt.Errorf("sign-in: %s is an https address, not %q", what, text)
		}
	}
	if c.ClientID == "" {
		return errors.New("sign-in: client-id is missing: the name that the identity provider knows this service by")
	}
	if len(c.Rights) == 0 {
		return errors.New("sign-in: rights is missing: the rights of each group, as ops: [read, settle]")
	}
	for group, rights := range c.Rights {
		for _, r := range rights {
			if err := r.Check(); err != nil {
				return fmt.Errorf("sign-in: rights of %s: %w", group, err)
			}
		}
	}
	return nil
}

// loopback says that a host is this machine.
func loopback(host string) bool { return host == "127.0.0.1" || host == "::1" || host == "localhost" }
