package service

import (
	"bytes"
	"net/http"
	"net/http/httptest"
	"slices"
	"testing"

	"github.com/stretchr/testify/require"

	"yellowfence.example/yfence/internal/limits"
)

// TestLongAnswers: what is held back to be tagged has a bound, and goes out whole whatever its length.
func TestLongAnswers(t *testing.T) {
	t.Parallel()
	for _, n := range []int{0, 1, limits.TaggedAnswer, limits.TaggedAnswer + 1, 3 * limits.TaggedAnswer} {
		body := bytes.Repeat([]byte("x"), n)
		held := 0
		h := withTags(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
			w.WriteHeader(http.StatusOK)
			for part := range slices.Chunk(body, 1<<20) {
				_, err := w.Write(part)
				require.NoError(t, err)
				held = max(held, w.(*tagging).kept.Len())
			}
		}))
		out := httptest.NewRecorder()
		h.ServeHTTP(out, httptest.NewRequest(http.MethodGet, "/api/v1/fleet", nil))
		require.Equal(t, 200, out.Code)
		require.True(t, bytes.Equal(body, out.Body.Bytes()), "%d bytes", n)
		require.Equal(t, n <= limits.TaggedAnswer, out.Header().Get("ETag") != "", "%d bytes", n)
		require.LessOrEqual(t, held, limits.TaggedAnswer)
	}
}
