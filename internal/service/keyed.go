package service

import (
	"bytes"
	"context"
	"crypto/sha256"
	"fmt"
	"hash"
	"io"
	"net/http"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/adapters/humachi"
	"github.com/go-chi/chi/v5/middleware"

	"yellowfence.example/yfence/api"
	"yellowfence.example/yfence/internal/limits"
	"yellowfence.example/yfence/internal/store"
)

const (
	keyHeader      = "Idempotency-Key"
	repeatedHeader = "Yfence-Repeated" // the answer is that of an earlier request
	keyedRenew     = 5 * time.Second
)

// secretAnswer marks an operation whose answer holds a secret, which is told once and not kept.
func secretAnswer(o huma.Operation) huma.Operation {
	o.Metadata["secret"] = true
	return o
}

// keyable says whether an operation heeds a key: it changes something, and knows who asks.
func keyable(method string, rights []api.Right) bool {
	return method != http.MethodGet && len(rights) > 0 && (len(rights) > 1 || rights[0] != api.Read)
}

// keyParam describes the header.
var keyParam = &huma.Param{Name: keyHeader, In: "header", Description: "a word of your own for this request: sent again with the same, " +
	"it is not done again, and its answer comes again (for a day)",
	Schema: &huma.Schema{Type: "string", MaxLength: new(limits.Key)}}

// heard is a request that is read and answered while a copy of both is kept.
type heard struct {
	sum    hash.Hash
	answer bytes.Buffer
	over   bool // it was too long to be kept
}

// Write keeps what is answered, up to a bound.
func (h *heard) Write(p []byte) (int, error) {
	if h.over = h.over || h.answer.Len()+len(p) > limits.KeptAnswer; !h.over {
		h.answer.Write(p)
	}
	return len(p), nil
}

// heardKey is what a request's context keeps it by.
type heardKey struct{}

// hearKeyed listens to requests with a key.
func hearKeyed(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.Header.Get(keyHeader) == "" {
			next.ServeHTTP(w, r)
			return
		}
		h := &heard{sum: sha256.New()}
		_, _ = fmt.Fprintf(h.sum, "%s %s\n", r.Method, r.URL.RequestURI())
		r.Body = struct {
			io.Reader
			io.Closer
		}{io.TeeReader(r.Body, h.sum), r.Body}
		wrapped := middleware.NewWrapResponseWriter(w, r.ProtoMajor)
		wrapped.Tee(h)
		next.ServeHTTP(wrapped, r.WithContext(context.WithValue(r.Context(), heardKey{}, h)))
	})
}

// onceOnly does what a request with a key asks for, unless it was done before.
func (s *Service) onceOnly(ctx huma.Context, who string, next func(huma.Context)) {
	h, _ := ctx.Context().Value(heardKey{}).(*heard)
	rights, _ := ctx.Operation().Metadata["rights"].([]api.Right)
	if h == nil || !keyable(ctx.Operation().Method, rights) {
		next(ctx)
		return
	}
	key := ctx.Header(keyHeader)
	if len(key) > limits.Key || strings.ContainsFunc(key, func(r rune) bool { return r < ' ' || r > '~' }) {
		refuseBroken(ctx, api.NewProblem(api.NotValid, fmt.Sprintf("a key is of up to %d printable characters of ASCII", limits.Key)))
		return
	}
	k, mine, err := s.Store.TakeKeyed(ctx.Context(), store.KeyedID(who, key))
	if err != nil {
		refuseBroken(ctx, s.broken("looking the key up", err))
		return
	}
	if !mine {
		s.sayAgain(ctx, k, h)
		return
	}
	work, stop := context.WithCancel(context.WithoutCancel(ctx.Context()))
	defer stop()
	go s.holdKeyed(work, k)
	next(huma.WithContext(ctx, store.ForKeyed(ctx.Context(), k)))
	_, _ = io.Copy(io.Discard, ctx.BodyReader()) // whatever the operation did not read is part of the request
	status, body := ctx.Status(), h.answer.Bytes()
	if h.over || ctx.Operation().Metadata["secret"] == true {
		body = nil
	}
	if status >= http.StatusMultipleChoices {
		status = 0
	}
	// Whoever asked may have gone, and will ask again.
	end, cancel := context.WithTimeout(context.WithoutCancel(ctx.Context()), keyedRenew)
	defer cancel()
	if err := s.Store.EndKeyed(end, k, store.Hash(h.sum.Sum(nil)), status, body); err != nil {
		s.Log.Warn("the answer to a request with a key could not be kept", "error", err)
	}
}

// holdKeyed holds a request while it is worked at.
func (s *Service) holdKeyed(ctx context.Context, k store.Keyed) {
	for {
		select {
		case <-ctx.Done():
			return
		case <-time.After(keyedRenew):
		}
		if err := s.Store.HoldKeyed(ctx, k); err != nil && ctx.Err() == nil {
			s.Log.Warn("a request with a key could not be held", "error", err)
		}
	}
}

// sayAgain answers a request that came before.
func (s *Service) sayAgain(ctx huma.Context, k store.Keyed, h *heard) {
	_, err := io.Copy(io.Discard, ctx.BodyReader())
	same := err == nil && store.Hash(h.sum.Sum(nil)) == k.Hash
	switch {
	case k.Held:
		refuseBroken(ctx, waiting(api.NewProblem(api.KeyAtWork, "a request with this key is at work; wait, and send it again"),
			time.Second))
	case k.Status != 0 && !same:
		refuseBroken(ctx, api.NewProblem(api.KeyReused, "this key came with another request before; take a new one for each"))
	case k.Status == 0 || k.Body == nil && k.Status != http.StatusNoContent:
		refuseBroken(ctx, api.NewProblem(api.DoneBefore, "this request was done, and its answer is not kept; look at what it made"))
	default:
		_, w := humachi.Unwrap(ctx)
		w.Header().Set("Content-Type", "application/json")
		w.Header().Set(repeatedHeader, "true")
		w.WriteHeader(k.Status)
		_, _ = w.Write(k.Body) // whoever asked may have gone
	}
}
