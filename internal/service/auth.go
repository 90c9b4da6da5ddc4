package service

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net"
	"net/http"
	"strconv"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"yellowfence.example/yfence/api"
	"yellowfence.example/yfence/core/record"
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
func (s *Service) authorize() func(huma.Context, func(huma.Context)) {
	return func(ctx huma.Context, next func(huma.Context)) {
		rights, _ := ctx.Operation().Metadata["rights"].([]api.Right)
		if len(rights) == 0 { // whoever may do this says in it who he is
			next(huma.WithContext(ctx, store.By(ctx.Context(), record.Doer{From: address(ctx.Context())})))
			return
		}
		if rights[0] == api.Host { // what comes from hosts has connections of its own
			ctx = huma.WithContext(ctx, store.For(ctx.Context(), store.Hosts))
		}
		refuse := func(code api.ProblemCode, detail string) { refuseBroken(ctx, api.NewProblem(code, detail)) }
		token, by, err := s.token(ctx)
		// Each way in which a token is no good has a sentence of its own: the person can do something about it.
		switch {
		case errors.Is(err, errNoToken):
			refuse(api.NotSignedIn, "this needs a token: send it as `Authorization: Bearer …`, or sign in")
			return
		case errors.Is(err, store.ErrNotFound):
			refuse(api.NotSignedIn, "the token is not known here: it is wrong, it is another service's, or the session is over")
			return
		case err != nil:
			refuseBroken(ctx, s.broken("looking the token up", err))
			return
		case s.over(token) != "":
			refuse(api.NotSignedIn, s.over(token))
			return
		}
		if err := s.permitted(ctx, token, rights); err != nil {
			refuseBroken(ctx, err)
			return
		}
		s.used(ctx.Context(), token)
		ctx = huma.WithContext(ctx, store.By(ctx.Context(), by))
		s.onceOnly(huma.WithValue(ctx, callerKey{}, token), by.Kind+" "+by.SignIn+" "+by.Name, next)
	}
}

// doer is how the record names whoever a token is of, who came with it in some way.
func doer(ctx context.Context, t api.Token, signIn string) record.Doer {
	d := record.Doer{Name: t.Name, Kind: record.Token, SignIn: fmt.Sprintf(signIn, t.ID), From: address(ctx)}
	if t.Host != "" {
		d.Kind = record.Host
	}
	return d
}

// How somebody comes with a token.
const (
	byToken   = "token %d"
	bySession = "session of token %d"
)

// address is where a request came from, without its port.
func address(ctx context.Context) string {
	host, _, err := net.SplitHostPort(remote(ctx))
	if err != nil {
		return remote(ctx)
	}
	return host
}

// token finds the token of a request, and who it is: by its secret, or by a session. errNoToken
// where it has neither.
func (s *Service) token(ctx huma.Context) (t api.Token, by record.Doer, err error) {
	secret, ok := strings.CutPrefix(ctx.Header("Authorization"), "Bearer ")
	if ok && !strings.HasPrefix(secret, store.PersonPrefix) {
		t, err = s.Store.TokenBySecret(ctx.Context(), secret)
		return t, doer(ctx.Context(), t, byToken), err
	}
	if cookie, noCookie := huma.ReadCookie(ctx, sessionCookie); !ok && noCookie == nil {
		secret, ok = cookie.Value, true
	}
	switch {
	case !ok:
		return t, by, errNoToken
	case strings.HasPrefix(secret, store.PersonPrefix):
		return s.person(ctx.Context(), secret)
	}
	t, err = s.Store.TokenBySession(ctx.Context(), secret)
	return t, doer(ctx.Context(), t, bySession), err
}

// Who may call what is decided for a token; without one there is nobody to decide for.
var errNoToken = errors.New("no token was sent")

// refuseBroken answers with an error that s.broken made.
func refuseBroken(ctx huma.Context, err error) {
	p := api.ProblemOf(http.StatusInternalServerError, err.Error())
	errors.As(err, &p)
	var headed huma.HeadersError
	if errors.As(err, &headed) {
		for name, values := range headed.GetHeaders() {
			ctx.SetHeader(name, values[0])
		}
	}
	ctx.SetStatus(p.Status)
	ctx.SetHeader("Content-Type", p.ContentType(""))
	_ = json.NewEncoder(ctx.BodyWriter()).Encode(p) // whoever asked may have gone
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
		return nil, tooMany(from, wait)
	}
	t, err := s.Store.TokenBySecret(ctx, strings.TrimSpace(in.Body.Token))
	if errors.Is(err, store.ErrNotFound) || err == nil && s.over(t) != "" {
		s.signIns.fail(from, moment())
	}
	switch {
	case errors.Is(err, store.ErrNotFound):
		return nil, huma.Error401Unauthorized("the token is not known here: it is wrong, or another service's")
	case err != nil:
		return nil, s.broken("sign-in", err)
	case s.over(t) != "":
		return nil, huma.Error401Unauthorized(s.over(t))
	}
	if !api.HasSome(t.Rights, api.Read) {
		return nil, huma.Error403Forbidden(fmt.Sprintf("the token %q may not read, which is what the console is for", t.Name))
	}
	value, err := s.Store.NewSession(store.By(ctx, doer(ctx, t, byToken)), t, sessionLasts)
	if err != nil {
		return nil, s.broken("sign-in", err)
	}
	return &sessionOutput{s.cookie(value, int(sessionLasts.Seconds())), api.Session{Name: t.Name, Rights: t.Rights}}, nil
}

// tooMany is the answer to who failed to sign in too often.
func tooMany(from string, wait time.Duration) error {
	return huma.ErrorWithHeaders(huma.Error429TooManyRequests(fmt.Sprintf("%d sign-ins from %s failed within a minute; wait %s",
		limits.SignIns, from, wait.Round(time.Second))), http.Header{"Retry-After": {strconv.Itoa(int(wait.Seconds()) + 1)}})
}

// signOut ends a session, whether or not there is one.
func (s *Service) signOut(ctx context.Context, in *struct {
	Session string `cookie:"yfence_session"`
	Bearer  string `header:"Authorization" doc:"of a program, whose session is ended"`
}) (*struct {
	SetCookie http.Cookie `header:"Set-Cookie"`
}, error) {
	if secret, ok := strings.CutPrefix(in.Bearer, "Bearer "); ok && strings.HasPrefix(secret, store.PersonPrefix) {
		in.Session = secret
	}
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
		return api.NewProblem(api.CallerGone, "the caller went away")
	}
	if store.Unavailable(err) || errors.Is(err, context.DeadlineExceeded) {
		s.Log.Warn(what, "error", err)
		detail := what + " has to wait: the database does not answer"
		switch {
		case errors.Is(err, store.ErrUnclear):
			return waiting(api.NewProblem(api.Unclear, what+": the database went away while it was stored, so that it may have been done; "+
				"look before you try again"), retrySoon)
		case errors.Is(err, store.ErrBusy):
			detail = what + " has to wait: the database is busy"
		}
		return later(detail, retrySoon)
	}
	s.Log.Error(what, "error", err)
	return huma.Error500InternalServerError(what + " failed; the service's log says why")
}
