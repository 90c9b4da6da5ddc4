package service

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"yellowfence.example/yfence/internal/api"
	"yellowfence.example/yfence/internal/limits"
	"yellowfence.example/yfence/internal/store"
)

// A session is a cookie that stands for a token, so that the token itself stays in no browser.
const (
	sessionCookie = "yfence_session"
	sessionLasts  = 12 * time.Hour
)

// remoteKey is what a request's context keeps the caller's address by.
type remoteKey struct{}

// remote is the address that a request came from.
func remote(ctx context.Context) string {
	from, _ := ctx.Value(remoteKey{}).(string)
	return from
}

// callerKey is what a request's context keeps the caller's token by.
type callerKey struct{}

// caller is whose token a request came with.
func caller(ctx context.Context) api.Token {
	t, _ := ctx.Value(callerKey{}).(api.Token)
	return t
}

// authorize lets a request through if its token has one of the rights that the
// operation asks for. A host's own token serves for that host alone.
func (s *Service) authorize(a huma.API) func(huma.Context, func(huma.Context)) {
	return func(ctx huma.Context, next func(huma.Context)) {
		rights, _ := ctx.Operation().Metadata["rights"].([]api.Right)
		if len(rights) == 0 {
			next(ctx)
			return
		}
		if rights[0] == api.Host { // what comes from hosts has connections of its own
			ctx = huma.WithContext(ctx, store.For(ctx.Context(), store.Hosts))
		}
		refuse := func(status int, message string) { _ = huma.WriteErr(a, ctx, status, message) }
		token, err := s.token(ctx)
		// Each way in which a token is no good has a sentence of its own: the person can do something about it.
		switch {
		case errors.Is(err, errNoToken):
			refuse(http.StatusUnauthorized, "this needs a token: send it as `Authorization: Bearer …`, or sign in")
			return
		case errors.Is(err, store.ErrNotFound):
			refuse(http.StatusUnauthorized, "the token is not known here: it is wrong, it is another service's, or the session is over")
			return
		case err != nil:
			refuseBroken(a, ctx, s.broken("looking the token up", err))
			return
		case token.RevokedAt != nil:
			refuse(http.StatusUnauthorized, fmt.Sprintf("the token %q was revoked at %s", token.Name,
				token.RevokedAt.UTC().Format(time.DateTime)))
			return
		}
		// A host's own right is for that host alone.
		permitted := slices.ContainsFunc(rights, func(r api.Right) bool {
			return slices.Contains(token.Rights, r) && (r != api.Host || ctx.Param("host") == "" || ctx.Param("host") == token.Host)
		})
		if !permitted {
			words := make([]string, len(rights))
			for i, r := range rights {
				words[i] = string(r)
			}
			refuse(http.StatusForbidden, fmt.Sprintf("the token %q may not do this: it takes the right %s", token.Name,
				strings.Join(words, " or ")))
			return
		}
		next(huma.WithValue(ctx, callerKey{}, token))
	}
}

// token finds the token of a request: by its secret, or by a session. errNoToken where it has
// neither.
func (s *Service) token(ctx huma.Context) (api.Token, error) {
	if secret, ok := strings.CutPrefix(ctx.Header("Authorization"), "Bearer "); ok {
		return s.Store.TokenBySecret(ctx.Context(), secret)
	}
	if cookie, err := huma.ReadCookie(ctx, sessionCookie); err == nil {
		return s.Store.TokenBySession(ctx.Context(), cookie.Value)
	}
	return api.Token{}, errNoToken
}

// Who may call what is decided for a token; without one there is nobody to decide for.
var errNoToken = errors.New("no token was sent")

// refuseBroken answers with an error that s.broken made.
func refuseBroken(a huma.API, ctx huma.Context, err error) {
	status, message := http.StatusInternalServerError, err.Error()
	var told huma.StatusError
	if errors.As(err, &told) {
		status = told.GetStatus()
	}
	var headed huma.HeadersError
	if errors.As(err, &headed) {
		for name, values := range headed.GetHeaders() {
			ctx.SetHeader(name, values[0])
		}
	}
	_ = huma.WriteErr(a, ctx, status, message)
}

// sessionOutput is what a sign-in answers.
type sessionOutput struct {
	SetCookie http.Cookie `header:"Set-Cookie"`
	Body      api.Session
}

// whoAmI answers whom a token is of, and what it may do.
func (s *Service) whoAmI(ctx context.Context, _ *struct{}) (*struct{ Body api.Session }, error) {
	t := caller(ctx)
	return &struct{ Body api.Session }{api.Session{Name: t.Name, Rights: t.Rights}}, nil
}

// signIn gives a session for a token. Whoever fails often from one address must wait.
func (s *Service) signIn(ctx context.Context, in *struct {
	Body struct {
		Token string `json:"token" minLength:"1" maxLength:"500"`
	}
}) (*sessionOutput, error) {
	from := sourceOf(remote(ctx))
	if wait := s.signIns.wait(from, moment()); wait > 0 {
		return nil, huma.ErrorWithHeaders(huma.Error429TooManyRequests(fmt.Sprintf("%d sign-ins from %s failed within a minute; wait %s",
			limits.SignIns, from, wait.Round(time.Second))),
			http.Header{"Retry-After": {strconv.Itoa(int(wait.Seconds()) + 1)}})
	}
	t, err := s.Store.TokenBySecret(ctx, strings.TrimSpace(in.Body.Token))
	if errors.Is(err, store.ErrNotFound) || err == nil && t.RevokedAt != nil {
		s.signIns.fail(from, moment())
	}
	switch {
	case errors.Is(err, store.ErrNotFound):
		return nil, huma.Error401Unauthorized("the token is not known here: it is wrong, or another service's")
	case err != nil:
		return nil, s.broken("sign-in", err)
	case t.RevokedAt != nil:
		return nil, huma.Error401Unauthorized(fmt.Sprintf("the token %q was revoked at %s", t.Name,
			t.RevokedAt.UTC().Format(time.DateTime)))
	}
	if !slices.Contains(t.Rights, api.Read) {
		return nil, huma.Error403Forbidden(fmt.Sprintf("the token %q may not read, which is what the console is for", t.Name))
	}
	value, err := s.Store.NewSession(ctx, t.ID, sessionLasts)
	if err != nil {
		return nil, s.broken("sign-in", err)
	}
	return &sessionOutput{s.cookie(value, int(sessionLasts.Seconds())), api.Session{Name: t.Name, Rights: t.Rights}}, nil
}

// signOut ends a session, whether or not there is one.
func (s *Service) signOut(ctx context.Context, in *struct {
	Session string `cookie:"yfence_session"`
}) (*struct {
	SetCookie http.Cookie `header:"Set-Cookie"`
}, error) {
	if err := s.Store.EndSession(ctx, in.Session); err != nil {
		return nil, s.broken("sign-out", err)
	}
	return &struct {
		SetCookie http.Cookie `header:"Set-Cookie"`
	}{s.cookie("", -1)}, nil
}

// cookie is the session's cookie: for this site alone, and out of reach of scripts.
func (s *Service) cookie(value string, maxAge int) http.Cookie {
	return http.Cookie{Name: sessionCookie, Value: value, Path: "/", MaxAge: maxAge, HttpOnly: true, Secure: s.Secure,
		SameSite: http.SameSiteStrictMode}
}

// told is an error as an answer: what is one already, or what broken makes of it.
func (s *Service) told(what string, err error) error {
	var told huma.StatusError
	if errors.As(err, &told) {
		return told
	}
	return s.broken(what, err)
}

// broken is the answer where something of ours failed: the cause is for the log.
func (s *Service) broken(what string, err error) error {
	if errors.Is(err, context.Canceled) {
		return huma.NewError(499, "the caller went away")
	}
	if store.Unavailable(err) || errors.Is(err, context.DeadlineExceeded) {
		s.Log.Warn(what, "error", err)
		detail := what + " has to wait: the database does not answer"
		switch {
		case errors.Is(err, store.ErrUnclear):
			detail = what + ": the database went away while it was stored, so that it may have been done; look before you try again"
		case errors.Is(err, store.ErrBusy):
			detail = what + " has to wait: the database is busy"
		}
		return later(detail, retrySoon)
	}
	s.Log.Error(what, "error", err)
	return huma.Error500InternalServerError(what + " failed; the service's log says why")
}

// retrySoon is when whoever met a database that is busy or away may try again.
const retrySoon = 5 * time.Second

// later refuses what may be tried again after a while.
func later(detail string, after time.Duration) error {
	return huma.ErrorWithHeaders(huma.Error503ServiceUnavailable(detail), http.Header{"Retry-After": {strconv.Itoa(int(after.Seconds()))}})
}

// tokensOutput is a page of tokens, without their secrets.
type tokensOutput struct{ Body api.TokenList }

// listTokens answers which tokens there are, the newest first.
func (s *Service) listTokens(ctx context.Context, in *pageInput) (*tokensOutput, error) {
	tokens, err := s.Store.Tokens(ctx, in.Before, in.Limit)
	if err != nil {
		return nil, s.broken("listing the tokens", err)
	}
	out := api.TokenList{Version: api.Version, Tokens: tokens}
	if len(tokens) == in.Limit {
		out.Next = tokens[len(tokens)-1].ID
	}
	return &tokensOutput{out}, nil
}

// makeToken makes a token with no more rights than the caller has. Its secret is in this
// answer, and nowhere else.
func (s *Service) makeToken(ctx context.Context, in *struct{ Body api.TokenRequest }) (*struct{ Body api.NewToken }, error) {
	req := in.Body
	// Nobody gives away more than he has himself.
	switch mine := caller(ctx).Rights; {
	case req.Host != "" && len(req.Rights) == 0:
		req.Rights = []api.Right{api.Host}
	case req.Host != "":
		return nil, huma.Error422UnprocessableEntity("a host's own token has the right host and no other; leave rights out")
	case len(req.Rights) == 0:
		return nil, huma.Error422UnprocessableEntity("a token needs at least one right")
	default:
		for _, r := range req.Rights {
			if !slices.Contains(api.Rights, r) {
				return nil, huma.Error422UnprocessableEntity(
					fmt.Sprintf("%q is not a right; the rights are read, publish, settle, tokens", r))
			}
			if !slices.Contains(mine, r) {
				return nil, huma.Error403Forbidden(fmt.Sprintf("you cannot give the right %s, which your own token does not have", r))
			}
		}
	}
	if req.Host != "" {
		if m, err := s.newest(ctx); err != nil {
			return nil, s.broken("making a token", err)
		} else if m.host(req.Host) == nil {
			return nil, huma.Error404NotFound(fmt.Sprintf("no host is named %q", req.Host))
		}
	}
	// Bounded, so that a token that got lost cannot be made many.
	most := limits.PeopleTokens
	if req.Host != "" {
		most = limits.HostTokens
	}
	if n, err := s.Store.TokensInForce(ctx, req.Host); err != nil {
		return nil, s.broken("making a token", err)
	} else if n >= most {
		return nil, huma.Error409Conflict(fmt.Sprintf("there are %d tokens in force already, as many as there may be; revoke one first", n))
	}
	t, err := s.Store.NewToken(ctx, req.Name, req.Rights, req.Host)
	if err != nil {
		return nil, s.broken("making a token", err)
	}
	return &struct{ Body api.NewToken }{t}, nil
}

// revokeToken ends a token at once, with the sessions that stand for it.
func (s *Service) revokeToken(ctx context.Context, in *struct {
	ID int64 `path:"id"`
}) (*struct{}, error) {
	switch err := s.Store.RevokeToken(ctx, in.ID); {
	case errors.Is(err, store.ErrNotFound):
		return nil, huma.Error404NotFound(fmt.Sprintf("there is no token %d", in.ID))
	case err != nil:
		return nil, s.broken("revoking a token", err)
	}
	return nil, nil
}
