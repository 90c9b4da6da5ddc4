package service

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"yellowfence.example/yfence/api"
	"yellowfence.example/yfence/core/fleet"
	"yellowfence.example/yfence/internal/store"
)

// limited marks an operation that somebody may use whose right is for some roles: it looks itself at
// what it is used on.
func limited(o huma.Operation) huma.Operation {
	o.Metadata["limited"] = true
	return o
}

// permitted is an error where a token does not have one of the rights that an operation takes. A host's
// own right is for that host alone; a right for some roles is for their hosts.
func (s *Service) permitted(ctx huma.Context, t api.Token, rights []api.Right) error {
	host := ctx.Param("host")
	takesHost := strings.Contains(ctx.Operation().Path, "{host}")
	some := false
	for _, r := range rights {
		switch {
		case r == api.Host:
			if api.Has(t.Rights, r) && (host == "" || host == t.Host) {
				return nil
			}
		case api.Has(t.Rights, r):
			return nil
		case api.HasSome(t.Rights, r):
			some = true
			if ctx.Operation().Metadata["limited"] == true {
				return nil
			}
			if !takesHost {
				continue
			}
			m, err := s.newest(ctx.Context())
			if err != nil {
				return s.broken("looking the rights up", err)
			}
			// A host that there is not is told so by the operation.
			if h := m.host(host); h == nil || api.Covers(t.Rights, r, h.Roles) {
				return nil
			}
		}
	}
	where := ""
	switch {
	case some && takesHost:
		where = " for all roles of " + host
	case some:
		where = " for the whole fleet"
	}
	words := api.Words(rights)
	if len(words) > 1 { // a host's own is nobody else's to have
		words = slices.DeleteFunc(words, func(w string) bool { return w == string(api.Host) })
	}
	return s.forbidden(ctx.Context(), t, rights[0], strings.Join(words, " or ")+where)
}

// forbidden is the answer to whoever may not do something: what it takes, and whom to ask.
func (s *Service) forbidden(ctx context.Context, t api.Token, right api.Right, takes string) error {
	who := fmt.Sprintf("the token %q", t.Name)
	if t.ID == 0 { // a person
		who = t.Name
	}
	say := fmt.Sprintf("%s may not do this: it takes the right %s", who, takes)
	if right != api.Host {
		if may, err := s.Store.WhoMay(ctx, right, 3); err == nil && len(may) > 0 {
			say += "; ask " + strings.Join(may, " or ")
		}
	}
	return huma.Error403Forbidden(say)
}

// mayOn is an error where whoever asks has a right only for roles that are not all of a host's.
func (s *Service) mayOn(ctx context.Context, right api.Right, h *fleet.Host) error {
	if t := caller(ctx); !api.Covers(t.Rights, right, h.Roles) {
		return s.forbidden(ctx, t, right, fmt.Sprintf("%s for all roles of %s", right, h.Name))
	}
	return nil
}

// mayOnAll is an error where whoever asks may not do something to one of the hosts with these names.
// A host that the fleet does not have any more takes the right for the whole fleet.
func (s *Service) mayOnAll(ctx context.Context, right api.Right, m *model, names []string) error {
	t := caller(ctx)
	if api.Has(t.Rights, right) {
		return nil
	}
	for _, name := range names {
		if h := m.host(name); h == nil || !api.Covers(t.Rights, right, h.Roles) {
			return s.forbidden(ctx, t, right, fmt.Sprintf("%s for all roles of %s", right, name))
		}
	}
	return nil
}

// over says that a token is of no use any more, and why; "" where it is.
func (s *Service) over(t api.Token) string {
	switch {
	case t.RevokedAt != nil:
		return fmt.Sprintf("the token %q was revoked at %s", t.Name, t.RevokedAt.UTC().Format(time.DateTime))
	case t.Until != nil && !s.Clock().Before(*t.Until):
		return fmt.Sprintf("the token %q ended at %s; whoever has the right tokens makes another", t.Name,
			t.Until.UTC().Format(time.DateTime))
	}
	return ""
}

// usedEvery is how often it is noted that a token is used.
const usedEvery = 10 * time.Minute

// used notes now and then that a token is used. Hosts' own are told by their reports.
func (s *Service) used(ctx context.Context, t api.Token) {
	if t.Host != "" || t.ID == 0 {
		return
	}
	now := s.Clock()
	if t.UsedAt != nil && now.Sub(*t.UsedAt) < usedEvery {
		return
	}
	if err := s.Store.Used(ctx, t.ID); err != nil && ctx.Err() == nil && !store.Unavailable(err) {
		s.Log.Warn("noting that a token was used", "error", err)
	}
}
