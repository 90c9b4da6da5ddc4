package dunlin

import (
	"context"
	"crypto/subtle"
	"encoding/json"
	"errors"
	"io"
	"net/http"
	"path"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/go-chi/chi/v5"

	"yellowfence.example/yfence/core/dialect/group"
)

// A Fault is what goes wrong with requests that come.
type Fault struct {
	Of    string `json:"of" doc:"method and path, where * stands for a part: PUT /v1/groups/*"`
	Kind  string `json:"kind" enum:"fails,partly,hangs,lost,nonsense,half" doc:"fails: 503, nothing is done. partly: 503, and of a group the inbound rules are taken, the outbound ones not. hangs: no answer, nothing is done. lost: it is done, and the answer is lost. nonsense: the answer is none. half: the answer is cut"`
	Times int    `json:"times" doc:"to so many requests"`
}

// hangs is how long a request hangs that gets no answer.
const hangs = 30 * time.Second

// mostBody bounds what a request may say.
const mostBody = 4 << 20

// pageSize is how many instances one answer holds, unless it is asked for fewer.
const pageSize = 100

// Fail has requests fail.
func (c *Cloud) Fail(f Fault) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.faults = append(c.faults, &f)
}

// fault is what goes wrong with a request; nil if nothing does.
func (c *Cloud) fault(r *http.Request) *Fault {
	c.mu.Lock()
	defer c.mu.Unlock()
	for i, f := range c.faults {
		if ok, err := path.Match(f.Of, r.Method+" "+r.URL.Path); err != nil || !ok {
			continue
		}
		if f.Times--; f.Times <= 0 {
			c.faults = slices.Delete(c.faults, i, i+1)
		}
		return f
	}
	return nil
}

// enough says how long an account has to wait that has made too many requests.
func (c *Cloud) enough() (wait time.Duration) {
	c.mu.Lock()
	defer c.mu.Unlock()
	now := c.Clock()
	c.spent = slices.DeleteFunc(c.spent, func(t time.Time) bool { return now.Sub(t) >= time.Second })
	if c.PerSecond > 0 && len(c.spent) >= c.PerSecond {
		return time.Second - now.Sub(c.spent[0])
	}
	c.spent = append(c.spent, now)
	return 0
}

// whose is the account that the cloud says it is.
func (c *Cloud) whose() string {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.Account
}

// Rename has the cloud say that it is another account.
func (c *Cloud) Rename(account string) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.Account = account
}

// Handler is the API for the account under /v1, and the operator's test controls under
// /controls, which takes no token: who can reach it is the cloud's own staff.
func (c *Cloud) Handler() http.Handler {
	r := chi.NewRouter()
	r.Route("/v1", func(r chi.Router) {
		r.Use(c.account)
		r.Get("/abilities", func(w http.ResponseWriter, _ *http.Request) {
			answer(w, map[string]any{"cloud": c.Name, "account": c.whose(), "abilities": c.Abilities})
		})
		r.Get("/instances", func(w http.ResponseWriter, r *http.Request) {
			limit, err := strconv.Atoi(r.URL.Query().Get("limit"))
			if err != nil || limit < 1 || limit > pageSize {
				limit = pageSize
			}
			all, next := c.Instances(r.URL.Query().Get("after"), limit)
			answer(w, map[string]any{"instances": all, "next": next, "all": c.count()})
		})
		r.Put("/instances/{id}/groups", func(w http.ResponseWriter, r *http.Request) {
			var body struct {
				Groups []string `json:"groups"`
			}
			if !read(w, r, &body) {
				return
			}
			done(w, nil, c.PutMembership(chi.URLParam(r, "id"), body.Groups))
		})
		r.Get("/groups", func(w http.ResponseWriter, _ *http.Request) {
			all := c.Groups()
			answer(w, map[string]any{"groups": all, "all": len(all)})
		})
		r.Put("/groups/{name}", func(w http.ResponseWriter, r *http.Request) {
			var body struct {
				Group   group.Group `json:"group"`
				Version int64       `json:"version"`
			}
			if !read(w, r, &body) {
				return
			}
			body.Group.Name = chi.URLParam(r, "name")
			if r.Context().Value(partly{}) != nil {
				body.Group.Outbound = c.outbound(body.Group.Name)
			}
			version, err := c.PutGroup(body.Group, body.Version)
			done(w, map[string]any{"version": version}, err)
		})
		r.Delete("/groups/{name}", func(w http.ResponseWriter, r *http.Request) {
			version, _ := strconv.ParseInt(r.URL.Query().Get("version"), 10, 64)
			done(w, nil, c.DropGroup(chi.URLParam(r, "name"), version))
		})
	})
	r.Route("/controls", func(r chi.Router) {
		r.Post("/faults", takes(c.Fail))
		r.Post("/groups", takes(c.ByHand))
		r.Post("/instances", takes(c.Start))
		r.Delete("/instances/{id}", func(w http.ResponseWriter, r *http.Request) {
			c.Stop(chi.URLParam(r, "id"))
			done(w, nil, nil)
		})
		r.Get("/dump", func(w http.ResponseWriter, _ *http.Request) { _, _ = io.WriteString(w, c.Document().String()) })
	})
	return r
}

// account lets the account in that has the token, as often as it may, and has go wrong what is to.
func (c *Cloud) account(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		token, _ := strings.CutPrefix(r.Header.Get("Authorization"), "Bearer ")
		if subtle.ConstantTimeCompare([]byte(token), []byte(c.Token)) != 1 {
			done(w, nil, refuse(401, "this is no token of an account"))
			return
		}
		if wait := c.enough(); wait > 0 {
			w.Header().Set("Retry-After", strconv.Itoa(int(wait.Seconds())+1))
			done(w, nil, refuse(429, "more than %d requests in a second", c.PerSecond))
			return
		}
		f := c.fault(r)
		if f == nil {
			next.ServeHTTP(w, r)
			return
		}
		switch f.Kind {
		case "hangs":
			_, _ = io.Copy(io.Discard, r.Body) // whoever gives up is noticed only then
			select {
			case <-r.Context().Done():
			case <-time.After(hangs):
			}
			hang(w)
		case "lost":
			next.ServeHTTP(&nowhere{header: http.Header{}}, r)
			hang(w)
		case "partly":
			next.ServeHTTP(&nowhere{header: http.Header{}}, r.WithContext(context.WithValue(r.Context(), partly{}, true)))
			done(w, nil, refuse(503, "the cloud is not well"))
		case "nonsense":
			_, _ = io.WriteString(w, "<html><body>Have you tried turning it off and on again?</body></html>")
		case "half":
			whole := &nowhere{header: http.Header{}}
			next.ServeHTTP(whole, r)
			_, _ = w.Write(whole.body[:len(whole.body)/2])
		default:
			done(w, nil, refuse(503, "the cloud is not well"))
		}
	})
}

// partly marks a request that is done in part.
type partly struct{}

// outbound are the outbound rules that a group has.
func (c *Cloud) outbound(name string) []group.Rule {
	for _, g := range c.Groups() {
		if g.Name == name {
			return g.Outbound
		}
	}
	return []group.Rule{}
}

// nowhere takes an answer that is not sent as it is.
type nowhere struct {
	header http.Header
	body   []byte
}

// nowhere takes an answer that nobody gets: the request was carried out, and its answer lost.
func (n *nowhere) Header() http.Header { return n.header }

// The status is lost with it.
func (n *nowhere) WriteHeader(int) {}

// Write keeps what is written, for the tests' sake.
func (n *nowhere) Write(b []byte) (int, error) {
	n.body = append(n.body, b...)
	return len(b), nil
}

// hang ends a connection without an answer.
func hang(w http.ResponseWriter) {
	if h, ok := w.(http.Hijacker); ok {
		if conn, _, err := h.Hijack(); err == nil {
			_ = conn.Close()
		}
	}
}

// takes is a handler that does something with what a request says.
func takes[T any](do func(T)) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		var body T
		if read(w, r, &body) {
			do(body)
			done(w, nil, nil)
		}
	}
}

// read reads a request's JSON, or answers that it is none.
func read(w http.ResponseWriter, r *http.Request, into any) bool {
	dec := json.NewDecoder(http.MaxBytesReader(w, r.Body, mostBody))
	dec.DisallowUnknownFields()
	if err := dec.Decode(into); err != nil {
		done(w, nil, refuse(400, "this is not what the API takes: %s", err))
		return false
	}
	return true
}

// answer writes a value as JSON.
func answer(w http.ResponseWriter, v any) {
	w.Header().Set("Content-Type", "application/json")
	_ = json.NewEncoder(w).Encode(v)
}

// done answers a change that was taken, or says why it was not.
func done(w http.ResponseWriter, v any, err error) {
	w.Header().Set("Content-Type", "application/json")
	var r *refusal
	switch {
	case errors.As(err, &r):
		w.WriteHeader(r.status)
		_ = json.NewEncoder(w).Encode(map[string]any{"why": r.why})
	case v == nil:
		w.WriteHeader(http.StatusAccepted)
		_ = json.NewEncoder(w).Encode(map[string]any{})
	default:
		w.WriteHeader(http.StatusAccepted)
		_ = json.NewEncoder(w).Encode(v)
	}
}
