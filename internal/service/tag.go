package service

import (
	"bytes"
	"crypto/sha256"
	"encoding/base64"
	"net/http"
	"strings"

	"yellowfence.example/yfence/internal/limits"
)

// withTags gives each answer of the API that reads something a tag of its content (ETag, RFC 9110), and answers
// 304 to whoever has it already. An answer that is long goes out as it is made, without one.
func withTags(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.Method != http.MethodGet || !strings.HasPrefix(r.URL.Path, "/api/") || r.URL.Path == streamPath {
			next.ServeHTTP(w, r)
			return
		}
		t := &tagging{ResponseWriter: w, wants: r.Header.Get("If-None-Match")}
		next.ServeHTTP(t, r)
		t.end()
	})
}

// tagging keeps an answer back until its tag is known.
type tagging struct {
	http.ResponseWriter
	wants  string
	status int
	kept   bytes.Buffer
	gone   bool // the answer goes out as it is made
}

// Unwrap is what answers, for http.ResponseController.
func (t *tagging) Unwrap() http.ResponseWriter { return t.ResponseWriter }

// WriteHeader keeps the status; what is no plain answer goes out as it is.
func (t *tagging) WriteHeader(status int) {
	if t.gone || t.status != 0 {
		return
	}
	if t.status = status; status != http.StatusOK {
		t.release()
	}
}

// Write keeps what is answered, up to a bound.
func (t *tagging) Write(p []byte) (int, error) {
	if t.status == 0 {
		t.WriteHeader(http.StatusOK)
	}
	if !t.gone && t.kept.Len()+len(p) > limits.TaggedAnswer {
		t.release()
	}
	if t.gone {
		return t.ResponseWriter.Write(p)
	}
	return t.kept.Write(p)
}

// release sends what was kept back.
func (t *tagging) release() {
	t.gone = true
	t.ResponseWriter.WriteHeader(t.status)
	_, _ = t.ResponseWriter.Write(t.kept.Bytes()) // whoever asked may have gone
}

// end sends the answer with its tag, or says that it is what the caller has.
func (t *tagging) end() {
	if t.gone || t.status == 0 {
		return
	}
	if t.Header().Get("ETag") != "" { // the operation has a cheaper one
		t.release()
		return
	}
	sum := sha256.Sum256(t.kept.Bytes())
	tag := `W/"` + base64.RawURLEncoding.EncodeToString(sum[:18]) + `"` // weak: it may go out compressed, or not
	t.Header().Set("ETag", tag)
	t.Header().Set("Cache-Control", "private, no-cache") // kept by who asked alone, and asked for again each time
	for had := range strings.SplitSeq(t.wants, ",") {
		if had = strings.TrimSpace(had); had == "*" || strings.TrimPrefix(had, "W/") == strings.TrimPrefix(tag, "W/") {
			t.Header().Del("Content-Type")
			t.Header().Del("Content-Length")
			t.gone = true
			t.ResponseWriter.WriteHeader(http.StatusNotModified)
			return
		}
	}
	t.release()
}
